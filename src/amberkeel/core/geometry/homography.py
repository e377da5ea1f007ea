"""Homographies between pictures: where they take pixels, and that of a camera that only turns."""

import numpy as np


def carried(h: np.ndarray, x: np.ndarray) -> np.ndarray:
    """Return where a homography (3, 3) takes pixels (N, 2)."""
    moved = x @ h[:, :2].T + h[:, 2]
    return moved[:, :2] / moved[:, 2:]


def transfer_error(h: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return the distance (N,) of `y` (N, 2) from where a homography (3, 3) takes `x` (N, 2), over the root of 2: the
    error of one coordinate.

    Parameters
    ----------
    h : (3, 3), y_from_x. x, y : (N, 2) pixels.
    """
    return np.linalg.norm(carried(h, x) - y, axis=1) / np.sqrt(2.0)


def homogeneous(x: np.ndarray) -> np.ndarray:
    """Return pixels (N, 2) as homogeneous ones (N, 3)."""
    return np.c_[x, np.ones(len(x))]
