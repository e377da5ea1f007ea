"""The solve stage: solves started, attempts with their residuals, two attempts side by side."""

import numpy as np
from flask import (
    Blueprint,
    abort,
    jsonify,
    render_template,
    request,
)

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.document import document_in_world, read_path
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.handoff.wording import NOT_CHECKED, sentence
from amberkeel.core.solve.folds import check_folds
from amberkeel.core.solve.lens_plan import FIXED, FREE, SOFT
from amberkeel.core.solve.motions import MOTIONS
from amberkeel.core.solve.radial_lens import LENS_NAMES
from amberkeel.core.solve.recipe import AUTO_ROWS, KNOWN_ROWS, MOST_WEIGHT, ROWS, STARTS
from amberkeel.core.tracks import HAND, TAG
from amberkeel.core.units import maybe_number
from amberkeel.store.cross_check import cross_check
from amberkeel.store.lens import KNOWN, UNKNOWN
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.solve import arrays_of, document_of, reasons_of
from amberkeel.store.tracks import live_tracks
from amberkeel.store.world import found_or_not
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.jobs import start
from amberkeel.web.lens.camera import checked_state, sigma_mm
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.world.datum import card
from amberkeel.web.world.told import told

blueprint = Blueprint("solve", __name__)

START_SHARE = 0.1
"""One sigma of a start value for the focal length where none is typed, as a share of it."""


class SolveOrder(Body):
    """What a solve is asked to do; millimetres as typed."""

    motion: Word = "auto"
    distortion: Word = "estimate"
    terms: dict = {}
    focal_state: Word = KNOWN
    focal_mm: Word = ""
    focal_sigma_mm: Word = ""
    zoom: Flag = False
    share: list[Whole] = []
    rows: Word = AUTO_ROWS
    readout: Word = ""
    begin: Whole = 0
    begin_path: Word = ""
    folds: Whole = 0
    radius: Word = ""
    start: Word = ""
    frames: list[Whole] = []
    within: Flag = False
    hand_weight: Word = ""
    readout_sigma: Word = ""


@blueprint.post("/shots/<int:number>/solve")
def solve(number: int):
    """Start a solve; it becomes a new attempt beside the others."""
    asked = sent(SolveOrder)
    if asked.motion not in MOTIONS:
        raise KeelError(f"The camera motion is {', '.join(MOTIONS[:-1])} or {MOTIONS[-1]}.")
    if asked.distortion not in ("estimate", "none", "profile"):
        raise KeelError("Distortion is estimate, none or profile.")
    terms = solve_terms(asked.terms)
    arguments = {"focal_mm": None, "motion": asked.motion, "distortion": asked.distortion}
    arguments |= _focal(number, asked, terms)
    arguments |= {"terms": terms, "zoom": asked.zoom, "share": sharing(number, asked.share)}
    check_folds(asked.folds)
    arguments |= _start(asked)
    arguments |= {"folds": asked.folds, "radius": maybe_number(asked.radius, "The radius", 1e-3, 1e5) or 10.0}
    arguments |= _rows_asked(asked) | _begin(number, asked.begin) | _refinement(asked)
    return start("solve", number, arguments | {"begin_path": asked.begin_path})


def _rows_asked(asked: SolveOrder) -> dict:
    """Return what is asked of the shutter."""
    if asked.rows not in ROWS:
        raise KeelError("The shutter is automatic, global, or rolls with a known readout.")
    readout = maybe_number(asked.readout, "The readout", 0.0, 1.0) if asked.rows == KNOWN_ROWS else None
    if asked.rows == KNOWN_ROWS and readout is None:
        raise KeelError("A known readout needs its value.", "Type a share of the frame interval, such as 0.46.")
    sigma = maybe_number(asked.readout_sigma, "The sigma of the readout", 0.0, 1.0) if readout is not None else None
    return {"rows": asked.rows, "readout": readout, "readout_sigma": sigma or 0.0}


def _start(asked: SolveOrder) -> dict:
    """Return the frames to begin from: those chosen by hand, or a way of finding them; None for the best."""
    if asked.start == "chosen":
        if len(asked.frames) != 2:
            raise KeelError("No frames are chosen.", "Brush a lane from the one frame to the other.")
        return {"start": asked.frames}
    return {"start": asked.start if asked.start in STARTS else None}


def _begin(number: int, attempt: int) -> dict:
    """Return the attempt to begin from, checked."""
    if not attempt:
        return {}
    with open_session() as opened:
        row = opened.get(Attempt, attempt)
        if row is None or row.shot_id != get_shot(opened, number).id:
            raise KeelError("That attempt is not in this shot's ledger.")
    return {"begin": attempt}


def _refinement(asked: SolveOrder) -> dict:
    """Return which frames a refinement may change, and how much tracks placed by hand and tags count."""
    if asked.within and asked.begin and len(asked.frames) != 2:
        raise KeelError("No frames are chosen to refine.", "Brush a lane, or take the tick away.")
    factor = maybe_number(asked.hand_weight, "The weight of hand tracks", 0.01, MOST_WEIGHT) or 1.0
    weights = {} if factor == 1.0 else {HAND: factor, TAG: factor}
    return {"within": asked.frames if asked.within and asked.begin else None, "weights": weights}


def _focal(number: int, asked: SolveOrder, terms: dict) -> dict:
    """Return a known focal length in mm for a solve's arguments; a start value goes into the terms, in pixels, unless
    one is there.
    """
    state = checked_state(asked.focal_state)
    value = maybe_number(asked.focal_mm, "The focal length in mm", 1.0, 5000.0)
    if value is None or state == UNKNOWN:
        return {}
    if state == KNOWN:
        return {"focal_mm": value}
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    px = plate.width / plate.sensor_width_mm
    sigma = sigma_mm(asked.focal_sigma_mm) or START_SHARE * value
    terms.setdefault("focal", {"state": SOFT, "value": value * px, "sigma": sigma * px})
    return {}


def sharing(number: int, given: list[int]) -> list[int]:
    """Return the other shots that are solved with the same lens, checked."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        others = {s.id: s for s in shot.production.shots if s.id != number}
        chosen = [others.get(k) for k in given]
        for other in chosen:
            if other is None:
                raise KeelError("That shot is not of this production.")
            if not live_tracks(opened, other):
                raise KeelError(f"{other.name} has no tracks to solve from.", "Follow features there first.")
        return [other.id for other in chosen]


def solve_terms(given: dict) -> dict:
    """Return what of the lens is free, soft or fixed, checked."""
    out = {}
    for name, term in given.items():
        if name not in LENS_NAMES or not isinstance(term, dict) or term.get("state") not in (FREE, SOFT, FIXED):
            raise KeelError(f"“{name}” is no value of the lens that can be free, soft or fixed.")
        value = maybe_number(term.get("value"), name)
        sigma = maybe_number(term.get("sigma"), f"The sigma of {name}", 0.0) or 0.0
        if term["state"] == SOFT and (value is None or sigma <= 0.0):
            raise KeelError(f"{name} held softly needs a value and a sigma above 0.")
        if term["state"] == FIXED and value is None:
            raise KeelError(f"{name} fixed needs a value.")
        out[name] = {"state": term["state"], "value": value, "sigma": sigma}
    return out


@blueprint.get("/attempts/<int:number>.json")
def attempt(number: int):
    """Send an attempt: residuals in columns, points and cameras in the shot's world, and the checker card."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        shot = get_shot(opened, row.shot_id)
        kept, document = arrays_of(media(), row), document_of(media(), row)
        plate_frames = range(shot.plate.first, shot.plate.last + 1)
        in_world = _in_world(opened, shot, row, document)
    residual = np.nan_to_num(kept["residual"], nan=0.0)
    return jsonify(
        id=row.id,
        number=row.number,
        reasons={track: sentence(reason) for track, reason in reasons_of(row).items()},
        states=row.snapshot["states"],
        track_ids=kept["track_id"].tolist(),
        track_rms=[None if not np.isfinite(v) else round(float(v), 4) for v in kept["track_rms"]],
        track=kept["track"].tolist(),
        frame=kept["frame"].tolist(),
        dx=residual[:, 0].round(3).tolist(),
        dy=residual[:, 1].round(3).tolist(),
        sigma=np.hypot(kept["sigma"], 0.05).round(3).tolist(),
        aside=(kept["outlier"] | ~np.isfinite(kept["residual"][:, 0])).astype(int).tolist(),
        first=plate_frames.start,
        frame_rms=_by_plate_frame(plate_frames, document, kept["frame_rms"]),
        **in_world,
    )


@blueprint.get("/attempts/<int:number>/world.json")
def attempt_world(number: int):
    """Send of an attempt what the datum changes: points and cameras in the shot's world, and what is said of it."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        return jsonify(_in_world(opened, get_shot(opened, row.shot_id), row, document_of(media(), row)))


def _in_world(opened, shot: Shot, row: Attempt, document: SolveDocument) -> dict:
    """Return an attempt in the shot's world: cameras, points, the checker card, and what is said of the datum."""
    found, trouble = found_or_not(opened, media(), shot, row)
    world = document_in_world(document, found.datum)
    return {
        "trouble": trouble,
        "world": world,
        "told": told(found, read_path(world), shot),
        "card": card(shot, world, range(shot.plate.first, shot.plate.last + 1)),
    }


def _by_plate_frame(frames: range, document: SolveDocument, values: np.ndarray) -> list[float | None]:
    """Return a value for each frame of the plate, None where the camera has none."""
    by_frame = {f["frame"]: v for f, v in zip(document["frames"], values)}
    row = (by_frame.get(frame, np.nan) for frame in frames)
    return [None if not np.isfinite(v) else round(float(v), 4) for v in row]


@blueprint.get("/shots/<int:number>/compare")
def compare(number: int):
    """Show two attempts side by side."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        pair = [opened.get(Attempt, request.args.get(k, 0, int)) for k in ("a", "b")]
        if any(a is None or a.shot_id != shot.id for a in pair):
            abort(404)
        check = cross_check(media(), *pair)
        return render_template(
            "compare.html", shot=shot, production=shot.production, pair=pair, rows=_rows(*pair), check=check
        )


FIGURES = [
    ("rms_px", "RMS residual", "px", 3, "lower"),
    ("check_rms_px", "Check residual", "px", 3, "lower"),
    ("focal_mm", "Focal length", "mm", 3, ""),
    ("focal_sigma_mm", "Focal length, one sigma", "mm", 3, "lower"),
    ("k1", "Distortion k1", "", 4, ""),
    ("tracks_used", "Tracks used", "", 0, "higher"),
    ("tracks_excluded", "Tracks set aside", "", 0, ""),
    ("tracks_check", "Check tracks", "", 0, ""),
    ("observations", "Measurements", "", 0, "higher"),
]

ABSENT = {"check_rms_px": NOT_CHECKED, "focal_sigma_mm": "held"}
"""What is said of a figure that an attempt has not; it is never the better one."""

RECIPE = [
    ("camera_motion", "Camera motion"),
    ("distortion", "Distortion"),
    ("focal_px", "Known focal length, px"),
    ("shared_with", "One lens with"),
    ("seed", "Seed"),
]


def _words(value) -> str:
    """Return a recipe's value as text."""
    return (
        "unknown" if value is None else ", ".join(value) or "no other shot" if isinstance(value, list) else str(value)
    )


def _rows(a: Attempt, b: Attempt) -> list[dict]:
    """Return figures and recipe of two attempts as rows, with which side is better where that means something."""
    rows = []
    for key, label, unit, digits, better in FIGURES:
        x, y = a.figures.get(key) or 0.0, b.figures.get(key) or 0.0
        nothing = ABSENT.get(key)
        told = [(nothing, "") if nothing and not v else (f"{v:.{digits}f}", unit) for v in (x, y)]
        equal = not better or x == y or (nothing, "") in told
        side = "" if equal else "a" if (x < y) == (better == "lower") else "b"
        rows.append(
            {"label": label, "a": told[0][0], "b": told[1][0], "units": [told[0][1], told[1][1]], "better": side}
        )
    for key, label in RECIPE:
        x, y = (_words(v.recipe.get(key)) for v in (a, b))
        rows.append({"label": label, "a": x, "b": y, "units": ["", ""], "better": ""})
    return rows
