"""What the views of the tracks stage share."""

from flask import jsonify

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Shot
from amberkeel.web.state import shot_state


def answer(opened, shot: Shot, **more):
    opened.flush()
    return jsonify({**shot_state(opened, shot), **more})


def figure(asked: dict, name: str, kind=float):
    try:
        return kind(asked[name])
    except (KeyError, TypeError, ValueError):
        raise KeelError(f"“{asked.get(name)}” is no {name}.") from None
