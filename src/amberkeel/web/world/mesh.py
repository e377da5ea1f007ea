"""Meshes in the scene: the ground through tracks, and meshes from files."""

import numpy as np
from flask import jsonify, request

from amberkeel.core.errors import KeelError
from amberkeel.core.units import typed_length
from amberkeel.core.world.align import by_pairs, to_surface
from amberkeel.core.world.mesh_files import KINDS, MOST_BYTES, read_mesh
from amberkeel.core.world.standing import Proxy, carried
from amberkeel.core.world.under import snapped_under
from amberkeel.store.models import Shot
from amberkeel.store.scene import camera_in_world, keep_mesh, proxies_of, relief_of, solid_in
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.uploads import uploaded
from amberkeel.web.world.blueprint import blueprint
from amberkeel.web.world.scene import fresh_id, sight_of


class Meshed(Body):
    """A mesh from tracks: a new one, or one that is made again."""

    id: Word = ""
    tracks: list[Whole] = []
    longest: Word = ""
    extend: Word = ""
    smooth: Flag = False
    without: Flag = False
    seen_from: Whole | None = None
    above: Flag = False


@blueprint.post("/shots/<int:number>/world/mesh")
def mesh(number: int):
    """Mesh the ground through tracks, or make such a mesh again with other tracks or other limits."""
    asked = sent(Meshed)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        own = proxies_of(shot)
        if asked.id and asked.id not in own:
            raise KeelError("That mesh is no longer in the scene.")
        before = own.get(asked.id) or Proxy(kind="mesh")
        tracks = asked.tracks or before.tracks
        longest = typed_length(asked.longest, "The longest edge") if asked.longest.strip() else None
        extend = typed_length(asked.extend, "The edge") if asked.extend.strip() else 0.0
        thing = before.model_copy(
            update={
                "tracks": tracks, "longest": longest, "smooth": asked.smooth, "extend": extend, "mesh": "",
                "along": _along(opened, shot, asked, before.along),
            }
        )  # fmt: skip
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
        key = asked.id or fresh_id(shot, "mesh", {})
        named = thing.model_copy(update={"name": thing.name or f"Ground mesh {key[1:]}"})
        kept = named.model_dump(mode="json", exclude_defaults=True) | {"kind": "mesh"}
        return edited(opened, number, "scene", {"proxies": {key: kept}, "label": label}, asked.revision)


def _along(opened, shot: Shot, asked: Meshed, before: tuple | None) -> tuple | None:
    """Return the direction towards which a mesh's points are looked from: a frame's, above, or what it was before."""
    if asked.seen_from is None:
        return None if asked.above else before
    path, _, _ = camera_in_world(opened, media(), shot)
    row = int(path.rows_of(np.array([asked.seen_from]))[0])
    if row < 0:
        raise KeelError("This frame has no camera.", "Go to a solved frame, or mesh as seen from above.")
    return tuple((-path.world_from_camera[row][:, 2]).tolist())


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


FOOT_SHARE = 0.7
"""How far down the picture a test object from a file is put."""


class Pair(Body):
    """A spot of a mesh in the world, and the track that lies there."""

    xyz: list[Number]
    track: Whole


class Aligning(Body):
    """How a mesh is brought to the points: by pairs, or by its surface to selected tracks, or all."""

    id: Word
    pairs: list[Pair] = []
    tracks: list[Whole] = []
    scaled: Flag = False


@blueprint.post("/shots/<int:number>/world/import")
def bring_mesh(number: int):
    """Bring a mesh from a file into the scene, as a proxy or as a probe object at a spot of the plate."""
    given = uploaded(f"a mesh: {', '.join(KINDS)}", MOST_BYTES)
    solid = read_mesh(given.data, given.suffix.lstrip("."), request.form.get("unit", "m"), request.form.get("up", "y"))
    stem = given.stem[:60]
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        key, part = fresh_id(shot, "mesh", {}), "proxies"
        thing = {"kind": "mesh", "name": stem or f"Mesh {key[1:]}", "mesh": keep_mesh(media(), solid)}
        frame = request.form.get("frame", type=int)
        if frame is not None:
            sight, part = sight_of(opened, shot, frame), "probes"
            at = np.array([0.5, FOOT_SHARE]) * [shot.plate.width, shot.plate.height]
            thing |= {"position": snapped_under(sight, at, 0.0).xyz.round(6).tolist(), "look": "solid"}
        payload = {part: {key: thing}, "label": f"Bring in {thing['name']}, {len(solid.faces)} triangles"}
        return edited(opened, number, "scene", payload, request.form.get("revision", type=int))


@blueprint.post("/shots/<int:number>/world/align")
def align(number: int):
    """Bring a mesh to the points: by three pairs or more, or from where it is by its surface."""
    asked = sent(Aligning)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        thing = proxies_of(shot).get(asked.id)
        if thing is None or not thing.mesh:
            raise KeelError("That mesh is no longer in the scene.")
        _, ids, xyz = camera_in_world(opened, media(), shot)
        if asked.pairs:
            rows = {int(track): row for row, track in enumerate(ids)}
            lost = [pair.track for pair in asked.pairs if pair.track not in rows]
            if lost or any(len(pair.xyz) != 3 for pair in asked.pairs):
                raise KeelError("A track of these pairs has no point.", "Choose another one.")
            points = xyz[[rows[pair.track] for pair in asked.pairs]]
            found = by_pairs(np.array([pair.xyz for pair in asked.pairs], float), points, asked.scaled)
            words = f"Align {thing.name} by {len(asked.pairs)} pairs"
        else:
            chosen = np.isin(ids, asked.tracks) if asked.tracks else np.ones(len(ids), bool)
            found = to_surface(solid_in(media(), thing), xyz[chosen], asked.scaled)
            words = f"Bring {thing.name} to the points"
        kept = carried((shot.scene or {})["proxies"][asked.id], found.change)
        answer = edited(opened, number, "scene", {"proxies": {asked.id: kept}, "label": words}, asked.revision)
        body = answer.get_json()
    return jsonify({**body, "said": f"{words}: its points lie {found.rms:.3g} off it, RMS."})
