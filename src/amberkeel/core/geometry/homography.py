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


def turning_homography(x: np.ndarray, y: np.ndarray, focal: float, width: int, height: int) -> np.ndarray:
    """Return the homography (3, 3) of the rotation that best takes the rays of `x` to those of `y`.

    Parameters
    ----------
    x, y : (N, 2) pixels on two frames. focal : focal length, pixels. width, height : of the picture, pixels;
        its middle is taken as the optical centre, its pixels as square.

    References
    ----------
    Kabsch, W. (1976). A solution for the best rotation to relate two sets of vectors.
    """
    camera = np.array([[focal, 0.0, 0.5 * width], [0.0, focal, 0.5 * height], [0.0, 0.0, 1.0]])
    a, b = (homogeneous(p) @ np.linalg.inv(camera).T for p in (x, y))
    a, b = (p / np.linalg.norm(p, axis=1)[:, None] for p in (a, b))
    u, _, v = np.linalg.svd(b.T @ a)
    rotation = u @ np.diag([1.0, 1.0, np.linalg.det(u @ v)]) @ v
    return camera @ rotation @ np.linalg.inv(camera)
