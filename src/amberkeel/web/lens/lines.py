"""The lens stage: drawn lines and boxes, and what they tell.

The camera's facts are in `camera`, profiles in `profiles`.
"""

from functools import lru_cache

import numpy as np
from flask import abort, current_app, jsonify
from sqlalchemy import select

from amberkeel.core.errors import LensError, PlateError
from amberkeel.core.lens import Lens
from amberkeel.core.lens.box import EDGES, SHARED, BoxPose, box_lines, boxes_of, guessed_pose, new_box, settle_box
from amberkeel.core.lens.drawn import DRAWN_SIGMA_PX, LensOrder, read_lines
from amberkeel.core.lens.edges import find_edge, snap
from amberkeel.core.lens.fit import LensFit, centre_test, fit_lens, straightness
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.look import (
    bent_lines,
    floor_ahead,
    floor_cell,
    floor_grid,
    horizon,
    horizon_angles,
    vanishing_points,
)
from amberkeel.core.lens.picture import bent_grid
from amberkeel.core.lens.place import CameraPlace, camera_place
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import check_lens, profile_document, profile_from_lines, read_profile, typed_names
from amberkeel.core.lens.sensor import length_mm
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.solve.held_lens import straight_px
from amberkeel.jobs.lens import straightened_folder
from amberkeel.store import edits
from amberkeel.store.lens import KNOWN, UNKNOWN
from amberkeel.store.models import Attempt, LensProfile, Plate, Shot
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.lens.blueprint import blueprint
from amberkeel.web.lens.camera import camera_facts_of, fill_camera
from amberkeel.web.sent import Sent, as_object, sent, whole
from amberkeel.web.state import shot_state

LINE_KEYS = ("frame", "axis", "points", "sigma", "box", "ends", "set")
"""What is kept of a drawn line."""

BOX_HINT = "Drag the box's corners onto corners of the set: an edge counts once both of its ends were dragged."

TURN_WORTH = np.radians(20.0)
"""Sigma of a rotation from which no horizon is shown."""

_poses: dict[tuple[int, str], BoxPose] = {}
"""How each box was last seen while lines do not tell it: from there the next search starts."""

_last: dict[int, tuple[LensFit, object]] = {}
"""The newest fit of each shot and its plate's facts, from which the next one starts while a line is dragged."""


@blueprint.get("/shots/<int:number>/lens.json")
def facts(number: int):
    """Send what the lens stage shows that does not change with every drag."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        kept = shot.lens or {}
        rows = opened.scalars(
            select(LensProfile)
            .where(LensProfile.production_id == shot.production_id, ~LensProfile.removed)
            .order_by(LensProfile.name)
        )
        users = {s.id: s.name for s in shot.production.shots}
        using: dict[int, list[str]] = {}
        for other in shot.production.shots:
            if other.profile_id:
                using.setdefault(other.profile_id, []).append(users[other.id])
        attempt = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        return jsonify(
            **camera_facts_of(opened, shot),
            lines=kept.get("lines", {}),
            wanted=kept.get("wanted", {}),
            origin=kept.get("origin"),
            measured=kept.get("measured"),
            profiles=[_profile_row(p, shot, using.get(p.id, [])) for p in rows],
            profile=shot.profile_id,
            solved=attempt and _solved(attempt),
            straightened=(straightened_folder(current_app.settings, number) / "straight.json").exists(),
        )


def _solved(attempt: Attempt) -> dict:
    """Return the focal length of an attempt as evidence."""
    return {
        "number": attempt.number,
        "focal_mm": attempt.figures["focal_mm"],
        "focal_sigma_mm": attempt.figures["focal_sigma_mm"],
    }


def _profile_row(row: LensProfile, shot: Shot, shots: list[str]) -> dict:
    d = row.document
    mm = shot.plate.sensor_width_mm / d["image"]["width"]
    return {
        "id": row.id,
        "name": row.name,
        "source": d["source"],
        "version": row.version,
        "shots": shots,
        "model": d["lens"]["model"],
        "focal_mm": d["lens"]["focal_px"][0] * mm if d["focal_known"] else None,
        "focal_sigma_mm": d["sigma"].get("focal_px", 0.0) * mm,
        "values": _typed(read_profile(d)),
        "sources": d.get("sources", {}),
        "radial": d["lens"]["radial"],
        "notes": d["notes"],
        "size": [d["image"]["width"], d["image"]["height"]],
        "coverage": d.get("coverage"),
    }


def _typed(profile: Profile) -> dict[str, list[float]]:
    """Return the values of a profile that can be typed, each with its sigma; focal length apart."""
    lens = profile.lens
    values = {name: float(lens.coefficients[INDEX[name]]) for name in typed_names(lens.model) if name in INDEX}
    values |= {"cx": lens.principal_px[0], "cy": lens.principal_px[1]}
    return {name: [value, profile.sigma.get(name, 0.0)] for name, value in values.items()}


def plate_facts(number: int):
    """Return the few columns of a shot's plate that are asked for at every step of a drag."""
    with open_session() as opened:
        columns = (Plate.first, Plate.width, Plate.height, Plate.pixel_aspect, Plate.sensor_width_mm, Plate.focal_mm)
        return opened.execute(select(*columns).where(Plate.shot_id == number)).one_or_none() or abort(404)


def lens_order(plate: Plate, asked: dict) -> LensOrder:
    """Return what lines are asked to tell, from what the page sends."""
    wanted = Sent(asked).part("wanted")
    model, radial = wanted.word("model", "radial"), wanted.whole("radial", 2)
    if model not in ("radial", "division") or not 0 <= radial <= 3:
        raise LensError("Choose one to three radial coefficients, or the division model.")
    focal, state = plate.focal_mm, str(asked.get("focal_state", UNKNOWN))
    known = focal * plate.width / plate.sensor_width_mm if focal and state == KNOWN else None
    return LensOrder(
        plate.width, plate.height, plate.pixel_aspect, known, 0.0, model, radial, bool(wanted.get("tangential", False))
    )


@blueprint.post("/shots/<int:number>/lens/fit")
def fit(number: int):
    """Tell the lens that lines tell, kept or not; `quick` starts from the last answer, while a line is dragged."""
    asked = sent()
    before, plate = _last.get(number, (None, None)) if asked.get("quick") else (None, None)
    plate = plate or plate_facts(number)
    frame, lines = asked.whole("frame", plate.first), _lines_of(asked)
    boxes, order = boxes_of(lines, frame), lens_order(plate, asked)
    try:
        drawn = read_lines(line_rows(lines), plate.width, plate.height)
        found = fit_lens(drawn, order, before)
    except LensError as error:
        if not boxes:
            raise
        return jsonify(
            trouble=BOX_HINT if sum(all(d.get("set", [True])) for d in lines.values()) < 2 else str(error),
            boxes=_settled(number, boxes, plate, None, frame),
        )
    _last[number] = found, plate
    place, trouble = camera_placed(found, drawn, asked.part("measured"), asked.part("origin"))
    answer = _seen(found, drawn, plate, frame, bool(asked.get("grid", True)), bool(asked.get("quick")), place)
    answer["boxes"] = _settled(number, boxes, plate, found, frame)
    answer["place"] = place[1] if place else {"trouble": trouble} if trouble else None
    if not asked.get("quick"):
        test = centre_test(drawn, order, found)
        answer["centre"] = [test[0].tolist(), test[1].tolist()] if test else None
    return jsonify(answer)


def _settled(number: int, boxes: dict, plate: Plate, found: LensFit | None, frame: int) -> dict:
    """Return the corners of boxes on a frame, those not dragged yet where the others put them."""
    known = found is not None and found.focal_known and frame in found.rotations
    answer = {}
    for name, (corners, dragged) in boxes.items():
        pose = (
            BoxPose(found.lens, found.rotations[frame])
            if known
            else _poses.get((number, name)) or guessed_pose(plate.width, plate.height, plate.pixel_aspect)
        )
        settled, _poses[number, name] = settle_box(corners, dragged, pose, known)
        answer[name] = settled.round(2).tolist()
    return answer


@blueprint.post("/shots/<int:number>/lens/box")
def box(number: int):
    """Put a new box under a drag from a corner on the floor to the opposite one on top; it runs along what the lines
    tell.
    """
    asked = sent()
    plate, frame, lines = plate_facts(number), asked.whole("frame"), _lines_of(asked)
    pose = guessed_pose(plate.width, plate.height, plate.pixel_aspect)
    try:
        found = fit_lens(read_lines(line_rows(lines), plate.width, plate.height), lens_order(plate, asked))
        if found.focal_known and frame in found.rotations:
            pose = BoxPose(found.lens, found.rotations[frame])
    except LensError:
        pass  # no lens yet: the box tells it
    corners = new_box(pose, _pixel(asked["from"]), _pixel(asked["to"]))
    used = {line.get("box") for line in lines.values()}
    name = next(f"Box {k}" for k in range(1, len(used) + 2) if f"Box {k}" not in used)
    _poses[number, name] = pose
    return jsonify(name=name, lines=box_lines(name, frame, corners, np.zeros(8, bool)))


def _lines_of(asked: Sent) -> dict:
    """Return the drawn lines that a page sent, by name; raises LensError for an edge that is none."""
    lines = asked.part("lines")
    for name, line in lines.items():
        _check_edge(as_object(line, name))
    return lines


def _points(given) -> np.ndarray:
    """Return what a page sent as an array of numbers, empty where it is none."""
    try:
        return np.array(given if isinstance(given, list) else [], float)
    except (TypeError, ValueError):
        return np.zeros(0)


def _pixel(given) -> np.ndarray:
    point = _points(given)
    if point.shape != (2,) or not np.isfinite(point).all():
        raise LensError("That is no place on the picture.")
    return point


@blueprint.post("/shots/<int:number>/lens/hand")
def by_hand(number: int):
    """Show lines and grid through a lens whose k1 is turned by hand."""
    asked = sent()
    plate = plate_facts(number)
    focal = plate.focal_mm * plate.width / plate.sensor_width_mm if plate.focal_mm else float(plate.width)
    lens = Lens.centred(plate.width, plate.height, focal, asked.number("k1"), plate.pixel_aspect)
    check_lens(lens)
    lines = _lines_of(asked)
    drawn = read_lines(line_rows(lines), plate.width, plate.height) if lines else []
    held = LensFit(lens, plate.focal_mm is not None, 0.0, {"k1": 0.0}, {}, {}, straightness(drawn, lens))
    return jsonify(_seen(held, drawn, plate, asked.whole("frame", plate.first)))


def camera_placed(
    found: LensFit, drawn: list, measured: dict | None, origin: dict | None
) -> tuple[tuple[int, dict] | None, str]:
    """Return the frame and the camera's place there as the page shows it, from a measured axis line and an origin; or
    None and why not.
    """
    line = next((d for d in drawn if measured and d.name == measured.get("line")), None)
    if line is None:
        return None, ""
    try:
        metres = length_mm(measured.get("length", ""), 1e6, "m") / 1000.0
        return (line.frame, _placed(camera_place(found, line, metres, origin_pixel(origin, drawn, line.frame)))), ""
    except LensError as error:
        return None, str(error)


def _placed(place: CameraPlace) -> dict:
    return {
        "xyz": place.xyz.tolist(),
        "sigma": place.sigma.tolist(),
        "distance": place.distance,
        "distance_sigma": place.distance_sigma,
        "cell_m": floor_cell(place.distance),
    }


def origin_pixel(origin: dict | None, drawn: list, frame: int) -> np.ndarray | None:
    """Return where the stated origin lies on a frame: a place on the picture, or the end of a line; None where it is
    stated on no such frame.
    """
    if not origin:
        return None
    if origin.get("line"):
        line = next((d for d in drawn if d.name == origin["line"] and d.frame == frame), None)
        return None if line is None else line.points[-1 if origin.get("end") else 0]
    return _pixel(origin.get("point")) if whole(origin.get("frame", frame), "frame") == frame else None


def line_rows(lines: dict) -> list[dict]:
    """Return drawn lines by name as rows; edges of one box share their corners, so each says less than a line alone."""
    return [
        {**line, "name": name, **({"sigma": DRAWN_SIGMA_PX * SHARED} if line.get("box") else {})}
        for name, line in lines.items()
    ]


def _seen(
    found: LensFit,
    drawn,
    plate: Plate,
    frame: int,
    grid: bool = True,
    quick: bool = False,
    place: tuple[int, dict] | None = None,
) -> dict:
    """Return what the page shows of a fit on a frame; `quick` leaves away what a drag does not need.

    `place` is the camera's, by frame.
    """
    lens, mm = found.lens, plate.sensor_width_mm / plate.width
    here = [d for d in drawn if d.frame == frame]
    ends = np.cumsum([len(d.points) for d in here])[:-1]
    straight = np.split(straight_px(lens, np.concatenate([d.points for d in here])), ends) if here and not quick else []
    turned = found.rotations.get(frame)
    answer = {
        "focal_px": lens.focal_px[0],
        "focal_mm": lens.focal_px[0] * mm,
        "focal_sigma_mm": found.focal_sigma_px * mm,
        "focal_known": found.focal_known,
        "values": found.values,
        "lines": {r.name: {"before": r.before_px, "after": r.after_px, "disagrees": r.disagrees} for r in found.lines},
        "bent": {d.name: b.round(2).tolist() for d, b in zip(here, bent_lines(lens, [d.points for d in here], 16))},
        "straight": {d.name: p.round(2).tolist() for d, p in zip(here, straight)},
        "notes": found.notes,
        "noise_px": found.noise_px,
        "lens": profile_document(profile_from_lines(found))["lens"],
        "grid": [g.round(1).tolist() for g in bent_grid(lens, steps=12)] if grid else [],
    }
    if turned is not None and found.rotation_sigma[frame].max() < TURN_WORTH:
        roll, tilt = horizon_angles(turned)
        answer |= {
            "horizon": horizon(lens, turned).round(1).tolist(),
            "vanishing": vanishing_points(lens, turned),
            "roll": float(np.degrees(roll)),
            "tilt": float(np.degrees(tilt)),
            "angle_sigma": float(np.degrees(found.rotation_sigma[frame][:2].max())),
            "floor": [
                g.round(1).tolist() for g in _floor(lens, turned, place[1] if place and place[0] == frame else None)
            ],
        }
        if not quick:
            answer |= {f"straight_{name}": _straight(lens, answer[name]) for name in ("floor", "horizon")}
    return answer


def _straight(lens: Lens, places: list) -> list:
    """Return strokes, or one, as the straightened plate shows them."""
    if not places or isinstance(places[0][0], list):
        return [_straight(lens, stroke) for stroke in places]
    return straight_px(lens, np.array(places)).round(1).tolist()


def _floor(lens: Lens, turned: np.ndarray, place: dict | None) -> list[np.ndarray]:
    """Return the floor grid: about the origin in metres where the camera is placed, else in front of it without a
    scale.
    """
    if place is not None:
        return floor_grid(lens, turned, -np.array(place["xyz"]), place["cell_m"], 5)
    ahead = floor_ahead(lens, turned, np.array([0.5 * lens.width, 0.85 * lens.height]))
    return floor_grid(lens, turned, *ahead) if ahead else []


@blueprint.post("/shots/<int:number>/lens/snap")
def snapped(number: int):
    """Put points onto the picture's edges: a whole edge between two ends, or one point of a line."""
    asked = sent()
    with open_session() as opened:
        row = get_shot(opened, number).plate
    gray = _gray(row, asked.whole("frame"))
    points = _points(asked.items_of("points"))
    if points.ndim != 2 or points.shape[1] != 2 or len(points) < 2 or not np.isfinite(points).all():
        raise LensError("A line needs two points or more.")
    if asked.get("point") is None:
        return jsonify(points=find_edge(gray, points[0], points[-1]).round(3).tolist())
    k = asked.whole("point")
    if not 0 <= k < len(points):
        raise LensError("The line has no such point.")
    points[k] = snap(gray, points, k)
    return jsonify(points=points.round(3).tolist())


def _gray(row: Plate, frame: int) -> np.ndarray:
    if not row.first <= frame <= row.last:
        raise PlateError(f"The plate has no frame {frame}.")
    return to_gray(plate_picture(row.source, row.first, row.last, frame))


@lru_cache(maxsize=6)
def plate_picture(source: str, first: int, last: int, frame: int) -> np.ndarray:
    """Return a frame of a plate, a few of them kept."""
    from amberkeel.core.plate.plate import open_plate

    return open_plate(source, (first, last)).read(frame)


@blueprint.post("/shots/<int:number>/lens/edit")
def edit(number: int):
    """Change lines, what is wanted, or the camera's facts."""
    asked = sent()
    with open_session() as opened:
        shot = get_shot(opened, number)
        payload = {"label": str(asked.get("label", "Change the lens"))[:200], "lines": {}, "values": {}, "plate": {}}
        for name, line in asked.part("lines").items():
            if line is not None:
                as_object(line, name)
                read_lines([{**line, "name": name}], shot.plate.width, shot.plate.height)
                _check_edge(line)
                line = {k: line[k] for k in LINE_KEYS if k in line}
            payload["lines"][str(name)[:40]] = line
        if "wanted" in asked:
            payload["values"]["wanted"] = {
                k: v for k, v in asked.part("wanted").items() if k in ("model", "radial", "tangential")
            }
            lens_order(shot.plate, {"wanted": payload["values"]["wanted"]})
        for key, read in (("origin", _read_origin), ("measured", _read_measured)):
            if key in asked:
                payload["values"][key] = read(asked.part(key)) if asked[key] else None
        if "facts" in asked:
            fill_camera(shot, asked.part("facts"), payload)
        edits.apply(opened, number, "lens", payload, asked.get("revision"))
        return jsonify(shot_state(opened, shot))


def _check_edge(line: dict) -> None:
    """Raise LensError where a line says that it is a box's edge, and is none."""
    ends, fixed = line.get("ends"), line.get("set")
    if "box" in line and not (
        ends in [[a, b] for a, b, _ in EDGES]
        and isinstance(fixed, list)
        and [type(f) for f in fixed] == [bool, bool]
        and 0 < len(str(line["box"])) <= 20
    ):
        raise LensError("That is no edge of a box.")


def _read_origin(given: Sent) -> dict:
    """Return a stated origin as it is kept: a line's end, or a place on a frame."""
    if given.get("line"):
        return {"line": str(given["line"])[:40], "end": 1 if given.get("end") else 0}
    return {"frame": given.whole("frame"), "point": _pixel(given.get("point")).tolist()}


def _read_measured(given: Sent) -> dict:
    """Return a measured line as it is kept; raises LensError for a length that is none."""
    length_mm(given.get("length", ""), 1e6, "m")
    return {"line": str(given.get("line", ""))[:40], "length": str(given["length"])[:40]}
