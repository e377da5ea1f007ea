"""How far every pixel departs from the background's motion, given the flow."""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST
from amberkeel.core.geometry.background import FREE, RigidMotion


@njit(cache=True, fastmath=FAST, nogil=True, parallel=True)
def _dense(flow, matrix, free, out):
    height, width = out.shape
    for r in prange(height):
        for c in range(width):
            x, y = c + 0.5, r + 0.5
            u, v = x + flow[r, c, 0], y + flow[r, c, 1]
            a = matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]
            b = matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]
            w = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
            if free:
                p = matrix[0, 0] * u + matrix[1, 0] * v + matrix[2, 0]
                q = matrix[0, 1] * u + matrix[1, 1] * v + matrix[2, 1]
                out[r, c] = abs(u * a + v * b + w) / np.sqrt(a * a + b * b + p * p + q * q + 1e-24)
            else:
                out[r, c] = np.sqrt(0.5 * ((a / w - u) ** 2 + (b / w - v) ** 2))


def dense_residuals(flow: np.ndarray, motion: RigidMotion) -> np.ndarray:
    """Return the residual of every pixel (H, W) float32, pixels, given its displacement `flow` (H, W, 2)."""
    out = np.empty(flow.shape[:2], np.float32)
    _dense(flow, np.ascontiguousarray(motion.matrix, float), motion.kind == FREE, out)
    return out


def scaled(motion: RigidMotion, scale: float) -> RigidMotion:
    """Return the same motion for a picture `scale` times the size."""
    down = np.diag([1.0 / scale, 1.0 / scale, 1.0])
    matrix = down.T @ motion.matrix @ down if motion.kind == FREE else np.linalg.inv(down) @ motion.matrix @ down
    return RigidMotion(motion.kind, matrix, motion.noise * scale)
