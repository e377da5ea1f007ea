"""Edits of the tracking copy, of where the plate lies and which of its frames are used, and of the shot's name."""

from typing import Any

from pydantic import Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Shot
from amberkeel.store.typed import Typed


class Copy(Typed):
    """The tracking copy's operations ("stack") or replaced images ("replaced")."""

    values: dict[str, Any]
    label: str


def copy(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"values": {"stack" or "replaced": value}, "label": what is done}."""
    before = {name: getattr(shot.plate, name) for name in payload["values"] if name in ("stack", "replaced")}
    for name in before:
        setattr(shot.plate, name, payload["values"][name])
    return {"values": before, "label": payload["label"]}, payload["label"]


class Named(Typed):
    """What a shot is called, and the note on it; only what changes."""

    name: str = Field("", max_length=80)
    note: str = Field("", max_length=400)


class Files(Typed):
    """Columns of the plate that say where its files lie and which frames are used, with all that was made of them."""

    values: dict[str, Any]
    label: str


FILE_COLUMNS = (
    "source", "label", "first", "last", "encoding", "proxies", "thumbnail", "blur", "odd", "times", "fps",
)  # fmt: skip
"""Columns that the edit of a plate's files may change."""


def named(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: any of "name" and "note"."""
    inverse = {key: getattr(shot, key) for key in payload}
    if "name" in payload:
        check_name(session, shot, payload["name"])
    for key, value in payload.items():
        setattr(shot, key, value)
    return inverse, f"Rename to {payload['name']}" if "name" in payload else "Change the shot's note"


def check_name(session: Session, shot: Shot, name: str, production: int | None = None) -> None:
    """Raise KeelError where a shot cannot bear a name in its production, or in another one."""
    if not 1 <= len(name) <= 80:
        raise KeelError("A shot needs a name of 1 to 80 characters.")
    own = Shot.production_id == (production or shot.production_id), Shot.name == name, Shot.deleted.is_(None)
    if session.scalar(select(Shot.id).where(*own, Shot.id != shot.id)):
        raise KeelError(f"There is a shot named {name} already.", "Give this one another name.")


def files(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"values": {column: value}, "label": what is done}."""
    columns = [name for name in payload["values"] if name in FILE_COLUMNS]
    before = {name: getattr(shot.plate, name) for name in columns}
    for name in columns:
        setattr(shot.plate, name, payload["values"][name])
    return {"values": before, "label": payload["label"]}, payload["label"]
