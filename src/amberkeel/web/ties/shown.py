"""What the ties stage shows: sets, ties, other shots of the set with their cameras, and how shots disagree."""

import io

import cv2
import numpy as np
from flask import abort, jsonify, request, send_file

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import KeelError
from amberkeel.core.geometry.pixels import opencv_point
from amberkeel.core.pictures.write import encode_png
from amberkeel.core.ties.set_file import Set
from amberkeel.jobs.images import open_row
from amberkeel.store.models import Attempt, FilmSet, Shot
from amberkeel.store.solve import arrays_of
from amberkeel.store.stages import pinned
from amberkeel.store.ties import document_of_set, is_stale, set_row, sets_of, tied_shots, ties_of_shot
from amberkeel.store.world import looked_at
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.ties.blueprint import blueprint

MOST_POINTS = 3000

PATCH_PX = 34
"""Side of the patches that are shown of a proposed tie."""


@blueprint.get("/shots/<int:number>/ties.json")
def known(number: int):
    """Send the production's sets, this shot's set with its points, its ties, and the cameras of the other shots."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        rows = sets_of(opened, shot.production_id)
        kept = shot.ties or {}
        row = opened.get(FilmSet, kept["set"]) if kept.get("set") else None
        own, lost = ties_of_shot(opened, shot)
        return jsonify(
            sets=[_set_row(opened, one) for one in rows],
            set=_whole(opened, shot, row) if row is not None else None,
            ties=[vars(one) for one in own], lost=lost, proposed=list(kept.get("proposed", {}).values()),
            aligned=kept.get("aligned"), stale=is_stale(opened, shot),
            others=_others(opened, shot, row) if row is not None else [],
        )  # fmt: skip


def _set_row(opened, row: FilmSet) -> dict:
    document = row.document
    return {
        "id": row.id, "name": row.name, "points": len(document.get("points", [])), "version": row.version,
        "shots": [one.name for one in tied_shots(opened, row)],
    }  # fmt: skip


def _whole(opened, shot: Shot, row: FilmSet) -> dict:
    document = document_of_set(row)
    reference = opened.get(Shot, row.reference_id) if row.reference_id else None
    made = opened.get(Attempt, row.reference_attempt) if row.reference_attempt else None
    behind = reference is not None and (reference.deleted is not None or reference.pinned_id != row.reference_attempt)
    return {
        "id": row.id, "name": row.name, "version": row.version, "metric": document.metric, "frozen": document.frozen,
        "removed": row.removed, "own": row.reference_id == shot.id, "behind": behind,
        "reference": {"id": reference.id, "name": reference.name, "attempt": made.number if made else None}
        if reference is not None and reference.deleted is None
        else None,
        "points": [
            {"name": p.name, "xyz": p.xyz, "sigma": p.sigma, "source": p.source}
            for p in document.points[:MOST_POINTS]
        ],
        "proxies": len(document.proxies), "probes": len(document.probes),
    }  # fmt: skip


def _others(opened, shot: Shot, row: FilmSet) -> list[dict]:
    """Return the other shots of a set that are in its world, with their cameras."""
    out = []
    shots = tied_shots(opened, row)
    if row.reference_id and row.reference_id not in [one.id for one in shots]:
        reference = opened.get(Shot, row.reference_id)
        if reference is not None and reference.deleted is None:
            shots.append(reference)
    for other in shots:
        attempt = pinned(opened, other)
        is_reference = other.id == row.reference_id
        if other.id == shot.id or attempt is None or not (is_reference or (other.ties or {}).get("aligned")):
            continue
        solved, datum = looked_at(media(), other, attempt)
        path = datum.camera(solved.path)
        out.append(
            {
                "id": other.id, "name": other.name, "reference": is_reference, "stale": is_stale(opened, other),
                "aligned": (other.ties or {}).get("aligned"), "first": int(path.frames[0]),
                "positions": path.positions.round(5).tolist(),
                "turns": path.world_from_camera.round(6).tolist(),
                "focal": path.lens.focal_px[0] / path.lens.width,
                "aspect": path.lens.height / path.lens.width,
            }
        )  # fmt: skip
    return out


@blueprint.get("/shots/<int:number>/ties/other.json")
def other(number: int):
    """Send a frame of another shot of the set: its picture, where its tracks lie on it, and where the set's points lie
    by its camera, once it is in the set's world.
    """
    wanted, frame = request.args.get("shot", type=int), request.args.get("frame", type=int)
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = set_row(opened, shot)
        beside = opened.get(Shot, wanted or row.reference_id or 0) or abort(404)
        if beside.production_id != shot.production_id or beside.deleted:
            raise KeelError("That shot is not of this production, or was deleted.")
        attempt = pinned(opened, beside)
        if attempt is None or not beside.plate.ready:
            raise KeelError(f"{beside.name} has no solve to look at.", "Solve it first.")
        document = document_of_set(row)
        names = {p.name for p in document.points}
        plate = beside.plate
        at = min(max(frame if frame is not None else plate.first, plate.first), plate.last)
        return jsonify(
            shot=beside.id, name=beside.name, frame=at, first=plate.first, last=plate.last, width=plate.width,
            height=plate.height, picture=plate.proxies[at - plate.first],
            spots=_spots(opened, beside, attempt, at, names, beside.id == row.reference_id),
            reference=beside.id == row.reference_id, points=_points_on(beside, attempt, row, document, at),
        )  # fmt: skip


def _points_on(shot: Shot, attempt: Attempt, row: FilmSet, document: Set, frame: int) -> list[list]:
    """Return the set's points [name, x, y] in a frame's picture; none for a shot that is not in the set's world."""
    if shot.id != row.reference_id and not (shot.ties or {}).get("aligned") or not document.points:
        return []
    solved, datum = looked_at(media(), shot, attempt)
    path = datum.camera(solved.path)
    at = int(path.rows_of(np.array([frame]))[0])
    if at < 0:
        return []
    points = document.points[:MOST_POINTS]
    xyz = np.array([p.xyz for p in points])
    px, inside = path.seen(xyz, at)
    return [[points[k].name, *px[k].round(2).tolist()] for k in np.nonzero(inside)[0].tolist()]


def _spots(opened, shot: Shot, attempt: Attempt, frame: int, points: set[str], reference: bool) -> list[dict]:
    """Return tracks with a point as they lie on a frame; `point` says whether the set has it."""
    arrays = arrays_of(media(), attempt)
    solved, _ = looked_at(media(), shot, attempt)
    standing = set(solved.ids[solved.standing].tolist())
    on = arrays["frame"] == frame
    name = dict(zip(arrays["track_id"].tolist(), arrays["names"].tolist()))
    out = []
    for track, (x, y) in zip(arrays["track"][on].tolist(), arrays["xy"][on].tolist()):
        if track in standing:
            known = reference and name[track] in points
            out.append({"track": track, "name": name[track], "x": round(x, 2), "y": round(y, 2), "point": known})
    return out


@blueprint.get("/shots/<int:number>/ties/seen.json")
def seen(number: int):
    """Send where each of the set's points lies on this shot's frames by its camera, once it is in the set's world:
    frames on which it is in the picture, and pixels.
    """
    with open_session() as opened:
        shot = get_shot(opened, number)
        row, attempt = set_row(opened, shot), pinned(opened, shot)
        aligned = (shot.ties or {}).get("aligned")
        if attempt is None or not (aligned or row.reference_id == shot.id):
            return jsonify(points=[])
        document = document_of_set(row)
        solved, datum = looked_at(media(), shot, attempt)
        path = datum.camera(solved.path)
    rows, out = np.arange(len(path.frames)), []
    for point in document.points[:MOST_POINTS]:
        px, inside = path.seen(np.repeat(np.array(point.xyz)[None], len(rows), 0), rows)
        if inside.any():
            frames = path.frames[inside].tolist()
            out.append({"name": point.name, "frames": frames, "at": px[inside].round(2).tolist()})
    return jsonify(points=out)


@blueprint.get("/shots/<int:number>/ties/where.json")
def where(number: int):
    """Send where a track of the set's reference must lie in this shot, once that is in the set's world: pixels by
    frame, with the ellipse of three sigmas of its point and of the alignment.
    """
    track = request.args.get("track", type=int)
    with open_session() as opened:
        shot = get_shot(opened, number)
        return jsonify(at=where_seen(opened, shot, set_row(opened, shot), track))


def where_seen(opened, shot: Shot, row: FilmSet, track: int | None) -> dict[int, list[float]]:
    """Return where a track of a set's reference must lie in an aligned shot, as `ellipses` has it; nothing for one that
    is not aligned, or a track without a point.

    Parameters
    ----------
    opened : the session. shot : in whose picture. row : the set. track : id, of the reference.
    """
    attempt, aligned = pinned(opened, shot), (shot.ties or {}).get("aligned")
    reference = opened.get(Shot, row.reference_id or 0)
    made = opened.get(Attempt, row.reference_attempt or 0)
    if track is None or attempt is None or not aligned or reference is None or made is None:
        return {}
    theirs, their_datum = looked_at(media(), reference, made)
    solved, datum = looked_at(media(), shot, attempt)
    at = theirs.row(track)
    if at is None:
        return {}
    turn = their_datum.scale * their_datum.rotation
    spread = np.zeros((3, 3)) if theirs.covariance is None else turn @ np.nan_to_num(theirs.covariance[at]) @ turn.T
    spread = spread + aligned["rms"] ** 2 / 3.0 * np.eye(3)
    return ellipses(datum.camera(solved.path), their_datum.apply(theirs.xyz[at]), spread)


def ellipses(path: CameraPath, xyz: np.ndarray, spread: np.ndarray) -> dict[int, list[float]]:
    """Return by frame where a point is seen, with half axes of three sigmas and the first one's angle: x, y, a, b,
    radians.

    Parameters
    ----------
    path : the camera. xyz : (3,) in its world. spread : (3, 3) the point's covariance.
    """
    rows, step = np.arange(len(path.frames)), 1e-4 * float(np.linalg.norm(path.positions[0] - xyz))
    out = {}
    with np.errstate(all="ignore"):
        many = [np.repeat((xyz + step * e)[None], len(rows), 0) for e in np.vstack([np.zeros(3), np.eye(3)])]
        px = [path.project(one, rows) for one in many]
        ahead = path.to_camera(many[0], rows)[:, 2] > 0.0
    size = [path.lens.width, path.lens.height]
    for k in np.nonzero(ahead & (px[0] > 0.0).all(1) & (px[0] < size).all(1))[0].tolist():
        slope = np.stack([(one[k] - px[0][k]) / step for one in px[1:]], 1)
        values, axes = np.linalg.eigh(slope @ spread @ slope.T)
        half = 3.0 * np.sqrt(np.maximum(values, 0.0))
        angle = float(np.arctan2(axes[1, 1], axes[0, 1]))
        out[int(path.frames[k])] = [*px[0][k].round(2).tolist(), *(round(float(h), 2) for h in half[::-1]), angle]
    return out


@blueprint.get("/shots/<int:number>/ties/patch.png")
def patch(number: int):
    """Send the patch of a proposed tie, in this shot (`side` here) or in the reference (there)."""
    name, side = request.args.get("name", ""), request.args.get("side", "here")
    with open_session() as opened:
        shot = get_shot(opened, number)
        one = (shot.ties or {}).get("proposed", {}).get(name) or abort(404)
        row = set_row(opened, shot)
        beside = opened.get(Shot, row.reference_id or 0) if side == "there" else shot
        frame, (x, y) = (one["fixed_frame"], one["fixed_xy"]) if side == "there" else (one["frame"], one["xy"])
        plate = open_row((beside or abort(404)).plate)
    return send_file(io.BytesIO(encode_png(cut_out(plate.read(frame), x, y))), mimetype="image/png", max_age=3600)


def cut_out(picture: np.ndarray, x: float, y: float) -> np.ndarray:
    """Return the patch about a spot, pixels, as large as the page shows it."""
    return cv2.getRectSubPix(np.ascontiguousarray(picture), (PATCH_PX, PATCH_PX), opencv_point(x, y))
