"""Linear algebra that several adjustments share."""

import numpy as np


def scaled_inverse(system: np.ndarray, rcond: float = 1e-13) -> np.ndarray:
    """Return the pseudo-inverse of a symmetric system (N, N) whose rows have different units; `rcond` is after
    scaling.
    """
    scale = 1.0 / np.sqrt(np.maximum(np.diagonal(system), 1e-30))
    return (
        np.linalg.pinv(system * scale[:, None] * scale[None], rcond=rcond, hermitian=True)
        * scale[:, None]
        * scale[None]
    )
