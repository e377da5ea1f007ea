"""The scene's coordinates: ground, origin, heading, scale and what is set by hand, each change one edit."""

from collections.abc import Callable

import numpy as np
from flask import request
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.world.probe import card_outlines
from amberkeel.core.world.statement import read_statement, statement_document
from amberkeel.core.world.survey import MOST_BYTES, read_survey
from amberkeel.store.models import Attempt, Shot, Track
from amberkeel.store.scene import scene_carried
from amberkeel.store.stages import placed_by_lines
from amberkeel.store.tracks import some_tracks
from amberkeel.store.world import datum_where_found, found_of, pinned_of
from amberkeel.web.common import media, open_session, shot_to_change
from amberkeel.web.sent import sent
from amberkeel.web.state import edited
from amberkeel.web.uploads import uploaded
from amberkeel.web.world import datum_hand as hand
from amberkeel.web.world import datum_points as points
from amberkeel.web.world.blueprint import blueprint


@blueprint.post("/shots/<int:number>/datum")
def datum(number: int):
    """Set a part of the datum, after trying it on the pinned attempt."""
    asked = sent(points.DatumPart)
    if asked.what not in PARTS:
        raise KeelError(f"There is no part “{asked.what}” of the datum.")
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        row = pinned_of(opened, shot, "the datum is set on solved points")
        if asked.tracks and len(some_tracks(opened, shot, asked.tracks)) != len(set(asked.tracks)):
            raise KeelError("One of these tracks is gone, or another shot's.", "Select them again.")
        kept = statement_document(read_statement(shot.datum or {}))
        change = PARTS[asked.what](kept, asked, opened, shot)
        tidy = statement_document(read_statement(change.datum))
        return edited(opened, number, "datum", _tried(opened, shot, row, tidy, change.label), asked.revision)


def _tried(opened, shot: Shot, row: Attempt, tidy: dict, label: str) -> dict:
    """Return the edit that makes another datum, tried on an attempt first; what stands in the scene stays where it is
    in the picture.
    """
    earlier, _ = datum_where_found(opened, media(), shot, row)
    before, shot.datum = shot.datum, tidy
    later = found_of(opened, media(), shot, row).datum
    shot.datum = before
    payload = {"datum": tidy, "label": label}
    things = (shot.scene or {}).get("proxies") or (shot.scene or {}).get("probes")
    return payload | {"scene": scene_carried(shot, later.after(earlier))} if things else payload


@blueprint.post("/shots/<int:number>/survey")
def survey(number: int):
    """Add the lengths of a sheet (CSV) to the datum; those whose tracks are not named wait for them."""
    rows = read_survey(uploaded("a sheet of lengths (CSV)", MOST_BYTES).text(), request.form.get("unit", "m"))
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        ids = dict(opened.execute(select(Track.name, Track.id).where(Track.shot_id == shot.id, ~Track.removed)).all())
        kept = statement_document(read_statement(shot.datum or {}))
        added = []
        for one in rows:
            ends = [ids.get(name) for name in one.tracks]
            ends = [end for end in ends if end is not None] if None not in ends else []
            added.append(one.model_copy(update={"tracks": ends}).model_dump(exclude_defaults=True, mode="json"))
        kept["distances"] = [*kept.get("distances", []), *added]
        tidy = statement_document(read_statement(kept))
        label = f"{len(rows)} length{'s' if len(rows) > 1 else ''} from a survey sheet"
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        payload = _tried(opened, shot, row, tidy, label) if row else {"datum": tidy, "label": label}
        return edited(opened, number, "datum", payload, request.form.get("revision", type=int))


PARTS: dict[str, Callable[..., points.Change]] = {
    "ground": points.ground, "under": points.under, "unground": points.unground, "exchange": points.exchange,
    "origin": points.origin, "spot": points.spot, "no-origin": points.no_origin, "direction": points.direction,
    "swap": points.swap, "undirect": points.undirect, "distance": points.distance,
    "change-distance": points.change_distance, "drop-distance": points.drop_distance, "flip": points.flip,
    "copy": points.copy, "clear": points.clear, "hand": hand.by_hand, "nudge": hand.nudge, "proxy": hand.proxy,
    "edge": hand.edge, "side": hand.side,
}  # fmt: skip
"""A part is a function that changes what is kept, and a line here."""


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
