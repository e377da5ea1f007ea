"""Edits that a page asks for as they are, undo and redo."""

from collections.abc import Callable

from flask import Blueprint, jsonify, request
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.jobs.queue import wake
from amberkeel.store import edits
from amberkeel.store.plate_files import make_ready
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.sent import Body, Whole, Word, read_body, sent
from amberkeel.web.state import shot_state

blueprint = Blueprint("edits", __name__)

FROM_PAGES = ("states", "tracks", "pin", "attempt")
"""Edits that a page may ask for as they are; all others have views of their own."""


class PageEdit(Body):
    """An edit: its kind, and what it is to do."""

    kind: Word
    payload: dict = {}


@blueprint.post("/shots/<int:number>/edit")
def edit(number: int):
    """Make an edit; refuse one made on an older state."""
    asked = sent(PageEdit)
    if asked.kind not in FROM_PAGES:
        raise KeelError(f"There is no edit “{asked.kind}”.")
    with open_session() as opened:
        edits.apply(opened, number, asked.kind, asked.payload, asked.revision)
    # In a transaction of its own: whoever edits the shot next need not wait until this page's state is put together.
    with open_session() as opened:
        return jsonify(shot_state(opened, get_shot(opened, number)))


class Back(Body):
    """The attempt to go back to."""

    attempt: Whole


@blueprint.post("/shots/<int:number>/back")
def back(number: int):
    """Bring tracks, masks, lens and constraints back as an attempt was made from."""
    asked = sent(Back)
    with open_session() as opened:
        edits.go_back(opened, number, asked.attempt, asked.revision)
        return jsonify(shot_state(opened, get_shot(opened, number)))


@blueprint.post("/shots/<int:number>/undo")
@blueprint.post("/shots/<int:number>/redo")
def step(number: int):
    """Undo or redo one edit; refuse where the newest is another one than the page knew of."""
    asked = read_body(Body, request.get_json(silent=True) or {})
    move = edits.undo if request.path.endswith("undo") else edits.redo
    return moved(number, lambda opened: move(opened, number, asked.revision))


def moved(number: int, move: Callable[[Session], str]):
    """Move a shot along its history, and answer with its state then and with what `move` says that it did. Proxies that
    the plate lacks there are asked for.
    """
    with open_session() as opened:
        said, shot = move(opened), get_shot(opened, number)
        coming = make_ready(opened, shot)
        answer = {**shot_state(opened, shot), "said": said}
    if coming:
        wake()
    return jsonify(answer)
