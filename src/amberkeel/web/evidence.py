"""What is known of the set and of the camera's path: constraints stated on selected tracks and chosen frames."""

from collections.abc import Callable

import numpy as np
from flask import Blueprint, jsonify, request

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.camera_paths import read_camera_path
from amberkeel.core.lens.drawn import read_lines
from amberkeel.core.solve.evidence.statement import PATH_PRESETS, constraint_documents, read_constraints
from amberkeel.core.solve.evidence.survey_table import SurveyRow, matched, survey_rows
from amberkeel.core.units import maybe_number, typed_length, typed_number
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.solve import document_of, path_of, points_of
from amberkeel.store.ties import document_of_set, set_row
from amberkeel.store.tracks import live_tracks
from amberkeel.web.common import media, open_session, shot_to_change
from amberkeel.web.lens.lines import line_rows
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.uploads import uploaded

blueprint = Blueprint("evidence", __name__)

MOST_PATH_BYTES = 64 << 20
"""Bytes of a camera path that are read."""

ANCHOR_SIGMA = 0.01
"""One sigma of an anchored point where none is typed, metres."""


class Stated(Body):
    """A constraint as it is typed: what kind, of which tracks or frames, and its figures as texts."""

    kind: Word = ""
    name: Word = ""
    tracks: list[Whole] = []
    frames: list[Whole] = []
    length: Word = ""
    unit: Word = "m"
    sigma: Word = ""
    x: Word = ""
    y: Word = ""
    z: Word = ""
    planes: list[Word] = []
    preset: Word = ""
    attempt: Whole = 0
    exact: Flag = False


class Survey(Body):
    """Coordinates of many tracks: a table and its unit, or the points of the shot's set; the tracks that are selected,
    for a table without names.
    """

    table: Word = ""
    unit: Word = "m"
    sigma: Word = ""
    tracks: list[Whole] = []
    exact: Flag = False
    of_set: Flag = False


class Changed(Body):
    """A constraint by its number in the list, and what becomes of it: on or off, exact or not, or gone."""

    number: Whole
    on: Flag | None = None
    exact: Flag | None = None
    remove: Flag = False


@blueprint.post("/shots/<int:number>/constraints")
def state_constraint(number: int):
    """Add what is known to the shot's constraints."""
    asked = sent(Stated)
    if asked.kind not in KINDS:
        raise KeelError(f"There is no constraint “{asked.kind}”.")
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        _check_tracks(opened, shot, asked.tracks)
        rows, label = KINDS[asked.kind](asked, opened, shot)
        frames = _frames(shot, asked.frames)
        for row in rows:
            row |= (
                {"exact": asked.exact, "name": _name(asked, shot, len(shot.constraints))} if "name" not in row else {}
            )
            if frames and row["kind"] in ("camera-height", "camera-on", "smooth"):
                row["frames"] = frames
        kept = constraint_documents(read_constraints([*shot.constraints, *rows]))
        return edited(opened, number, "constraints", {"constraints": kept, "label": label}, asked.revision)


@blueprint.post("/shots/<int:number>/constraints/survey")
def state_survey(number: int):
    """Anchor many tracks at once: a table, or those points of the shot's set that are called like tracks."""
    asked = sent(Survey)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        _check_tracks(opened, shot, asked.tracks)
        tracks = sorted(live_tracks(opened, shot), key=lambda track: track.id)
        usual = typed_length(asked.sigma, "The sigma", asked.unit) if asked.sigma.strip() else ANCHOR_SIGMA
        rows = _set_rows(opened, shot) if asked.of_set else survey_rows(asked.table, asked.unit)
        if rows[0].name:
            found, missed = matched(rows, [track.name for track in tracks])
            pairs = [(row, tracks[k]) for row, k in zip(rows, found) if k is not None]
        else:
            chosen, missed = [track for track in tracks if track.id in set(asked.tracks)], []
            if len(chosen) != len(rows):
                raise KeelError(
                    f"The table has {len(rows)} points without names, and {len(chosen)} tracks are selected.",
                    "Select as many, in the order in which they were made, or name the points as the tracks are.",
                )
            pairs = list(zip(rows, chosen))
        if not pairs:
            raise KeelError(
                f"No track is called {', '.join(missed[:3])}{' …' if len(missed) > 3 else ''}.",
                "Name the tracks as the points are: R in Tracks.",
            )
        anchors = [
            {"kind": "anchor", "tie": False, "track": track.id, "name": f"{track.name} surveyed", "xyz": list(row.xyz),
             "sigma": row.sigma or usual, "exact": asked.exact}
            for row, track in pairs
        ]  # fmt: skip
        own = {anchor["track"] for anchor in anchors}
        others = [
            one for one in shot.constraints if one["kind"] != "anchor" or one.get("tie") or one["track"] not in own
        ]
        kept = constraint_documents(read_constraints([*others, *anchors]))
        label = f"Anchor {len(anchors)} surveyed track{'s' if len(anchors) > 1 else ''}"
        answer = edited(opened, number, "constraints", {"constraints": kept, "label": label}, asked.revision)
        return jsonify({**answer.get_json(), "said": _anchored(len(anchors), missed)})


def _anchored(count: int, missed: list[str]) -> str:
    said = f"{count} track{'s are' if count > 1 else ' is'} anchored."
    if not missed:
        return said
    names = ", ".join(missed[:4]) + (f" and {len(missed) - 4} more" if len(missed) > 4 else "")
    return f"{said} No track is called {names}."


def _set_rows(opened, shot: Shot) -> list[SurveyRow]:
    """Return the points of the set that a shot is tied to; raises KeelError where there is none."""
    number = (shot.ties or {}).get("set")
    if not number:
        raise KeelError("This shot is tied to no set.", "Bring one in Ties, or paste a table.")
    points = document_of_set(set_row(opened, number)).points
    if not points:
        raise KeelError("The shot’s set has no points.")
    return [SurveyRow(p.name, p.xyz, max(p.sigma) if p.sigma else None) for p in points]


@blueprint.post("/shots/<int:number>/constraints/path")
def hold_path(number: int):
    """Hold the camera to the path of a file, over the chosen frames or all."""
    sent_file = uploaded("a file with a camera path: a table (.csv) or USD", MOST_PATH_BYTES)
    path = read_camera_path(sent_file.name, sent_file.data)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        first, last = (request.form.get(key, type=int) for key in ("first", "last"))
        low, high = first or shot.plate.first, last or shot.plate.last
        stem = sent_file.stem[:80]
        taken = {row["name"] for row in shot.constraints}
        name = next(n for n in (stem, *(f"{stem} {k}" for k in range(2, 300))) if n not in taken)
        held = path.hold(name, low, high)
        kept = constraint_documents([*read_constraints(shot.constraints), held])
        label = f"Hold frames {held.frames[0]}–{held.frames[-1]} to {name}"
        revision = request.form.get("revision", type=int)
        return edited(opened, number, "constraints", {"constraints": kept, "label": label}, revision)


@blueprint.post("/shots/<int:number>/constraints/change")
def change_constraint(number: int):
    """Switch a constraint on or off, hold it exactly or not, or remove it."""
    asked = sent(Changed)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        if not 0 <= asked.number < len(shot.constraints):
            raise KeelError("There is no such constraint.", "The page shows the newest list now.")
        kept = [dict(row) for row in shot.constraints]
        row = kept[asked.number]
        if asked.remove:
            del kept[asked.number]
            label = f"Remove “{row['name']}”"
        else:
            changed = {"on": asked.on, "exact": asked.exact}
            kept[asked.number] = row | {key: value for key, value in changed.items() if value is not None}
            label = f"Change “{row['name']}”"
        return edited(opened, number, "constraints", {"constraints": kept, "label": label}, asked.revision)


def _name(asked: Stated, shot: Shot, count: int) -> str:
    """Return the name as it was typed, or the next free one of its kind."""
    taken = {row["name"] for row in shot.constraints}
    if asked.name.strip():
        if asked.name.strip() in taken:
            raise KeelError(f"There is a constraint “{asked.name.strip()}” already.", "Give another name.")
        return asked.name.strip()[:100]
    usual = NAMES.get(asked.kind, asked.kind)
    return next(f"{usual} {k}" for k in range(1, count + 2) if f"{usual} {k}" not in taken)


def _check_tracks(opened, shot: Shot, ids: list[int]) -> None:
    live = {track.id for track in live_tracks(opened, shot)}
    if not set(ids) <= live:
        raise KeelError("A selected track is not there any more.", "Select again.")


def _frames(shot: Shot, given: list[int]) -> list[int] | None:
    if not given:
        return None
    if len(given) != 2 or given[0] > given[1]:
        raise KeelError("A range of frames has a first and a last one.")
    return given


def _sigma(asked: Stated) -> dict:
    """Return the sigma in metres where one was typed."""
    return {"sigma": typed_length(asked.sigma, "The sigma", asked.unit)} if asked.sigma.strip() else {}


def _need(asked: Stated, count: int, what: str, exactly: bool = False) -> None:
    if len(asked.tracks) < count or exactly and len(asked.tracks) != count:
        raise KeelError(f"{what}, and {len(asked.tracks)} are selected.", "Select them on the plate or in the list.")


def _distance(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    _need(asked, 2, "A distance needs two tracks", exactly=True)
    metres = typed_length(asked.length, "The distance", asked.unit)
    row = {"kind": "distance", "tracks": asked.tracks, "length": metres, "sigma": max(1e-3, 0.005 * metres)}
    return [row | _sigma(asked)], f"Distance {asked.length} {asked.unit}"


def _plane(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    _need(asked, 3, "A plane needs three tracks")
    return [{"kind": "plane", "tracks": asked.tracks} | _sigma(asked)], f"Plane through {len(asked.tracks)} tracks"


def _level(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    _need(asked, 3, "Level ground needs three tracks")
    row = {"kind": "plane", "tracks": asked.tracks, "normal": "up"}
    if asked.length.strip():
        row["offset"] = (
            typed_number(asked.length, "The height")
            if asked.unit == "m"
            else typed_length(asked.length, "The height", asked.unit)
        )
    return [row | _sigma(asked)], f"{len(asked.tracks)} tracks at one height"


def _line(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    _need(asked, 3, "A line needs three tracks")
    return [{"kind": "line", "tracks": asked.tracks} | _sigma(asked)], f"Line through {len(asked.tracks)} tracks"


def _anchor(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    _need(asked, 1, "An anchored point is one track", exactly=True)
    xyz = [maybe_number(v, axis) for v, axis in ((asked.x, "X"), (asked.y, "Y"), (asked.z, "Z"))]
    if xyz == [None] * 3:
        raise KeelError("Type at least one of X, Y and Z, in metres.")
    return [{"kind": "anchor", "tie": False, "track": asked.tracks[0], "xyz": xyz} | _sigma(asked)], "Anchor a point"


def _copied(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    """Anchor the selected tracks where another attempt has them."""
    _need(asked, 1, "Choose the tracks to anchor")
    attempt = _attempt(asked, opened, shot)
    points, document = points_of(media(), attempt), document_of(media(), attempt)
    sure = {p["id"]: p.get("sigma_along") for p in document["points"]}
    names = {track.id: track.name for track in live_tracks(opened, shot)}
    rows = []
    for track in asked.tracks:
        xyz = points.position(track)
        if xyz is None:
            raise KeelError(f"Track {names[track]} has no point in attempt {attempt.number}.", "Leave it out.")
        sigma = _sigma(asked).get("sigma") or sure.get(track) or ANCHOR_SIGMA
        name = f"{names[track]} as in attempt {attempt.number}"
        rows.append({"kind": "anchor", "tie": False, "track": track, "xyz": xyz.tolist(), "sigma": sigma, "name": name})
    taken = {row["name"] for row in shot.constraints}
    return [
        row for row in rows if row["name"] not in taken
    ], f"Anchor {len(rows)} tracks as in attempt {attempt.number}"


def _square(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    relation = "parallel" if asked.kind == "parallel" else "square"
    return [{"kind": "angle", "planes": asked.planes, "relation": relation}], f"Planes {relation}"


def _height(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    metres = typed_length(asked.length, "The camera's height", asked.unit)
    return [{"kind": "camera-height", "height": metres} | _sigma(asked)], f"Camera height {asked.length} {asked.unit}"


def _stays(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    shape = {"camera-rail": "line", "camera-plane": "plane", "camera-spot": "spot"}[asked.kind]
    return [{"kind": "camera-on", "shape": shape} | _sigma(asked)], f"Camera on a {shape}"


def _smooth(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    if asked.preset in PATH_PRESETS:
        position, rotation = PATH_PRESETS[asked.preset]
    else:
        position = typed_number(asked.length, "The acceleration, m/s²", 1e-4, 1e4)
        rotation = maybe_number(asked.sigma, "The angular acceleration, °/s²", 1e-3, 1e5)
    return [{"kind": "smooth", "position": position, "rotation": rotation}], "Smooth path"


def _hold(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    """Hold the camera where another attempt has it, over the chosen frames."""
    attempt = _attempt(asked, opened, shot)
    path = path_of(media(), attempt)
    low, high = asked.frames or (int(path.frames[0]), int(path.frames[-1]))
    chosen = np.nonzero((path.frames >= low) & (path.frames <= high))[0]
    if not len(chosen):
        raise KeelError(f"Attempt {attempt.number} has no camera on frames {low}–{high}.")
    row = {
        "kind": "hold",
        "frames": path.frames[chosen].tolist(),
        "positions": path.positions[chosen].tolist(),
        "rotations": path.world_from_camera[chosen].tolist(),
    }
    return [row | _sigma(asked)], f"Hold frames {low}–{high} as in attempt {attempt.number}"


def _attempt(asked: Stated, opened, shot: Shot) -> Attempt:
    attempt = opened.get(Attempt, asked.attempt)
    if attempt is None or attempt.shot_id != shot.id:
        raise KeelError("Choose an attempt of this shot.")
    return attempt


def _axes(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    """Take the axis lines of the lens stage over, as they are drawn now."""
    drawn = read_lines(line_rows(shot.lens.get("lines", {})), shot.plate.width, shot.plate.height)
    lines = [
        {"frame": line.frame, "axis": line.axis, "ends": [line.points[0].tolist(), line.points[-1].tolist()]}
        for line in drawn
        if line.axis
    ]
    if not lines:
        raise KeelError("No line of the lens stage says along which axis it runs.", "Draw axis lines there first.")
    sigma = maybe_number(asked.sigma, "The sigma in pixels", 0.01, 50.0)
    row = {"kind": "axis-lines", "lines": lines} | ({"sigma_px": sigma} if sigma else {})
    return [row], f"{len(lines)} axis lines"


def _radius(asked: Stated, opened, shot: Shot) -> tuple[list[dict], str]:
    metres = typed_length(asked.length, "The radius", asked.unit)
    row = {"kind": "swing-radius", "length": metres, "sigma": max(1e-3, 0.05 * metres)}
    return [row | _sigma(asked)], f"Swing radius {asked.length} {asked.unit}"


KINDS: dict[str, Callable] = {
    "distance": _distance,
    "plane": _plane,
    "level": _level,
    "line": _line,
    "anchor": _anchor,
    "copied": _copied,
    "square": _square,
    "parallel": _square,
    "camera-height": _height,
    "camera-rail": _stays,
    "camera-plane": _stays,
    "camera-spot": _stays,
    "smooth": _smooth,
    "hold": _hold,
    "axes": _axes,
    "swing-radius": _radius,
}
"""How what is typed becomes constraints. A new kind is a function and a line here, and a line in the template."""

NAMES = {
    "distance": "Distance",
    "plane": "Plane",
    "level": "Level ground",
    "line": "Line",
    "anchor": "Known point",
    "square": "Square planes",
    "parallel": "Parallel planes",
    "camera-height": "Camera height",
    "camera-rail": "Camera on a rail",
    "camera-plane": "Camera on a plane",
    "camera-spot": "Camera at one spot",
    "smooth": "Smooth path",
    "hold": "Held path",
    "axes": "Axis lines",
    "swing-radius": "Swing radius",
}
