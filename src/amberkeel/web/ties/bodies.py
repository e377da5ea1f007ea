"""Bodies of a shot: shown, changed, solved, handed on."""

import json
from dataclasses import asdict

import numpy as np
from flask import abort, jsonify

from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.handoff.usd import body_usd_text
from amberkeel.core.ties.bodies.body_file import body_document
from amberkeel.core.ties.bodies.box import probe_box
from amberkeel.core.ties.bodies.tracks import body_tracks
from amberkeel.store.bodies import Placed, own_body, placed
from amberkeel.store.masks import live_masks
from amberkeel.store.models import Shot
from amberkeel.store.solve import document_of
from amberkeel.store.world import datum_where_found, pinned_of
from amberkeel.web.common import get_shot, media, open_session, send_text, shot_to_change, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.ties.blueprint import blueprint
from amberkeel.web.ties.body_changes import PARTS, Change


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
    out |= {"chosen": len(kept.get("chosen", [])), "out": kept.get("out", [])}
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
    lines = [solid.vertices[solid.lines] for _, solid in found.proxies.values()]
    box = probe_box(body.points) if probe and len(body.points) > 2 else np.zeros((0, 2, 3))
    box = np.concatenate([box, *lines])
    seen, over, measured = {}, {}, _measured(found)
    for k, row in enumerate(path.rows_of(body.frames).tolist()):
        frame = int(body.frames[k])
        seen[frame] = path.project(body.world_points(k), row).round(3).tolist()
        if len(box):
            ends = box.reshape(-1, 3) @ body.world_from_body[k].T + body.positions[k]
            over[frame] = path.project(ends, row).round(1).reshape(-1, 4).tolist()
    return {
        "box": box.round(5).tolist(), "over": over, "told": body.size.told, "sigma": body.size.sigma,
        "frames": body.frames.tolist(), "positions": body.positions.round(5).tolist(),
        "turns": body.world_from_body.round(6).tolist(), "points": body.points.round(5).tolist(),
        "names": [names[t] for t in body.ids.tolist()], "seen": seen,
        "measured": measured, "tracks": [asdict(one) for one in body_tracks(found.solution)],
        "proxies": [{"key": key, "name": name} for key, (name, _) in found.proxies.items()],
        "extent": np.ptp(body.points, axis=0).round(5).tolist(),
    }  # fmt: skip


def _measured(found: Placed) -> dict[int, list]:
    """Return where the tracks of a body's points were measured, by frame: each point's [x, y, whether that was an
    outlier], or None.
    """
    solution, known = found.solution, np.isin(found.solution.tracks.ids, found.body.ids)
    tracks = solution.tracks.take(known)
    first, last = int(tracks.frames.min()), int(tracks.frames.max())
    grid = tracks.grid(np.arange(first, last + 1)).round(3)
    aside = np.zeros(grid.shape[:2], bool)
    aside[tracks.frames - first, tracks.track_of_sample] = solution.outlier[known[solution.tracks.track_of_sample]]
    return {
        frame: [
            (*xy, out) if np.isfinite(xy[0]) else None
            for xy, out in zip(grid[frame - first].tolist(), aside[frame - first].tolist())
        ]
        for frame in found.body.frames.tolist()
        if first <= frame <= last
    }


@blueprint.post("/shots/<int:number>/bodies")
def change_body(number: int):
    """Change a shot's bodies."""
    asked = sent(Change)
    if asked.what not in PARTS:
        raise TieError(f"Bodies cannot “{asked.what}”.")
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        return edited(opened, number, "bodies", PARTS[asked.what](opened, shot, asked), asked.revision)


class Solved(Body):
    """Which body is solved, and whether its mask is followed anew."""

    key: Word
    follow: Flag = True


@blueprint.post("/shots/<int:number>/bodies/solve")
def solve_body(number: int):
    """Start following and solving a body."""
    asked = sent(Solved)
    with open_session() as opened:
        own_body(get_shot(opened, number), asked.key)
    return start("body", number, {"body": asked.key, "follow": asked.follow})


@blueprint.get("/shots/<int:number>/bodies/<string:key>/<string:kind>")
def hand_body_on(number: int, key: str, kind: str):
    """Hand a body on: body.json, or body.usda with its camera."""
    if kind not in ("body.json", "body.usda"):
        abort(404)
    with open_session() as opened:
        shot = get_shot(opened, number)
        found = placed(opened, media(), shot, key)
        document = body_document(found.body, found.solution, shot.plate.label, found.proxies.values())
        attempt = pinned_of(opened, shot)
        camera = document_in_world(document_of(media(), attempt), datum_where_found(opened, media(), shot, attempt)[0])
        stem, sensor = f"{stem_of(shot.name)}_{stem_of(own_body(shot, key)['name'])}", shot.plate.sensor_width_mm
    if kind == "body.json":
        return send_text(json.dumps(document, indent=1), "application/json", f"{stem}.body.json")
    return send_text(body_usd_text(camera, document, sensor), "text/plain", f"{stem}.usda")
