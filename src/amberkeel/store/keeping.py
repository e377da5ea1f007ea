"""Keeping productions in order: shots and productions duplicated, moved, deleted for a while and restored."""

import logging
from datetime import timedelta
from typing import Any

from sqlalchemy import delete, insert, select, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.edits.plate import check_name
from amberkeel.store.held import free_of_shots, hold_shot
from amberkeel.store.masks import live_masks
from amberkeel.store.models import (
    Attempt,
    Base,
    Edit,
    FilmSet,
    Job,
    LensProfile,
    Mask,
    Package,
    Plate,
    Production,
    Proposal,
    RecipientRow,
    Review,
    Shot,
    Track,
    Trial,
    now,
)
from amberkeel.store.session import session as opened_session
from amberkeel.store.tracks import live_tracks

KEPT_FOR = timedelta(days=30)
"""How long what was deleted is kept."""

_OF_A_SHOT = (Package, Trial, Review, Job, Edit, Track, Mask, Proposal, Attempt, Plate)

_NOT_COPIED = {"id", "shot_id", "created", "pinned_id", "revision", "attempts", "deleted", "archived"}


def check_production_name(session: Session, name: str, own: int | None = None) -> None:
    """Raise KeelError where a production cannot bear a name; `own` is its number where it is there already."""
    if not 1 <= len(name) <= 80:
        raise KeelError("A production needs a name of 1 to 80 characters.")
    taken = select(Production.id).where(Production.name == name, Production.deleted.is_(None))
    if session.scalar(taken.where(Production.id != (own or 0))):
        raise KeelError(f"There is a production named {name} already.", "Give this one another name.")


def delete_row(session: Session, row: Shot | Production) -> None:
    """Delete a shot, or a production with its shots; they are kept for KEPT_FOR. What was being done for them is
    cancelled.
    """
    if isinstance(row, Shot):
        hold_shot(session, row.id)
    row.deleted = now()
    own = Job.shot_id.in_([row.id] if isinstance(row, Shot) else [shot.id for shot in row.shots])
    session.execute(update(Job).where(own, Job.state == "running").values(cancel=True))
    session.execute(update(Job).where(own, Job.state == "queued").values(state="cancelled", ended=now()))


def restore(session: Session, row: Shot | Production) -> None:
    """Bring back what was deleted; where its name was given away since, it gets a number."""
    if row.deleted is None:
        raise KeelError(f"{row.name} is not deleted.")
    row.name = _free_name(session, row)
    row.deleted = None


def _free_name(session: Session, row: Shot | Production) -> str:
    table = type(row)
    taken = select(table.name).where(table.deleted.is_(None), table.id != row.id)
    if isinstance(row, Shot):
        taken = taken.where(Shot.production_id == row.production_id)
    names, wanted, number = set(session.scalars(taken)), row.name, 2
    while wanted in names:
        wanted, number = f"{row.name[:70]} ({number})", number + 1
    return wanted


def move_shot(session: Session, shot: Shot, production: Production) -> None:
    """Move a shot to another production; its lens profile goes along as a copy. It is tied to no set there, and stays
    in the world where it is.
    """
    if production.id == shot.production_id:
        raise KeelError(f"{shot.name} is in {production.name} already.")
    check_name(session, shot, shot.name, production.id)
    if shot.profile_id:
        profile = session.get(LensProfile, shot.profile_id)
        if profile is not None:
            copy = LensProfile(production_id=production.id, name=profile.name, document=profile.document)
            session.add(copy)
            session.flush()
            shot.profile_id = copy.id
    shot.production_id = production.id
    shot.ties = {}


def duplicate_shot(session: Session, shot: Shot, name: str, production: Production | None = None) -> Shot:
    """Return a new shot with the same plate, tracks, masks, lens and constraints, to try another way on. Attempts,
    proposals and history stay with the first one.
    """
    copy = Shot(**_columns(shot) | {"name": name, "production_id": (production or shot.production).id})
    copy.plate = Plate(**_columns(shot.plate))
    check_name(session, Shot(id=0, production_id=copy.production_id), name)
    session.add(copy)
    session.flush()
    renumbered = _copy_rows(session, live_tracks(session, shot), copy)
    masks = _copy_rows(session, live_masks(session, shot), copy)
    copy.constraints = _with_tracks(shot.constraints, renumbered)
    copy.datum = _with_tracks(shot.datum, renumbered)
    copy.scene = _with_tracks(shot.scene, renumbered)
    copy.ties = _ties_of(shot, renumbered) if copy.production_id == shot.production_id else {}
    copy.bodies = {
        key: {**one, "mask": masks[one["mask"]], "solved": None}
        for key, one in (shot.bodies or {}).items()
        if one["mask"] in masks
    }
    return copy


def _ties_of(shot: Shot, renumbered: dict[int, int]) -> dict:
    """Return a shot's ties with other numbers of tracks, not aligned yet: no attempt goes along."""
    kept = shot.ties or {}
    if not kept:
        return {}
    rows = [{**one, "track": renumbered[one["track"]]} for one in kept["ties"].values() if one["track"] in renumbered]
    return {"set": kept.get("set"), "ties": {f"t{one['track']}": one for one in rows}}


def duplicate_production(session: Session, production: Production, name: str) -> Production:
    """Return a new production with duplicates of all shots that are not deleted."""
    check_production_name(session, name)
    copy = Production(name=name, note=production.note)
    session.add(copy)
    session.flush()
    for shot in production.shots:
        duplicate_shot(session, shot, shot.name, copy)
    return copy


def _columns(row: Base) -> dict[str, Any]:
    """Return the columns of a row that its duplicate has too."""
    return {c.key: getattr(row, c.key) for c in row.__table__.columns if c.key not in _NOT_COPIED}


def _copy_rows(session: Session, rows: list, shot: Shot) -> dict[int, int]:
    """Copy rows of one table to a shot; return the new number of each by its old one."""
    if not rows:
        return {}
    made = insert(type(rows[0])).returning(type(rows[0]).id, sort_by_parameter_order=True)
    new = session.scalars(made, [_columns(row) | {"shot_id": shot.id} for row in rows])
    return dict(zip((row.id for row in rows), new))


def _with_tracks(value: Any, renumbered: dict[int, int], under: str = "") -> Any:
    """Return constraints or a datum with other numbers of tracks: those listed as tracks, ground or origin."""
    if isinstance(value, dict):
        return {key: _with_tracks(part, renumbered, key) for key, part in value.items()}
    if isinstance(value, list):
        return [_with_tracks(part, renumbered, under) for part in value]
    tracks = under in ("track", "tracks", "ground", "origin") and isinstance(value, int)
    return renumbered.get(value, value) if tracks else value


def purge(database: str) -> int:
    """Remove for good what was deleted more than KEPT_FOR ago; return how many shots that were. One production that
    cannot be removed is left, with a line in the log, and holds nothing else up.

    Parameters
    ----------
    database : its address.
    """
    past = now() - KEPT_FOR
    with opened_session(database) as opened:
        productions = list(opened.scalars(select(Production.id).where(Production.deleted < past)))
        alone = select(Shot.id).where(Shot.deleted < past, Shot.production_id.not_in(productions))
        shots = list(opened.scalars(alone))
    gone = 0
    for remove, number in [(_remove_shots_of, one) for one in productions] + [(_remove_shot, one) for one in shots]:
        try:
            with opened_session(database) as opened:
                free_of_shots(opened)
                gone += remove(opened, number)
        except DBAPIError as error:
            if error.connection_invalidated:
                raise
            logging.getLogger(__name__).exception("%s %d could not be purged", remove.__name__, number)
    return gone


def _remove_shot(session: Session, number: int) -> int:
    """Remove a shot with all that belongs to it; return 1."""
    return _remove_shots(session, [number])


def _remove_shots_of(session: Session, production: int) -> int:
    """Remove a production with its shots; return how many those were. A lens profile that a shot of another production
    uses goes to that one.
    """
    gone = _remove_shots(session, list(session.scalars(select(Shot.id).where(Shot.production_id == production))))
    used = select(LensProfile.id, Shot.production_id).join(Shot, Shot.profile_id == LensProfile.id)
    for profile, elsewhere in session.execute(used.where(LensProfile.production_id == production)).all():
        session.execute(update(LensProfile).where(LensProfile.id == profile).values(production_id=elsewhere))
    for owned in (LensProfile, FilmSet, RecipientRow):
        session.execute(delete(owned).where(owned.production_id == production))
    session.execute(delete(Production).where(Production.id == production))
    return gone


def _remove_shots(session: Session, shots: list[int]) -> int:
    for table in _OF_A_SHOT:
        session.execute(delete(table).where(table.shot_id.in_(shots)))
    session.execute(delete(Shot).where(Shot.id.in_(shots)))
    return len(shots)
