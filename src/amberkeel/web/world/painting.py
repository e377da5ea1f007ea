"""Textures of proxies: taken from the plate, sent, and brought back painted."""

import numpy as np
from flask import Response, abort, request

from amberkeel.core.errors import KeelError
from amberkeel.core.world.paintings import fitting, read_sent_painting
from amberkeel.core.world.projection import MODES, ONE
from amberkeel.store.paintings import EXR_BEGINS, keep_texture
from amberkeel.store.scene import camera_in_world, proxies_of
from amberkeel.web.common import get_shot, media, open_session, shot_to_change, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.uploads import uploaded
from amberkeel.web.world.blueprint import blueprint

MOST_BYTES = 64 << 20
"""Bytes of a painted picture."""


class Projected(Body):
    """Which proxies get the plate's picture, from which frames, and how."""

    proxies: list[Word] = []
    mode: Word = ONE
    frames: list[Whole] = []
    masked: Flag = True


@blueprint.post("/shots/<int:number>/world/project")
def project(number: int):
    """Start taking textures from the plate."""
    asked = sent(Projected)
    if asked.mode not in MODES:
        raise KeelError(f"There is no way “{asked.mode}” to project.")
    return start(
        "project", number,
        {"proxies": asked.proxies, "mode": asked.mode, "frames": asked.frames, "masked": asked.masked},
    )  # fmt: skip


@blueprint.get("/shots/<int:number>/world/texture/<name>.<kind>")
def texture(number: int, name: str, kind: str):
    """Send a proxy's texture: as PNG, or as EXR where it is linear light."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        thing = proxies_of(shot).get(name)
        stem = stem_of(shot.name)
    kept = thing and {"png": thing.texture, "exr": thing.light}.get(kind)
    if not kept:
        abort(404)
    answer = Response(media().get(kept), mimetype="image/png" if kind == "png" else "image/x-exr")
    if request.args.get("take"):
        answer.headers["Content-Disposition"] = f'attachment; filename="{stem}_{name}.{kind}"'
    return answer


@blueprint.post("/shots/<int:number>/world/texture/<name>")
def bring(number: int, name: str):
    """Put a painted texture onto a proxy."""
    data = _picture()
    linear = data.startswith(EXR_BEGINS)
    kept = keep_texture(media(), read_sent_painting(data, ".exr" if linear else ".png", linear), linear)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        before = (shot.scene or {}).get("proxies", {}).get(name)
        if before is None:
            raise KeelError("That proxy is no longer in the scene.")
        thing = {**before, **kept, "look": "picture"}
        payload = {"proxies": {name: thing}, "label": f"Paint {before.get('name', name)}"}
        return edited(opened, number, "scene", payload, request.form.get("revision", type=int))


@blueprint.post("/shots/<int:number>/world/painted")
def bring_frame(number: int):
    """Lay a picture that was painted over one frame onto the proxies that the frame sees."""
    data = _picture()
    suffix = ".exr" if data.startswith(EXR_BEGINS) else ".png"
    painting, frame = read_sent_painting(data, suffix, False), request.form.get("frame", type=int)
    with open_session() as opened:
        shot = get_shot(opened, number)
        fitting(painting, shot.plate.width, shot.plate.height)
        path, _, _ = camera_in_world(opened, media(), shot)
    if frame is None or path.rows_of(np.array([frame]))[0] < 0:
        raise KeelError("That frame has no camera.", "Go to the frame that was painted over, and bring it in there.")
    proxies = [one for one in request.form.get("proxies", "").split(",") if one]
    return start(
        "project", number,
        {"proxies": proxies, "mode": ONE, "frames": [frame], "masked": False, "painted": media().put(data)},
    )  # fmt: skip


def _picture() -> bytes:
    """Return the picture that was sent."""
    return uploaded("a picture (PNG, JPEG, TIFF or EXR)", MOST_BYTES).data
