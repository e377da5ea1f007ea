"""A shot as one side of a tie: its pictures, camera, tracks and points."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.plate.plate import Plate
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED, TrackSet

UNSURE = 0.2
"""Sigma of a point along its ray, over its distance, from which it ties nothing."""


@dataclass(frozen=True)
class Side:
    """A solved shot.

    Attributes
    ----------
    plate : its pictures. path : its camera. tracks : all that were followed. xyz : (T, 3) of their points in the
        path's world, NaN where a track has none that is sure. covariance : (T, 3, 3) of those.
    """

    plate: Plate
    path: CameraPath
    tracks: TrackSet
    xyz: np.ndarray
    covariance: np.ndarray


def side_of(plate: Plate, solution: Solution) -> Side:
    """Return a solved shot as a side of a tie.

    Parameters
    ----------
    plate : its pictures. solution : its solve.
    """
    xyz = solution.points.positions(solution.path.positions[0])
    unknown = np.full((len(xyz), 3, 3), np.nan)
    covariance = unknown if solution.point_covariance is None else solution.point_covariance
    bad = ~solution.points.known | solution.tracks.in_state(EXCLUDED)
    return Side(plate, solution.path, solution.tracks, sure(solution.path, xyz, covariance, bad), covariance)


def sure(path: CameraPath, xyz: np.ndarray, covariance: np.ndarray, bad: np.ndarray) -> np.ndarray:
    """Return points (T, 3) with NaN for those that are bad, or hardly known.

    Parameters
    ----------
    path : the camera. xyz : (T, 3) in its world. covariance : (T, 3, 3). bad : (T,) bool.
    """
    away = np.linalg.norm(xyz - path.positions[len(path.frames) // 2], axis=1)
    with np.errstate(invalid="ignore"):
        spread = np.sqrt(np.einsum("taa->t", covariance))
        known = ~np.isfinite(spread) | (spread < UNSURE * away)
    return np.where((bad | ~known)[:, None], np.nan, xyz)
