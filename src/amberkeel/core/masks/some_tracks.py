"""Tracks enough to tell how a plate's background moves, followed quickly."""

from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

FEATURES = 120
"""Features a frame by which a plate without tracks is followed."""


def some_tracks(plate: Plate, progress: Progress = silent) -> TrackSet:
    """Return tracks of a plate, few and quickly followed: enough to tell how its background moves."""
    return follow_plate(plate, FollowSettings(detect=DetectSettings(count=FEATURES)), progress=progress)
