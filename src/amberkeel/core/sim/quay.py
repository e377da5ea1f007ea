"""The quay of SKL_060 and SKL_061: one set, a clean pass and a live pass, with printed tags standing about.

Both are of one lens model with different focal lengths, from different places. A crate may be carried through the set
(`carried`): a body that moves on its own.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.actors import yard_hand
from amberkeel.core.sim.meshes import Mesh, box, drum, hull, join, panel, surface, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.render import Shot, truth
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil, far_hills
from amberkeel.core.sim.take import Take

CLEAN_FIRST, CLEAN_COUNT, CLEAN_FOCAL_MM = 1001, 72, 24.0
LIVE_FIRST, LIVE_COUNT, LIVE_FOCAL_MM = 1001, 72, 35.0
SENSOR_WIDTH_MM = 24.0
K1 = -0.03

PAVING, STONE, BOARDS, TAR, IRON, PAINT, ROPE, CANVAS, HEATH, CLOUD, WATER, COAT, TROUSERS, SKIN, SAIL = range(15)

TAG_SIDE = 0.5
"""Side of a printed tag with its paper, metres; `textures.TAG_SHARE` of it is the black square."""


@dataclass(frozen=True)
class Board:
    """A printed tag in the set: its number, the middle of its lower edge (metres), and its turns about Y and backwards
    (radians).
    """

    number: int
    foot: tuple[float, float, float]
    turn: float
    lean: float = 0.0

    def sides(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return its lower left corner, and the vectors along it and up it, metres."""
        along = rotation_exp(np.array([0.0, self.turn, 0.0])) @ np.array([TAG_SIDE, 0.0, 0.0])
        up = np.array([0.0, 1.0, 0.0]) * np.cos(self.lean)
        back = np.cross(along, [0.0, 1.0, 0.0]) / TAG_SIDE * -np.sin(self.lean)
        return np.array(self.foot) - along / 2.0, along, TAG_SIDE * (up + back)

    @property
    def centre(self) -> np.ndarray:
        """The tag's middle (3,), metres."""
        corner, along, up = self.sides()
        return corner + 0.5 * along + 0.5 * up


BOARDS_SET = (
    Board(3, (-2.6, 0.0, -3.2), 0.35, 0.2), Board(8, (2.3, 0.0, -2.6), -0.4, 0.2), Board(11, (0.2, 0.0, -5.4), 0.1),
    Board(14, (-3.4, 1.5, -8.42), 0.0), Board(17, (1.6, 1.9, -8.42), 0.0), Board(21, (4.1, 0.0, -6.0), -0.5, 0.2),
    Board(25, (-4.6, 0.0, -6.2), 0.5, 0.2), Board(30, (-0.9, 2.6, -8.42), 0.0),
)  # fmt: skip


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.concrete(rng),
        tx.stone(rng),
        tx.planks(rng, 9, (0.30, 0.25, 0.19), 0.06, 0.7),
        tx.planks(rng, 5, (0.12, 0.10, 0.09), 0.08, 0.3),
        tx.iron(rng, 0),
        tx.painted_strakes(rng),
        tx.rope(rng),
        tx.canvas(rng),
        tx.heath(rng),
        tx.cloud(rng),
        tx.shingle(rng, 900) * np.float32(0.35),
        tx.cloth(rng, (0.07, 0.20, 0.26)),
        tx.cloth(rng, (0.10, 0.09, 0.08)),
        tx.cloth(rng, (0.42, 0.28, 0.2)),
        tx.painted_strakes(rng, 7, (0.36, 0.12, 0.07), (0.5, 0.42, 0.3)),
        *[tx.tag(board.number) for board in BOARDS_SET],
    ]


def _ground() -> list[Mesh]:
    x, z = np.meshgrid(np.arange(-9.0, 9.1, 0.5), np.arange(-9.0, 6.1, 0.5))
    y = 0.015 * np.sin(1.1 * x) * np.sin(0.9 * z) - 0.015
    return [
        surface(np.stack([x, y, z], -1), np.stack([x, z], -1) / 2.3, PAVING),
        panel([-9.0, -0.04, -8.5], [18.0, 0.0, 0.0], [0.0, 4.6, 0.0], STONE, 2.6),
        panel([-9.4, 4.5, -8.3], [18.8, 0.0, 0.0], [0.0, 1.6, -2.6], TAR, 2.0),
        panel([-6.6, 0.0, -8.44], [1.9, 0.0, 0.0], [0.0, 2.5, 0.0], BOARDS, 1.8),
        panel([2.6, 0.0, -8.44], [2.4, 0.0, 0.0], [0.0, 2.7, 0.0], TAR, 1.7),
        panel([9.0, -1.0, -30.0], [22.0, 0.0, 0.0], [0.0, 0.0, 36.0], WATER, 4.0, 1.5),
    ]


def _cargo() -> list[Mesh]:
    rng = np.random.default_rng(60)
    parts = [hull(5.2, 1.9, 1.1, PAINT).moved(None, [4.6, 0.05, -3.9])]
    parts += [box([4.9 + 1.6 * k, 0.1, -3.9], [0.25, 0.25, 2.0], TAR, 0.8) for k in range(3)]
    for x, z in ((-4.9, -2.0), (-1.6, -7.6), (3.2, -1.2), (-5.6, -7.4), (1.2, -7.8)):
        parts.append(drum([x, 0.0, z], 0.29, 0.88, IRON, IRON))
    for k, (x, z) in enumerate([(-3.6, -4.4), (-2.9, -7.3), (2.6, -5.2), (1.5, -3.9), (-5.4, -4.2), (3.3, -7.6)]):
        size = rng.uniform([0.5, 0.4, 0.5], [1.1, 1.0, 1.0])
        parts.append(box([x, size[1] / 2, z], size, CANVAS if k % 3 == 1 else BOARDS, 0.9, rng.uniform(-0.6, 0.6)))
    parts += [tube([x, 0.0, -0.4], [x, 0.55, -0.4], 0.15, IRON, 0.5, 12) for x in (-3.9, 3.9)]
    parts += [tube([-6.3, 0.0, -8.0], [-6.1, 4.4, -8.3], 0.05, TAR, 0.7, 8)]
    for x, z in ((-1.5, -4.2), (2.9, -3.6)):
        parts += coil([x, 0.0, z], ROPE, 0.32, 3)
    return parts


def _tags() -> list[Mesh]:
    parts = []
    for k, board in enumerate(BOARDS_SET):
        corner, along, up = board.sides()
        # A picture's rows run down, so the panel begins at its upper edge: mirrored, a tag is none.
        parts.append(panel(corner + up, along, -up, SAIL + 1 + k, TAG_SIDE, 0.25))
    return parts


def quay_scene(actors: tuple[Callable[[float], Mesh], ...] = (), seed: int = 60) -> Scene:
    """Return the quay, with what moves through it."""
    return replace(_still(seed), actors=tuple(actors))


@lru_cache(maxsize=1)
def _still(seed: int) -> Scene:
    """Return the quay with nothing moving; its light takes some seconds to bake, and both passes have it."""
    static = join(_ground() + _cargo() + _tags() + far_hills(HEATH, CLOUD))
    return build_scene(static, [], lambda: _textures(np.random.default_rng(seed)), (0.5, 0.6, 0.65))


def _four(count: int) -> tuple[float, ...]:
    """Return four keys evenly over a count of frames."""
    return tuple(np.linspace(0.0, count, 4))


clean_pass = Take(
    "SKL_060", 60, quay_scene, CLEAN_FIRST, CLEAN_COUNT, _four(CLEAN_COUNT),
    [[-2.6, 1.6, 3.6], [-1.2, 1.65, 3.2], [0.4, 1.58, 3.1], [1.9, 1.62, 3.4]],
    [[-0.6, 1.2, -6.0], [-0.2, 1.2, -6.0], [0.1, 1.25, -6.0], [0.2, 1.2, -6.0]],
    hand_held(np.random.default_rng(1060)), CLEAN_FOCAL_MM, SENSOR_WIDTH_MM, (K1, 0.0, 0.0),
)  # fmt: skip
"""SKL_060: a walk past the cargo, nobody on the set."""


def _with_hand() -> Scene:
    last = LIVE_FIRST + LIVE_COUNT - 1
    way = [-3.4, 0.0, -1.7], [3.0, 0.0, -1.4]
    return quay_scene((yard_hand(*way, (LIVE_FIRST + 4, last - 6), (COAT, TROUSERS, SKIN)),))


live_pass = Take(
    "SKL_061", 61, _with_hand, LIVE_FIRST, LIVE_COUNT, _four(LIVE_COUNT),
    [[2.2, 1.5, 4.2], [1.5, 1.55, 3.5], [0.6, 1.62, 2.9], [-0.5, 1.6, 2.5]],
    [[-0.6, 1.1, -6.0], [-0.7, 1.15, -6.0], [-0.6, 1.2, -6.0], [-0.5, 1.2, -6.0]],
    hand_held(np.random.default_rng(1061)), LIVE_FOCAL_MM, SENSOR_WIDTH_MM, (0.5 * K1, 0.0, 0.0),
)  # fmt: skip
"""SKL_061: the same set from elsewhere, a yard hand crossing."""


@dataclass(frozen=True)
class Carried:
    """A crate that is carried through the quay: the shot, and where the crate is.

    Attributes
    ----------
    shot : to render. positions : (F, 3) of the crate's middle, metres. world_from_body : (F, 3, 3). corners : (8, 3)
        of the crate about its middle, metres.
    """

    shot: Shot
    positions: np.ndarray
    world_from_body: np.ndarray
    corners: np.ndarray

    @property
    def path(self) -> CameraPath:
        """The true camera."""
        return truth(self.shot)


CRATE_M, CARRIED_COUNT = 1.0, 48


def carried(
    walks: bool, width: int = 960, height: int = 540, frames: int = CARRIED_COUNT, empty: bool = False, samples: int = 9
) -> Carried:
    """Return a shot through which a crate of 1 m is carried, past a camera that stands or one that walks.

    Parameters
    ----------
    walks : whether the camera moves. width, height : of the picture, pixels. frames : how many. empty : the same shot
        without the crate. samples : of a pixel.
    """
    first = 1001

    def pose(time: float) -> tuple[np.ndarray, np.ndarray]:
        t = (time - first) / (CARRIED_COUNT - 1.0)
        place = np.array([-2.0 + 3.6 * t, 0.95 + 0.04 * np.sin(19.0 * t), -1.9 - 0.7 * t])
        return place, rotation_exp(np.array([0.06 * np.sin(7.0 * t), 0.5 + 1.1 * t, 0.08 * np.sin(11.0 * t)]))

    crate = box([0.0, 0.0, 0.0], [CRATE_M] * 3, SAIL, 1.3)

    def actor(time: float) -> Mesh:
        place, turn = pose(time)
        return crate.moved(turn, place)

    places = [[-0.5, 1.6, 3.2]] * 4
    if walks:
        places = [[-1.2, 1.55, 3.5], [-0.7, 1.6, 3.2], [-0.1, 1.57, 3.0], [0.5, 1.62, 2.9]]
    aims = [[-1.3, 1.1, -4.0], [-0.7, 1.1, -4.0], [0.3, 1.1, -4.0], [1.2, 1.1, -4.0]]
    if not walks:
        aims = [[-0.2, 1.1, -4.0]] * 4
    wander = hand_held(np.random.default_rng(1062)) if walks else None
    take = Take(
        "QUAY", 62, lambda: quay_scene(() if empty else (actor,)), first, CARRIED_COUNT, _four(CARRIED_COUNT),
        places, aims, wander, CLEAN_FOCAL_MM, SENSOR_WIDTH_MM, (K1, 0.0, 0.0),
    )  # fmt: skip
    shot = take(width, height, frames, samples)
    poses = [pose(float(f)) for f in shot.frames]
    corners = CRATE_M * (np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)]) - 0.5)
    return Carried(shot, np.array([p for p, _ in poses]), np.array([r for _, r in poses]), corners)
