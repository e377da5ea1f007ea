"""The tracking copy on the desk: its operations, a look at a frame through them, and replaced images."""

import json

import numpy as np
from flask import Response, current_app, jsonify, request

from amberkeel.core.errors import KeelError, PlateError
from amberkeel.core.pictures.write import encode_jpeg
from amberkeel.core.plate.copy import TrackingCopy, read_stack, stand_in
from amberkeel.jobs.images import open_row
from amberkeel.store import edits
from amberkeel.web.common import get_shot, open_session, shot_to_change
from amberkeel.web.plate.blueprint import blueprint
from amberkeel.web.plate.sources import under_roots
from amberkeel.web.sent import Body, Word, sent
from amberkeel.web.state import edited, shot_state

MOST = 12
"""Operations in a stack."""


@blueprint.get("/shots/<int:number>/copy/<int:frame>.jpg")
def look(number: int, frame: int):
    """Send a frame through operations that need not be kept yet."""
    try:
        stack = read_stack(json.loads(request.args.get("stack", "[]")))
    except (json.JSONDecodeError, RecursionError):
        raise KeelError("These are no operations of a tracking copy.") from None
    with open_session() as opened:
        row = get_shot(opened, number).plate
    if not row.first <= frame <= row.last:
        raise PlateError(f"The plate has no frame {frame}.")
    plate = open_row(row)
    if request.args.get("images") == "replaced" and row.replaced:
        plate = stand_in(plate, row.replaced)
    gray = TrackingCopy(plate, stack).gray(frame)
    answer = Response(encode_jpeg(np.repeat(gray[..., None], 3, 2), 92), mimetype="image/jpeg")
    answer.headers["Cache-Control"] = "private, max-age=3600"
    return answer


class Stack(Body):
    """The operations of a tracking copy."""

    stack: list[dict] = []


@blueprint.post("/shots/<int:number>/copy")
def keep(number: int):
    """Keep the operations of the tracking copy."""
    asked = sent(Stack)
    if len(asked.stack) > MOST:
        raise KeelError(f"A tracking copy has up to {MOST} operations.")
    stack = [{"name": o.name, "figures": o.figures, "on": o.on} for o in read_stack(asked.stack)]
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        TrackingCopy(open_row(shot.plate), read_stack(stack))
        edits.apply(
            opened,
            number,
            "copy",
            {"values": {"stack": stack}, "label": "Change the tracking copy"},
            asked.revision,
        )
        return jsonify(shot_state(opened, shot))


class Replaced(Body):
    """Where replaced images lie; nothing for none."""

    path: Word = ""


@blueprint.post("/shots/<int:number>/replaced")
def replaced(number: int):
    """Choose images under a plate root that may stand in for the plate, or none."""
    asked = sent(Replaced)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        where = ""
        if asked.path:
            where = str(under_roots(current_app.settings.plate_roots, asked.path.strip()))
            stand_in(open_row(shot.plate), where)
        label = "Choose replaced images" if where else "Forget the replaced images"
        return edited(opened, number, "copy", {"values": {"replaced": where}, "label": label}, asked.revision)
