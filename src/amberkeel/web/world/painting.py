"""Textures of proxies: taken from the plate, sent, and brought back painted."""

import cv2
import numpy as np
from flask import Response, abort, request

from amberkeel.core.errors import KeelError
from amberkeel.core.pictures.write import encode_png
from amberkeel.core.world.projection import MODES, ONE
from amberkeel.store.scene import proxies_of
from amberkeel.web.common import get_shot, media, open_session, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.world.blueprint import blueprint

MOST_BYTES, MOST_SIDE = 64 << 20, 8192
"""Bytes and texels a side of a painted texture."""


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


@blueprint.get("/shots/<int:number>/world/texture/<name>.png")
def texture(number: int, name: str):
    """Send a proxy's texture."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        thing = proxies_of(shot).get(name)
        stem = stem_of(shot.name)
    if thing is None or not thing.texture:
        abort(404)
    answer = Response(media().get(thing.texture), mimetype="image/png")
    if request.args.get("take"):
        answer.headers["Content-Disposition"] = f'attachment; filename="{stem}_{name}.png"'
    return answer


@blueprint.post("/shots/<int:number>/world/texture/<name>")
def bring(number: int, name: str):
    """Put a painted picture onto a proxy."""
    file = request.files.get("file")
    if file is None:
        raise KeelError("There is no file.", "Choose a picture (PNG or JPEG).")
    data = file.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise KeelError("This picture is larger than 64 MB.", "Make it smaller.")
    picture = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED) if data else None
    if picture is None:
        raise KeelError("This file is no picture that can be read.", "Send PNG or JPEG.")
    if max(picture.shape[:2]) > MOST_SIDE:
        raise KeelError(f"This picture is more than {MOST_SIDE} pixels a side.", "Make it smaller.")
    kept = media().put(encode_png(_four(picture)))
    with open_session() as opened:
        shot = get_shot(opened, number)
        before = (shot.scene or {}).get("proxies", {}).get(name)
        if before is None:
            raise KeelError("That proxy is no longer in the scene.")
        thing = {**before, "texture": kept, "look": "picture"}
        payload = {"proxies": {name: thing}, "label": f"Paint {before.get('name', name)}"}
        return edited(opened, number, "scene", payload, request.form.get("revision", type=int))


def _four(picture: np.ndarray) -> np.ndarray:
    """Return a picture as OpenCV read it as (H, W, 4) uint8, red first."""
    if picture.dtype == np.uint16:
        picture = (picture // 257).astype(np.uint8)
    if picture.dtype != np.uint8:
        raise KeelError("This picture has values of a kind that is not taken.", "Send 8 or 16 bits a channel.")
    if picture.ndim == 2:
        picture = cv2.cvtColor(picture, cv2.COLOR_GRAY2BGR)
    if picture.shape[2] == 3:
        return cv2.cvtColor(picture, cv2.COLOR_BGR2RGBA)
    return cv2.cvtColor(picture, cv2.COLOR_BGRA2RGBA)
