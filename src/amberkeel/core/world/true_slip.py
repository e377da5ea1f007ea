"""Slip: how far things pinned to the scene slide against the plate."""

import numpy as np

from amberkeel.core.camera import ROW_PASSES, CameraPath
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
    placed, seen_at, px, points = _placed(path, truth, xyz, seen)
    count = seen.sum(0)
    error2 = ((seen_at - px) ** 2).sum(1)
    out = np.sqrt(np.bincount(points, error2, len(xyz)) / np.maximum(count, 1))
    return np.where(np.isfinite(placed[:, 0]) & (count >= 2), out, np.nan)


def placed_by(path: CameraPath, truth: CameraPath, xyz: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Return where a solved camera puts points by their true image paths, (P, 4) homogeneous; NaN for those it does not
    place.

    Parameters
    ----------
    path, truth, xyz, seen : as for `slip_px`.
    """
    return _placed(path, truth, xyz, seen)[0]


def _placed(path: CameraPath, truth: CameraPath, xyz: np.ndarray, seen: np.ndarray):
    """Return points (P, 4) by a solved camera, where it sees them (N, 2), where they are seen (N, 2), and of which
    point each is (N,).
    """
    points, rows = np.nonzero(seen.T)
    px = truth.project_read(xyz[points], rows)
    first = np.concatenate([[0], np.cumsum(seen.sum(0))]).astype(np.int64)
    good, drift = np.zeros(len(xyz), np.bool_), np.zeros_like(px)
    for _ in range(ROW_PASSES if path.readout else 1):
        placed = triangulated(path, first, points, rows, px - drift, good)
        seen_at = path.project_homogeneous(placed[points], rows, px[:, 1])
        drift = np.nan_to_num(seen_at - path.project_homogeneous(placed[points], rows))
    return np.where(good[:, None], placed, np.nan), seen_at, px, points


def triangulated(
    path: CameraPath, first: np.ndarray, points: np.ndarray, rows: np.ndarray, px: np.ndarray, good: np.ndarray
) -> np.ndarray:
    """Return points (P, 4), homogeneous, that lie best with what each is seen at; fills `good` (P,).

    Parameters
    ----------
    path : the camera. first : (P + 1,) samples of each point. points, rows : (N,) point and row of the path of each
        sample. px : (N, 2) where it is seen. good : (P,) bool, filled.
    """
    # What np.nonzero gives lies with gaps, for which the loops would be compiled once more.
    rows, points = np.ascontiguousarray(rows), np.ascontiguousarray(points)
    n, straight = len(good), path.normalise(px, rows)
    scene = Scene(
        path.world_from_camera, path.positions, pinhole_rows(len(path.frames)), np.zeros((n, 3)), np.zeros((n, 3)),
        np.zeros(n),
    )  # fmt: skip
    observations = Observations(first, rows, straight, np.full(len(px), path.lens.focal_px[0]), np.zeros_like(straight))
    triangulate_points(scene, observations, points, BARELY_ROBUST, np.ones(n, np.bool_), good)
    return np.concatenate([scene.anchors * scene.rhos[:, None] + scene.directions, scene.rhos[:, None]], 1)
