"""Rotations and small pieces of geometry.

Frames: ``b_from_a`` is a 3x3 rotation that takes coordinates in frame a to frame b.
"""

import numpy as np
from numba import njit


@njit(cache=True, fastmath=True, nogil=True)
def rotation_exp(w: np.ndarray) -> np.ndarray:
    """Return the rotation matrix (3, 3) of a rotation vector `w` (3,) in radians (Rodrigues)."""
    theta2 = w[0] * w[0] + w[1] * w[1] + w[2] * w[2]
    if theta2 < 1e-10:
        a, b = 1.0 - theta2 / 6.0, 0.5 - theta2 / 24.0
    else:
        theta = np.sqrt(theta2)
        a, b = np.sin(theta) / theta, (1.0 - np.cos(theta)) / theta2
    x, y, z = w[0], w[1], w[2]
    r = np.empty((3, 3))
    r[0, 0] = 1.0 - b * (y * y + z * z)
    r[0, 1] = -a * z + b * x * y
    r[0, 2] = a * y + b * x * z
    r[1, 0] = a * z + b * x * y
    r[1, 1] = 1.0 - b * (x * x + z * z)
    r[1, 2] = -a * x + b * y * z
    r[2, 0] = -a * y + b * x * z
    r[2, 1] = a * x + b * y * z
    r[2, 2] = 1.0 - b * (x * x + y * y)
    return r


def rotation_log(r: np.ndarray) -> np.ndarray:
    """Return the rotation vector (3,), radians, of a rotation matrix (3, 3)."""
    cosine = np.clip((np.trace(r) - 1.0) / 2.0, -1.0, 1.0)
    angle = np.arccos(cosine)
    skew = np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]])
    if angle < 1e-7:
        return skew / 2.0
    if np.pi - angle > 1e-4:
        return skew * angle / (2.0 * np.sin(angle))
    values, vectors = np.linalg.eigh((r + r.T) / 2.0)
    axis = vectors[:, np.argmax(values)]
    return axis * angle * (np.sign(axis @ skew) or 1.0)


def nearest_rotation(m: np.ndarray) -> np.ndarray:
    """Return the rotation (3, 3) nearest to a matrix `m` in the Frobenius sense."""
    u, _, vt = np.linalg.svd(m)
    return u @ np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt))]) @ vt


def look_at(position: np.ndarray, target: np.ndarray, roll: float = 0.0) -> np.ndarray:
    """Return ``world_from_camera`` of a camera at `position` that looks at `target`.

    Parameters
    ----------
    position, target : (3,) world coordinates in metres, world Y up.
    roll : turn about the view axis in radians.
    """
    forward = target - position
    forward = forward / np.linalg.norm(forward)
    right = np.cross(forward, [0.0, 1.0, 0.0])
    right = right / np.linalg.norm(right)
    upright = np.column_stack([right, np.cross(forward, right), forward])
    return upright @ rotation_exp(np.array([0.0, 0.0, roll]))
