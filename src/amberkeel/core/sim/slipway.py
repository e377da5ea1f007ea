"""SKL_010 Slipway: a hand-held walk-in beside a hull on its cradle, while two yard hands cross."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.actors import yard_hand
from amberkeel.core.sim.meshes import Mesh, box, drum, hull, join, panel, surface, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil, far_hills
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 84
FOCAL_MM, SENSOR_WIDTH_MM = 27.0, 24.0

PLANKS, STRAKES, CONCRETE, SHINGLE, STONE, IRON, ROPE, CANVAS, HEATH, CLOUD, COAT, TROUSERS, SKIN, OIL, TAR = range(15)


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.planks(rng, 8, (0.30, 0.25, 0.20), 0.06, 0.8),
        tx.painted_strakes(rng),
        tx.concrete(rng),
        tx.shingle(rng),
        tx.stone(rng),
        tx.iron(rng),
        tx.rope(rng),
        tx.canvas(rng),
        tx.heath(rng),
        tx.cloud(rng),
        tx.cloth(rng, (0.52, 0.30, 0.07)),
        tx.cloth(rng, (0.08, 0.09, 0.12)),
        tx.cloth(rng, (0.42, 0.28, 0.2)),
        tx.iron(rng, 0, (0.10, 0.20, 0.24)),
        tx.planks(rng, 5, (0.12, 0.10, 0.09), 0.08, 0.3),
    ]


def _ground() -> list[Mesh]:
    x, z = np.meshgrid(np.arange(-14.0, 16.1, 0.5), np.arange(-24.0, 9.1, 0.5))
    y = 0.03 * np.sin(1.3 * x + 0.4 * z) + 0.05 * np.sin(0.5 * z - 0.7 * x) - 0.05
    beach = np.stack([x, y - 0.05, z], -1)
    slab = panel([-4.2, 0.0, 8.0], [6.4, 0.0, 0.0], [0.0, 0.0, -26.0], CONCRETE, 2.6, 0.5)
    rails = [box([rx, 0.06, -5.0], [0.10, 0.12, 24.0], IRON, 0.8) for rx in (-0.75, 0.75)]
    sleepers = [box([0.0, 0.02, z], [2.4, 0.09, 0.24], TAR, 0.9) for z in np.arange(-15.0, 5.0, 1.15)]
    return [surface(beach, beach[..., [0, 2]] / 1.7, SHINGLE), slab, *rails, *sleepers]


def _boat() -> list[Mesh]:
    turn = np.array([[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [-1.0, 0.0, 0.0]])
    body = hull(8.6, 2.7, 1.75, STRAKES).moved(turn, [0.0, 0.72, -2.2])
    cover = panel([-1.0, 2.52, -3.6], [1.0, 0.55, 0.0], [0.0, 0.0, -5.4], CANVAS, 1.6, 0.4)
    other = panel([0.0, 3.07, -3.6], [1.0, -0.55, 0.0], [0.0, 0.0, -5.4], CANVAS, 1.6, 0.4)
    stern = np.linspace(-1.0, 1.0, 25)
    edge = np.stack(
        [0.5 * 2.7 * 0.62 * np.sign(stern) * np.abs(stern) ** 0.62, 0.93 + 1.645 * np.abs(stern) ** 1.75], 1
    )
    top = np.stack([edge[:, 0], np.full(25, 2.58)], 1)
    board = np.stack([np.concatenate([e, np.full((25, 1), -2.21)], 1) for e in (edge, top)])
    transom = surface(board, board[..., :2] / 1.6, PLANKS)
    parts = [body, transom, cover, other, tube([0.0, 2.2, -7.6], [0.0, 6.4, -7.9], 0.085, PLANKS, 0.7, 12, 0.05)]
    for z in (-3.4, -5.2, -7.0, -8.8):
        parts.append(box([0.0, 0.30, z], [2.7, 0.26, 0.28], TAR, 1.1))
        for side in (-1.0, 1.0):
            foot, head = [side * 1.35, 0.4, z], [side * 1.02, 1.75, z]
            parts.append(tube(foot, head, 0.075, PLANKS, 0.8, 10))
            parts.append(box([side * 1.32, 0.52, z], [0.34, 0.3, 0.5], PLANKS, 0.7))
    parts.append(box([-0.9, 0.2, -6.0], [0.22, 0.2, 7.4], TAR, 1.0))
    parts.append(box([0.9, 0.2, -6.0], [0.22, 0.2, 7.4], TAR, 1.0))
    return parts


def _yard() -> list[Mesh]:
    rng = np.random.default_rng(10)
    parts = [
        panel([2.6, -0.1, -15.5], [9.0, 0.0, 0.0], [0.0, 4.4, 0.0], PLANKS, 2.4),
        panel([2.6, -0.1, -15.5], [0.0, 0.0, 6.5], [0.0, 4.4, 0.0], PLANKS, 2.4),
        panel([2.2, 4.1, -8.7], [5.0, 1.9, 0.0], [0.0, 0.0, -7.2], IRON, 2.2),
        panel([2.58, 0.0, -12.6], [0.0, 0.0, 2.4], [0.0, 2.7, 0.0], TAR, 1.7),
        panel([-14.0, -0.2, -19.0], [28.0, 0.0, 0.0], [0.0, 1.9, 0.0], STONE, 2.2),
        box([-4.9, 0.42, -9.0], [0.7, 1.0, 14.0], STONE, 2.0),
    ]
    for k, (x, z) in enumerate([(-2.9, -2.6), (-3.5, -3.2), (-3.0, -7.6), (2.0, -8.4), (1.75, -1.4)]):
        parts.append(drum([x, 0.0, z], 0.29, 0.88, OIL if k % 2 else IRON, IRON))
    for k, (x, z) in enumerate([(-3.3, -5.2), (-2.75, -5.5), (2.0, -3.4), (2.15, -5.3), (-3.6, -10.5), (1.9, -10.0)]):
        size = rng.uniform([0.5, 0.35, 0.5], [0.9, 0.7, 0.8])
        parts.append(box([x, size[1] / 2, z], size, PLANKS if k % 2 else TAR, 0.8, rng.uniform(-0.6, 0.6)))
    parts.append(box([-3.25, 0.95, -5.2], [0.5, 0.35, 0.45], CANVAS, 0.8, 0.4))
    for k in range(6):
        parts.append(
            box([2.1 + 0.03 * k, 0.09 + 0.1 * k, -6.9], [0.26, 0.08, 2.9 - 0.2 * k], PLANKS, 1.0, 0.04 * (k - 3))
        )
    parts += coil([-2.3, 0.0, -4.0], ROPE)
    for z in (-9.4, -9.9):
        parts.append(tube([2.55, 0.0, z + 0.9], [2.6, 3.6, z], 0.035, PLANKS, 0.6, 8))
    for k in range(9):
        parts.append(
            tube(
                [2.56, 0.3 + 0.38 * k, -8.55 - 0.1 * k], [2.56, 0.3 + 0.38 * k, -9.05 - 0.1 * k], 0.022, PLANKS, 0.6, 6
            )
        )
    return parts


def slipway_scene(seed: int = 10) -> Scene:
    """Return the boatyard of SKL_010 with its two yard hands."""
    last = FIRST_FRAME + FRAME_COUNT - 1
    hands = [
        yard_hand([-3.6, 0.0, -0.6], [2.6, 0.0, -0.9], (FIRST_FRAME + 2, last - 16), (COAT, TROUSERS, SKIN), PLANKS),
        yard_hand([3.4, 0.0, -2.0], [-4.4, 0.0, -1.6], (FIRST_FRAME + 10, last + 6), (OIL, TROUSERS, SKIN)),
    ]
    static = join(_ground() + _boat() + _yard() + far_hills(HEATH, CLOUD))
    return build_scene(static, hands, lambda: _textures(np.random.default_rng(seed)), (-0.55, 0.62, 0.56))


slipway = Take(
    "SKL_010", 10, slipway_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 28.0, 56.0, 84.0),
    [[-2.1, 1.62, 5.4], [-2.0, 1.60, 4.4], [-1.75, 1.63, 3.25], [-1.45, 1.58, 2.0]],
    [[-0.3, 1.35, -6.0], [-0.4, 1.3, -6.0], [-0.2, 1.35, -6.0], [0.1, 1.42, -6.0]],
    hand_held(np.random.default_rng(1010)), FOCAL_MM, SENSOR_WIDTH_MM, (-0.035, 0.0, 0.0),
    exposure=lambda t: 1.0 + 0.05 * np.sin((t - FIRST_FRAME) / 19.0),
)  # fmt: skip
"""SKL_010: a walk in beside the hull."""
