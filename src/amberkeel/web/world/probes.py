"""Probe objects put into the scene by a click, and rows of posts."""

from typing import Any

import numpy as np

from amberkeel.core.errors import KeelError
from amberkeel.core.world.under import Sight, snapped_under
from amberkeel.store.scene import camera_in_world, probes_of
from amberkeel.web.common import media, open_session, shot_to_change
from amberkeel.web.sent import Body, Number, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.world.blueprint import blueprint
from amberkeel.web.world.scene import NAMES, fresh_id, sight_of

PROBE_SHARE = 0.06
"""Size of a new probe object over its distance from the camera, where the scene has no scale."""

METRES = {"card": 1.0, "cube": 0.5, "cone": 0.5, "person": 1.75, "lattice": 1.0, "post": 1.0}
"""Size of each new probe object in a scene with a scale."""

SLIM = {"person": 0.25, "post": 0.12, "cone": 0.7}
"""Width over height of what is taller than wide."""


class Placed(Body):
    """A probe object at a spot of the plate; `id` moves one that is there."""

    kind: Word = ""
    id: Word = ""
    frame: Whole
    x: Number
    y: Number
    reach: Number = 0.0


@blueprint.post("/shots/<int:number>/world/probe")
def probe(number: int):
    """Put a probe object where the plate was clicked, or move one there."""
    asked = sent(Placed)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        own = probes_of(shot)
        sight = sight_of(opened, shot, asked.frame)
        spot = snapped_under(sight, np.array([asked.x, asked.y]), asked.reach)
        position = spot.xyz.round(6).tolist()
        if asked.id:
            if asked.id not in own:
                raise KeelError("That is no longer in the scene.")
            thing = own[asked.id].model_dump(mode="json") | {"position": position}
            return edited(
                opened, number, "scene", {"probes": {asked.id: thing}, "label": f"Move {thing['name']}"}, asked.revision
            )
        if asked.kind not in METRES:
            raise KeelError(f"There is no probe object “{asked.kind}”.")
        away = float(np.linalg.norm(spot.xyz - sight.path.positions[sight.row]))
        size = _size(asked.kind, bool((shot.datum or {}).get("distances")), away)
        key = fresh_id(shot, asked.kind, {})
        thing = {
            "kind": asked.kind, "name": f"{NAMES[asked.kind]} {key[1:]}", "position": position, "size": size,
            "turn": [0.0, _bearing(sight, spot.xyz), 0.0], "look": "checker" if asked.kind == "card" else "solid",
        }  # fmt: skip
        payload = {"probes": {key: thing}, "label": f"Put in a {NAMES[asked.kind].lower()}"}
        return edited(opened, number, "scene", payload, asked.revision)


def _size(kind: str, scaled: bool, away: float) -> list[float]:
    """Return the size of a new probe object."""
    high = METRES[kind] if scaled else PROBE_SHARE * away * METRES[kind]
    wide = SLIM.get(kind, 1.0) * high
    return [round(v, 6) for v in (wide, high, wide)]


def _bearing(sight: Sight, at: np.ndarray) -> float:
    """Return the turn about Y, degrees, by which a thing faces the camera."""
    way = sight.path.positions[sight.row] - at
    return round(float(np.degrees(np.arctan2(way[0], way[2]))), 3)


POSTS = 7
"""Posts of a row."""

SPACING_M, SPACING_SHARE = 1.0, 0.14
"""Between two of them: metres where the scene has a scale, else a share of the distance of the usual point."""

ASIDE = 0.7
"""How far they stand beside the camera's way, in spacings."""


@blueprint.post("/shots/<int:number>/world/posts")
def posts(number: int):
    """Put a row of posts on the ground ahead of the camera, beside its way."""
    asked = sent(Body)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        path, _, xyz = camera_in_world(opened, media(), shot)
        usual = float(np.median(np.linalg.norm(xyz - path.positions[0], axis=1))) if len(xyz) else 10.0
        scaled = bool((shot.datum or {}).get("distances"))
        spacing = SPACING_M if scaled else SPACING_SHARE * usual
        ahead = path.world_from_camera[0][:, 2] * [1.0, 0.0, 1.0]
        ahead = ahead / max(float(np.linalg.norm(ahead)), 1e-9)
        side, start = np.cross(ahead, [0.0, 1.0, 0.0]), path.positions[0] * [1.0, 0.0, 1.0]
        taken: dict[str, Any] = {}
        for k in range(POSTS):
            at = start + (k + 3.0) * spacing * ahead + ASIDE * spacing * side
            key = fresh_id(shot, "post", taken)
            height = METRES["post"] * spacing
            taken[key] = {
                "kind": "post", "name": f"Post {k + 1}", "position": at.round(6).tolist(),
                "size": [round(SLIM["post"] * height, 6), round(height, 6), round(SLIM["post"] * height, 6)],
            }  # fmt: skip
        payload = {"probes": taken, "label": "A row of posts along the path"}
        return edited(opened, number, "scene", payload, asked.revision)
