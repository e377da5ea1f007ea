"""Tracks enough to tell how a plate's background moves, followed quickly."""

import numba

from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

FEATURES = 120
"""Features a frame by which a plate without tracks is followed."""


MORE_FEATURES = 250
"""Features a frame where those are too few to tell it."""


def some_tracks(plate: Plate, progress: Progress = silent, features: int = FEATURES) -> TrackSet:
    """Return tracks of a plate, few and quickly followed: enough to tell how its background moves.

    Parameters
    ----------
    plate : the pictures. progress : called with the share done. features : a frame.
    """
    # So few are followed nearly as fast by one thread, and flow, which is found beside, has the other.
    threads = numba.get_num_threads()
    numba.set_num_threads(1)
    try:
        return follow_plate(plate, FollowSettings(detect=DetectSettings(count=features)), progress=progress)
    finally:
        numba.set_num_threads(threads)


def more_tracks(plate: Plate, progress: Progress = silent) -> TrackSet:
    """Return more tracks of a plate, for where `some_tracks` are too few."""
    return some_tracks(plate, progress, MORE_FEATURES)
