"""What stands in the scene: drawn on the plate, typed, made from points; each change one edit."""

from typing import Any

import numpy as np
from flask import jsonify, request

from amberkeel.core.errors import KeelError, WorldError
from amberkeel.core.units import typed_length
from amberkeel.core.world.drafts import CLICKS, draft
from amberkeel.core.world.solids import Solid, spindle
from amberkeel.core.world.standing import PROBE_KINDS, Probe, Proxy, read_standing
from amberkeel.core.world.under import Sight, snapped_under
from amberkeel.store.models import Shot
from amberkeel.store.scene import (
    camera_seen,
    probes_of,
    proxies_of,
    solid_in,
    surfaces_of,
)
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.sent import Body, Flag, Number, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.world.blueprint import blueprint
from amberkeel.web.world.look import asked_number

NAMES = {
    "plane": "Plane", "wall": "Wall", "box": "Box", "cylinder": "Cylinder", "mesh": "Mesh", "card": "Card",
    "cube": "Cube", "cone": "Cone", "person": "Person", "lattice": "Lattice", "post": "Post",
}  # fmt: skip

MOST_CLICKS = 6


class Changed(Body):
    """What becomes of things in the scene, by id: their fields, or nothing where they are taken away."""

    proxies: dict[str, dict[str, Any] | None] = {}
    probes: dict[str, dict[str, Any] | None] = {}
    light: list[Number] = []
    behind: Flag | None = None
    label: Word = ""


def sight_of(opened, shot: Shot, frame: float) -> Sight:
    """Return what a frame of a shot sees of its scene; raises KeelError where it has no camera."""
    path, ids, xyz = camera_seen(opened, media(), shot)
    row = int(path.rows_of(np.array([int(frame)]))[0])
    if row < 0:
        raise KeelError("This frame has no camera.", f"Go to frame {int(path.frames[0])}, or another that has one.")
    return Sight(path, row, surfaces_of(media(), shot), ids, xyz)


@blueprint.get("/shots/<int:number>/world/solids.json")
def solids(number: int):
    """Send the solids of all that stands in the scene, by id, in the world."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        things = {**proxies_of(shot), **probes_of(shot)}
    out, lost = {}, []
    for name, thing in things.items():
        try:
            out[name] = _sent(solid_in(media(), thing))
        except KeelError:
            lost.append(thing.name)
    return jsonify(solids=out, lost=lost, spindle=_sent(spindle(1.0)))


def _sent(solid: Solid) -> dict:
    return {
        "vertices": solid.vertices.round(5).ravel().tolist(),
        "faces": solid.faces.ravel().tolist(),
        "uv": solid.uv.round(5).ravel().tolist(),
        "lines": solid.lines.ravel().tolist(),
    }


@blueprint.get("/shots/<int:number>/world/draft.json")
def drafted(number: int):
    """Send the proxy that some clicks mean, the last of them where the pointer is."""
    kind, reach = request.args.get("kind", ""), asked_number("reach")
    if kind not in CLICKS:
        raise KeelError(f"There is no proxy “{kind}” that is drawn.")
    clicks = _clicks(request.args.get("clicks", ""))
    with open_session() as opened:
        shot = get_shot(opened, number)
        sights = {frame: sight_of(opened, shot, frame) for frame in {c[0] for c in clicks}}
    try:
        if len(clicks) == 1:
            frame, x, y = clicks[0]
            under = snapped_under(sights[frame], np.array([x, y]), reach)
            return jsonify(at=under.xyz.round(5).tolist(), on=under.on)
        made = draft(kind, [sights[c[0]] for c in clicks], [(x, y) for _, x, y in clicks], reach)
    except WorldError as error:
        return jsonify(trouble=str(error))
    return jsonify(thing=made.model_dump(mode="json", exclude_defaults=True), solid=_sent(solid_in(media(), made)))


def _clicks(text: str) -> list[tuple[int, float, float]]:
    """Return clicks as they stand in a query: frame:x:y, with commas between."""
    out = []
    for one in text.split(",")[:MOST_CLICKS]:
        parts = one.split(":")
        try:
            frame, x, y = int(parts[0]), float(parts[1]), float(parts[2])
        except (ValueError, IndexError) as error:
            raise KeelError("These clicks cannot be read.") from error
        if not np.isfinite([x, y]).all():
            raise KeelError("These clicks cannot be read.")
        out.append((frame, x, y))
    return out


@blueprint.get("/shots/<int:number>/world/cast.json")
def under_pointer(number: int):
    """Send what lies under a spot of the plate: a surface, a point, a corner or an edge."""
    frame, x, y, reach = (asked_number(name) for name in ("frame", "x", "y", "reach"))
    with open_session() as opened:
        sight = sight_of(opened, get_shot(opened, number), frame)
    # What is dragged lies under the pointer itself.
    sight.solids.pop(request.args.get("without", ""), None)
    try:
        found = snapped_under(sight, np.array([x, y]), reach)
    except WorldError as error:
        return jsonify(trouble=str(error))
    return jsonify(
        xyz=found.xyz.round(5).tolist(), normal=found.normal.round(5).tolist(), on=found.on, id=found.id,
        distance=round(float(np.linalg.norm(found.xyz - sight.path.positions[sight.row])), 4),
    )  # fmt: skip


@blueprint.post("/shots/<int:number>/world/scene")
def change(number: int):
    """Put things into the scene, change them or take them away: one edit."""
    asked = sent(Changed)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        payload: dict[str, Any] = {"label": asked.label[:200]}
        for part, own in (("proxies", proxies_of(shot)), ("probes", probes_of(shot))):
            given = getattr(asked, part)
            if given:
                model = Proxy if part == "proxies" else Probe
                payload[part] = _things(shot, model, given, own)
        if asked.light:
            if len(asked.light) != 2:
                raise KeelError("The light comes from a bearing and a height, degrees.")
            payload["light"] = [asked.light[0] % 360.0, float(np.clip(asked.light[1], 1.0, 90.0))]
        if asked.behind is not None:
            payload["behind"] = asked.behind
        return edited(opened, number, "scene", payload, asked.revision)


def _things(shot: Shot, model, given: dict, own: dict) -> dict:
    """Return things as they are kept, from what the page says of them; “new” stands for one that is not there yet."""
    out = {}
    for name, fields in given.items():
        if fields is None:
            if name not in own:
                raise KeelError("That is no longer in the scene.")
            out[name] = None
            continue
        if name not in own and not name.startswith("new"):
            raise KeelError("That is no longer in the scene.")
        before = own[name].model_dump(mode="json") if name in own else {}
        thing = read_standing(model, {**before, **_typed(fields)})
        key = name if name in own else fresh_id(shot, thing.kind, out)
        named = thing.name or f"{NAMES[thing.kind]} {key[1:]}"
        out[key] = thing.model_copy(update={"name": named}).model_dump(mode="json", exclude_defaults=True)
        out[key]["kind"] = thing.kind
    return out


def _typed(fields: dict) -> dict:
    """Return fields with sides that were typed with a unit as figures."""
    size = fields.get("size")
    if isinstance(size, list):
        fields = {**fields, "size": [typed_length(v, "The side") if isinstance(v, str) else v for v in size]}
    return fields


def fresh_id(shot: Shot, kind: str, taken: dict) -> str:
    """Return an id that nothing in the scene has: a letter for what it is, and a number."""
    used = {*taken, *(shot.scene or {}).get("proxies", {}), *(shot.scene or {}).get("probes", {})}
    letter = "q" if kind in PROBE_KINDS and kind != "mesh" else "p"
    return next(name for n in range(1, 10_000) if (name := f"{letter}{n}") not in used)
