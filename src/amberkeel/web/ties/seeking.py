"""Ties by hand: a spot of the reference sought in this shot's frame, and tied where it was found or placed."""

import base64

import numpy as np
from flask import jsonify, request

from amberkeel.core.errors import TieError
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.pictures.write import encode_png
from amberkeel.core.ties.seek import View, seek, shown
from amberkeel.jobs.images import open_row
from amberkeel.jobs.queue import wake
from amberkeel.jobs.ties import take
from amberkeel.store.jobs import submit
from amberkeel.store.models import Shot
from amberkeel.store.stages import pinned
from amberkeel.store.ties import set_row
from amberkeel.store.world import looked_at
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.sent import Body, Number, Whole, Word, sent
from amberkeel.web.state import shot_state
from amberkeel.web.ties.blueprint import blueprint
from amberkeel.web.ties.shown import where_seen
from amberkeel.web.tracks.by_hand import check_place

PLACED_SIGMA = 0.15
"""One sigma of a position that was found on one frame or placed by hand, pixels."""


@blueprint.get("/shots/<int:number>/ties/seek.json")
def seek_spot(number: int):
    """Send where a spot of the reference (`x`, `y` on its frame `there`, perhaps its `track`) is found on a frame of
    this shot: along its epipolar line; near where it must lie once the shot is aligned; or near `nx`, `ny`.
    """
    at = {name: request.args.get(name, type=float) for name in ("x", "y", "nx", "ny")}
    frame, there, track = (request.args.get(name, type=int) for name in ("frame", "there", "track"))
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = set_row(opened, shot)
        reference = opened.get(Shot, row.reference_id or 0)
        if reference is None or reference.deleted or frame is None or there is None or at["x"] is None:
            raise TieError("There is no spot to seek.", "Pick one in the other plate.")
        must = where_seen(opened, shot, row, track).get(frame)
        own, fixed = _view(opened, shot, frame), _view(opened, reference, there)
    near = None
    if at["nx"] is not None:
        near = np.array([at["nx"], at["ny"]])
    elif must:
        near = np.array(must[:2])
    xy = np.array([at["x"], at["y"]])
    found = seek(own[0], fixed[0], xy, near)
    patches = shown(own[1], fixed[1], xy, found.warp)
    return jsonify(
        frame=frame, there=there, line=found.line.round(1).tolist(), score=round(found.score, 3), rivals=found.rivals,
        at=None if found.xy is None else found.xy.round(2).tolist(), patches=[_as_url(one) for one in patches],
    )  # fmt: skip


def _view(opened, shot: Shot, frame: int) -> tuple[View, np.ndarray]:
    """Return a frame of a solved shot, and its picture in colour."""
    attempt = pinned(opened, shot)
    if attempt is None:
        raise TieError(f"{shot.name} is not solved.", "Solve it first: its lens bends the line.")
    path = looked_at(media(), shot, attempt)[0].path
    row = int(path.rows_of(np.array([frame]))[0])
    if row < 0:
        raise TieError(f"{shot.name} has no solved camera on frame {frame}.", "Go to another frame.")
    picture = open_row(shot.plate).read(frame)
    return View(to_gray(picture), path, row), picture


def _as_url(picture: np.ndarray) -> str:
    return f"data:image/png;base64,{base64.b64encode(encode_png(picture)).decode()}"


class Spot(Body):
    """A track of the reference by name, and where it lies on a frame of this shot, pixels."""

    point: Word
    frame: Whole
    x: Number
    y: Number


@blueprint.post("/shots/<int:number>/ties/spot")
def tie_spot(number: int):
    """Tie a spot of the reference to a place on a frame of this shot: a track placed there, followed both ways."""
    asked = sent(Spot)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        if set_row(opened, shot).reference_id in (None, shot.id):
            raise TieError("No other shot made this set.", "Tie by tags or by name.")
        if any(one["point"] == asked.point for one in (shot.ties or {}).get("ties", {}).values()):
            raise TieError(f"{asked.point} is tied already.", "Drop that tie first.")
        check_place(opened, shot, asked.frame, asked.x, asked.y)
        spot = {
            "name": asked.point, "frames": [asked.frame], "x": [asked.x], "y": [asked.y], "sigma": [PLACED_SIGMA],
            "score": [1.0],
        }  # fmt: skip
        (track,) = take(opened, media(), shot, [spot], "hand")
        stops = [end for end in (shot.plate.first, shot.plate.last) if end != asked.frame]
        submit(opened, "hand", shot.id, {"track": track, "start": asked.frame, "stops": stops})
        answer = shot_state(opened, shot)
    wake()
    return jsonify(answer)
