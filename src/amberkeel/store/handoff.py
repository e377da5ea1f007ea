"""Recipients of a production, the packages made for them, and the scenes that leave."""

import hashlib
import json
import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.handoff.package import Package as Written
from amberkeel.core.handoff.package import put_in_place, there_already
from amberkeel.core.handoff.recipient import READY, Recipient, read_recipient
from amberkeel.core.handoff.scene import Scene, Thing, safe_name, scene_of, things_of, together
from amberkeel.core.report.page import whole_page
from amberkeel.core.ties.bodies.body_file import body_document
from amberkeel.core.world.standing import Standing
from amberkeel.store.bodies import placed
from amberkeel.store.media import Media
from amberkeel.store.models import FilmSet, Package, RecipientRow, Shot, Track
from amberkeel.store.report import report_of, reviews_said
from amberkeel.store.scene import probes_of, proxies_of, solid_in
from amberkeel.store.solve import document_of
from amberkeel.store.stages.state import is_stale, pinned
from amberkeel.store.storage import PACKAGES
from amberkeel.store.ties import tied_shots
from amberkeel.store.world import found_or_not, pinned_of

MOST_RECIPIENTS = 60


def recipients_of(session: Session, production: int) -> list[RecipientRow]:
    """Return the recipients that a production has saved, by name."""
    own = select(RecipientRow).where(RecipientRow.production_id == production, ~RecipientRow.removed)
    return list(session.scalars(own.order_by(RecipientRow.name)))


def recipient_named(session: Session, production: int, name: str) -> Recipient:
    """Return a saved recipient of a production, or a ready-made one; raises HandoffError where there is none."""
    for row in recipients_of(session, production):
        if row.name == name:
            return read_recipient(row.document)
    if name in READY:
        return READY[name]
    raise HandoffError(f"There is no recipient {name[:40]}.", "Choose one that is listed, or save it.")


def keep_recipient(session: Session, production: int, recipient: Recipient) -> RecipientRow:
    """Save a recipient of a production, in place of the one of its name if there is one."""
    rows = recipients_of(session, production)
    row = next((one for one in rows if one.name == recipient.name), None)
    if row is None:
        if len(rows) >= MOST_RECIPIENTS:
            raise HandoffError(f"There are {MOST_RECIPIENTS} recipients already.", "Delete one of them.")
        row = RecipientRow(production_id=production, name=recipient.name)
        session.add(row)
    row.document = recipient.model_dump(mode="json")
    session.flush()
    return row


def packages_of(session: Session, shot: Shot) -> list[Package]:
    """Return the packages of a shot, the latest first."""
    return list(session.scalars(select(Package).where(Package.shot_id == shot.id).order_by(Package.id.desc())))


def folder_of(media: Media, shot: Shot) -> Path:
    """Return where a shot's packages lie."""
    return media.folder / PACKAGES / str(shot.id)


def version_next(session: Session, shot: Shot) -> int:
    """Return the version that a shot's next package is, counted over all recipients."""
    return (session.scalar(select(func.max(Package.version)).where(Package.shot_id == shot.id)) or 0) + 1


def put_package(session: Session, shot: Shot, made: Written) -> Written:
    """Put a package that was written in its place, before its row is; the shot is held.

    A folder that lies there without a row was left by a worker that was lost between the two, and gives way.

    Raises
    ------
    HandoffError : that version, or a folder of that name, is another package's.
    """
    taken = select(Package.id).where(Package.shot_id == shot.id, Package.folder == made.place.name)
    if made.version != version_next(session, shot):
        raise HandoffError(f"Version {made.version} was made meanwhile.", "Make the package again.")
    if session.scalar(taken.limit(1)):
        raise there_already(made.place)
    shutil.rmtree(made.place, ignore_errors=True)
    return put_in_place(made)


def leaving(session: Session, shot: Shot, whole_set: bool) -> list[Shot]:
    """Return the shots that leave: one alone, or with the others of its set that stand in its world.

    Raises
    ------
    HandoffError : the shot is of no set, or not in its world yet.
    """
    if not whole_set:
        return [shot]
    row = session.get(FilmSet, (shot.ties or {}).get("set") or 0)
    if row is None or row.removed:
        raise HandoffError(f"{shot.name} is of no set.", "Hand it over alone, or tie it first.")
    there = [s for s in tied_shots(session, row) if s.id == row.reference_id or (s.ties or {}).get("aligned")]
    if shot.id not in [one.id for one in there]:
        raise HandoffError(f"{shot.name} is not in the world of {row.name} yet.", "Align it first.")
    return there


def scene_leaving(session: Session, media: Media, shots: list[Shot], name: str = "") -> Scene:
    """Return the scene of shots by their pinned attempts, in their world.

    Parameters
    ----------
    session, media : where they are kept. shots : one, or those of a set. name : of the whole, where there are several.

    Raises
    ------
    KeelError : nothing is pinned, or tracks have changed since it was solved.
    """
    scenes = [_scene_of(session, media, shot) for shot in shots]
    return scenes[0] if len(scenes) == 1 else together(scenes, name)


def _scene_of(session: Session, media: Media, shot: Shot) -> Scene:
    attempt = pinned_of(session, shot, "what leaves is the pinned attempt")
    if is_stale(shot, attempt):
        raise HandoffError(
            f"Tracks of {shot.name} changed since attempt {attempt.number} was solved.", "Solve again, or undo that."
        )
    found, _ = found_or_not(session, media, shot, attempt)
    document = document_in_world(document_of(media, attempt), found.datum)
    document["plate"] = {"name": shot.plate.label, "fps": shot.plate.fps}
    bodies = [
        {**body_document(one.body, one.solution, shot.plate.label, one.proxies.values()), "name": kept["name"]}
        for key, kept in (shot.bodies or {}).items()
        if kept.get("solved")
        for one in (placed(session, media, shot, key),)
    ]
    scene = scene_of(document, shot.plate.sensor_width_mm, None, bodies, shot.name.split()[0])
    made_from = {scene.name: f"attempt {attempt.number} of {shot.name}, {attempt.created:%Y-%m-%d %H:%M} UTC"}
    points = replace(scene.points, groups=_groups(session, shot, scene.points.names))
    return replace(scene, metric=bool(found.scaled), points=points, things=_things(media, shot), made_from=made_from)


def _things(media: Media, shot: Shot) -> tuple[Thing, ...]:
    """Return the proxies and probe objects that are shown."""
    return things_of(
        (kind, thing.name or f"{kind}_{key}", solid_in(media, thing), _texture(media, thing))
        for kind, things in (("proxy", proxies_of(shot)), ("probe", probes_of(shot)))
        for key, thing in things.items()
        if thing.shown
    )


def _texture(media: Media, thing: Standing) -> bytes:
    """Return a thing's picture as PNG, where it is shown with it."""
    return media.get(thing.texture) if thing.texture and thing.look == "picture" else b""


def _groups(session: Session, shot: Shot, names: Sequence[str]) -> tuple[str, ...]:
    """Return the groups that tracks of these names are in; none at all where none is in one."""
    grouped = select(Track.name, Track.group).where(Track.shot_id == shot.id, ~Track.removed, Track.group != "")
    of = {name: group for name, group in session.execute(grouped)}
    return tuple(of.get(name, "") for name in names) if of else ()


def report_leaving(session: Session, media: Media, shots: list[Shot]) -> dict[str, str]:
    """Return the verdict on each shot, with what reviewers said of it, as one page that needs nothing beside it, by the
    report's name.
    """
    return {
        f"{safe_name(shot.name.split()[0])}_report": whole_page(
            report_of(session, media, shot, pinned_of(session, shot)), reviews_said(session, shot)
        )
        for shot in shots
    }


def made_of(session: Session, shots: list[Shot]) -> dict[str, dict]:
    """Return what a package of shots is made of, by which it is told later whether it still is."""
    return {str(one.id): {"name": one.name, "attempt": one.pinned_id, "state": _state(one)} for one in shots}


def _state(shot: Shot) -> str:
    told = json.dumps([shot.datum or {}, shot.scene or {}, shot.bodies or {}], sort_keys=True)
    return hashlib.sha256(told.encode()).hexdigest()[:16]


def gone_stale(session: Session, package: Package) -> str:
    """Return why a package is not what its shots are now, in words; empty where it is."""
    for number, was in package.made_of.items():
        shot = session.get(Shot, int(number))
        if shot is None or shot.deleted:
            return f"{was['name']} was deleted."
        attempt = pinned(session, shot)
        if shot.pinned_id != was["attempt"]:
            return f"{shot.name} has another attempt pinned since." if attempt else f"{shot.name} has none pinned now."
        if _state(shot) != was["state"]:
            return f"World, proxies or bodies of {shot.name} changed since."
    return ""
