"""A body's tracks: which serve, what each says after the solve, and which are which when it is followed anew."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.handoff.wording import sentence
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED, TrackSet

SAME_PX = 1.5
"""Distance up to which two tracks are of one spot, pixels in the middle of the frames that both have."""

LEAST_COMMON = 2
"""Frames that two tracks of one spot have in common."""


@dataclass(frozen=True)
class BodyTrack:
    """What a track of a body says after the solve: its name, state, frames first and last, the root mean square of its
    residuals (pixels; None where it has none), and in words why it did not count.
    """

    name: str
    state: str
    frames: tuple[int, int]
    rms_px: float | None
    why: str


def body_tracks(solution: Solution) -> list[BodyTrack]:
    """Return a body's tracks, those that are farthest off first, then those that did not count."""
    tracks, out = solution.tracks, []
    for k, (track, rms) in enumerate(zip(tracks.ids.tolist(), solution.track_rms.tolist())):
        rows = tracks.rows(k)
        reason = solution.reasons.get(track)
        span = int(tracks.frames[rows][0]), int(tracks.frames[rows][-1])
        known = rms if np.isfinite(rms) else None
        out.append(BodyTrack(tracks.names[k], tracks.states[k], span, known, sentence(reason) if reason else ""))
    return sorted(out, key=lambda one: (one.state == EXCLUDED, -(one.rms_px or 0.0), one.name))


def serving(tracks: TrackSet, out: set[str]) -> TrackSet:
    """Return a body's tracks to be solved again: those named in `out` excluded, check tracks as they are, others in."""
    states = [
        EXCLUDED if name in out else CHECK if state == CHECK else ACTIVE
        for name, state in zip(tracks.names, tracks.states)
    ]
    return replace(tracks, states=states)


def same_spots(before: TrackSet, after: TrackSet, names: set[str]) -> dict[str, str]:
    """Return the tracks that follow what others followed before, by the others' names; some may have none.

    Parameters
    ----------
    before, after : a body's tracks, followed twice on one plate. names : of tracks before that are wanted.
    """
    out = {}
    for k, name in enumerate(before.names):
        if name not in names:
            continue
        rows = before.rows(k)
        at = np.full((int(max(before.frames.max(), after.frames.max())) + 1, 2), np.nan)
        at[before.frames[rows]] = before.xy[rows]
        away = np.linalg.norm(after.xy - at[after.frames], axis=1)
        own = [away[after.rows(t)] for t in range(len(after))]
        middle = [np.median(d[np.isfinite(d)]) if np.isfinite(d).sum() >= LEAST_COMMON else np.inf for d in own]
        best = int(np.argmin(middle)) if middle else -1
        if best >= 0 and middle[best] <= SAME_PX:
            out[name] = after.names[best]
    return out
