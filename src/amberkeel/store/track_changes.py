"""Changes to tracks' samples and names: cut, trim, split, join, interpolate, rename, group, lock. Each is one edit."""

import numpy as np
from scipy.interpolate import CubicHermiteSpline
from sqlalchemy.orm import Session

from amberkeel.core.errors import FollowError
from amberkeel.core.tracks import HAND, from_pieces
from amberkeel.store import edits
from amberkeel.store.models import Edit, Shot, Track
from amberkeel.store.tracks import add_run, free_names, live_tracks, some_tracks, to_track_set

SHORTEST = 2
"""Samples below which a piece is no track."""

GUESS_PX = 0.5
"""Noise given to an interpolated position, and as much again for each frame from the nearest measured one."""


def _unlocked(session: Session, shot: Shot, ids: list[int]) -> list[Track]:
    rows = some_tracks(session, shot, ids)
    free = [t for t in rows if not t.locked]
    if not free:
        raise FollowError(
            "All of these tracks are locked." if len(rows) > 1 else f"{rows[0].name} is locked.", "Unlock them first."
        )
    return free


def _apply(session: Session, shot: Shot, revision: int | None, label: str, **payload) -> Edit:
    return edits.apply(session, shot.id, "samples", {**payload, "label": label}, revision)


def _many(count: int, word: str) -> str:
    return f"{count} {word}{'' if count == 1 else 's'}"


def cut(session: Session, shot: Shot, samples: dict[int, list[int]], revision: int | None = None) -> Edit:
    """Take samples, frames by track id, out of tracks; a track left with less than SHORTEST is let go."""
    rows = _unlocked(session, shot, list(samples))
    drop, remove = {}, []
    for t in rows:
        gone = set(samples[t.id]) & set(t.frames)
        if len(t.frames) - len(gone) < SHORTEST:
            remove.append(t.id)
        elif gone:
            drop[str(t.id)] = sorted(gone)
    if not drop and not remove:
        raise FollowError("Those tracks have no samples on those frames.", "Choose frames on which they live.")
    keys = {str(t.id): [k for k in t.keys if k not in drop[str(t.id)]] for t in rows if str(t.id) in drop and t.keys}
    total = sum(map(len, drop.values()))
    label = (
        f"Cut {_many(total, 'sample')} from {_many(len(drop), 'track')}"
        if drop
        else f"Delete {_many(len(remove), 'track')}"
    )
    return _apply(session, shot, revision, label, drop=drop, remove=remove, keys=keys)


def trim(session: Session, shot: Shot, ids: list[int], first: int, last: int, revision: int | None = None) -> Edit:
    """Keep only the samples from `first` to `last`."""
    rows = _unlocked(session, shot, ids)
    return cut(session, shot, {t.id: [f for f in t.frames if not first <= f <= last] for t in rows}, revision)


def split(session: Session, shot: Shot, ids: list[int], frame: int, revision: int | None = None) -> Edit:
    """Cut tracks in two before a frame; the later piece gets a name of its own."""
    rows = [t for t in _unlocked(session, shot, ids) if t.frames[0] < frame <= t.frames[-1]]
    if not rows:
        raise FollowError(
            f"None of these tracks lives on both sides of frame {frame}.",
            "Go to the frame that the later piece shall begin with.",
        )
    pieces, names, drop, keys = [], [], {}, {}
    for t in rows:
        later = np.array(t.frames) >= frame
        arrays = [np.array(getattr(t, c))[later] for c in ("frames", "x", "y", "sigma", "score")]
        pieces.append((arrays[0], np.stack(arrays[1:3], 1), arrays[3], arrays[4]))
        names.append(free_names(session, shot, f"{t.name[:70]}.b", digits=1)[0])
        drop[str(t.id)] = arrays[0].tolist()
        keys[str(t.id)] = [k for k in t.keys if k < frame]
    new = add_run(
        session,
        shot,
        from_pieces(names, pieces, [t.kind for t in rows], [t.state for t in rows]),
        rows[0].made,
        [[k for k in t.keys if k >= frame] for t in rows],
    )
    return _apply(
        session, shot, revision, f"Split {_many(len(rows), 'track')} at {frame}", drop=drop, bring=new, keys=keys
    )


def join(session: Session, shot: Shot, ids: list[int], revision: int | None = None) -> Edit:
    """Make one track of two or more pieces of one spot that share no frame."""
    rows = sorted(_unlocked(session, shot, ids), key=lambda t: t.frames[0])
    if len(rows) < 2:
        raise FollowError("Joining needs two tracks.", "Select the pieces of one spot.")
    whole, rest = rows[0], rows[1:]
    frames = [f for t in rows for f in t.frames]
    if len(set(frames)) != len(frames):
        raise FollowError(
            "These tracks live on the same frames.", "Only pieces of one spot, one after the other, can be joined."
        )
    put = {c: [v for t in rest for v in getattr(t, c)] for c in ("frames", "x", "y", "sigma", "score")}
    keys = {str(whole.id): sorted(k for t in rows for k in t.keys)}
    return _apply(
        session,
        shot,
        revision,
        f"Join {len(rows)} pieces as {whole.name}",
        put={str(whole.id): put},
        remove=[t.id for t in rest],
        keys=keys,
    )


def interpolate(
    session: Session, shot: Shot, ids: list[int], first: int, last: int, revision: int | None = None
) -> Edit:
    """Fill the samples lacking between `first` and `last` by a curve through the measured ones, with noise to match."""
    put = {}
    for t in _unlocked(session, shot, ids):
        known = np.array(t.frames)
        lacking = np.array([f for f in range(max(first, known[0] + 1), min(last, known[-1])) if f not in set(t.frames)])
        if not len(lacking) or len(known) < 2:
            continue
        xy = np.stack([t.x, t.y], 1)
        filled = CubicHermiteSpline(known, xy, np.gradient(xy, known, axis=0))(lacking)
        far = np.abs(lacking[:, None] - known[None]).min(1)
        put[str(t.id)] = {
            "frames": lacking.tolist(),
            "x": filled[:, 0].round(4).tolist(),
            "y": filled[:, 1].round(4).tolist(),
            "sigma": (GUESS_PX * (1 + far)).tolist(),
            "score": [0.0] * len(lacking),
        }
    if not put:
        raise FollowError(
            "There is nothing to fill: the tracks have no gap on those frames.",
            "Choose frames with a gap, and samples on both sides of it.",
        )
    total = sum(len(p["frames"]) for p in put.values())
    return _apply(session, shot, revision, f"Fill {_many(total, 'sample')} in {_many(len(put), 'track')}", put=put)


def rename(session: Session, shot: Shot, number: int, name: str, revision: int | None = None) -> Edit:
    """Give a track another name that no other bears."""
    row, name = _unlocked(session, shot, [number])[0], name.strip()
    if not 1 <= len(name) <= 80:
        raise FollowError("A track needs a name of up to 80 letters.")
    if any(t.name == name and t.id != row.id for t in live_tracks(session, shot)):
        raise FollowError(f"There is a track “{name}” already.", "Names are given once.")
    return _apply(session, shot, revision, f"Rename {row.name} to {name}", values={str(row.id): {"name": name}})


def group(session: Session, shot: Shot, ids: list[int], name: str, colour: str, revision: int | None = None) -> Edit:
    """Put tracks into a group with a colour; an empty name takes them out of theirs."""
    rows, name = some_tracks(session, shot, ids), name.strip()[:40]
    if name and not (
        len(colour) == 7 and colour[0] == "#" and all(c in "0123456789abcdef" for c in colour[1:].lower())
    ):
        raise FollowError("That is no colour.")
    groups = {**shot.groups, name: {**shot.groups.get(name, {}), "colour": colour}} if name else shot.groups
    label = f"Group {_many(len(rows), 'track')} as {name}" if name else f"Ungroup {_many(len(rows), 'track')}"
    return _apply(session, shot, revision, label, values={str(t.id): {"group": name} for t in rows}, groups=groups)


def hide(session: Session, shot: Shot, name: str, hidden: bool, revision: int | None = None) -> Edit:
    """Hide a group on the plate, or show it."""
    if name not in shot.groups:
        raise FollowError(f"There is no group “{name}”.")
    groups = {**shot.groups, name: {**shot.groups[name], "hidden": hidden}}
    return _apply(session, shot, revision, f"{'Hide' if hidden else 'Show'} {name}", groups=groups)


def lock(session: Session, shot: Shot, ids: list[int], locked: bool, revision: int | None = None) -> Edit:
    """Lock tracks against change, or unlock them."""
    rows = some_tracks(session, shot, ids)
    return _apply(
        session,
        shot,
        revision,
        f"{'Lock' if locked else 'Unlock'} {_many(len(rows), 'track')}",
        values={str(t.id): {"locked": locked} for t in rows},
    )


def set_up(session: Session, shot: Shot, number: int, settings: dict, revision: int | None = None) -> Edit:
    """Change how a track placed by hand is followed from now on."""
    row = _unlocked(session, shot, [number])[0]
    return _apply(
        session,
        shot,
        revision,
        f"Set up {row.name}",
        values={str(row.id): {"made": {**row.made, "settings": settings}}},
    )


def place(
    session: Session, shot: Shot, frame: int, xy: tuple[float, float], made: dict, revision: int | None = None
) -> int:
    """Add a track placed by hand on a frame; return its id."""
    name = free_names(session, shot, "h")[0]
    piece = (np.array([frame]), np.array([xy]), np.array([0.15]), np.array([1.0]))
    new = add_run(session, shot, from_pieces([name], [piece], [HAND]), made, [[frame]])
    _apply(session, shot, revision, f"Place {name}", bring=new)
    return new[0]


def key(
    session: Session, shot: Shot, number: int, frame: int, xy: tuple[float, float] | None, revision: int | None = None
) -> Edit:
    """Set a key of a track by hand on a frame, or remove the one there where `xy` is None."""
    row = _unlocked(session, shot, [number])[0]
    keys = sorted({*row.keys} - {frame} | ({frame} if xy else set()))
    if xy is None:
        if frame not in row.keys:
            raise FollowError(f"{row.name} has no key on frame {frame}.")
        if len(row.frames) <= 1:
            raise FollowError(f"That is the last key of {row.name}.", "Delete the track instead.")
        return _apply(
            session,
            shot,
            revision,
            f"Remove the key of {row.name} at {frame}",
            drop={str(row.id): [frame]},
            keys={str(row.id): keys},
        )
    put = {"frames": [frame], "x": [round(xy[0], 4)], "y": [round(xy[1], 4)], "sigma": [0.15], "score": [1.0]}
    return _apply(
        session, shot, revision, f"Key {row.name} at {frame}", put={str(row.id): put}, keys={str(row.id): keys}
    )


def adopt(session: Session, shot: Shot, tracks, made: dict, revision: int | None = None) -> Edit:
    """Make tracks of chosen sightings, under names of their own."""
    names = free_names(session, shot, "s", len(tracks), 4)
    named = from_pieces(
        names,
        [
            (tracks.frames[r], tracks.xy[r], tracks.sigma[r], tracks.score[r])
            for r in map(tracks.rows, range(len(tracks)))
        ],
    )
    return _apply(
        session,
        shot,
        revision,
        f"Take {_many(len(tracks), 'sighting')} as tracks",
        bring=add_run(session, shot, named, made),
    )


def bring_in(session: Session, shot: Shot, tracks, source: str, revision: int | None = None) -> Edit:
    """Add tracks read from a table; raises FollowError where a name is borne already."""
    taken = {t.name for t in live_tracks(session, shot)} & set(tracks.names)
    if taken:
        some = ", ".join(sorted(taken)[:4])
        raise FollowError(
            f"{_many(len(taken), 'name')} of the table {'is' if len(taken) == 1 else 'are'} borne by tracks of this "
            f"shot: {some}.",
            "Rename or delete those first; nothing was brought in.",
        )
    return _apply(
        session,
        shot,
        revision,
        f"Bring in {_many(len(tracks), 'track')}",
        bring=add_run(session, shot, tracks, {"images": "table", "source": source}),
    )


def whole(session: Session, shot: Shot):
    """Return the rows of a shot's live tracks and their TrackSet."""
    rows = live_tracks(session, shot)
    return rows, to_track_set(rows)
