"""Edits of tracks: their states, samples, names and groups, and which of them are there."""

from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED
from amberkeel.store.edits.rows import stamped, turn
from amberkeel.store.models import Shot, Track
from amberkeel.store.typed import Typed

_TRACK_VALUES = {"name", "group", "locked", "made"}

_SAMPLES = ("x", "y", "sigma", "score")


class States(Typed):
    """Track ids by the state that they shall have."""

    states: dict[str, list[int]]


class Removed(Typed):
    """Track ids to delete and to bring back, and what that is called."""

    remove: list[int] = []
    bring: list[int] = []
    label: str = ""


class Cut(Removed):
    """The same, with the stamp of the masks that the tracks then agree with."""

    followed: int


class Columns(Typed):
    """Samples of a track: frame numbers, pixels, noise in pixels, and match."""

    frames: list[int]
    x: list[float]
    y: list[float]
    sigma: list[float]
    score: list[float]


class Samples(Typed):
    """Changes to tracks by their ids as text.

    `put` and `drop` are samples to put in and frames to take out, `keys` the frames set by hand, `values` further
    columns; `remove` and `bring` are ids, `groups` all of the shot's groups.
    """

    label: str
    put: dict[str, Columns] = {}
    drop: dict[str, list[int]] = {}
    keys: dict[str, list[int]] = {}
    values: dict[str, dict[str, Any]] = {}
    remove: list[int] = []
    bring: list[int] = []
    groups: dict[str, dict[str, Any]] = {}


def states(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"states": {state: [track ids]}}."""
    inverse: dict[str, list[int]] = {}
    total = 0
    for state, ids in payload["states"].items():
        if state not in (ACTIVE, CHECK, EXCLUDED):
            raise KeelError(f"There is no track state “{state}”.")
        rows = session.execute(select(Track.id, Track.state).where(Track.shot_id == shot.id, Track.id.in_(ids))).all()
        for track_id, before in rows:
            inverse.setdefault(before, []).append(track_id)
        total += len(rows)
        session.execute(update(Track).where(Track.shot_id == shot.id, Track.id.in_(ids)).values(state=state))
    if not total:
        raise KeelError("No track is selected.", "Click a track, or drag a box around several.")
    words = {ACTIVE: "Restore", CHECK: "Withhold", EXCLUDED: "Exclude"}
    verb = words[next(iter(payload["states"]))] if len(payload["states"]) == 1 else "Restore states of"
    return {"states": inverse, **stamped(shot, payload)}, f"{verb} {total} track{'s' if total != 1 else ''}"


def removed(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"remove": [track ids], "bring": [track ids], "label": optional}."""
    if session.scalar(
        select(Track.id).where(Track.shot_id == shot.id, Track.id.in_(payload.get("remove", [])), Track.locked).limit(1)
    ):
        raise KeelError("A locked track is among them.", "Unlock it first; nothing was deleted.")
    gone, back = turn(session, shot, Track.removed, payload.get("remove", []), payload.get("bring", []))
    touched = len(gone) + len(back)
    if not touched:
        raise KeelError("No track is selected.", "Click a track, or drag a box around several.")
    inverse = {"remove": back, "bring": gone, "label": payload.get("label", ""), **stamped(shot, payload)}
    return inverse, payload.get("label") or f"Delete {touched} track{'s' if touched != 1 else ''}"


def cut(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: as for tracks, with "followed": the masks' stamp that they then agree with."""
    inverse, label = removed(session, shot, payload)
    inverse["followed"], shot.followed_stamp = shot.followed_stamp, payload["followed"]
    return inverse, label


def samples(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"put": {id: {"frames", "x", "y", "sigma", "score"}}, "drop": {id: frames}, "keys": {id: frames set by
    hand}, "values": {id: {column: value}}, "remove": [ids], "bring": [ids], "groups": {name: {...}}, "label": what is
    done}.
    """
    inverse: dict = {"put": {}, "drop": {}, "keys": {}, "values": {}, "label": payload["label"]}
    touched = {int(i) for part in ("put", "drop", "keys", "values") for i in payload.get(part, {})}
    rows = {t.id: t for t in session.scalars(select(Track).where(Track.shot_id == shot.id, Track.id.in_(touched)))}
    if len(rows) != len(touched):
        raise KeelError("A track is gone.", "The page shows the newest state now.")
    for row in rows.values():
        number = str(row.id)
        drop, put = payload.get("drop", {}).get(number, []), payload.get("put", {}).get(number)
        if drop or put:
            inverse["drop"][number], inverse["put"][number] = _resample(row, drop, put)
        if number in payload.get("keys", {}):
            inverse["keys"][number], row.keys = row.keys, payload["keys"][number]
        values = payload.get("values", {}).get(number, {})
        if not set(values) <= _TRACK_VALUES:
            raise KeelError("That is no property of a track.")
        if values:
            inverse["values"][number] = {name: getattr(row, name) for name in values}
            for name, value in values.items():
                setattr(row, name, value)
    gone, back = turn(session, shot, Track.removed, payload.get("remove", []), payload.get("bring", []))
    if "groups" in payload:
        inverse["groups"], shot.groups = shot.groups, payload["groups"]
    inverse |= {"remove": back, "bring": gone, **stamped(shot, payload)}
    return inverse, payload["label"]


def _resample(row: Track, drop: list[int], put: dict | None) -> tuple[list[int], dict]:
    """Take samples out of a track and put others in; return what to drop and to put to take that back."""
    before = dict(zip(row.frames, zip(row.x, row.y, row.sigma, row.score)))
    new = dict(zip(put["frames"], zip(*(put[c] for c in _SAMPLES)))) if put else {}
    after = {f: v for f, v in before.items() if f not in set(drop)} | new
    frames = sorted(after)
    row.frames = frames
    for k, column in enumerate(_SAMPLES):
        setattr(row, column, [after[f][k] for f in frames])
    changed = [f for f in {*drop, *new} if f in before]
    back = {"frames": changed, **{c: [before[f][k] for f in changed] for k, c in enumerate(_SAMPLES)}}
    return [f for f in new if f not in before], back
