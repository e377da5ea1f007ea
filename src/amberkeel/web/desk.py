"""The shot desk: one page a shot, and two attempts side by side."""

from flask import Blueprint, abort, redirect, render_template, request, url_for

from amberkeel.core.plate.copy import OPERATIONS
from amberkeel.store.models import Attempt
from amberkeel.store.solves import ledger
from amberkeel.store.stages import stages
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.intake import show_rate

blueprint = Blueprint("desk", __name__)

OPEN_STAGES = ("plate", "masks", "tracks", "lens", "solve", "world", "handoff")


@blueprint.get("/shots/<int:number>")
@blueprint.get("/shots/<int:number>/<stage>")
def show(number: int, stage: str = ""):
    """Show the desk at a stage."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        course = stages(opened, shot)
        if not stage:
            return redirect(url_for("desk.show", number=number, stage="solve" if shot.pinned_id else "plate"))
        if stage not in [s.key for s in course]:
            abort(404)
        same = [s.name for s in shot.production.shots if s.id != shot.id and (s.plate.width, s.plate.height) == (shot.plate.width, shot.plate.height)]
        beside = [(s.id, s.name) for s in shot.production.shots if s.name in same and s.plate.ready]
        return render_template(
            "desk.html", operations=_operations(shot.plate.width, shot.plate.height), siblings=same, sharing=beside, shot=shot, plate=shot.plate, production=shot.production, stages=course, stage=stage,
            attempts=ledger(opened, shot), show_rate=show_rate, open_stages=OPEN_STAGES,
        )  # fmt: skip


def _operations(width: int, height: int) -> list:
    """Return the tracking copy's operations for the page, in their order: a name, and each figure with its limits, start and step."""
    half = {"left": width // 2, "right": width // 2, "top": height // 2, "bottom": height // 2}
    return [
        (name, [[figure, l.low, half.get(figure, l.high) if name == "crop" else l.high, l.start, l.step] for figure, l in figures.items()])
        for name, figures in OPERATIONS.items()
    ]


@blueprint.get("/shots/<int:number>/compare")
def compare(number: int):
    """Show two attempts side by side."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        pair = [opened.get(Attempt, request.args.get(k, 0, int)) for k in ("a", "b")]
        if any(a is None or a.shot_id != shot.id for a in pair):
            abort(404)
        return render_template("compare.html", shot=shot, production=shot.production, pair=pair, rows=_rows(*pair))


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
RECIPE = [("camera_motion", "Camera motion"), ("distortion", "Distortion"), ("focal_px", "Known focal length, px"), ("shared_with", "One lens with"), ("seed", "Seed")]


def _words(value) -> str:
    """Return a recipe's value as text."""
    return "unknown" if value is None else ", ".join(value) or "no other shot" if isinstance(value, list) else str(value)


def _rows(a: Attempt, b: Attempt) -> list[dict]:
    """Return the figures and the recipe of two attempts as rows, with which side is better where that means something."""
    rows = []
    for key, label, unit, digits, better in FIGURES:
        x, y = a.figures.get(key, 0.0), b.figures.get(key, 0.0)
        side = "" if not better or x == y else "a" if (x < y) == (better == "lower") else "b"
        rows.append({"label": label, "a": f"{x:.{digits}f}", "b": f"{y:.{digits}f}", "unit": unit, "better": side})
    for key, label in RECIPE:
        x, y = (_words(v.recipe.get(key)) for v in (a, b))
        rows.append({"label": label, "a": x, "b": y, "unit": "", "better": ""})
    return rows
