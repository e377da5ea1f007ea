"""The limit loop, guarded: what lies over a residual limit is cut out, stretches before whole tracks, and only as long
as withheld tracks gain by it.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from amberkeel.core.diagnose.thin import FLOOR
from amberkeel.core.errors import SolveError
from amberkeel.core.plate.sequence import runs_of
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import ACTIVE

PX, SIGMA = "px", "sigma"
UNITS = (PX, SIGMA)

LUCK = 2.0
"""Limit in sigmas below which what is cut is noise that every good track has."""

WHOLE = 0.5
"""Share of a track over the limit from which all of it goes."""

LEFT = 3
"""Measurements that a track must keep."""

STEPS = (8.0, 6.0, 5.0, 4.0, 3.5, 3.0, 2.5)
"""Limits, in sigmas, that the loop goes down by itself."""


@dataclass(frozen=True)
class Limit:
    """What is over a limit: residuals longer than `value`, in `unit`, of tracks in use; and tracks with fewer than
    `least` measurements.
    """

    value: float
    unit: str = SIGMA
    least: int = 0


@dataclass(frozen=True)
class OverLimit:
    """What a limit takes out.

    Attributes
    ----------
    cuts : a track's id, first and last frame of each stretch. tracks : ids of those that go as a whole. measurements :
        how many go. share : of all that count. spared : numbers of frames on which nothing is cut, for fewer than
        `FLOOR` tracks would be left. luck : whether the limit lies within the noise.
    """

    cuts: tuple[tuple[int, int, int], ...]
    tracks: tuple[int, ...]
    measurements: int
    share: float
    spared: tuple[int, ...]
    luck: bool


def over_limit(solution: Solution, limit: Limit) -> OverLimit:
    """Return what a limit takes out of a solution.

    Parameters
    ----------
    solution : solved. limit : what is too much.

    Raises
    ------
    SolveError : a limit that cannot be, or that leaves no track.
    """
    _check(limit)
    tracks = solution.tracks
    own, used = tracks.track_of_sample, tracks.in_state(ACTIVE)
    length = np.linalg.norm(solution.residuals, axis=1)
    unit = solution.stated_sigma * max(solution.noise_factor, 1e-6) if limit.unit == SIGMA else 1.0
    live = used[own] & np.isfinite(length)
    bad = live & (length / unit > limit.value)
    count, over = np.bincount(own[live], minlength=len(tracks)), np.bincount(own[bad], minlength=len(tracks))
    whole = used & (count > 0) & ((over > WHOLE * count) | (count - over < LEFT) & (over > 0) | (count < limit.least))
    if not (used & ~whole).any():
        raise SolveError("That limit leaves no track at all.", "Raise it, or lower the least number of frames.")
    bad, spared = _spared(solution, live, bad, whole[own])
    whole &= np.bincount(own[live & ~bad], minlength=len(tracks)) < np.maximum(count, 1)
    cuts = [(int(tracks.ids[t]), a, z) for t in np.nonzero(~whole)[0] for a, z in _stretches(tracks, bad, int(t))]
    gone = int((bad | live & whole[own]).sum())
    total = max(int(live.sum()), 1)
    luck = limit.value < LUCK * (1.0 if limit.unit == SIGMA else solution.rms_px / np.sqrt(2.0))
    ids = tuple(int(i) for i in tracks.ids[whole])
    return OverLimit(tuple(cuts), ids, gone, gone / total, spared, bool(luck))


def _check(limit: Limit) -> None:
    if limit.unit not in UNITS:
        raise SolveError(f"There is no unit “{limit.unit}”.", "Give the limit in px or in sigma.")
    if not 0.0 < limit.value < 1e4 or not 0 <= limit.least < 1e5:
        raise SolveError(
            f"A limit of {limit.value:g} {limit.unit} is impossible.", "Give more than 0, such as 4 sigma."
        )


def _spared(
    solution: Solution, live: np.ndarray, bad: np.ndarray, whole: np.ndarray
) -> tuple[np.ndarray, tuple[int, ...]]:
    """Return what may be cut, nothing of it on frames on which too few tracks would be left; and these frames."""
    frames = solution.path.frames
    row = solution.path.rows_of(solution.tracks.frames)
    left = np.bincount(row[live & ~bad & ~whole & (row >= 0)], minlength=len(frames))
    hit = np.bincount(row[(bad | live & whole) & (row >= 0)], minlength=len(frames)) > 0
    thin = hit & (left < FLOOR)
    return bad & ~thin[row], tuple(int(f) for f in frames[thin])


def _stretches(tracks, bad: np.ndarray, track: int) -> list[tuple[int, int]]:
    rows = tracks.rows(track)
    return runs_of(tracks.frames[rows][bad[rows]].tolist(), gap=1)


def down(
    solution: Solution, solved: Callable[[Solution, OverLimit], Solution], better: Callable[[Solution, Solution], bool]
) -> tuple[Solution, float]:
    """Lower the limit step by step as long as withheld tracks gain; return the best attempt and the limit that gave it,
    0 where none was better.

    Parameters
    ----------
    solution : solved. solved : makes an attempt of one without what is over a limit. better : whether the second of two
        attempts is better by what withheld tracks say.
    """
    best, reached = solution, 0.0
    for value in STEPS:
        over = over_limit(best, Limit(value))
        if not over.measurements:
            continue
        trial = solved(best, over)
        if not better(best, trial):
            break
        best, reached = trial, value
    return best, reached
