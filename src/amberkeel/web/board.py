"""The home page: productions and their shots as a board."""

from flask import Blueprint, jsonify, redirect, render_template, request, url_for
from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from amberkeel.core.errors import KeelError
from amberkeel.core.repair.improve import check_effort
from amberkeel.jobs.casebook import work_on
from amberkeel.jobs.queue import wake
from amberkeel.store.keeping import check_production_name
from amberkeel.store.models import Edit, Production, Shot
from amberkeel.store.report import signed_shots
from amberkeel.store.stages import attentions, courses, pinned_attempts
from amberkeel.web.common import open_session, shot_to_change
from amberkeel.web.sent import Body, Whole, Word, sent

blueprint = Blueprint("board", __name__)


@blueprint.get("/")
def home():
    """Show every production with its shots."""
    with open_session() as opened:
        whole = selectinload(Production.shots).selectinload(Shot.plate)
        live = select(Production).where(Production.deleted.is_(None))
        productions = list(opened.scalars(live.options(whole).order_by(Production.archived, Production.name)))
        cards = _cards(opened, [shot for production in productions for shot in production.shots])
        return render_template("board.html", productions=productions, cards=cards)


def _cards(opened: Session, shots: list[Shot]) -> dict[int, list[dict]]:
    """Return what the board shows of shots, by production."""
    held = pinned_attempts(opened, shots)
    course, needs = courses(opened, shots), attentions(opened, shots)
    ids = [shot.id for shot in shots]
    last = select(Edit.shot_id, func.max(Edit.created)).where(Edit.shot_id.in_(ids)).group_by(Edit.shot_id)
    changed = {number: at for number, at in opened.execute(last)}
    signed = signed_shots(opened, shots)
    out: dict[int, list[dict]] = {shot.production_id: [] for shot in shots}
    for shot in shots:
        figures = held[shot.pinned_id].figures if shot.pinned_id in held else None
        out[shot.production_id].append(
            {
                "shot": shot,
                "plate": shot.plate,
                "stages": course[shot.id],
                "figures": figures,
                "attention": needs[shot.id],
                "changed": changed.get(shot.id, shot.created).timestamp(),
                "signed": shot.id in signed,
                "states": _states(shot, figures is not None, needs[shot.id]),
            }
        )
    return out


def _states(shot: Shot, solved: bool, needs: str) -> str:
    """Return the words that the board filters by."""
    out = ["solved" if solved else "unsolved"]
    if shot.plate is None or not shot.plate.ready:
        out.append("coming")
    if needs:
        out.append("attention")
    if shot.archived or shot.production.archived:
        out.append("archived")
    return " ".join(out)


class Night(Body):
    """Shots to be worked on, and how much is tried on each."""

    shots: list[Whole]
    effort: Word = "usual"


@blueprint.post("/work")
def work():
    """Work on shots in the background, one job after the other of each: follow, solve, diagnose, try."""
    asked = sent(Night)
    check_effort(asked.effort)
    with open_session() as opened:
        shots = [shot_to_change(opened, number) for number in sorted(set(asked.shots))]
        begun = [work_on(opened, shot, asked.effort) for shot in shots]
    wake()
    count = sum(map(bool, begun))
    if not count:
        raise KeelError("All of these are being worked on, or their plates are still coming in.")
    return jsonify(count=count)


@blueprint.post("/productions")
def add_production():
    """Add a production."""
    name = request.form.get("name", "").strip()
    with open_session() as opened:
        check_production_name(opened, name)
        opened.add(Production(name=name, note=request.form.get("note", "").strip()[:400]))
    return redirect(url_for("board.home"))
