"""What the views of the tracks stage share."""

from flask import jsonify

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Shot
from amberkeel.web.state import shot_state


def answer(opened, shot: Shot, **more):
    """Answer with the shot's new state, and more."""
    opened.flush()
    return jsonify({**shot_state(opened, shot), **more})


def figure(asked: dict, name: str, kind=float):
    """Return a number that a page sent; raises KeelError where it is none."""
    try:
        return kind(asked[name])
    except (KeyError, TypeError, ValueError):
        raise KeelError(f"“{asked.get(name)}” is no {name}.") from None
