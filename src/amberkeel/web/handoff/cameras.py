"""Cameras of others: judged by the shot's tracks, and kept as attempts."""

import json
import tempfile
from pathlib import Path

from flask import jsonify, request

from amberkeel.core.camera import CameraPath
from amberkeel.core.handoff.judge import camera_for, judged
from amberkeel.core.lens.profile import LensProfile, profile_document
from amberkeel.jobs.images import open_row
from amberkeel.store.models import Shot
from amberkeel.store.stages import pinned
from amberkeel.store.tracks import live_tracks, to_track_set
from amberkeel.store.world import looked_at
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.handoff.blueprint import blueprint
from amberkeel.web.jobs import start
from amberkeel.web.uploads import Upload, uploaded

MOST_CAMERA_BYTES = 64 << 20


@blueprint.post("/shots/<int:number>/handoff/judge")
def judge(number: int):
    """Say how well a camera from a file fits the shot's tracks, beside the pinned attempt."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        attempt = pinned(opened, shot)
        tracks = to_track_set([one for one in live_tracks(opened, shot) if one.state != "excluded"], shot.plate)
        path, own = _camera_in(_sent(), opened, shot), attempt.figures if attempt else None
    found = judged(path, tracks)
    return jsonify(
        rms_px=found.rms_px, median_px=found.median_px, outliers=found.outliers, tracks=found.tracks,
        worst=found.worst_frames(), own_px=(own.get("check_rms_px") or None) if own else None,
    )  # fmt: skip


@blueprint.post("/shots/<int:number>/handoff/adopt")
def adopt(number: int):
    """Start keeping a camera from a file as an attempt."""
    sent = _sent()
    with open_session() as opened:
        path = _camera_in(sent, opened, get_shot(opened, number))
    name = sent.name[:60]
    lens = profile_document(LensProfile(name, path.lens, "given"))
    arrays = {"frames": path.frames, "positions": path.positions, "turns": path.world_from_camera}
    zoom = {} if path.zoom is None else {"zoom": path.zoom}
    kept = media().put_arrays(**arrays, **zoom)
    return start("adopt", number, {"camera": kept, "lens": media().put(json.dumps(lens).encode()), "name": name})


def _sent() -> Upload:
    return uploaded("a camera alone: USD, glTF, COLLADA, a table (.csv) or solve.json", MOST_CAMERA_BYTES)


def _camera_in(sent: Upload, opened, shot: Shot) -> CameraPath:
    """Return the camera of a file that was sent, seen through the distortion of the pinned attempt's lens."""
    attempt = pinned(opened, shot)
    lens = looked_at(media(), shot, attempt)[0].path.lens if attempt else None
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"camera{sent.suffix}"
        path.write_bytes(sent.data)
        offset = request.form.get("offset", 0, int)
        return camera_for(path, open_row(shot.plate), lens, request.form.get("name", ""), offset)
