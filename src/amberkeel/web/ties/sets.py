"""Sets of a production: made of a shot, brought in from a file, grown, renewed, frozen, handed on, deleted."""

import json

from flask import abort, jsonify, request

from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.ties.set_file import MOST_BYTES, Set, points_csv, read_set_file, set_text, surveyed
from amberkeel.store.held import count_change
from amberkeel.store.models import FilmSet, Shot
from amberkeel.store.stages import pinned
from amberkeel.store.ties import (
    document_of_set,
    grow,
    held_set,
    keep_set,
    new_set,
    points_from,
    set_row,
    sets_of,
    standing_in,
    tied_shots,
)
from amberkeel.store.tracks import some_tracks
from amberkeel.web.common import media, open_session, send_text, shot_to_change, stem_of
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited, shot_state
from amberkeel.web.ties.blueprint import blueprint
from amberkeel.web.uploads import uploaded


class Made(Body):
    """A set made of this shot: its name, and which tracks are its points (all that served where none is named)."""

    name: Word
    tracks: list[Whole] = []


class Changed(Body):
    """What becomes of the shot's set: another name, frozen or free, grown by tracks, renewed from its reference, or
    deleted.
    """

    name: Word = ""
    frozen: Flag | None = None
    grow: list[Whole] = []
    renew: Flag = False
    remove: Flag = False


@blueprint.post("/shots/<int:number>/ties/set")
def make(number: int):
    """Make a set of this shot, which becomes its reference, and tie the shot to it."""
    asked = sent(Made)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        if not asked.name.strip():
            raise TieError("The set has no name.", "Call it what the place is called.")
        if asked.tracks:
            some_tracks(opened, shot, asked.tracks)
        points, metric, attempt = points_from(opened, media(), shot, asked.tracks)
        document = Set(name=asked.name.strip()[:80], metric=metric, points=points, proxies=standing_in(shot))
        row = new_set(opened, shot, document, attempt)
        kept = {"set": row.id, "ties": {}}
        label = f"Make the set {row.name}"
        return edited(opened, number, "ties", {"ties": kept, "label": label}, asked.revision)


@blueprint.post("/shots/<int:number>/ties/bring")
def bring(number: int):
    """Bring a set in from a file: set.json, or a survey table (CSV: name, x, y, z, sigma)."""
    given = uploaded("a set.json, or a survey table (CSV)", MOST_BYTES)
    text = given.text()
    if text.lstrip().startswith("{"):
        document = read_set_file(text)
    else:
        document = Set(name=given.stem[:80] or "Set", points=surveyed(text, request.form.get("unit", "m")))
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        row = new_set(opened, shot, document, None)
        kept = {"set": row.id, "ties": {}}
        answer = {"ties": kept, "label": f"Bring in the set {row.name}"}
        return edited(opened, number, "ties", answer, request.form.get("revision", type=int))


@blueprint.post("/shots/<int:number>/ties/set/change")
def change(number: int):
    """Change the set that this shot is tied to; other shots see it at once, as another version of it."""
    asked = sent(Changed)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        row = held_set(opened, set_row(opened, shot).id)
        said = _changed(opened, shot, row, asked)
        count_change(opened, shot)
        opened.flush()
        return jsonify({**shot_state(opened, shot), "said": said})


def _changed(opened, shot: Shot, row: FilmSet, asked: Changed) -> str:
    """Change a set; return what was done, in words."""
    document = document_of_set(row)
    if asked.name.strip():
        if any(one.name == asked.name.strip() and one.id != row.id for one in sets_of(opened, row.production_id)):
            raise TieError(f"There is a set {asked.name.strip()} already.", "Choose another name.")
        row.name = asked.name.strip()[:80]
        row.document = json.loads(set_text(document.model_copy(update={"name": row.name})))
        return f"It is called {row.name} now."
    if asked.frozen is not None:
        row.document = json.loads(set_text(document.model_copy(update={"frozen": bool(asked.frozen)})))
        return f"{row.name} is {'frozen: shots are brought to it' if asked.frozen else 'free: shots may bend it'}."
    if asked.grow:
        return _grown(opened, shot, row, asked.grow)
    if asked.renew:
        return _renewed(opened, row, document)
    if asked.remove:
        others = [one.name for one in tied_shots(opened, row) if one.id != shot.id]
        row.removed = True
        also = f" {', '.join(others[:4])} held on to it too." if others else ""
        return f"The set {row.name} is deleted; every shot stays where it is.{also}"
    raise KeelError("Nothing of the set was to change.")


def _grown(opened, shot: Shot, row: FilmSet, tracks: list[int]) -> str:
    attempt = pinned(opened, shot)
    in_it = row.reference_id == shot.id or (shot.ties or {}).get("aligned")
    if attempt is None or not in_it:
        raise TieError(f"{shot.name} is not in the world of {row.name} yet.", "Align it first.")
    names = [one.name for one in some_tracks(opened, shot, tracks)]
    taken = [name for name in names if document_of_set(row).point(name) is not None]
    if taken:
        raise TieError(
            f"{row.name} has a point {taken[0]} already.", "Rename the track first: a set's points have one name each."
        )
    count = grow(opened, media(), row, shot, attempt, names)
    return f"{count} point{'' if count == 1 else 's'} more in {row.name}."


def _renewed(opened, row: FilmSet, document: Set) -> str:
    """Take the reference's points anew from the attempt that is pinned now."""
    reference = opened.get(Shot, row.reference_id) if row.reference_id else None
    if reference is None or reference.deleted:
        raise TieError(f"No shot made {row.name}, or it was deleted.", "It stays as it is.")
    own = {p.name for p in document.points if p.source == reference.name}
    points, metric, attempt = points_from(opened, media(), reference, [])
    new = {p.name: p for p in points if p.name in own}
    lost = sorted(own - set(new))
    kept = [new.get(p.name, p) for p in document.points if p.name not in lost]
    keep_set(row, document.model_copy(update={"points": kept, "metric": metric, "proxies": standing_in(reference)}))
    row.reference_attempt = attempt.id
    shots = [one.name for one in tied_shots(opened, row) if one.id != reference.id]
    also = f" {', '.join(lost[:3])} had no point and went." if lost else ""
    again = f" Align again: {', '.join(shots[:4])}." if shots else ""
    return f"{row.name} is that of attempt {attempt.number} now.{also}{again}"


@blueprint.get("/sets/<int:number>/<string:kind>")
def hand_on(number: int, kind: str):
    """Hand a set on, as set.json or points.csv."""
    if kind not in ("set.json", "points.csv"):
        abort(404)
    with open_session() as opened:
        row = opened.get(FilmSet, number) or abort(404)
        document = document_of_set(row)
    name = stem_of(document.name)
    if kind == "set.json":
        return send_text(set_text(document), "application/json", f"{name}.set.json")
    return send_text(points_csv(document), "text/csv", f"{name}.points.csv")
