"""The world stage: ground, origin and scale from tracks, and the checker card."""

import numpy as np
from flask import Blueprint

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.units import METRES, typed_length
from amberkeel.core.world.probe import card_outlines
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.stages import placed_by_lines
from amberkeel.store.tracks import some_tracks
from amberkeel.store.world import datum_of
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.sent import Body, Whole, Word, sent
from amberkeel.web.state import edited

blueprint = Blueprint("world", __name__)


class DatumPart(Body):
    """A part of the datum, from selected tracks: ground, origin, scale, or clear for all of it."""

    what: Word = ""
    tracks: list[Whole] = []
    distance: Word = ""
    unit: Word = "m"


@blueprint.post("/shots/<int:number>/datum")
def datum(number: int):
    """Set ground, origin or scale from selected tracks, after trying it on the pinned attempt."""
    asked = sent(DatumPart)
    with open_session() as opened:
        shot = get_shot(opened, number)
        chosen = dict(shot.datum or {})
        if asked.what == "clear":
            chosen, label = {}, "Clear the datum"
        else:
            chosen[asked.what], label = _datum_part(asked)
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        if row is None:
            raise KeelError("There is no pinned attempt.", "Solve first; the datum is set on solved points.")
        if asked.tracks and len(some_tracks(opened, shot, asked.tracks)) != len(set(asked.tracks)):
            raise KeelError("One of these tracks is gone, or another shot's.", "Select them again.")
        before, shot.datum = shot.datum, chosen
        datum_of(opened, media(), shot, row)
        shot.datum = before
        return edited(opened, number, "datum", {"datum": chosen, "label": label}, asked.revision)


def _datum_part(asked: DatumPart) -> tuple[list[int] | dict, str]:
    """Return a part of the datum as it is kept, and the edit's label."""
    what, ids = asked.what, asked.tracks
    if what == "ground":
        if len(ids) < 3:
            raise KeelError("A ground needs three tracks or more.", "Select them on the plate or in the list.")
        return ids, f"Ground from {len(ids)} tracks"
    if what == "origin":
        if len(ids) != 1:
            raise KeelError("The origin is one track.", "Select just one.")
        return ids, "Origin from a track"
    if what == "scale":
        if len(ids) != 2:
            raise KeelError("A scale needs two tracks.", "Select the two whose distance was measured.")
        unit = asked.unit
        metres = typed_length(asked.distance, "The distance", unit)
        typed = metres / METRES[unit]
        return {"tracks": ids, "metres": metres, "typed": typed, "unit": unit}, f"Scale {typed:g} {unit}"
    raise KeelError(f"There is no part “{what}” of the datum.")


def card(shot: Shot, world: dict, frames: range) -> list | None:
    """Return the checker card's outlines for each frame of the plate, for a shot whose ground is known: from tracks, or
    from lines with a scale. There is none where the camera has no position.
    """
    kept = shot.datum or {}
    placed = placed_by_lines(kept)
    if "ground" not in kept and not placed:
        return None
    path = read_path(world)
    xyz = np.array([p["xyz"] for p in world["points"] if p["state"] != "excluded"])
    low = xyz[np.abs(xyz[:, 1]) < 0.15 * np.median(np.abs(xyz))]
    centre = np.zeros(3)
    if "origin" not in kept and not placed and len(low):
        centre = np.array([np.median(low[:, 0]), 0.0, np.median(low[:, 2])])
    reach = float(np.linalg.norm(path.positions[0] - centre))
    outlines = card_outlines(path, centre, 0.28 * reach)
    by_frame = dict(zip(path.frames.tolist(), outlines))
    return [[np.round(p, 2).tolist() for p in by_frame.get(frame, [])] for frame in frames]
