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
from amberkeel.core.lens.camera_position import camera_position
from amberkeel.core.lens.drawn import DRAWN_SIGMA_PX, LensOrder, read_lines
from amberkeel.core.lens.edges import find_edge, snap
from amberkeel.core.lens.fit import LensFit, centre_test, fit_lens, straightness
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import check_lens, read_profile, typed_names
from amberkeel.core.lens.sensor import length_mm
from amberkeel.core.pictures.read import to_gray
from amberkeel.jobs.lens import straightened_folder
from amberkeel.store.lens import KNOWN, UNKNOWN
from amberkeel.store.models import Attempt, LensProfile, Plate, Shot
from amberkeel.web.common import get_shot, open_session, shot_to_change
from amberkeel.web.lens.blueprint import blueprint
from amberkeel.web.lens.bodies import ChangedLens, Fitting, Measured, NewBox, Origin, Snapped, Turned, Wanted
from amberkeel.web.lens.camera import camera_facts_of, fill_camera
from amberkeel.web.lens.seen import seen, shown_position
from amberkeel.web.sent import sent
from amberkeel.web.state import edited

LINE_KEYS = ("frame", "axis", "points", "sigma", "box", "ends", "set")
"""What is kept of a drawn line."""

BOX_HINT = "Drag the box's corners onto corners of the set: an edge counts once both of its ends were dragged."

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
        "readout": d.get("readout"),
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


def lens_order(plate: Plate, wanted: Wanted, state: str) -> LensOrder:
    """Return what lines are asked to tell; `state` says whether the plate's focal length is known."""
    model, radial = wanted.model, wanted.radial
    if model not in ("radial", "division") or not 0 <= radial <= 3:
        raise LensError("Choose one to three radial coefficients, or the division model.")
    focal = plate.focal_mm
    known = focal * plate.width / plate.sensor_width_mm if focal and state == KNOWN else None
    return LensOrder(plate.width, plate.height, plate.pixel_aspect, known, 0.0, model, radial, wanted.tangential)


@blueprint.post("/shots/<int:number>/lens/fit")
def fit(number: int):
    """Tell the lens that lines tell, kept or not; `quick` starts from the last answer, while a line is dragged."""
    asked = sent(Fitting)
    before, plate = _last.get(number, (None, None)) if asked.quick else (None, None)
    plate = plate or plate_facts(number)
    frame = plate.first if asked.frame is None else asked.frame
    lines = _checked(asked.lines)
    boxes, order = boxes_of(lines, frame), lens_order(plate, asked.wanted, asked.focal_state)
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
    position, trouble = camera_from_line(found, drawn, asked.measured, asked.origin)
    answer = seen(found, drawn, plate, frame, asked.grid, asked.quick, position)
    answer["boxes"] = _settled(number, boxes, plate, found, frame)
    answer["place"] = position[1] if position else {"trouble": trouble} if trouble else None
    if not asked.quick:
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
    asked = sent(NewBox)
    plate, frame, lines = plate_facts(number), asked.frame, _checked(asked.lines)
    pose = guessed_pose(plate.width, plate.height, plate.pixel_aspect)
    try:
        found = fit_lens(
            read_lines(line_rows(lines), plate.width, plate.height), lens_order(plate, asked.wanted, asked.focal_state)
        )
        if found.focal_known and frame in found.rotations:
            pose = BoxPose(found.lens, found.rotations[frame])
    except LensError:
        pass  # no lens yet: the box tells it
    corners = new_box(pose, _pixel(asked.start), _pixel(asked.to))
    used = {line.get("box") for line in lines.values()}
    name = next(f"Box {k}" for k in range(1, len(used) + 2) if f"Box {k}" not in used)
    _poses[number, name] = pose
    return jsonify(name=name, lines=box_lines(name, frame, corners, np.zeros(8, bool)))


def _checked(lines: dict[str, dict]) -> dict[str, dict]:
    """Return drawn lines by name; raises LensError for an edge of a box that is none."""
    for line in lines.values():
        _check_edge(line)
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
    asked = sent(Turned)
    plate = plate_facts(number)
    focal = plate.focal_mm * plate.width / plate.sensor_width_mm if plate.focal_mm else float(plate.width)
    lens = Lens.centred(plate.width, plate.height, focal, asked.k1, plate.pixel_aspect)
    check_lens(lens)
    lines = _checked(asked.lines)
    drawn = read_lines(line_rows(lines), plate.width, plate.height) if lines else []
    held = LensFit(lens, plate.focal_mm is not None, 0.0, {"k1": 0.0}, {}, {}, straightness(drawn, lens))
    return jsonify(seen(held, drawn, plate, plate.first if asked.frame is None else asked.frame))


def camera_from_line(
    found: LensFit, drawn: list, measured: Measured | None, origin: Origin | None
) -> tuple[tuple[int, dict] | None, str]:
    """Return the frame and the camera's position there as the page shows it, from a measured axis line and an origin;
    or None and why not.
    """
    line = next((d for d in drawn if measured and d.name == measured.line), None)
    if line is None or measured is None:
        return None, ""
    try:
        metres = length_mm(measured.length, 1e6, "m") / 1000.0
        return (
            line.frame,
            shown_position(camera_position(found, line, metres, origin_pixel(origin, drawn, line.frame))),
        ), ""
    except LensError as error:
        return None, str(error)


def stated(kept: dict) -> tuple[Measured | None, Origin | None]:
    """Return the measured line and the origin that a shot keeps."""
    measured, origin = kept.get("measured"), kept.get("origin")
    return measured and Measured.model_validate(measured), origin and Origin.model_validate(origin)


def origin_pixel(origin: Origin | None, drawn: list, frame: int) -> np.ndarray | None:
    """Return where the stated origin lies on a frame: a pixel of the picture, or the end of a line; None where it is
    stated on no such frame.
    """
    if not origin:
        return None
    if origin.line:
        line = next((d for d in drawn if d.name == origin.line and d.frame == frame), None)
        return None if line is None else line.points[-1 if origin.end else 0]
    return _pixel(origin.point) if origin.frame in (None, frame) else None


def line_rows(lines: dict) -> list[dict]:
    """Return drawn lines by name as rows; edges of one box share their corners, so each says less than a line alone."""
    return [
        {**line, "name": name, **({"sigma": DRAWN_SIGMA_PX * SHARED} if line.get("box") else {})}
        for name, line in lines.items()
    ]


@blueprint.post("/shots/<int:number>/lens/snap")
def snapped(number: int):
    """Put points onto the picture's edges: a whole edge between two ends, or one point of a line."""
    asked = sent(Snapped)
    with open_session() as opened:
        row = get_shot(opened, number).plate
    gray = _gray(row, asked.frame)
    points = _points(asked.points)
    if points.ndim != 2 or points.shape[1] != 2 or len(points) < 2 or not np.isfinite(points).all():
        raise LensError("A line needs two points or more.")
    if asked.point is None:
        return jsonify(points=find_edge(gray, points[0], points[-1]).round(3).tolist())
    k = asked.point
    if not 0 <= k < len(points):
        raise LensError("The line has no such point.")
    points[k] = snap(gray, points, k)
    return jsonify(points=points.round(3).tolist())


def _gray(row: Plate, frame: int) -> np.ndarray:
    if not row.first <= frame <= row.last:
        raise PlateError(f"The plate has no frame {frame}.")
    return to_gray(plate_picture(row.source, row.first, row.last, row.encoding, frame))


@lru_cache(maxsize=6)
def plate_picture(source: str, first: int, last: int, encoding: str, frame: int) -> np.ndarray:
    """Return a frame of a plate, a few of them kept."""
    from amberkeel.core.plate.plate import open_plate

    return open_plate(source, (first, last), encoding).read(frame)


@blueprint.post("/shots/<int:number>/lens/edit")
def edit(number: int):
    """Change lines, what is wanted, or the camera's facts."""
    asked = sent(ChangedLens)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        payload = {"label": asked.label[:200], "lines": {}, "values": {}, "plate": {}}
        for name, line in asked.lines.items():
            if line is not None:
                read_lines([{**line, "name": name}], shot.plate.width, shot.plate.height)
                _check_edge(line)
                line = {k: line[k] for k in LINE_KEYS if k in line}
            payload["lines"][name[:40]] = line
        if asked.wanted is not None:
            lens_order(shot.plate, asked.wanted, UNKNOWN)
            payload["values"]["wanted"] = asked.wanted.model_dump(exclude={"revision"}, exclude_unset=True)
        for key, kept in (("origin", _kept_origin), ("measured", _kept_measured)):
            if asked.says(key):
                value = getattr(asked, key)
                payload["values"][key] = None if value is None else kept(value)
        if asked.facts is not None:
            fill_camera(shot, asked.facts, payload)
        return edited(opened, number, "lens", payload, asked.revision)


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


def _kept_origin(given: Origin) -> dict:
    """Return a stated origin as it is kept: a line's end, or a pixel of a frame."""
    if given.line:
        return {"line": given.line[:40], "end": int(given.end)}
    return {"frame": given.need("frame"), "point": _pixel(given.point).tolist()}


def _kept_measured(given: Measured) -> dict:
    """Return a measured line as it is kept; raises LensError for a length that is none."""
    length_mm(given.length, 1e6, "m")
    return {"line": given.line[:40], "length": given.length[:40]}
