"""SKL_020 Sail loft: a wide push-in under timber beams, through a lens with strong barrel distortion."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.drawn import SetEdge
from amberkeel.core.sim.meshes import Mesh, box, drum, join, panel, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 16.0, 24.0
RADIAL = (-0.15, 0.03, 0.0)

FLOOR, WALL, BEAM, IRON, ROPE, SAIL, CLOUD, TAN = range(8)

HALF_WIDTH, BACK, FRONT, EAVES = 3.4, -9.0, 6.0, 2.7
BEAMS_Z = tuple(1.6 - 1.7 * k for k in range(7))
BEAM_Y, BEAM_TALL, BEAM_DEEP = 2.45, 0.26, 0.2
RAIL_Y = 1.25
BOARD_FLOOR, BOARD_WALL = 2.2 / 8, 2.4 / 10


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.planks(rng, 8, (0.33, 0.26, 0.18), 0.05, 0.7),
        tx.planks(rng, 10, (0.42, 0.40, 0.35), 0.05, 0.5),
        tx.planks(rng, 3, (0.24, 0.17, 0.11), 0.02, 0.9),
        tx.iron(rng, 0),
        tx.rope(rng),
        tx.canvas(rng),
        tx.cloud(rng),
        tx.canvas(rng, (0.36, 0.19, 0.10)),
    ]


def _shell() -> list[Mesh]:
    depth, side = FRONT - BACK, 2.0 * HALF_WIDTH
    parts = [
        panel([-HALF_WIDTH, 0.0, FRONT], [0.0, 0.0, -depth], [side, 0.0, 0.0], FLOOR, 2.2),
        panel([-HALF_WIDTH, 0.0, FRONT], [0.0, 0.0, -depth], [0.0, EAVES, 0.0], WALL, 2.4),
        panel([HALF_WIDTH, 0.0, FRONT], [0.0, 0.0, -depth], [0.0, EAVES, 0.0], WALL, 2.4),
        panel([-HALF_WIDTH, 0.0, BACK], [side, 0.0, 0.0], [0.0, EAVES + 2.2, 0.0], WALL, 2.4),
        panel([-30.0, 9.0, 20.0], [60.0, 0.0, 0.0], [0.0, 0.0, -60.0], CLOUD, 30.0, 6.0, glow=0.8),
    ]
    for x in (-HALF_WIDTH + 0.06, HALF_WIDTH - 0.06):
        parts.append(box([x, RAIL_Y, 0.5 * (FRONT + BACK)], [0.12, 0.14, depth], BEAM, 1.1))
        parts.append(box([x, 0.11, 0.5 * (FRONT + BACK)], [0.10, 0.22, depth], BEAM, 1.3))
        parts.append(box([x, EAVES, 0.5 * (FRONT + BACK)], [0.16, 0.18, depth], BEAM, 1.2))
    return parts


def _frame() -> list[Mesh]:
    parts = []
    for z in BEAMS_Z:
        parts.append(box([0.0, BEAM_Y, z], [2.0 * HALF_WIDTH, BEAM_TALL, BEAM_DEEP], BEAM, 1.4))
        for side in (-1.0, 1.0):
            parts.append(box([side * (HALF_WIDTH - 0.1), 0.5 * EAVES, z], [0.18, EAVES, 0.16], BEAM, 1.2))
            parts.append(tube([side * HALF_WIDTH, EAVES, z], [0.0, 5.0, z], 0.09, BEAM, 1.0, 8))
        parts.append(tube([0.0, BEAM_Y, z], [0.0, 4.95, z], 0.07, BEAM, 0.9, 8))
    for share in (0.35, 0.7, 1.0):
        for side in (-1.0, 1.0):
            x, y = side * HALF_WIDTH * (1.0 - share), EAVES + share * 2.3
            parts.append(box([x, y, 0.5 * (FRONT + BACK)], [0.1, 0.12, FRONT - BACK], BEAM, 1.1))
    for x in (-1.15, 1.15):
        for y in (1.1, 1.95):
            parts.append(box([x, y, BACK + 0.06], [1.5, 0.09, 0.12], BEAM, 0.9))
        for dx in (-0.72, 0.0, 0.72):
            parts.append(box([x + dx, 1.52, BACK + 0.06], [0.08, 0.9, 0.12], BEAM, 0.9))
        parts.append(panel([x - 0.72, 1.1, BACK + 0.03], [1.44, 0.0, 0.0], [0.0, 0.85, 0.0], CLOUD, 6.0, glow=0.9))
    return parts


def _work() -> list[Mesh]:
    parts = []
    for x, z, length in ((-1.75, -2.2, 4.2), (1.9, -4.0, 3.6)):
        parts.append(box([x, 0.80, z], [0.95, 0.08, length], FLOOR, 1.0))
        for dx in (-0.38, 0.38):
            for dz in (-0.45 * length, 0.0, 0.45 * length):
                parts.append(box([x + dx, 0.38, z + dz], [0.09, 0.76, 0.09], BEAM, 0.7))
    parts += [
        box([-1.75, 0.95, -1.4], [0.7, 0.22, 1.2], SAIL, 0.9, 0.08),
        box([-1.7, 0.92, -3.2], [0.6, 0.16, 0.9], TAN, 0.8, -0.2),
        box([1.9, 0.93, -3.3], [0.7, 0.18, 1.1], TAN, 0.8, 0.15),
        box([1.85, 0.96, -4.9], [0.6, 0.24, 0.8], SAIL, 0.8, -0.1),
        box([2.6, 0.35, 0.4], [0.8, 0.7, 0.9], WALL, 0.8, 0.2),
        box([2.65, 0.88, 0.35], [0.55, 0.35, 0.6], BEAM, 0.7, -0.15),
        box([-2.7, 0.3, 1.4], [0.7, 0.6, 0.8], FLOOR, 0.8, -0.25),
        box([0.5, 0.2, -5.6], [0.9, 0.4, 0.6], BEAM, 0.8, 0.5),
        box([-0.4, 0.13, -1.2], [1.1, 0.26, 0.7], SAIL, 1.0, 0.3),
        drum([2.75, 0.0, -1.4], 0.27, 0.8, IRON, IRON),
        drum([-2.8, 0.0, -5.4], 0.27, 0.8, IRON, FLOOR),
        drum([-0.9, 0.0, -6.6], 0.25, 0.7, IRON, IRON),
    ]
    for x, y, z, cloth in ((-3.0, 1.35, -3.4, SAIL), (1.0, 1.30, -4.4, TAN), (-0.9, 1.25, -6.2, SAIL)):
        parts.append(panel([x, y, z], [0.8, 0.0, 0.25], [0.0, 1.05, 0.05], cloth, 1.1))
    return parts + coil([0.8, 0.0, 0.2], ROPE) + coil([-1.0, 0.0, -4.3], ROPE, 0.3)


def sail_loft_scene(seed: int = 20) -> Scene:
    """Return the sail loft of SKL_020, lit from a glazed roof."""
    static = join(_shell() + _frame() + _work())
    return build_scene(
        static,
        [],
        lambda: _textures(np.random.default_rng(seed)),
        (0.3, 0.85, 0.35),
        sun_power=0.9,
        sky_power=1.5,
        haze_reach=0.004,
    )


def edges() -> list[SetEdge]:
    """Return edges of the loft that an artist would draw along."""
    low, near = BEAM_Y - 0.5 * BEAM_TALL, 0.5 * BEAM_DEEP
    found = [SetEdge("x", (-HALF_WIDTH, low, z + near), (HALF_WIDTH, low, z + near)) for z in BEAMS_Z[:4]]
    for side in (-1.0, 1.0):
        x = side * (HALF_WIDTH - 0.12)
        found.append(SetEdge("z", (x, RAIL_Y + 0.07, 2.0), (x, RAIL_Y + 0.07, -7.5)))
        found.append(SetEdge("z", (x + 0.02 * side, 0.22, -0.4), (x + 0.02 * side, 0.22, -7.5)))
        inner = side * (HALF_WIDTH - 0.19)
        found.append(SetEdge("y", (inner, 1.0, BEAMS_Z[1] + 0.08), (inner, 2.25, BEAMS_Z[1] + 0.08)))
        found.append(SetEdge("y", (inner, 0.6, BEAMS_Z[2] + 0.08), (inner, 2.25, BEAMS_Z[2] + 0.08)))
    found.append(SetEdge("z", (-1.275, 0.84, -0.1), (-1.275, 0.84, -4.3)))
    found.append(SetEdge("z", (1.425, 0.84, -2.2), (1.425, 0.84, -5.8)))
    for x, z in ((-HALF_WIDTH + 7 * BOARD_FLOOR, 3.6), (-HALF_WIDTH + 15 * BOARD_FLOOR, 2.2)):
        found.append(SetEdge("z", (x, 0.0, z), (x, 0.0, -7.0)))
    found.append(SetEdge("z", (-HALF_WIDTH, 8 * BOARD_WALL, 1.4), (-HALF_WIDTH, 8 * BOARD_WALL, -0.1)))
    return found


sail_loft = Take(
    "SKL_020", 20, sail_loft_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 24.0, 48.0, 72.0),
    [[2.35, 1.50, 4.9], [2.15, 1.48, 4.1], [1.85, 1.46, 3.2], [1.5, 1.45, 2.2]],
    [[-2.6, 1.30, -4.0], [-2.5, 1.28, -4.0], [-2.3, 1.30, -4.0], [-2.0, 1.33, -4.0]],
    hand_held(np.random.default_rng(1020), 0.012, 0.004), FOCAL_MM, SENSOR_WIDTH_MM, RADIAL,
    grain=1.4,
)  # fmt: skip
"""SKL_020: a push in under the beams."""
