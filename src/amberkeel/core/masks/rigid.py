"""The background's motion between two frames: epipolar where the camera moves among depths, a homography otherwise.

Which of the two explains the tracks is decided by GRIC (Torr 1998), which pays for the model's parameters and for the
freedom it leaves each point. Whether homographies come from a plane or from a camera that only turns, one pair can
hardly tell; many can, since they turn with one focal length.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit, prange

FREE, PLANAR, TURNING = "free", "planar", "turning"
MIN_TRACKS = 16
TURNING_PAIRS = 24
"""Pairs of frames, at most, by which turning is told from a plane."""

NOISE_PX = 0.1
"""Least noise of a track's place that is believed, pixels."""


@dataclass(frozen=True)
class RigidMotion:
    """How the background goes from one frame to another.

    Attributes
    ----------
    kind : FREE (`matrix` is a fundamental matrix, ``y.T F x = 0``), or PLANAR or TURNING (`matrix` is a homography,
        ``y = H x``).
    matrix : (3, 3), on homogeneous pixels. noise : robust one sigma of the tracks that agree, pixels.
    """

    kind: str
    matrix: np.ndarray
    noise: float

    def residuals(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """Return how far (N,), pixels, places depart from the background's motion; x, y (N, 2) at the two frames."""
        return _sampson(self.matrix, _flat(x), _flat(y)) if self.kind == FREE else _transfer(self.matrix, x, y)


def _sampson(f: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """First-order geometric distance to the epipolar constraint (Hartley and Zisserman 11.4.3)."""
    lines, back = x @ f.T, y @ f
    norm = np.sqrt((lines[:, :2] ** 2).sum(1) + (back[:, :2] ** 2).sum(1))
    return np.abs((y * lines).sum(1)) / np.maximum(norm, 1e-12)


def carried(h: np.ndarray, x: np.ndarray) -> np.ndarray:
    """Return where a homography (3, 3) takes places (N, 2)."""
    moved = x @ h[:, :2].T + h[:, 2]
    return moved[:, :2] / moved[:, 2:]


def _transfer(h: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return np.linalg.norm(carried(h, x) - y, axis=1) / np.sqrt(2.0)


def _gric(residual: np.ndarray, noise: float, manifold: int, parameters: int) -> float:
    n = len(residual)
    bent = np.minimum((residual / noise) ** 2, 2.0 * (4 - manifold))
    return float(bent.sum() + np.log(4.0) * manifold * n + np.log(4.0 * n) * parameters)


def fit_background(x: np.ndarray, y: np.ndarray) -> RigidMotion | None:
    """Return the dominant rigid motion of tracks at `x` (N, 2) on one frame and `y` (N, 2) on another.

    Robust estimation is OpenCV's MAGSAC++ (Barath et al. 2020). None where there are too few tracks.
    """
    if len(x) < MIN_TRACKS:
        return None
    f = _estimate(cv2.findFundamentalMat, x, y, cv2.USAC_MAGSAC, 0.5, 0.999, 3000)
    h = _estimate(cv2.findHomography, x, y, cv2.USAC_MAGSAC, 1.0, None, 3000, 0.999)
    found = []
    for kind, matrix, manifold, parameters in ((FREE, f, 3, 7), (PLANAR, h, 2, 8)):
        if matrix is None or matrix.shape != (3, 3):
            continue
        residual = RigidMotion(kind, matrix, 1.0).residuals(x, y)
        noise = max(NOISE_PX, 1.4826 * float(np.median(residual)))
        found.append((kind, matrix, manifold, parameters, residual, noise))
    if not found:
        return None
    common = min(f[5] for f in found)
    kind, matrix, *_, noise = min(found, key=lambda f: _gric(f[4], common, f[2], f[3]))
    return RigidMotion(kind, matrix, noise)


def _estimate(method, *arguments) -> np.ndarray | None:
    """Return the model that an OpenCV estimator finds, or None where the points are too degenerate for it."""
    try:
        return method(*arguments)[0]
    except cv2.error:
        return None


def tell_turning(motions: dict, places: dict, width: int, height: int) -> dict:
    """Return the motions with PLANAR ones named TURNING where a camera that only turns explains them as well.

    Parameters
    ----------
    motions : RigidMotion by pair of frames. places : by the same pairs, the tracks' places (N, 2) on both frames.
    width, height : of the picture; its middle is taken as the optical centre, its pixels as square.

    One focal length, swept over the fields of view from 10 to 110 degrees, serves all pairs; each has a rotation of its
    own.
    """
    pairs = [p for p, m in motions.items() if m.kind == PLANAR]
    if not pairs:
        return motions
    tried = pairs[:: max(1, len(pairs) // TURNING_PAIRS)]
    focals = 0.5 * width / np.tan(0.5 * np.radians(np.geomspace(10.0, 110.0, 40)))
    planar, turning = 0.0, np.zeros(len(focals))
    for pair in tried:
        x, y = places[pair]
        motion = motions[pair]
        residual = motion.residuals(x, y)
        inner = residual < 4.0 * motion.noise
        planar += _gric(residual, motion.noise, 2, 8)
        for k, focal in enumerate(focals):
            h = _turned(x[inner], y[inner], focal, width, height)
            turning[k] += _gric(_transfer(h, x, y), motion.noise, 2, 3)
    if turning.min() > planar:
        return motions
    focal = focals[int(turning.argmin())]

    def named(pair, motion):
        if motion.kind != PLANAR:
            return motion
        x, y = places[pair]
        inner = motion.residuals(x, y) < 4.0 * motion.noise
        return RigidMotion(TURNING, _turned(x[inner], y[inner], focal, width, height), motion.noise)

    return {p: named(p, m) for p, m in motions.items()}


def _flat(x: np.ndarray) -> np.ndarray:
    return np.c_[x, np.ones(len(x))]


def _turned(x: np.ndarray, y: np.ndarray, focal: float, width: int, height: int) -> np.ndarray:
    """Return the homography (3, 3) of the rotation that best takes the rays of `x` (N, 2) to those of `y` (Kabsch
    1976).
    """
    camera = np.array([[focal, 0.0, 0.5 * width], [0.0, focal, 0.5 * height], [0.0, 0.0, 1.0]])
    a, b = (_flat(p) @ np.linalg.inv(camera).T for p in (x, y))
    a, b = (p / np.linalg.norm(p, axis=1)[:, None] for p in (a, b))
    u, _, v = np.linalg.svd(b.T @ a)
    rotation = u @ np.diag([1.0, 1.0, np.linalg.det(u @ v)]) @ v
    return camera @ rotation @ np.linalg.inv(camera)


@njit(cache=True, fastmath=True, nogil=True, parallel=True)
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
