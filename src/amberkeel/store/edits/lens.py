"""Edits of a shot's lens, of the camera's facts, and of lens profiles."""

import json
import zlib
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.held import count_change, hold_row, hold_shots
from amberkeel.store.models import LensProfile, Shot
from amberkeel.store.typed import Typed

_PLATE_FACTS = {"sensor_width_mm", "pixel_aspect", "focal_mm"}


class LensValues(Typed):
    """Lines by name (None takes one away), what is kept of the lens, the plate's columns, profile and datum."""

    label: str
    lines: dict[str, dict[str, Any] | None] = {}
    values: dict[str, Any] = {}
    plate: dict[str, Any] = {}
    profile: int | None = None
    datum: dict[str, Any] = {}


class ProfileValues(Typed):
    """Columns of a lens profile that change."""

    id: int
    values: dict[str, Any]
    label: str


def _restamp(shot: Shot, what: str, before, after) -> None:
    """Change the lens's stamp so that going back brings the old one back."""
    for value in (before, after):
        shot.lens_stamp ^= zlib.crc32(f"{what} {value}".encode()) & 0x7FFFFFFF


def _own_profile(session: Session, shot: Shot, number: int | None) -> int | None:
    """Return the lens profile to use; of one that belongs to another production, whence the shot was moved, its like in
    this one. Raises KeelError where it is gone.
    """
    if number is None:
        return None
    row = session.get(LensProfile, number)
    if row is None:
        raise KeelError("That profile is gone.")
    if row.production_id == shot.production_id:
        return number
    own = select(LensProfile).where(LensProfile.production_id == shot.production_id, LensProfile.name == row.name)
    like = next((one for one in session.scalars(own) if one.document == row.document), None)
    if like is None:
        like = LensProfile(production_id=shot.production_id, name=row.name, document=row.document)
        session.add(like)
        session.flush()
    return like.id


def lens(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"lines": {name: line or None}, "values": {key: value}, "plate": {column: value}, "profile": id or None,
    "datum": the whole datum, "label": what is done}.
    """
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
        inverse["profile"], shot.profile_id = shot.profile_id, _own_profile(session, shot, payload["profile"])
        _restamp(shot, "profile", before, _held(session, shot))
    if "datum" in payload:
        inverse["datum"], shot.datum = shot.datum, payload["datum"]
    return inverse, payload["label"]


def _held(session: Session, shot: Shot) -> str:
    """Return a text for what a shot's lens profile holds: another one for another lens, the same for another name."""
    row = session.get(LensProfile, shot.profile_id) if shot.profile_id else None
    return (
        json.dumps([row.document[k] for k in ("image", "lens", "sigma", "focal_known")], sort_keys=True) if row else ""
    )


def profile(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"id": lens profile, "values": {"name", "document", "removed"}, "label": what is done}.

    Marks every shot that uses it.
    """
    users = hold_shots(session, session.scalars(select(Shot.id).where(Shot.profile_id == payload["id"])))
    row = hold_row(session, LensProfile, payload["id"])
    if row is None or row.production_id != shot.production_id:
        raise KeelError("That profile is gone.")
    if payload["values"].get("removed") and users:
        raise KeelError(
            f"{row.name} is in use by {', '.join(s.name for s in users)}.", "Let them use another one first."
        )
    before = {s.id: _held(session, s) for s in users}
    inverse = {
        "id": row.id,
        "values": {name: getattr(row, name) for name in payload["values"]},
        "label": payload["label"],
    }
    for name, value in payload["values"].items():
        if name not in ("name", "document", "removed"):
            raise KeelError("That is no property of a lens profile.")
        setattr(row, name, value)
    row.version += 1
    for user in users:
        _restamp(user, "profile", before[user.id], _held(session, user))
        if user.id != shot.id:
            count_change(session, user)
    return inverse, payload["label"]
