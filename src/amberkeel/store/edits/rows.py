"""What kinds of edits share: rows turned on and off, and the stamp of a shot's tracks."""

import secrets

from sqlalchemy import update
from sqlalchemy.orm import Session

from amberkeel.store.models import Shot


def turn(session: Session, shot: Shot, column, on: list[int], off: list[int]) -> tuple[list[int], list[int]]:
    """Set a yes or no of some of a shot's rows, of others to no; return the ids that it really changed, both ways."""
    table = column.class_
    turned = []
    for ids, value in ((on, True), (off, False)):
        chosen = (
            update(table)
            .where(table.shot_id == shot.id, table.id.in_(ids), column.is_(not value))
            .values({column: value})
            .returning(table.id)
        )
        turned.append(sorted(session.scalars(chosen)) if ids else [])
    return turned[0], turned[1]


def stamped(shot: Shot, payload: dict) -> dict:
    """Give a shot's tracks the stamp of an edit, a new one where it has none; return the one before, for its inverse.

    So going back brings the old stamp back, and an attempt made then is up to date again.
    """
    before, shot.tracks_stamp = shot.tracks_stamp, payload.setdefault("stamp", secrets.randbits(30) + 1)
    return {"stamp": before}
