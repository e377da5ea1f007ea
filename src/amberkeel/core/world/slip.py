"""Slip: how far things pinned to the scene slide against the plate."""

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.arrays import Observations, Scene
from amberkeel.core.solve.radial_lens import pinhole_rows
from amberkeel.core.solve.refine import triangulate_points

BARELY_ROBUST = 1e6
"""Square of the Cauchy scale: the true paths have no outliers."""


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
    count = seen.sum(0)
    first = np.concatenate([[0], np.cumsum(count)]).astype(np.int64)
    n = len(xyz)
    good = np.zeros(n, np.bool_)
    scene = Scene(
        path.world_from_camera, path.positions, pinhole_rows(len(path.frames)), np.zeros((n, 3)), np.zeros((n, 3)),
        np.zeros(n),
    )  # fmt: skip
    observations = Observations(first, rows, straight, np.full(len(px), path.lens.focal_px[0]), np.zeros_like(straight))
    triangulate_points(scene, observations, points, BARELY_ROBUST, np.ones(n, np.bool_), good)
    anchors, directions, rhos = scene.anchors, scene.directions, scene.rhos
    placed = anchors + directions / np.where(np.abs(rhos) > 1e-9, rhos, 1e-9)[:, None]
    error2 = ((path.project(placed[points], rows) - px) ** 2).sum(1)
    out = np.sqrt(np.bincount(points, error2, n) / np.maximum(count, 1))
    return np.where(good & (count >= 2), out, np.nan)
