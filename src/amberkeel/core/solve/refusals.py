"""Measurements that give no camera, refused before anything is solved."""

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.tracks import ACTIVE, TrackSet

LEAST_TRACKS = 8
"""Active tracks below which a camera that moves is not solved when nothing is known of it."""

NEEDS = (
    "A camera that moves needs eight tracks, seven with its focal length known, six with its lens held; one that only "
    "turns needs five, three with its focal length known. Better are fifty. Of tracks with known coordinates four are "
    "enough, six where the focal length is unknown."
)


LEAST_ON_A_PLANE = 6
"""The same where all are said to lie on one plane."""


def least_tracks(turns: bool, searched: bool, held: bool, flat: bool = False) -> int:
    """Return how many active tracks a camera needs.

    Parameters
    ----------
    turns : it only turns. searched : its focal length is unknown. held : all of its lens is. flat : all tracks are said
        to lie on one plane.
    """
    if flat:
        return LEAST_ON_A_PLANE
    if turns:
        return 5 if searched else 3
    return LEAST_TRACKS if searched else 6 if held else 7


ON_A_LINE = 0.01
"""Spread of the tracks across a line through them, over that along it, up to which they lie on it."""

MOST_ON_A_LINE = 0.9
"""Share of the frames on which they may."""

ENOUGH_FOR_A_LINE = 3
"""Tracks of a frame from which it is asked whether they lie on one."""


def check_tracks(tracks: TrackSet, least: int = LEAST_TRACKS) -> None:
    """Refuse measurements from which no camera can come.

    Parameters
    ----------
    tracks : all of them. least : active ones that the solve needs, see `least_tracks`.

    Raises
    ------
    SolveError : a position or sigma that is no number, no measurement at all, fewer active tracks than the least, or
        all of them on one line.
    """
    broken = np.nonzero(~np.isfinite(tracks.xy).all(1) | ~np.isfinite(tracks.sigma) | (tracks.sigma < 0.0))[0]
    if len(broken):
        row = int(broken[0])
        raise SolveError(
            f"Track {tracks.names[int(tracks.track_of_sample[row])]} has no position on frame {tracks.frames[row]}: "
            "what is written there is no number.",
            "Cut that frame from the track, or bring the table in again.",
        )
    if not len(tracks.frames):
        raise SolveError("No track has a measurement on these frames.", "Choose the frames that were followed.")
    active = tracks.in_state(ACTIVE)
    if active.sum() < least:
        raise too_few(int(active.sum()))
    if _on_a_line(tracks, active):
        raise SolveError(
            "All tracks lie on one line, about which the camera could turn.", "Follow features off that line too."
        )


def _on_a_line(tracks: TrackSet, active: np.ndarray) -> bool:
    """Return whether the active tracks lie on a line of the picture on nearly all frames."""
    own = active[tracks.track_of_sample]
    frames, number = np.unique(tracks.frames[own], return_inverse=True)
    xy = tracks.xy[own]
    count = np.bincount(number)
    mean = np.stack([np.bincount(number, xy[:, k]) / count for k in (0, 1)], 1)
    d = xy - mean[number]
    xx, yy, cross = (np.bincount(number, d[:, a] * d[:, b]) for a, b in ((0, 0), (1, 1), (0, 1)))
    half, root = 0.5 * (xx + yy), np.hypot(0.5 * (xx - yy), cross)
    thin = np.sqrt(np.maximum(half - root, 0.0)) < ON_A_LINE * np.sqrt(half + root)
    enough = count >= ENOUGH_FOR_A_LINE
    return bool(enough.any() and thin[enough].mean() > MOST_ON_A_LINE)


def too_few(count: int) -> SolveError:
    """Return what is said where so many active tracks are too few."""
    return SolveError(f"Only {count} tracks are active." if count != 1 else "Only one track is active.", NEEDS)
