"""Two attempts of a shot held against each other: the cameras, and the tracks that got better and worse."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.solve.compare_paths import PathDifference, path_difference
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt
from amberkeel.store.solve import arrays_of, path_of

MOST_TRACKS = 6
"""Tracks named on each side."""

SAME_SHARE, SAME_TURN, SAME_FOCAL = 0.003, np.radians(0.02), 0.003
"""Position as a share of the path, angle and focal length up to which two attempts are the same camera."""


@dataclass(frozen=True)
class CrossCheck:
    """What two attempts differ by.

    Attributes
    ----------
    path : of the cameras. words : a verdict in one sentence. better, worse : names of tracks with their RMS residual
        in both, pixels, most changed first.
    """

    path: PathDifference
    words: str
    better: list[tuple[str, float, float]]
    worse: list[tuple[str, float, float]]


def cross_check(media: Media, first: Attempt, second: Attempt) -> CrossCheck:
    """Return what two attempts of a shot differ by; raises SolveError where they have no frames in common."""
    path = path_difference(*(path_of(media, one) for one in (first, second)))
    a, b = (arrays_of(media, one) for one in (first, second))
    before = dict(zip(a["track_id"].tolist(), a["track_rms"].tolist()))
    names = dict(zip(b["track_id"].tolist(), b["names"].tolist()))
    rows = [
        (names[track], before[track], after)
        for track, after in zip(b["track_id"].tolist(), b["track_rms"].tolist())
        if np.isfinite(before.get(track, np.nan)) and np.isfinite(after)
    ]
    rows.sort(key=lambda row: row[2] - row[1])
    better = [row for row in rows[:MOST_TRACKS] if row[2] < row[1]]
    worse = [row for row in rows[::-1][:MOST_TRACKS] if row[2] > row[1]]
    return CrossCheck(path, _verdict(path, first, second), better, worse)


def _verdict(path: PathDifference, first: Attempt, second: Attempt) -> str:
    """Return whether both attempts are the same camera, or which figure parts them."""
    figures = (
        f"paths differ by {100 * path.position_share:.2f} % of their length and {np.degrees(path.turn_rms):.3f}°, "
        f"focal lengths by {100 * abs(path.focal):.2f} %"
    )
    ways = _ways(first) != _ways(second)
    if path.position_share < SAME_SHARE and path.turn_rms < SAME_TURN and abs(path.focal) < SAME_FOCAL:
        found = " They were found by different ways, so each confirms the other." if ways else ""
        return f"Both are the same camera: {figures}.{found}"
    sigma = float(np.hypot(*(one.figures["focal_sigma_px"] / one.figures["focal_px"] for one in (first, second))))
    if sigma and abs(path.focal) > 3.0 * sigma:
        return f"They disagree: {figures}, which is {abs(path.focal) / sigma:.0f} sigma. One of them is wrong."
    return f"They differ within what each knows of itself: {figures}."


def _ways(attempt: Attempt) -> tuple:
    """Return by what knowledge an attempt was found."""
    evidence = tuple(sorted(row["kind"] for row in attempt.recipe.get("evidence", []) if row["on"]))
    return evidence, attempt.recipe.get("lens_held", False), attempt.recipe.get("camera_motion")
