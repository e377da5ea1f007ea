"""The background's motion between two frames: epipolar where the camera moves among depths, a homography otherwise.

Which of the two explains the tracks is decided by GRIC (see `model_selection`).
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.geometry.homography import homogeneous, transfer_error
from amberkeel.core.geometry.model_selection import gric

FREE, PLANAR, TURNING = "free", "planar", "turning"

MIN_TRACKS = 16

NOISE_PX = 0.1
"""Least noise of a track's position that is believed, pixels."""


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
        """Return how far (N,), pixels, positions depart from the background's motion; x, y (N, 2) at the two frames."""
        return (
            _sampson(self.matrix, homogeneous(x), homogeneous(y))
            if self.kind == FREE
            else transfer_error(self.matrix, x, y)
        )


def _sampson(f: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """First-order geometric distance to the epipolar constraint (Hartley and Zisserman 11.4.3)."""
    lines, back = x @ f.T, y @ f
    norm = np.sqrt((lines[:, :2] ** 2).sum(1) + (back[:, :2] ** 2).sum(1))
    return np.abs((y * lines).sum(1)) / np.maximum(norm, 1e-12)


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
    kind, matrix, *_, noise = min(found, key=lambda f: gric(f[4], common, f[2], f[3]))
    return RigidMotion(kind, matrix, noise)


def _estimate(method, *arguments) -> np.ndarray | None:
    """Return the model that an OpenCV estimator finds, or None where the points are too degenerate for it."""
    try:
        return method(*arguments)[0]
    except cv2.error:
        return None
