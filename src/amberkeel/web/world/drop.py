"""Tracks dropped onto what stands in the scene: anchored points for the next solve, before any too."""

import numpy as np
from flask import jsonify

from amberkeel.core.errors import KeelError, WorldError
from amberkeel.core.lens.profile import lens_document
from amberkeel.core.solve.evidence.statement import constraint_documents, read_constraints
from amberkeel.core.units import typed_length
from amberkeel.core.world.under import Sight, surface_under
from amberkeel.store.scene import camera_by_lines
from amberkeel.store.tracks import some_tracks
from amberkeel.web.common import get_shot, open_session, shot_to_change
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.world.blueprint import blueprint
from amberkeel.web.world.scene import sight_of


class Dropped(Body):
    """Tracks that are dropped onto what they lie on as a frame sees them, and how firmly they are held there."""

    tracks: list[Whole] = []
    frame: Whole
    sigma: Word = ""
    exact: Flag = False
    ground: Flag = True


DROP_SHARE = 0.004
"""One sigma of a dropped track where none is typed, over its distance from the camera: as well as proxies fit."""

MANY = 16
"""Dropped tracks from which it is said that they may fight each other."""


@blueprint.get("/shots/<int:number>/world/before.json")
def before(number: int):
    """Send the camera that drawn lines tell before any solve, in the form of an attempt's; nothing without one."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        path = camera_by_lines(opened, shot) if not shot.pinned_id else None
    if path is None:
        return jsonify(world=None)
    frames = [
        {
            "frame": int(frame), "position": path.positions[k].tolist(), "focal_px": path.lens.focal_px[0],
            "world_from_camera": path.world_from_camera[k].tolist(),
        }
        for k, frame in enumerate(path.frames)
    ]  # fmt: skip
    lens = path.lens
    image = {"width": lens.width, "height": lens.height, "pixel_aspect": lens.pixel_aspect}
    return jsonify(world={"frames": frames, "points": [], "lens": lens_document(lens), "image": image})


@blueprint.post("/shots/<int:number>/world/drop")
def drop(number: int):
    """Drop tracks onto proxies, or the ground, as one frame sees them: each becomes an anchored point of the solve."""
    asked = sent(Dropped)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        rows = some_tracks(opened, shot, asked.tracks)
        if not rows:
            raise KeelError("No track is selected.", "Select those that lie on what you have drawn.")
        sight = sight_of(opened, shot, asked.frame)
        sigma = typed_length(asked.sigma, "The sigma") if asked.sigma.strip() else None
        anchors, missed = [], []
        for track in rows:
            anchor = _anchor(sight, track, asked, sigma)
            (missed if anchor is None else anchors).append(track.name if anchor is None else anchor)
        if not anchors:
            raise KeelError("None of these tracks lies on a proxy on this frame.", "Draw one behind them first.")
        own = {anchor["track"] for anchor in anchors}
        others = [one for one in shot.constraints if not (one["kind"] == "anchor" and one["track"] in own)]
        kept = constraint_documents(read_constraints([*others, *anchors]))
        label = f"Drop {len(anchors)} track{'s' if len(anchors) > 1 else ''} onto the scene"
        answer = edited(opened, number, "constraints", {"constraints": kept, "label": label}, asked.revision)
        return _said(answer, len(kept), len(anchors), missed)


def _anchor(sight: Sight, track, asked: Dropped, sigma: float | None) -> dict | None:
    """Return a track as an anchored point where it meets a surface on a frame; None where it does not."""
    if asked.frame not in track.frames:
        return None
    at = track.frames.index(asked.frame)
    try:
        spot = surface_under(sight, np.array([track.x[at], track.y[at]]), bool(asked.ground))
    except WorldError:
        return None
    away = float(np.linalg.norm(spot.xyz - sight.path.positions[sight.row]))
    return {
        "kind": "anchor", "tie": False, "track": track.id, "name": f"{track.name} dropped",
        "xyz": spot.xyz.round(6).tolist(),
        "sigma": sigma or round(max(DROP_SHARE * away, 1e-6), 6), "exact": bool(asked.exact),
    }  # fmt: skip


def _said(answer, every: int, count: int, missed: list[str]):
    """Return an answer with what was done in words, and a warning where it is much."""
    words = [f"{count} anchored point{'s' if count > 1 else ''} for the next solve, in Solve under what is known."]
    if missed:
        words.append(f"{len(missed)} met no surface.")
    if every > MANY:
        words.append(
            f"That makes {every} constraints: where what you drew is not exact, many fight each other."
            " A dozen far apart say as much."
        )
    body = answer.get_json()
    return jsonify({**body, "said": " ".join(words)})
