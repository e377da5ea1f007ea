"""Bodies of a shot: made of masks, solved, their size told, shown, handed on."""

import json
import secrets

import numpy as np
from flask import abort, jsonify

from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.handoff.usd import body_usd_text
from amberkeel.core.ties.bodies.body_file import body_document, typed_size
from amberkeel.store.bodies import own_body, placed
from amberkeel.store.masks import live_masks, own_mask
from amberkeel.store.models import Shot
from amberkeel.store.solve import document_of
from amberkeel.store.world import datum_where_found, pinned_of
from amberkeel.web.common import get_shot, media, open_session, send_text, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.ties.blueprint import blueprint


class Change(Body):
    """What becomes of a body: added of a `mask`, called `name`, its `size` told as on the command line (nothing where
    it is guessed), or removed.
    """

    what: Word
    key: Word = ""
    mask: Whole | None = None
    name: Word = ""
    size: Word = ""


@blueprint.get("/shots/<int:number>/bodies.json")
def bodies(number: int):
    """Send a shot's bodies with their paths, where their points are seen, and the masks that may be bodies."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        return jsonify(
            bodies=[_shown(opened, shot, key, one) for key, one in (shot.bodies or {}).items()],
            masks=[{"id": one.id, "name": one.name} for one in live_masks(opened, shot) if one.keys or one.frames],
        )


def _shown(opened, shot: Shot, key: str, kept: dict) -> dict:
    """Return a body as the page shows it."""
    solved = kept.get("solved")
    out = {"key": key, "name": kept["name"], "mask": kept["mask"], "size": kept.get("size"), "solved": None}
    if not solved:
        return out
    figures = {name: solved[name] for name in ("rms_px", "check_rms_px", "tracks", "frames", "attempt")}
    out["solved"] = {**figures, "behind": solved["camera"] != shot.pinned_id}
    try:
        found = placed(opened, media(), shot, key)
    except KeelError as error:
        return {**out, "trouble": str(error)}
    body = found.body
    names = dict(zip(found.solution.tracks.ids.tolist(), found.solution.tracks.names))
    rows, seen = found.path.rows_of(body.frames), {}
    for k, row in enumerate(rows.tolist()):
        px = found.path.project(body.world_points(k), row)
        seen[int(body.frames[k])] = px.round(1).tolist()
    return {
        **out, "told": body.size.told, "sigma": body.size.sigma, "frames": body.frames.tolist(),
        "positions": body.positions.round(5).tolist(), "turns": body.world_from_body.round(6).tolist(),
        "points": body.points.round(5).tolist(), "names": [names[t] for t in body.ids.tolist()], "seen": seen,
        "extent": np.ptp(body.points, axis=0).round(5).tolist(),
    }  # fmt: skip


@blueprint.post("/shots/<int:number>/bodies")
def change_body(number: int):
    """Change a shot's bodies."""
    asked = sent(Change)
    if asked.what not in PARTS:
        raise TieError(f"Bodies cannot “{asked.what}”.")
    with open_session() as opened:
        shot = get_shot(opened, number)
        return edited(opened, number, "bodies", PARTS[asked.what](opened, shot, asked), asked.revision)


def _add(opened, shot: Shot, asked: Change) -> dict:
    mask = own_mask(opened, shot.id, asked.need("mask"))
    name = asked.name.strip()[:80] or mask.name
    made = {"name": name, "mask": mask.id, "size": None, "solved": None}
    return {"bodies": {secrets.token_hex(4): made}, "label": f"Make {name} a body"}


def _name(opened, shot: Shot, asked: Change) -> dict:
    kept, name = own_body(shot, asked.key), asked.name.strip()[:80]
    if not name:
        raise TieError("A body needs a name.")
    return {"bodies": {asked.key: {**kept, "name": name}}, "label": f"Call it {name}"}


def _size(opened, shot: Shot, asked: Change) -> dict:
    """Tell a body's size, after trying it."""
    kept, order = own_body(shot, asked.key), typed_size(asked.size.strip() or None)
    size = {"kind": order.kind, "words": list(order.words)} if order.kind else None
    before, shot.bodies = shot.bodies, {**shot.bodies, asked.key: {**kept, "size": size}}
    try:
        told = placed(opened, media(), shot, asked.key).body.size.told
    finally:
        shot.bodies = before
    label = f"{kept['name']}: size by {told}" if told else f"{kept['name']}: size untold"
    return {"bodies": {asked.key: {**kept, "size": size}}, "label": label[:200]}


def _remove(opened, shot: Shot, asked: Change) -> dict:
    return {"bodies": {asked.key: None}, "label": f"Delete the body {own_body(shot, asked.key)['name']}"}


PARTS = {"add": _add, "name": _name, "size": _size, "remove": _remove}
"""A part is a function that returns the edit that it makes, and a line here."""


class Solved(Body):
    """Which body is solved."""

    key: Word


@blueprint.post("/shots/<int:number>/bodies/solve")
def solve_body(number: int):
    """Start following and solving a body."""
    asked = sent(Solved)
    with open_session() as opened:
        own_body(get_shot(opened, number), asked.key)
    return start("body", number, {"body": asked.key})


@blueprint.get("/shots/<int:number>/bodies/<string:key>/<string:kind>")
def hand_body_on(number: int, key: str, kind: str):
    """Hand a body on: body.json, or body.usda with its camera."""
    if kind not in ("body.json", "body.usda"):
        abort(404)
    with open_session() as opened:
        shot = get_shot(opened, number)
        found = placed(opened, media(), shot, key)
        document = body_document(found.body, found.solution, shot.plate.label)
        attempt = pinned_of(opened, shot)
        camera = document_in_world(document_of(media(), attempt), datum_where_found(opened, media(), shot, attempt)[0])
        stem, sensor = f"{stem_of(shot.name)}_{stem_of(own_body(shot, key)['name'])}", shot.plate.sensor_width_mm
    if kind == "body.json":
        return send_text(json.dumps(document, indent=1), "application/json", f"{stem}.body.json")
    return send_text(body_usd_text(camera, document, sensor), "text/plain", f"{stem}.usda")
