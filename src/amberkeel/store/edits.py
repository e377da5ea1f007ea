"""The one door for user edits: each is recorded with its inverse, which gives undo, redo and the history."""

import json
import secrets
import zlib
from collections.abc import Callable

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED
from amberkeel.store.masks import check_mask, masks_stamp
from amberkeel.store.models import Attempt, Edit, LensProfile, Mask, Proposal, Shot, Track


class StaleEdit(KeelError):
    """Someone changed the shot since the page was drawn."""

    def __init__(self):
        super().__init__("This shot has changed since you opened it.", "The page shows the newest state now; do it again there.")


def _set_states(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
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
    return {"states": inverse, **_stamped(shot, payload)}, f"{verb} {total} track{'s' if total != 1 else ''}"


def _stamped(shot: Shot, payload: dict) -> dict:
    """Give a shot's tracks the stamp of an edit, a new one where it has none; return the one before, for its inverse.

    So going back brings the old stamp back, and an attempt made then is up to date again.
    """
    before, shot.tracks_stamp = shot.tracks_stamp, payload.setdefault("stamp", secrets.randbits(30) + 1)
    return {"stamp": before}


def _turn(session: Session, shot: Shot, column, on: list[int], off: list[int]) -> tuple[list[int], list[int]]:
    """Set a yes or no of some of a shot's rows, of others to no; return the ids that it really changed, both ways."""
    table = column.class_
    turned = []
    for ids, value in ((on, True), (off, False)):
        chosen = update(table).where(table.shot_id == shot.id, table.id.in_(ids), column.is_(not value)).values({column: value}).returning(table.id)
        turned.append(sorted(session.scalars(chosen)) if ids else [])
    return turned[0], turned[1]


def _set_removed(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"remove": [track ids], "bring": [track ids], "label": optional}."""
    if session.scalar(select(Track.id).where(Track.shot_id == shot.id, Track.id.in_(payload.get("remove", [])), Track.locked).limit(1)):
        raise KeelError("A locked track is among them.", "Unlock it first; nothing was deleted.")
    gone, back = _turn(session, shot, Track.removed, payload.get("remove", []), payload.get("bring", []))
    touched = len(gone) + len(back)
    if not touched:
        raise KeelError("No track is selected.", "Click a track, or drag a box around several.")
    inverse = {"remove": back, "bring": gone, "label": payload.get("label", ""), **_stamped(shot, payload)}
    return inverse, payload.get("label") or f"Delete {touched} track{'s' if touched != 1 else ''}"


def _pin(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"attempt": id or None}."""
    attempt = session.get(Attempt, payload["attempt"]) if payload["attempt"] else None
    if payload["attempt"] and (attempt is None or attempt.shot_id != shot.id):
        raise KeelError("That attempt is not in this shot's ledger.")
    inverse = {"attempt": shot.pinned_id}
    shot.pinned_id = payload["attempt"]
    return inverse, f"Pin attempt {attempt.number}" if attempt else "Unpin"


def _set_datum(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"datum": the whole datum, "label": what changed}."""
    inverse = {"datum": shot.datum, "label": payload.get("label", "")}
    shot.datum = payload["datum"]
    return inverse, payload.get("label") or "Change the datum"


def _set_masks(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"remove": [mask ids], "bring": [mask ids], "off": [mask ids], "lit": [mask ids],
    "proposals": {id: state}, "label": what is done}."""
    gone, back = _turn(session, shot, Mask.removed, payload.get("remove", []), payload.get("bring", []))
    lit, off = _turn(session, shot, Mask.on, payload.get("lit", []), payload.get("off", []))
    before = {}
    for number, state in payload.get("proposals", {}).items():
        row = session.get(Proposal, int(number))
        if row is None or row.shot_id != shot.id or state not in ("open", "accepted", "dismissed"):
            raise KeelError("That proposal is not of this shot.")
        before[number], row.state = row.state, state
    shot.masks_stamp = masks_stamp(session, shot)
    inverse = {"remove": back, "bring": gone, "off": lit, "lit": off, "proposals": before, "label": payload["label"]}
    return inverse, payload["label"]


_MASK_VALUES = {"name", "colour", "purpose", "on", "first", "last", "margin", "keys", "frames", "mattes", "samples", "cleaning"}


def _set_mask(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"id": mask, "values": {column: value}, "label": what is done}."""
    row = session.get(Mask, payload["id"])
    if row is None or row.shot_id != shot.id or row.removed:
        raise KeelError("That mask is gone.", "Undo its deletion first.")
    values = payload["values"]
    if not set(values) <= _MASK_VALUES:
        raise KeelError("That is no property of a mask.")
    check_mask({"first": row.first, "last": row.last, **values}, shot.plate.width, shot.plate.height)
    before = {name: getattr(row, name) for name in values}
    for name, value in values.items():
        setattr(row, name, value)
    shot.masks_stamp = masks_stamp(session, shot)
    return {"id": row.id, "values": before, "label": payload["label"]}, payload["label"]


def _note_cut(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: as for tracks, with "followed": the masks' stamp that they then agree with."""
    inverse, label = _set_removed(session, shot, payload)
    inverse["followed"], shot.followed_stamp = shot.followed_stamp, payload["followed"]
    return inverse, label


_TRACK_VALUES = {"name", "group", "locked", "made"}
_SAMPLES = ("x", "y", "sigma", "score")


def _weed(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"put": {id: {"frames", "x", "y", "sigma", "score"}}, "drop": {id: frames}, "keys": {id: frames set by hand},
    "values": {id: {column: value}}, "remove": [ids], "bring": [ids], "groups": {name: {...}}, "label": what is done}."""
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
    gone, back = _turn(session, shot, Track.removed, payload.get("remove", []), payload.get("bring", []))
    if "groups" in payload:
        inverse["groups"], shot.groups = shot.groups, payload["groups"]
    inverse |= {"remove": back, "bring": gone, **_stamped(shot, payload)}
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


def _copy(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"values": {"stack" or "replaced": value}, "label": what is done}."""
    before = {name: getattr(shot.plate, name) for name in payload["values"] if name in ("stack", "replaced")}
    for name in before:
        setattr(shot.plate, name, payload["values"][name])
    return {"values": before, "label": payload["label"]}, payload["label"]


_PLATE_FACTS = {"sensor_width_mm", "pixel_aspect", "focal_mm"}


def _restamp(shot: Shot, what: str, before, after) -> None:
    """Change the lens's stamp so that going back brings the old one back."""
    for value in (before, after):
        shot.lens_stamp ^= zlib.crc32(f"{what} {value}".encode()) & 0x7FFFFFFF


def _lens(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"lines": {name: line or None}, "values": {key: value}, "plate": {column: value}, "profile": id or None,
    "datum": the whole datum, "label": what is done}."""
    inverse: dict = {"lines": {}, "values": {}, "plate": {}, "label": payload["label"]}
    lens = {"lines": {}, **(shot.lens or {})}
    lines = dict(lens["lines"])
    for name, line in payload.get("lines", {}).items():
        inverse["lines"][name] = lines.pop(name, None)
        if line is not None:
            lines[name] = line
    lens["lines"] = lines
    for key, value in payload.get("values", {}).items():
        inverse["values"][key] = lens.pop(key, None)
        if value is not None:
            lens[key] = value
    shot.lens = lens
    for column, value in payload.get("plate", {}).items():
        if column not in _PLATE_FACTS:
            raise KeelError("That is no fact of a plate.")
        inverse["plate"][column] = getattr(shot.plate, column)
        setattr(shot.plate, column, value)
        if column == "pixel_aspect":
            _restamp(shot, column, inverse["plate"][column], value)
    if "profile" in payload:
        before = _held(session, shot)
        inverse["profile"], shot.profile_id = shot.profile_id, payload["profile"]
        _restamp(shot, "profile", before, _held(session, shot))
    if "datum" in payload:
        inverse["datum"], shot.datum = shot.datum, payload["datum"]
    return inverse, payload["label"]


def _held(session: Session, shot: Shot) -> str:
    """Return a text for what a shot's lens profile holds: another one for another lens, the same for another name."""
    row = session.get(LensProfile, shot.profile_id) if shot.profile_id else None
    return json.dumps([row.document[k] for k in ("image", "lens", "sigma", "focal_known")], sort_keys=True) if row else ""


def _set_profile(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"id": lens profile, "values": {"name", "document", "removed"}, "label": what is done}. Marks every shot that uses it."""
    row = session.get(LensProfile, payload["id"])
    if row is None or row.production_id != shot.production_id:
        raise KeelError("That profile is gone.")
    users = list(session.scalars(select(Shot).where(Shot.profile_id == row.id).with_for_update()))
    if payload["values"].get("removed") and users:
        raise KeelError(f"{row.name} is in use by {', '.join(s.name for s in users)}.", "Let them use another one first.")
    before = {s.id: _held(session, s) for s in users}
    inverse = {"id": row.id, "values": {name: getattr(row, name) for name in payload["values"]}, "label": payload["label"]}
    for name, value in payload["values"].items():
        if name not in ("name", "document", "removed"):
            raise KeelError("That is no property of a lens profile.")
        setattr(row, name, value)
    row.version += 1
    for user in users:
        _restamp(user, "profile", before[user.id], _held(session, user))
        user.revision += user.id != shot.id
    return inverse, payload["label"]


_KINDS: dict[str, Callable[[Session, Shot, dict], tuple[dict, str]]] = {
    "states": _set_states,
    "tracks": _set_removed,
    "pin": _pin,
    "datum": _set_datum,
    "masks": _set_masks,
    "mask": _set_mask,
    "cut": _note_cut,
    "weed": _weed,
    "copy": _copy,
    "lens": _lens,
    "profile": _set_profile,
}


def _locked(session: Session, shot_id: int) -> Shot:
    shot = session.scalar(select(Shot).where(Shot.id == shot_id).with_for_update())
    if shot is None:
        raise KeelError("There is no such shot.")
    return shot


def apply(session: Session, shot_id: int, kind: str, payload: dict, revision: int | None = None) -> Edit:
    """Make an edit and record it. Raises StaleEdit when the shot is past the `revision` the user saw."""
    shot = _locked(session, shot_id)
    if revision is not None and revision != shot.revision:
        raise StaleEdit()
    if kind not in _KINDS:
        raise KeelError(f"There is no edit “{kind}”.")
    payload = {key: value for key, value in payload.items() if key != "stamp"}  # only one undone or done again has one
    inverse, label = _KINDS[kind](session, shot, payload)
    for old in session.scalars(select(Edit).where(Edit.shot_id == shot_id, Edit.undone)):
        session.delete(old)
    edit = Edit(shot_id=shot_id, kind=kind, label=label, payload=payload, inverse=inverse)
    session.add(edit)
    shot.revision += 1
    session.flush()
    return edit


def undo(session: Session, shot_id: int) -> str:
    """Take the newest edit back; return its label."""
    return _step(session, shot_id, back=True)


def redo(session: Session, shot_id: int) -> str:
    """Make the edit undone last again; return its label."""
    return _step(session, shot_id, back=False)


def _step(session: Session, shot_id: int, back: bool) -> str:
    """Go one edit back or on in the shot's history."""
    shot = _locked(session, shot_id)
    order = Edit.id.desc() if back else Edit.id
    edit = session.scalar(select(Edit).where(Edit.shot_id == shot_id, Edit.undone != back).order_by(order).limit(1))
    if edit is None:
        raise KeelError(f"There is nothing to {'undo' if back else 'redo'}.")
    _KINDS[edit.kind](session, shot, edit.inverse if back else edit.payload)
    edit.undone = back
    shot.revision += 1
    return edit.label


def history(session: Session, shot_id: int, most: int = 40) -> list[Edit]:
    """Return a shot's edits, newest first."""
    return list(session.scalars(select(Edit).where(Edit.shot_id == shot_id).order_by(Edit.id.desc()).limit(most)))
