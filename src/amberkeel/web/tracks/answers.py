"""What the views of the tracks stage share."""

from flask import jsonify

from amberkeel.store.models import Shot
from amberkeel.web.state import shot_state


def answer(opened, shot: Shot, **more):
    """Answer with the shot's new state, and more."""
    opened.flush()
    return jsonify({**shot_state(opened, shot), **more})
