"""The probe object of a body: a box about its points, with a lattice on its faces. It moves with the body, so that slip
of the body against the plate is seen.
"""

import numpy as np

REACH = 0.02
"""Share of a body's points beyond the box at either end of each axis: one wrong point must not swell it."""

DIVIDED = 4
"""Parts of each edge, between which lines run over the faces."""


def probe_box(points: np.ndarray) -> np.ndarray:
    """Return the lines (S, 2, 3) of a box about points (P, 3), along their principal axes.

    Parameters
    ----------
    points : of a body, in any coordinates; three at the least.
    """
    middle = np.median(points, axis=0)
    _, _, axes = np.linalg.svd(points - middle, full_matrices=False)
    low, high = np.quantile((points - middle) @ axes.T, [REACH, 1.0 - REACH], axis=0)
    return middle + _unit_lines() * (high - low) @ axes + low @ axes


def _unit_lines() -> np.ndarray:
    """Return the lines (S, 2, 3) over the faces of the unit cube, each once."""
    steps = np.linspace(0.0, 1.0, DIVIDED + 1)
    out = set()
    for axis in range(3):
        a, b = (axis + 1) % 3, (axis + 2) % 3
        for u in steps.tolist():
            for v in steps.tolist():
                if u in (0.0, 1.0) or v in (0.0, 1.0):
                    ends = np.zeros((2, 3))
                    ends[1, axis], ends[:, a], ends[:, b] = 1.0, u, v
                    out.add(tuple(ends.ravel().tolist()))
    return np.array(sorted(out)).reshape(-1, 2, 3)
