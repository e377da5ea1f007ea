"""The shot desk: one page a shot."""

from flask import Blueprint, abort, redirect, render_template, url_for

from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.plate.copy import OPERATIONS
from amberkeel.store.jobs import bring_forward
from amberkeel.store.plate_files import is_there
from amberkeel.store.solve import ledger
from amberkeel.store.stages import stages
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.plate.intake import show_rate

blueprint = Blueprint("desk", __name__)

FIRST_LINES = {
    "plate": "Look the plate through and read what is odd about it. Usually next: mask what moves, or follow features.",
    "masks": "Cover what moves on its own, roughly: nothing is followed there. Usually next: follow features again.",
    "tracks": "Follow features, place the important ones by hand, weed out those that lie. Usually next: solve.",
    "lens": "Say what is known of the lens, or draw lines that tell. With nothing known, go on: the solve finds it.",
    "solve": "Find the camera. Then read the casebook: it says what is weak and what to do. Usually next: the world.",
    "world": "Say what is the ground, the origin and a known distance. Then play the card: does it stick?",
    "ties": "Choose the set this shot was filmed on, or make one of it. Tie by tags, pictures or hand; then align.",
    "handoff": "Take the camera, points and lens along. What a format cannot say stands beside it.",
}
"""What each stage is for, said on the first visit."""


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
        bring_forward(opened, number)
        same = [
            s.name
            for s in shot.production.shots
            if s.id != shot.id and (s.plate.width, s.plate.height) == (shot.plate.width, shot.plate.height)
        ]
        beside = [(s.id, s.name) for s in shot.production.shots if s.name in same and s.plate.ready]
        return render_template(
            "desk.html",
            formats=FORMATS.values(),
            operations=_operations(shot.plate.width, shot.plate.height),
            siblings=same,
            sharing=beside,
            shot=shot,
            plate=shot.plate,
            production=shot.production,
            stages=course,
            stage=stage,
            attempts=ledger(opened, shot),
            show_rate=show_rate,
            first_lines=FIRST_LINES,
            is_there=is_there(shot.plate),
        )


def _operations(width: int, height: int) -> list:
    """Return the tracking copy's operations for the page, in their order: a name, and each figure with its limits,
    start and step.
    """
    half = {"left": width // 2, "right": width // 2, "top": height // 2, "bottom": height // 2}
    return [
        (
            name,
            [
                [figure, l.low, half.get(figure, l.high) if name == "crop" else l.high, l.start, l.step]
                for figure, l in figures.items()
            ],
        )
        for name, figures in OPERATIONS.items()
    ]
