"""Following features on what is white in mattes: a body's tracks."""

from collections.abc import Callable

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.tracks import TrackSet
from amberkeel.core.world.true_slip import triangulated

FEATURES = 400
"""Features wanted on a body."""

WIDER, PATCHES_ACROSS = 1.5, 8.0
"""Half side of a body's patches over the usual one, since what passes the camera is blurred along its way and has less
detail to hold on to; and how many such half sides a body is across, at the least, for patches to be so large.
"""

CLOSEST_PX = 5.0
"""Least distance between two of them, pixels."""

THRESHOLD_PX = 0.2
"""Largest expected noise of a feature, pixels: there is little room, and what passes the camera is blurred."""

PACKED = 0.55
"""Spacing over the root of the area for each feature, as over a whole picture."""

LEAST_AREA = 24**2
"""Pixels of a body, an edge of half a patch taken off, below which it holds no features."""

STILL_PX, STILL_SIGMAS, MOSTLY = 0.6, 4.0, 0.7
"""Residual against standing still in the world, pixels and in sigmas of a track's noise, up to which a track is the
background's; and share of such tracks from which the body itself stands still, and they are kept.
"""

MARGIN_PX = 7
"""Half a patch, pixels: features lie so far inside."""


def follow_inside(plate: Plate, inside: Callable[[int], np.ndarray], progress: Progress = silent) -> TrackSet:
    """Return tracks of features that lie inside a body's mattes, whole patches of them.

    Parameters
    ----------
    plate : the pictures. inside : from frame to (H, W) bool, True on the body. progress : called with the share done.

    Raises
    ------
    TieError : nothing is white, or too little. FollowError : as for `follow_plate`.
    """
    shown = np.array([_room(inside(f)) for f in plate.frames.tolist()])
    progress(0.05, "Reading the body's mattes")
    if not shown.any():
        raise TieError(
            "The body's mattes are black on every frame, or show slivers only.", "Give mattes that are white on it."
        )
    area = float(np.median(shown[shown > 0]))
    if area < LEAST_AREA:
        raise TieError(
            f"The body is about {np.sqrt(area):.0f} px across, less a patch's edge.",
            "Too few features fit on it: choose frames on which it is nearer.",
        )
    spacing = max(CLOSEST_PX, PACKED * float(np.sqrt(area / FEATURES)))
    detect = DetectSettings(count=FEATURES, spacing=spacing, threshold=THRESHOLD_PX)
    settings = FollowSettings(detect=detect, wider=_wider(plate.width, area))
    return follow_plate(plate, settings, lambda frame: ~inside(frame), span(progress, 0.05, 1.0))


def of_body(tracks: TrackSet, camera: CameraPath) -> TrackSet:
    """Return tracks without those that stand still in the world: rough mattes take some of the background in.

    Parameters
    ----------
    tracks : followed inside a body's mattes. camera : the background's, solved before.
    """
    rows = camera.rows_of(tracks.frames)
    if not len(tracks) or (rows < 0).all():
        return tracks
    on, track = rows >= 0, tracks.track_of_sample
    first = np.concatenate([[0], np.cumsum(np.bincount(track[on], minlength=len(tracks)))]).astype(np.int64)
    placed = triangulated(camera, first, track[on], rows[on], tracks.xy[on], np.zeros(len(tracks), np.bool_))
    off = np.linalg.norm(camera.project_homogeneous(placed[track[on]], rows[on]) - tracks.xy[on], axis=1)
    usual = np.bincount(track[on], tracks.sigma[on], len(tracks)) / np.maximum(np.diff(first), 1)
    rms = np.sqrt(np.bincount(track[on], np.nan_to_num(off, nan=1e3) ** 2, len(tracks)) / np.maximum(np.diff(first), 1))
    still = rms < np.maximum(STILL_PX, STILL_SIGMAS * usual)
    return tracks if still.mean() > MOSTLY else tracks.take(~still)


def _disc(radius: int) -> np.ndarray:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))


def _wider(width: int, area: float) -> float:
    """Return by how much a body's patches are wider than usual, for a picture's width and the body's area, pixels."""
    return float(np.clip(np.sqrt(area) / (PATCHES_ACROSS * FollowSettings().half_px(width)), 1.0, WIDER))


def _room(white: np.ndarray) -> int:
    """Return how many pixels of a frame's matte (H, W) bool lie half a patch or more inside."""
    return int((cv2.erode(white.astype(np.uint8), _disc(MARGIN_PX), borderValue=0) > 0).sum())
