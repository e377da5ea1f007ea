"""Files that leave."""

from flask import Blueprint, abort

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.store.models import Attempt
from amberkeel.store.solve import document_of
from amberkeel.store.world import datum_of
from amberkeel.web.common import get_shot, media, open_session, send_text

blueprint = Blueprint("handoff", __name__)


@blueprint.get("/shots/<int:number>/handoff/<name>")
def download(number: int, name: str):
    """Send a file of the pinned attempt, in the shot's world."""
    if name not in FORMATS:
        abort(404)
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        if row is None:
            raise HandoffError("There is nothing to hand on yet.", "Solve the shot and pin an attempt.")
        document = document_in_world(document_of(media(), row), datum_of(opened, media(), shot, row))
        text = FORMATS[name].write(document, shot.plate.sensor_width_mm)
        stem = "".join(c if c.isalnum() else "_" for c in shot.name)
    return send_text(text, "application/octet-stream", f"{stem}_{name}")
