"""Residuals of tracks against any camera path: the solved one, an imported one, or a smoothed one."""

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.points import PointSet
from amberkeel.core.tracks import TrackSet

MOST_PX = 900.0
"""Residual along an axis beyond which there is none: the point lies beside or behind the camera."""


def residuals(path: CameraPath, points: PointSet, tracks: TrackSet) -> np.ndarray:
    """Return projected minus measured pixels (N, 2) for every sample of `tracks`.

    Parameters
    ----------
    path : a camera path. points : in the path's world; those of tracks are found by the tracks' ids.
    tracks : measurements. A sample whose track has no point, whose frame the path does not have, or whose point is
        behind the camera gives NaN.
    """
    order = np.argsort(points.ids)
    at = np.searchsorted(points.ids, tracks.ids, sorter=order)
    at = order[np.minimum(at, len(order) - 1)] if len(order) else np.zeros(len(tracks), np.int64)
    own = np.full((len(tracks), 4), np.nan)
    if len(order):
        found = np.nonzero(np.equal(points.ids[at], tracks.ids))[0]
        own[found] = points.homogeneous[at[found]]
    row = path.rows_of(tracks.frames)
    live = np.nonzero((row >= 0) & np.isfinite(own).all(1)[tracks.track_of_sample])[0]
    out = np.full((len(tracks.frames), 2), np.nan)
    out[live] = path.project_homogeneous(own[tracks.track_of_sample[live]], row[live], tracks.xy[live, 1])
    out[live] -= tracks.xy[live]
    out[np.abs(out).max(1) > MOST_PX] = np.nan
    return out


def rms(residuals: np.ndarray) -> float:
    """Return the root mean square distance in pixels of residuals (N, 2), those of NaN left out; 0 for none."""
    d2 = (residuals**2).sum(1)
    d2 = d2[np.isfinite(d2)]
    return float(np.sqrt(d2.mean())) if len(d2) else 0.0


def rms_by(residuals: np.ndarray, group: np.ndarray, count: int) -> np.ndarray:
    """Return the RMS distance (count,) in pixels of residuals (N, 2) by group number (N,); NaN for an empty group.

    Parameters
    ----------
    residuals : (N, 2) pixels. group : (N,) int. count : number of groups.
    """
    d2 = (residuals**2).sum(1)
    ok = np.isfinite(d2)
    total, n = np.bincount(group[ok], d2[ok], count), np.bincount(group[ok], minlength=count)
    return np.where(n > 0, np.sqrt(total / np.maximum(n, 1)), np.nan)
