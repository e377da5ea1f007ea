"""What lies under the pointer: the plane through the points there, planes that offer themselves, points' patches."""

import math

import cv2
import numpy as np
from flask import Response, jsonify, request

from amberkeel.core.errors import KeelError, WorldError
from amberkeel.core.geometry.pixels import opencv_point
from amberkeel.core.pictures.write import encode_png
from amberkeel.core.world.datum import Datum, Solved
from amberkeel.core.world.planes import find_planes, off_px, plane_under
from amberkeel.core.world.planking import planking
from amberkeel.jobs.images import followed_images
from amberkeel.store.models import Track
from amberkeel.store.world import looked_at, pinned_of
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.world.blueprint import blueprint

PATCH_PX = 16
"""Half side of a track's picture in a list, plate pixels."""

AHEAD = np.array([0.0, 0.0, -1.0])


def _pinned(number: int) -> tuple[Solved, Datum]:
    """Return the pinned solve of a shot by its number, and its datum; raises KeelError without one."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        return looked_at(media(), shot, pinned_of(opened, shot, "the datum is set on solved points"))


def asked_number(name: str) -> float:
    """Return a number of the request's query; raises KeelError for none."""
    try:
        value = float(request.args.get(name, ""))
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise KeelError(f"{name} is no number.")
    return value


def row_of(solved: Solved, frame: float) -> int:
    """Return the row of a solved frame; raises KeelError for one that is not."""
    row = int(solved.path.rows_of(np.array([int(frame)]))[0])
    if row < 0:
        raise KeelError("This frame has no camera.", "Go to a solved frame.")
    return row


@blueprint.get("/shots/<int:number>/world/under.json")
def under(number: int):
    """Send the plane through the solved points under a spot of the plate, as planks in the picture."""
    frame, x, y = (asked_number(name) for name in ("frame", "x", "y"))
    solved, datum = _pinned(number)
    at, standing = row_of(solved, frame), solved.standing
    covariance = None if solved.covariance is None else solved.covariance[standing]
    try:
        found = plane_under(solved.path, at, np.array([x, y]), solved.xyz[standing], covariance)
    except WorldError as error:
        return jsonify(trouble=str(error))
    shown = _planks(solved, datum, at, found.at, found.plane.normal)
    rms = datum.scale * found.plane.rms
    return jsonify(
        **shown, tracks=solved.ids[standing[found.rows]].tolist(), rms=round(rms, 6), rms_px=round(found.rms_px, 3),
        at=datum.apply(found.at).round(5).tolist(),
    )  # fmt: skip


def _planks(solved: Solved, datum: Datum, row: int, at: np.ndarray, normal: np.ndarray) -> dict:
    """Return planks on a plane of the solve as the page draws them."""
    path, up = datum.camera(solved.path), datum.rotation @ normal
    made = planking(path, row, datum.apply(at), up, AHEAD)
    return {
        "planks": [one.round(1).tolist() for one in made.planks],
        "mast": _known(made.mast),
        "ahead": _known(made.ahead),
        "length": made.length,
        "slope": round(math.degrees(math.acos(min(abs(float(up[1])), 1.0))), 2),
        "distance": round(float(np.linalg.norm(datum.apply(at) - path.positions[row])), 4),
    }


def _known(px: np.ndarray) -> list | None:
    return px.round(1).tolist() if np.isfinite(px).all() else None


@blueprint.get("/shots/<int:number>/world/planes.json")
def planes(number: int):
    """Send the large planes among the solved points, what may be the ground first, as one frame sees them."""
    frame = asked_number("frame")
    solved, datum = _pinned(number)
    at, standing = row_of(solved, frame), solved.standing
    covariance = None if solved.covariance is None else solved.covariance[standing]
    if len(standing) < 12:
        return jsonify(planes=[], note="There are too few points with a depth.")
    found = find_planes(solved.xyz[standing], covariance, solved.path)
    out = []
    for one in found:
        rows = standing[one.rows]
        middle = solved.xyz[rows].mean(0)
        px = off_px(solved.path, at, solved.xyz[rows], one.plane.centre, one.plane.normal)
        out.append(
            {
                "kind": one.kind, "tracks": solved.ids[rows].tolist(), "rms": round(datum.scale * one.plane.rms, 6),
                "rms_px": round(float(np.sqrt(np.nanmedian(px**2))), 3), "square_to": list(one.square_to),
                "parallel_to": list(one.parallel_to), **_planks(solved, datum, at, middle, one.plane.normal),
            }
        )  # fmt: skip
    return jsonify(planes=out)


@blueprint.get("/shots/<int:number>/world/patch/<int:track>.png")
def patch(number: int, track: int):
    """Send the surroundings of a track in the middle of its life, to tell it from those that look alike."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = opened.get(Track, track)
        if row is None or row.shot_id != number or not row.frames:
            raise KeelError("That track is gone.")
        at = len(row.frames) // 2
        frame, x, y, plate = row.frames[at], row.x[at], row.y[at], shot.plate
        images, _ = followed_images(plate, "plate")
    picture = images.gray(frame)
    size = (2 * PATCH_PX + 1, 2 * PATCH_PX + 1)
    cut = cv2.getRectSubPix(picture, size, opencv_point(x, y))
    answer = Response(encode_png(cut), mimetype="image/png")
    answer.headers["Cache-Control"] = "private, max-age=3600"
    return answer
