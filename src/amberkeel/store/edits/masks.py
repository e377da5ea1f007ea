"""Edits of masks and of proposals."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.edits.rows import turn
from amberkeel.store.masks import check_mask, masks_stamp
from amberkeel.store.models import Mask, Proposal, Shot
from amberkeel.store.typed import Typed

_MASK_VALUES = {
    "name",
    "colour",
    "purpose",
    "on",
    "first",
    "last",
    "margin",
    "keys",
    "frames",
    "mattes",
    "samples",
    "cleaning",
}


class Masks(Typed):
    """Mask ids to delete, to bring back, to switch off and on, and the states of proposals by their ids."""

    label: str
    remove: list[int] = []
    bring: list[int] = []
    off: list[int] = []
    lit: list[int] = []
    proposals: dict[int, str] = {}


class MaskValues(Typed):
    """Columns of a mask that change."""

    id: int
    values: dict[str, Any]
    label: str


def masks(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"remove": [mask ids], "bring": [mask ids], "off": [mask ids], "lit": [mask ids],
    "proposals": {id: state}, "label": what is done}.
    """
    gone, back = turn(session, shot, Mask.removed, payload.get("remove", []), payload.get("bring", []))
    lit, off = turn(session, shot, Mask.on, payload.get("lit", []), payload.get("off", []))
    before = {}
    for number, state in payload.get("proposals", {}).items():
        row = session.get(Proposal, int(number))
        if row is None or row.shot_id != shot.id or state not in ("open", "accepted", "dismissed"):
            raise KeelError("That proposal is not of this shot.")
        before[number], row.state = row.state, state
    shot.masks_stamp = masks_stamp(session, shot)
    inverse = {"remove": back, "bring": gone, "off": lit, "lit": off, "proposals": before, "label": payload["label"]}
    return inverse, payload["label"]


def mask(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
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
