"""Check tracks: whole tracks withheld from the solve, like the others in noise, spread over picture, time and depth;
and what their residuals say of it.
"""

import numpy as np

from amberkeel.core.tracks import ACTIVE, TrackSet

LEAST_ACTIVE = 40
"""Active tracks below which none is withheld."""

LEAST_SAMPLES, LENGTH_SHARE = 8, 0.6
"""Measurements that a check track must have, and of the usual length."""


def choose_checks(
    tracks: TrackSet,
    width: int,
    height: int,
    share: float,
    rng: np.random.Generator,
    needed: np.ndarray | None = None,
) -> np.ndarray:
    """Return which active tracks to withhold, (T,) bool: about `share` of them.

    Long tracks are put in order of their stated noise and cut into as many strata as are wanted; each gives one, from
    that cell of the picture (4 x 3), of the shot (3 parts) and of image speed (slow or fast, for far or near) which
    has given fewest. So a check residual means what the residual of the others means: noise differs by a factor of
    thirty between tracks, and a sample that missed the noisy ones would look too good (Cochran 1977, chapter 5).

    Parameters
    ----------
    tracks : all of them. width, height : of the picture, pixels. share : of the active tracks. rng : of the choice.
    needed : (T,) bool, tracks that the solve cannot do without, or None.
    """
    chosen = np.zeros(len(tracks), bool)
    active = tracks.in_state(ACTIVE)
    if active.sum() < LEAST_ACTIVE:
        return chosen
    free = active if needed is None else active & ~needed
    long_enough = tracks.lengths >= max(LEAST_SAMPLES, np.median(tracks.lengths[active]) * LENGTH_SHARE)
    candidates = np.nonzero(free & long_enough)[0]
    wanted = min(int(round(share * active.sum())), len(candidates))
    cells = _cells(tracks, candidates, width, height)
    noise = np.array([np.median(tracks.sigma[tracks.rows(int(t))]) for t in candidates])
    given: dict[int, int] = {}
    for stratum in np.array_split(np.argsort(noise, kind="stable"), wanted) if wanted else []:
        mixed = rng.permutation(stratum)
        one = int(min(mixed, key=lambda k: given.get(int(cells[k]), 0)))
        given[int(cells[one])] = given.get(int(cells[one]), 0) + 1
        chosen[candidates[one]] = True
    return chosen


def _cells(tracks: TrackSet, chosen: np.ndarray, width: int, height: int) -> np.ndarray:
    """Return the cell of picture, time and speed of each chosen track, (C,) int."""
    rows = [tracks.rows(int(t)) for t in chosen]
    mean = np.array([tracks.xy[r].mean(0) for r in rows]).reshape(-1, 2)
    middle = np.array([tracks.frames[r].mean() for r in rows])
    speed = np.array([np.linalg.norm(tracks.xy[r][-1] - tracks.xy[r][0]) / max(r.stop - r.start, 1) for r in rows])
    span = max(np.ptp(tracks.frames), 1)
    return (
        np.clip((4 * mean[:, 0] / width).astype(int), 0, 3)
        + 4 * np.clip((3 * mean[:, 1] / height).astype(int), 0, 2)
        + 12 * np.clip((3 * (middle - tracks.frames.min()) / span).astype(int), 0, 2)
        + 36 * (speed > np.median(speed) if len(speed) else speed).astype(int)
    )


def over_used(whitened: np.ndarray, track: np.ndarray, used: np.ndarray, check: np.ndarray) -> float:
    """Return the residuals of check tracks over those of used tracks like them; 0 where there are no check tracks.

    Noise differs by a factor of thirty between tracks, so the plain RMS of a few check tracks is that of the two or
    three noisiest. Each track is therefore measured by its own stated noise and counts once, and only used tracks as
    long as the check tracks are compared (a ratio estimator with the stated noise as the known size: Cochran 1977,
    chapter 6). Over plates with every track withheld once it errs by a tenth where the plain ratio errs by a quarter.

    Parameters
    ----------
    whitened : (N,) residuals over their stated sigmas. track : (N,) int, row of each one's track. used, check : (N,)
        bool, measurements that count, of used tracks and of check tracks.
    """
    count = int(track.max(initial=-1)) + 1
    lengths = [np.bincount(track[one], minlength=count) for one in (used, check)]
    if not lengths[1].any():
        return 0.0
    least = lengths[1][lengths[1] > 0].min()
    typical = []
    for one, length in zip((used, check), lengths):
        squares = np.bincount(track[one], whitened[one] ** 2, count)
        own = length >= least
        typical.append(float(np.sqrt(squares[own] / length[own]).mean()) if own.any() else 0.0)
    return typical[1] / typical[0] if typical[0] > 0.0 else 0.0
