"""Tracks between rows and core's flat arrays."""

from bisect import bisect_left, bisect_right

import numpy as np
from sqlalchemy import func, insert, select
from sqlalchemy.orm import Session

from amberkeel.core.errors import FollowError
from amberkeel.core.tracks import TrackSet, from_pieces
from amberkeel.store.models import Plate, Shot, Track


def live_tracks(session: Session, shot: Shot) -> list[Track]:
    """Return a shot's tracks that are not removed, by name."""
    return list(session.scalars(select(Track).where(Track.shot_id == shot.id, ~Track.removed).order_by(Track.name)))


def some_tracks(session: Session, shot: Shot, ids: list[int]) -> list[Track]:
    """Return the live tracks of a shot among `ids`, by name; raises FollowError when there are none."""
    wanted = set(ids)
    rows = [t for t in live_tracks(session, shot) if t.id in wanted]
    if not rows:
        raise FollowError("No track is selected.", "Click a track, or drag a box around several.")
    return rows


def free_names(session: Session, shot: Shot, stem: str, count: int = 1, digits: int = 2) -> list[str]:
    """Return `count` names ``stem01`` on that no live track of the shot bears."""
    taken = set(session.scalars(select(Track.name).where(Track.shot_id == shot.id, ~Track.removed)))
    free, n = [], 0
    while len(free) < count:
        n += 1
        if (name := f"{stem}{n:0{digits}d}") not in taken:
            free.append(name)
    return free


def to_track_set(rows: list[Track], plate: Plate | None = None) -> TrackSet:
    """Return rows as core's TrackSet; its ids are those of the rows.

    With a plate, samples beyond its range are left out, and tracks with none within: they come back with the range.
    """
    span = (plate.first, plate.last) if plate else None
    rows = [t for t in rows if span is None or (t.frames and t.frames[0] <= span[1] and t.frames[-1] >= span[0])]
    pieces = [_piece(t, within(t.frames, span)) for t in rows]
    return from_pieces(
        [t.name for t in rows], pieces, [t.kind for t in rows], [t.state for t in rows], [t.id for t in rows]
    )


def within(frames: list[int], span: tuple[int, int] | None) -> slice:
    """Return which of rising frame numbers lie in a span, all of them without one."""
    if span is None:
        return slice(0, len(frames))
    return slice(bisect_left(frames, span[0]), bisect_right(frames, span[1]))


def _piece(row: Track, part: slice) -> tuple:
    """Return part of a track's samples as `from_pieces` takes them."""
    return row.frames[part], np.stack([row.x[part], row.y[part]], 1), row.sigma[part], row.score[part]


def add_run(
    session: Session, shot: Shot, tracks: TrackSet, made: dict | None = None, keys: list[list[int]] | None = None
) -> list[int]:
    """Store followed tracks as a new run, hidden until an edit takes them up; return their ids.

    `made` says how all of them were followed, `keys` which frames of each were set by hand.
    """
    run = (session.scalar(select(func.max(Track.run)).where(Track.shot_id == shot.id)) or 0) + 1
    rows = []
    for t, name in enumerate(tracks.names):
        r = tracks.rows(t)
        rows.append(
            {
                "shot_id": shot.id,
                "run": run,
                "name": name,
                "kind": tracks.kinds[t],
                "state": tracks.states[t],
                "removed": True,
                "frames": tracks.frames[r].tolist(),
                "x": tracks.xy[r, 0].round(4).tolist(),
                "y": tracks.xy[r, 1].round(4).tolist(),
                "sigma": tracks.sigma[r].round(4).tolist(),
                "score": tracks.score[r].round(4).tolist(),
                "keys": keys[t] if keys else [],
                "made": made or {},
            }
        )
    return list(session.scalars(insert(Track).returning(Track.id), rows)) if rows else []
