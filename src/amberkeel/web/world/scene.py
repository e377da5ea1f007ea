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
from amberkeel.store.scene import camera_in_world, keep_mesh, probes_of, proxies_of, relief_of, solid_in, surfaces_of
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.world.blueprint import blueprint
from amberkeel.web.world.look import asked_number

NAMES = {
    "plane": "Plane", "wall": "Wall", "box": "Box", "cylinder": "Cylinder", "mesh": "Mesh", "card": "Card",
    "cube": "Cube", "cone": "Cone", "person": "Person", "lattice": "Lattice", "post": "Post",
}  # fmt: skip

MOST_CLICKS = 6

PROBE_SHARE = 0.06
"""Size of a new probe object over its distance from the camera, where the scene has no scale."""

METRES = {"card": 1.0, "cube": 0.5, "cone": 0.5, "person": 1.75, "lattice": 1.0, "post": 1.0}
"""Size of each new probe object in a scene with a scale."""

SLIM = {"person": 0.25, "post": 0.12, "cone": 0.7}
"""Width over height of what is taller than wide."""


class Changed(Body):
    """What becomes of things in the scene, by id: their fields, or nothing where they are taken away."""

    proxies: dict[str, dict[str, Any] | None] = {}
    probes: dict[str, dict[str, Any] | None] = {}
    light: list[Number] = []
    label: Word = ""


class Meshed(Body):
    """A mesh from tracks: a new one, or one that is made again."""

    id: Word = ""
    tracks: list[Whole] = []
    longest: Word = ""
    extend: Word = ""
    smooth: Flag = False
    without: Flag = False


class Placed(Body):
    """A probe object at a spot of the plate; `id` moves one that is there."""

    kind: Word = ""
    id: Word = ""
    frame: Whole
    x: Number
    y: Number
    reach: Number = 0.0


def sight_of(opened, shot: Shot, frame: float) -> Sight:
    """Return what a frame of a shot sees of its scene; raises KeelError where it has no camera."""
    path, ids, xyz = camera_in_world(opened, media(), shot)
    row = int(path.rows_of(np.array([int(frame)]))[0])
    if row < 0:
        raise KeelError("This frame has no camera.", "Go to a solved frame.")
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
        shot = get_shot(opened, number)
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
        key = name if name in own else _fresh(shot, thing.kind, out)
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


def _fresh(shot: Shot, kind: str, taken: dict) -> str:
    """Return an id that nothing in the scene has: a letter for what it is, and a number."""
    used = {*taken, *(shot.scene or {}).get("proxies", {}), *(shot.scene or {}).get("probes", {})}
    letter = "q" if kind in PROBE_KINDS and kind != "mesh" else "p"
    return next(name for n in range(1, 10_000) if (name := f"{letter}{n}") not in used)


@blueprint.post("/shots/<int:number>/world/mesh")
def mesh(number: int):
    """Mesh the ground through tracks, or make such a mesh again with other tracks or other limits."""
    asked = sent(Meshed)
    with open_session() as opened:
        shot = get_shot(opened, number)
        own = proxies_of(shot)
        if asked.id and asked.id not in own:
            raise KeelError("That mesh is no longer in the scene.")
        before = own.get(asked.id) or Proxy(kind="mesh")
        tracks = asked.tracks or before.tracks
        longest = typed_length(asked.longest, "The longest edge") if asked.longest.strip() else None
        extend = typed_length(asked.extend, "The edge") if asked.extend.strip() else 0.0
        thing = before.model_copy(
            update={"tracks": tracks, "longest": longest, "smooth": asked.smooth, "extend": extend, "mesh": ""}
        )
        found = relief_of(opened, media(), shot, thing)
        if asked.without and found.sticks_out.any():
            known = _with_points(opened, shot, thing)
            thing = thing.model_copy(update={"tracks": [t for t, out in zip(known, found.sticks_out) if not out]})
            found = relief_of(opened, media(), shot, thing)
        thing = thing.model_copy(
            update={
                "mesh": keep_mesh(media(), found.solid), "position": (0.0, 0.0, 0.0), "turn": (0.0, 0.0, 0.0),
                "size": (1.0, 1.0, 1.0),
            }
        )  # fmt: skip
        label = "Mesh the ground again" if asked.id else f"Mesh the ground from {len(thing.tracks)} tracks"
        key = asked.id or _fresh(shot, "mesh", {})
        named = thing.model_copy(update={"name": thing.name or f"Ground mesh {key[1:]}"})
        kept = named.model_dump(mode="json", exclude_defaults=True) | {"kind": "mesh"}
        return edited(opened, number, "scene", {"proxies": {key: kept}, "label": label}, asked.revision)


def _with_points(opened, shot: Shot, thing: Proxy) -> list[int]:
    """Return those of a proxy's tracks that have a point, in their order."""
    _, ids, _ = camera_in_world(opened, media(), shot)
    known = set(ids.tolist())
    return [t for t in thing.tracks if t in known]


@blueprint.get("/shots/<int:number>/world/mesh/<name>.json")
def mesh_report(number: int, name: str):
    """Send how a mesh lies with the points that it was made from."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        thing = proxies_of(shot).get(name)
        if thing is None or not thing.tracks:
            raise KeelError("That mesh is no longer in the scene.")
        found = relief_of(opened, media(), shot, thing)
        known = _with_points(opened, shot, thing)
    out = [t for t, sticks in zip(known, found.sticks_out) if sticks]
    return jsonify(
        rms=None if not np.isfinite(found.rms) else round(found.rms, 6), triangles=len(found.solid.faces),
        points=len(found.rows), longest=round(found.longest, 5), sticks_out=out,
    )  # fmt: skip


@blueprint.post("/shots/<int:number>/world/probe")
def probe(number: int):
    """Put a probe object where the plate was clicked, or move one there."""
    asked = sent(Placed)
    with open_session() as opened:
        shot = get_shot(opened, number)
        own = probes_of(shot)
        sight = sight_of(opened, shot, asked.frame)
        spot = snapped_under(sight, np.array([asked.x, asked.y]), asked.reach)
        position = spot.xyz.round(6).tolist()
        if asked.id:
            if asked.id not in own:
                raise KeelError("That is no longer in the scene.")
            thing = own[asked.id].model_dump(mode="json") | {"position": position}
            return edited(
                opened, number, "scene", {"probes": {asked.id: thing}, "label": f"Move {thing['name']}"}, asked.revision
            )
        if asked.kind not in METRES:
            raise KeelError(f"There is no probe object “{asked.kind}”.")
        away = float(np.linalg.norm(spot.xyz - sight.path.positions[sight.row]))
        size = _size(asked.kind, bool((shot.datum or {}).get("distances")), away)
        key = _fresh(shot, asked.kind, {})
        thing = {
            "kind": asked.kind, "name": f"{NAMES[asked.kind]} {key[1:]}", "position": position, "size": size,
            "turn": [0.0, _bearing(sight, spot.xyz), 0.0], "look": "checker" if asked.kind == "card" else "solid",
        }  # fmt: skip
        payload = {"probes": {key: thing}, "label": f"Put in a {NAMES[asked.kind].lower()}"}
        return edited(opened, number, "scene", payload, asked.revision)


def _size(kind: str, scaled: bool, away: float) -> list[float]:
    """Return the size of a new probe object."""
    high = METRES[kind] if scaled else PROBE_SHARE * away * METRES[kind]
    wide = SLIM.get(kind, 1.0) * high
    return [round(v, 6) for v in (wide, high, wide)]


def _bearing(sight: Sight, at: np.ndarray) -> float:
    """Return the turn about Y, degrees, by which a thing faces the camera."""
    way = sight.path.positions[sight.row] - at
    return round(float(np.degrees(np.arctan2(way[0], way[2]))), 3)


POSTS = 7
"""Posts of a row."""

SPACING_M, SPACING_SHARE = 1.0, 0.14
"""Between two of them: metres where the scene has a scale, else a share of the distance of the usual point."""

ASIDE = 0.7
"""How far they stand beside the camera's way, in spacings."""


@blueprint.post("/shots/<int:number>/world/posts")
def posts(number: int):
    """Put a row of posts on the ground ahead of the camera, beside its way."""
    asked = sent(Body)
    with open_session() as opened:
        shot = get_shot(opened, number)
        path, _, xyz = camera_in_world(opened, media(), shot)
        usual = float(np.median(np.linalg.norm(xyz - path.positions[0], axis=1))) if len(xyz) else 10.0
        scaled = bool((shot.datum or {}).get("distances"))
        spacing = SPACING_M if scaled else SPACING_SHARE * usual
        ahead = path.world_from_camera[0][:, 2] * [1.0, 0.0, 1.0]
        ahead = ahead / max(float(np.linalg.norm(ahead)), 1e-9)
        side, start = np.cross(ahead, [0.0, 1.0, 0.0]), path.positions[0] * [1.0, 0.0, 1.0]
        taken: dict[str, Any] = {}
        for k in range(POSTS):
            at = start + (k + 3.0) * spacing * ahead + ASIDE * spacing * side
            key = _fresh(shot, "post", taken)
            height = METRES["post"] * spacing
            taken[key] = {
                "kind": "post", "name": f"Post {k + 1}", "position": at.round(6).tolist(),
                "size": [round(SLIM["post"] * height, 6), round(height, 6), round(SLIM["post"] * height, 6)],
            }  # fmt: skip
        payload = {"probes": taken, "label": "A row of posts along the path"}
        return edited(opened, number, "scene", payload, asked.revision)
