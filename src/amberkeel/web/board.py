"""The home page: productions and their shots as a board."""

from flask import Blueprint, redirect, render_template, request, url_for
from sqlalchemy import select
from sqlalchemy.orm import selectinload

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Production, Shot
from amberkeel.store.stages import attentions, courses, pinned_attempts
from amberkeel.web.common import open_session

blueprint = Blueprint("board", __name__)


@blueprint.get("/")
def home():
    """Show every production with its shots."""
    with open_session() as opened:
        whole = selectinload(Production.shots).selectinload(Shot.plate)
        productions = list(opened.scalars(select(Production).options(whole).order_by(Production.name)))
        shots = [shot for production in productions for shot in production.shots]
        held = pinned_attempts(opened, shots)
        course, needs = courses(opened, shots), attentions(opened, shots)
        cards = {
            p.id: [
                {
                    "shot": shot,
                    "plate": shot.plate,
                    "stages": course[shot.id],
                    "figures": held[shot.pinned_id].figures if shot.pinned_id in held else None,
                    "attention": needs[shot.id],
                }
                for shot in p.shots
            ]
            for p in productions
        }
        return render_template("board.html", productions=productions, cards=cards)


@blueprint.post("/productions")
def add_production():
    """Add a production."""
    name = request.form.get("name", "").strip()
    if not 1 <= len(name) <= 80:
        raise KeelError("A production needs a name of 1 to 80 characters.")
    with open_session() as opened:
        if opened.scalar(select(Production).where(Production.name == name)):
            raise KeelError(f"There is a production named {name} already.")
        opened.add(Production(name=name, note=request.form.get("note", "").strip()[:400]))
    return redirect(url_for("board.home"))
