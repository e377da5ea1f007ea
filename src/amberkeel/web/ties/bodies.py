"""Bodies of a shot: made of masks, solved, their size told, shown, handed on."""

import json
import secrets

import numpy as np
from flask import abort, jsonify

from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.handoff.usd import body_usd_text
from amberkeel.core.ties.bodies.body import Body as PlacedBody
from amberkeel.core.ties.bodies.body_file import body_document, typed_size
from amberkeel.core.ties.bodies.box import probe_box
from amberkeel.store.bodies import Placed, own_body, placed
from amberkeel.store.masks import live_masks, own_mask
from amberkeel.store.models import Shot
from amberkeel.store.solve import document_of
from amberkeel.store.ties import document_of_set, set_row
from amberkeel.store.world import datum_where_found, pinned_of
from amberkeel.web.common import get_shot, media, open_session, send_text, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.ties.blueprint import blueprint


class Change(Body):
    """What becomes of a body: added of a `mask`, called `name`, its `size` told as on the command line (nothing where
    it is guessed; a place may be the name of a point of the set), its origin at a track (`name`), its axes the world's
    on a `frame`, its `attempt` another one, its probe box shown (`on`), or removed.
    """

    what: Word
    key: Word = ""
    mask: Whole | None = None
    name: Word = ""
    size: Word = ""
    frame: Whole | None = None
    attempt: Whole | None = None
    on: Flag = True


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
    attempts = kept.get("attempts", [])
    out["attempts"] = [{"rms_px": one["rms_px"], "tracks": one["tracks"], "used": one == solved} for one in attempts]
    out["axes"] = kept.get("axes") or {}
    try:
        found = placed(opened, media(), shot, key)
    except KeelError as error:
        return {**out, "trouble": str(error)}
    return {**out, "probe": bool(kept.get("probe")), **_in_shot(found, bool(kept.get("probe")))}


def _in_shot(found: Placed, probe: bool) -> dict:
    """Return where a body is, with its points and its probe box as the camera sees them."""
    body, path = found.body, found.path
    names = dict(zip(found.solution.tracks.ids.tolist(), found.solution.tracks.names))
    box = probe_box(body.points) if probe and len(body.points) > 2 else np.zeros((0, 2, 3))
    seen, over = {}, {}
    for k, row in enumerate(path.rows_of(body.frames).tolist()):
        frame = int(body.frames[k])
        seen[frame] = path.project(body.world_points(k), row).round(1).tolist()
        if len(box):
            ends = box.reshape(-1, 3) @ body.world_from_body[k].T + body.positions[k]
            over[frame] = path.project(ends, row).round(1).reshape(-1, 4).tolist()
    return {
        "box": box.round(5).tolist(), "over": over, "told": body.size.told, "sigma": body.size.sigma,
        "frames": body.frames.tolist(), "positions": body.positions.round(5).tolist(),
        "turns": body.world_from_body.round(6).tolist(), "points": body.points.round(5).tolist(),
        "names": [names[t] for t in body.ids.tolist()], "seen": seen,
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
    kept, order = own_body(shot, asked.key), typed_size(_with_place(opened, shot, asked.size.strip()) or None)
    size = {"kind": order.kind, "words": list(order.words)} if order.kind else None
    told = _tried(opened, shot, asked.key, {**kept, "size": size}).size.told
    label = f"{kept['name']}: size by {told}" if told else f"{kept['name']}: size untold"
    return {"bodies": {asked.key: {**kept, "size": size}}, "label": label[:200]}


def _with_place(opened, shot: Shot, text: str) -> str:
    """Return what was typed of a size with the coordinates of a point of the set in place of its name."""
    kind, _, rest = text.partition("=")
    words = rest.split(",")
    if kind != "tie" or len(words) != 3:
        return text
    row = set_row(opened, shot)
    point = document_of_set(row).point(words[2].strip())
    if point is None:
        raise TieError(f"{row.name} has no point “{words[2].strip()}”.", "Type x, y, z, or a point that is listed.")
    return f"tie={words[0]},{words[1]},{','.join(f'{v!r}' for v in point.xyz)}"


def _tried(opened, shot: Shot, key: str, changed: dict) -> PlacedBody:
    """Return a body in the world as it would be; raises TieError where that cannot be."""
    before, shot.bodies = shot.bodies, {**shot.bodies, key: changed}
    try:
        return placed(opened, media(), shot, key).body
    finally:
        shot.bodies = before


def _axes(opened, shot: Shot, asked: Change) -> dict:
    """Set where a body's origin is, and on which frame its axes are the world's."""
    kept = own_body(shot, asked.key)
    axes = dict(kept.get("axes") or {})
    if asked.name:
        axes["origin"] = asked.name
    if asked.frame is not None:
        axes["frame"] = asked.frame
    if not asked.name and asked.frame is None:
        axes = {}
    made = {**kept, "axes": axes}
    _tried(opened, shot, asked.key, made)
    what = f"origin at {asked.name}" if asked.name else f"axes of frame {asked.frame}" if axes else "its own axes"
    return {"bodies": {asked.key: made}, "label": f"{kept['name']}: {what}"}


def _attempt(opened, shot: Shot, asked: Change) -> dict:
    """Use another of a body's solves."""
    kept = own_body(shot, asked.key)
    made, at = kept.get("attempts", []), asked.need("attempt")
    if not 0 <= at < len(made):
        raise TieError(f"{kept['name']} has no such attempt.")
    return {"bodies": {asked.key: {**kept, "solved": made[at]}}, "label": f"{kept['name']}: attempt {at + 1}"}


def _probe(opened, shot: Shot, asked: Change) -> dict:
    kept = own_body(shot, asked.key)
    label = f"{'Put a probe box on' if asked.on else 'Take the probe box off'} {kept['name']}"
    return {"bodies": {asked.key: {**kept, "probe": asked.on}}, "label": label}


def _remove(opened, shot: Shot, asked: Change) -> dict:
    return {"bodies": {asked.key: None}, "label": f"Delete the body {own_body(shot, asked.key)['name']}"}


PARTS = {
    "add": _add, "name": _name, "size": _size, "axes": _axes, "attempt": _attempt, "probe": _probe, "remove": _remove,
}  # fmt: skip
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
