"""Parts of the datum by hand and from what stands in the scene, each as a change of what is kept."""

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.errors import KeelError
from amberkeel.core.units import maybe_number, typed_number
from amberkeel.core.world.datum import AXES
from amberkeel.core.world.planes import fit_plane
from amberkeel.core.world.solids import degrees_of, turned_by
from amberkeel.core.world.tied import tied_to
from amberkeel.store.models import Shot
from amberkeel.store.scene import camera_in_world, proxies_of, solid_in
from amberkeel.web.common import media
from amberkeel.web.world.datum_points import Change, DatumPart, with_length

MOST_DEGREES, MOST_MOVE = 3600.0, 1e6


def by_hand(kept: dict, asked: DatumPart, *_) -> Change:
    """What is set by hand, as typed."""
    if len(asked.turn) != 3 or len(asked.move) != 3:
        raise KeelError("By hand takes three angles and three lengths.")
    turn = [maybe_number(v, f"Turn {a}", -MOST_DEGREES, MOST_DEGREES) or 0.0 for a, v in zip("XYZ", asked.turn)]
    move = [maybe_number(v, f"Move {a}", -MOST_MOVE, MOST_MOVE) or 0.0 for a, v in zip("XYZ", asked.move)]
    scale = maybe_number(asked.scale, "Scale", 1e-6, 1e6) or 1.0
    if scale == 1.0 and not any(turn) and not any(move):
        kept.pop("hand", None)
        return Change(kept, "Nothing by hand")
    return Change({**kept, "hand": {"turn": turn, "scale": scale, "move": move}}, "Set the scene by hand")


def nudge(kept: dict, asked: DatumPart, *_) -> Change:
    """A turn about an axis of the present world, then a scale, then a move, on top of what was set by hand."""
    more, words = Rotation.identity(), []
    if asked.axis in ("x", "y", "z"):
        degrees = typed_number(asked.degrees, "The angle", -MOST_DEGREES, MOST_DEGREES)
        more = Rotation.from_euler(asked.axis, degrees, degrees=True)
        words.append(f"Turn the scene {degrees:g}° about {asked.axis.upper()}")
    gain = maybe_number(asked.scale, "Scale", 1e-6, 1e6) or 1.0
    if gain != 1.0:
        words.append(f"Scale the scene by {gain:.4g}")
    by = [maybe_number(v, "The move", -MOST_MOVE, MOST_MOVE) or 0.0 for v in [*asked.move, "", "", ""][:3]]
    return _turned_more(kept, more, gain, by, (words or ["Move the scene"])[0])


def proxy(kept: dict, asked: DatumPart, _opened, shot: Shot) -> Change:
    """The plane of a proxy, or the best one through a mesh, becomes the ground: what was set by hand turns with it."""
    thing = proxies_of(shot).get(asked.name)
    if thing is None:
        raise KeelError("That proxy is no longer in the scene.")
    solid = solid_in(media(), thing)
    plane = fit_plane(solid.vertices) if thing.kind == "mesh" else None
    own = turned_by(thing.turn)[:, 2 if thing.kind == "wall" else 1]
    normal, on = (own, np.array(thing.position)) if plane is None else (plane.normal, plane.centre)
    normal = normal if normal[1] >= 0.0 else -normal
    turn, _ = Rotation.align_vectors([[0.0, 1.0, 0.0]], [normal])
    datum, _ = _turned_more(kept, turn, 1.0, [0.0, -float(turn.apply(on)[1]), 0.0], "")
    return Change(datum, f"Ground from {thing.name}")


def edge(kept: dict, asked: DatumPart, _opened, shot: Shot) -> Change:
    """The foot edge of a wall, or the front edge of another proxy, is the heading: the scene turns about up."""
    thing = proxies_of(shot).get(asked.name)
    if thing is None or thing.kind == "mesh":
        raise KeelError("Choose a wall, or another proxy with an edge, first.")
    if asked.axis[-1:] not in ("x", "z") or asked.axis not in AXES:
        raise KeelError("An edge on the ground runs along X or Z.")
    way = turned_by(thing.turn)[:, 0]
    if np.hypot(way[0], way[2]) < 1e-3:
        raise KeelError("This edge stands upright.", "Choose a proxy that stands on the ground.")
    row, sign = AXES[asked.axis]
    wanted = np.zeros(3)
    wanted[row] = sign
    # About Y by an angle a vector (x, z) goes to (x cos + z sin, z cos - x sin).
    degrees = float(np.degrees(np.arctan2(-wanted[2], wanted[0]) - np.arctan2(-way[2], way[0])))
    # Its two ends are alike: of both ways round the shorter turn is meant.
    degrees = (degrees + 90.0) % 180.0 - 90.0
    return _turned_more(
        kept, Rotation.from_euler("y", degrees, degrees=True), 1.0, [0.0, 0.0, 0.0],
        f"{asked.axis.upper()} along {thing.name}",
    )  # fmt: skip


def _turned_more(kept: dict, more: Rotation, gain: float, move, words: str) -> Change:
    """Turn, scale and move the present world, on top of what was set by hand."""
    old = {"turn": [0.0, 0.0, 0.0], "scale": 1.0, "move": [0.0, 0.0, 0.0], **(kept.get("hand") or {})}
    turn = more * Rotation.from_euler("xyz", old["turn"], degrees=True)
    moved = gain * more.apply(np.array(old["move"])) + np.array(move)
    hand = {"turn": degrees_of(turn.as_matrix()), "scale": gain * old["scale"], "move": moved.round(9).tolist()}
    if np.allclose(hand["turn"] + hand["move"], 0.0, atol=1e-9) and abs(hand["scale"] - 1.0) < 1e-12:
        return Change({name: part for name, part in kept.items() if name != "hand"}, words)
    return Change({**kept, "hand": hand}, words)


SIDES = {"width": 0, "height": 1, "depth": 2}
"""A thing's sides: along which of its own axes each runs."""

SIDES_OF = {"plane": ("width", "depth"), "wall": ("width", "height"), "box": tuple(SIDES), "cylinder": tuple(SIDES)}
"""The sides that each kind of proxy has."""


def side(kept: dict, asked: DatumPart, opened, shot: Shot) -> Change:
    """A measured length of a proxy's side, whose ends are tied to the points about them."""
    thing = proxies_of(shot).get(asked.name)
    if thing is None or thing.kind not in SIDES_OF:
        raise KeelError("Choose a plane, wall, box or cylinder first.")
    if asked.axis not in SIDES_OF[thing.kind]:
        raise KeelError(f"A {thing.kind} has no {asked.axis or 'such side'}.", "Say which of its sides was measured.")
    word, axis = asked.axis, SIDES[asked.axis]
    way = turned_by(thing.turn)[:, axis] * thing.size[axis]
    foot = np.array(thing.position)
    # Things stand on their foot, in the middle of it.
    ends = (foot, foot + way) if axis == 1 else (foot - 0.5 * way, foot + 0.5 * way)
    _, ids, xyz = camera_in_world(opened, media(), shot)
    tied = []
    for end in ends:
        rows, weights = tied_to(end, xyz)
        tied.append({"tracks": ids[rows].tolist(), "weights": weights.tolist()})
    between = {"name": f"{thing.name}, {word}"[:100], "ends": tied}
    return with_length(kept, asked, between, f"Scale: {thing.name}'s {word}", "The length")
