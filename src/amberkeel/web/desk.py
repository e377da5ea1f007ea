"""The shot desk: one page a shot."""

from flask import Blueprint, abort, redirect, render_template, url_for

from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.plate.copy import OPERATIONS
from amberkeel.store.jobs import bring_forward
from amberkeel.store.solve import ledger
from amberkeel.store.stages import stages
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.plate.intake import show_rate

blueprint = Blueprint("desk", __name__)


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
