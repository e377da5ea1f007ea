"""Slip: how far things pinned to the scene slide against the plate."""

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.points import triangulate


def slip_px(path: CameraPath, truth: CameraPath, xyz: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Return the slip of each point, pixels RMS over the frames it is seen in, NaN where it is seen in fewer than two.

    Parameters
    ----------
    path : the solved camera. truth : the simulated camera, over the same frames.
    xyz : (P, 3) points of the simulated set. seen : (F, P) bool.

    Each point's true image path is triangulated through the solved camera, and what is left over is measured.
    """
    points, rows = np.nonzero(seen.T)
    px = truth.project(xyz[points], rows)
    straight = path.normalise(px, rows)
    plain = np.array([1.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.0])
    flat = np.tile(plain, (len(path.frames), 1))
    count = seen.sum(0)
    first = np.concatenate([[0], np.cumsum(count)]).astype(np.int64)
    n = len(xyz)
    anchors, directions, rhos, good = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros(n), np.zeros(n, np.bool_)
    triangulate(
        path.world_from_camera, path.positions, flat, first, rows, straight, np.full(len(px), path.lens.focal_px[0]), 1e6, np.ones(n, np.bool_),
        anchors, directions, rhos, good,
    )  # fmt: skip
    placed = anchors + directions / np.where(np.abs(rhos) > 1e-9, rhos, 1e-9)[:, None]
    error2 = ((path.project(placed[points], rows) - px) ** 2).sum(1)
    out = np.sqrt(np.bincount(points, error2, n) / np.maximum(count, 1))
    return np.where(good & (count >= 2), out, np.nan)
