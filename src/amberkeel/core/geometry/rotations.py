"""Rotations and small pieces of geometry.

Frames: ``b_from_a`` is a 3x3 rotation that takes coordinates in frame a to frame b.
"""

import numpy as np
from numba import njit
from scipy.spatial.transform import Rotation

from amberkeel.core.compiled import FAST


@njit(cache=True, fastmath=FAST, nogil=True)
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


def nearest_rotation(m: np.ndarray) -> np.ndarray:
    """Return the rotation (3, 3) nearest to a matrix `m` in the Frobenius sense (Kabsch 1976)."""
    return Rotation.align_vectors(m.T, np.eye(3))[0].as_matrix()


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


def cross_matrices(vectors: np.ndarray) -> np.ndarray:
    """Return the matrices (N, 3, 3) that take the cross product with vectors (N, 3) from the left."""
    x, y, z = vectors.T
    nothing = np.zeros_like(x)
    return np.stack([nothing, -z, y, z, nothing, -x, -y, x, nothing], 1).reshape(-1, 3, 3)
