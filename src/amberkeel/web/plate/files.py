"""Where a shot's plate lies, which of its frames are used, and how the files stand for light."""

from pathlib import Path

from flask import current_app, jsonify

from amberkeel.core.errors import PlateError
from amberkeel.jobs.queue import wake
from amberkeel.store.plate_files import look_for, relink, set_range
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.plate.blueprint import blueprint
from amberkeel.web.plate.sources import under_roots
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import shot_state


class Place(Body):
    """Where a plate lies under a plate root, and whether it is taken though it looks otherwise."""

    path: Word
    anyway: Flag = False


class Frames(Body):
    """First and last frame to use."""

    first: Whole
    last: Whole


@blueprint.post("/shots/<int:number>/plate/relink")
def change_place(number: int):
    """Take the shot's frames from elsewhere."""
    asked = sent(Place)
    where = under_roots(list(current_app.settings.plate_roots), asked.path.strip())
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        relink(opened, media(), shot, where, asked.anyway, asked.revision)
        return jsonify({**shot_state(opened, shot), "said": "Relinked."})


@blueprint.get("/shots/<int:number>/plate/found.json")
def found(number: int):
    """Send where plates of this label lie under the plate roots, from the root on."""
    with open_session() as opened:
        label = get_shot(opened, number).plate.label
    roots = current_app.settings.plate_roots
    return jsonify(found=[_from_root(path, roots) for path in look_for(roots, label)])


def _from_root(path: Path, roots: tuple[Path, ...]) -> str:
    root = next((r for r in roots if path.is_relative_to(r)), None)
    if root is None:
        raise PlateError("That place is not under a plate root.")
    return str(path.relative_to(root))


@blueprint.post("/shots/<int:number>/plate/range")
def change_range(number: int):
    """Use other frames of the plate."""
    asked = sent(Frames)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        set_range(opened, shot, asked.first, asked.last, asked.revision)
        answer = shot_state(opened, shot)
    wake()
    return jsonify(answer)
