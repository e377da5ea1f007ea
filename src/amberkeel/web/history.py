"""A shot's history: who did what, when, and back to any step."""

from datetime import UTC

from flask import Blueprint, jsonify
from sqlalchemy.orm import Session

from amberkeel.store import edits
from amberkeel.web.common import get_shot, open_session, shot_to_change
from amberkeel.web.edits import moved
from amberkeel.web.sent import Body, Whole, sent

blueprint = Blueprint("history", __name__)

MOST = 500
"""Steps that are listed, the newest."""


class Step(Body):
    """The step after which the shot shall stand; 0 is before the first."""

    edit: Whole


@blueprint.get("/shots/<int:number>/history.json")
def listed(number: int):
    """Send the shot's steps, newest first."""
    with open_session() as opened:
        get_shot(opened, number)
        return jsonify(
            steps=[
                {
                    "id": e.id,
                    "label": e.label,
                    "who": e.who,
                    "undone": e.undone,
                    "at": e.created.replace(tzinfo=UTC).isoformat(timespec="seconds"),
                }
                for e in edits.history(opened, number, MOST)
            ]
        )


@blueprint.post("/shots/<int:number>/history")
def go_to(number: int):
    """Undo or redo until a step is the newest one in force."""
    asked = sent(Step)

    def move(opened: Session) -> str:
        shot_to_change(opened, number)
        steps = edits.go_to(opened, number, asked.edit, asked.revision)
        return f"{steps} {'step' if steps == 1 else 'steps'}"

    return moved(number, move)
