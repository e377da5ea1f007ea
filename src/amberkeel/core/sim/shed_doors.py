"""SKL_040 Shed doors: a slow creep towards planked doors and paving, with almost no parallax."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.drawn import SetEdge
from amberkeel.core.sim.meshes import Mesh, box, drum, join, panel, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil, far_hills
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 32.0, 24.0
K1 = -0.06

BOARDS, DOOR, TIMBER, PAVING, IRON, ROPE, HEATH, CLOUD, SLATE = range(9)

WALL_Z, DOOR_WIDE, DOOR_TALL = -6.0, 1.7, 2.9
SLAB_X, SLAB_Z, JOINT = 1.10, 0.80, 0.035


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.planks(rng, 9, (0.26, 0.24, 0.21), 0.06, 0.8),
        tx.planks(rng, 7, (0.10, 0.22, 0.24), 0.06, 0.6),
        tx.planks(rng, 3, (0.30, 0.24, 0.17), 0.02, 0.8),
        tx.concrete(rng, (0.36, 0.35, 0.32)),
        tx.iron(rng, 0, (0.16, 0.15, 0.15)),
        tx.rope(rng),
        tx.heath(rng),
        tx.cloud(rng),
        tx.stone(rng, 8, (0.20, 0.21, 0.23)),
    ]


def _shed() -> list[Mesh]:
    up = [0.0, 1.0, 0.0]
    parts = [
        panel([-2.0, -0.1, WALL_Z - 0.12], [4.0, 0.0, 0.0], np.multiply(up, 3.3), IRON, 1.0),
        panel([-7.0, 0.0, WALL_Z], np.multiply(up, 4.2), [5.2, 0.0, 0.0], BOARDS, 2.2),
        panel([1.8, 0.0, WALL_Z], np.multiply(up, 4.2), [5.2, 0.0, 0.0], BOARDS, 2.2),
        panel([-1.8, 3.05, WALL_Z], np.multiply(up, 1.15), [3.6, 0.0, 0.0], BOARDS, 2.2),
        panel([-7.4, 4.1, WALL_Z + 0.5], [14.8, 0.0, 0.0], [0.0, 1.6, -2.6], SLATE, 2.6),
        box([0.0, 4.05, WALL_Z + 0.25], [14.6, 0.16, 0.6], TIMBER, 1.2),
        box([0.0, 2.97, WALL_Z + 0.08], [3.9, 0.2, 0.16], TIMBER, 1.0),
        box([0.0, 3.45, WALL_Z + 0.05], [13.8, 0.12, 0.08], TIMBER, 1.1),
    ]
    for x in (-1.86, 1.86):
        parts.append(box([x, 1.5, WALL_Z + 0.08], [0.2, 3.0, 0.16], TIMBER, 1.0))
    for x in (-4.6, 4.6):
        parts.append(box([x, 2.1, WALL_Z + 0.06], [0.18, 4.2, 0.12], TIMBER, 1.0))
    for side in (-1.0, 1.0):
        left = -DOOR_WIDE - 0.02 if side < 0 else 0.02
        parts.append(panel([left, 0.04, WALL_Z + 0.03], [0.0, DOOR_TALL - 0.08, 0.0], [DOOR_WIDE, 0.0, 0.0], DOOR, 1.9))
        for y in (0.35, 1.45, 2.6):
            parts.append(box([left + 0.5 * DOOR_WIDE, y, WALL_Z + 0.06], [DOOR_WIDE - 0.06, 0.18, 0.06], TIMBER, 0.9))
        for y in (0.55, 2.4):
            parts.append(box([side * 1.35, y, WALL_Z + 0.11], [0.7, 0.06, 0.03], IRON, 0.5))
    return parts


def _paving() -> list[Mesh]:
    rng = np.random.default_rng(40)
    parts = [panel([-9.0, -0.06, 4.0], [18.0, 0.0, 0.0], [0.0, 0.0, -10.0], SLATE, 2.0)]
    for i in range(-7, 8):
        for k in range(12):
            centre = [SLAB_X * i, -0.03 + rng.uniform(-0.003, 0.003), WALL_Z + 0.45 + SLAB_Z * k]
            parts.append(box(centre, [SLAB_X - JOINT, 0.06, SLAB_Z - JOINT], PAVING, rng.uniform(1.6, 2.4)))
    return parts


def _things() -> list[Mesh]:
    parts = [
        drum([-2.6, 0.0, WALL_Z + 0.5], 0.28, 0.85, IRON, TIMBER),
        drum([-3.25, 0.0, WALL_Z + 0.6], 0.28, 0.85, IRON, IRON),
        box([2.75, 0.3, WALL_Z + 0.6], [0.9, 0.6, 0.6], TIMBER, 0.8),
        box([2.7, 0.78, WALL_Z + 0.55], [0.55, 0.36, 0.45], BOARDS, 0.7, 0.2),
        tube([3.6, 0.0, WALL_Z + 0.7], [3.75, 3.3, WALL_Z + 0.15], 0.04, TIMBER, 0.6, 8),
        tube([4.05, 0.0, WALL_Z + 0.7], [4.2, 3.3, WALL_Z + 0.15], 0.04, TIMBER, 0.6, 8),
    ]
    for k in range(8):
        parts.append(
            tube(
                [3.62 + 0.02 * k, 0.3 + 0.38 * k, WALL_Z + 0.66 - 0.06 * k],
                [4.07 + 0.02 * k, 0.3 + 0.38 * k, WALL_Z + 0.66 - 0.06 * k],
                0.022,
                TIMBER,
                0.6,
                6,
            )
        )
    return parts + coil([-1.0, 0.0, WALL_Z + 1.1], ROPE, 0.3)


def shed_doors_scene(seed: int = 40) -> Scene:
    """Return the shed of SKL_040 behind its paving."""
    static = join(_shed() + _paving() + _things() + far_hills(HEATH, CLOUD))
    return build_scene(static, [], lambda: _textures(np.random.default_rng(seed)), (0.45, 0.7, 0.6))


def edges() -> list[SetEdge]:
    """Return edges of doors, wall and paving that an artist would draw along."""
    face = WALL_Z + 0.09
    found = [
        SetEdge("x", (-1.95, 2.87, WALL_Z + 0.16), (1.95, 2.87, WALL_Z + 0.16)),
        SetEdge("x", (-4.5, 3.39, face), (2.8, 3.39, face)),
        SetEdge("x", (-1.68, 1.36, face), (-0.05, 1.36, face)),
        SetEdge("x", (0.05, 1.36, face), (1.66, 1.36, face)),
    ]
    for x, top in ((-1.76, 2.85), (1.76, 2.85)):
        found.append(SetEdge("y", (x, 0.02, WALL_Z + 0.16), (x, top, WALL_Z + 0.16)))
    for x, face_x in ((-4.51, WALL_Z + 0.12), (-1.96, WALL_Z + 0.16)):
        found.append(SetEdge("y", (x, 0.9, face_x), (x, 2.9, face_x)))
    edge_x = 0.5 * (SLAB_X - JOINT)
    for i in (-3, -2, -1, 0, 1):
        x = SLAB_X * i + edge_x
        found.append(SetEdge("z", (x, 0.0, WALL_Z + 1.5), (x, 0.0, WALL_Z + 7.0)))
    for k in (2, 4):
        z = WALL_Z + 0.45 + SLAB_Z * k + 0.5 * (SLAB_Z - JOINT)
        found.append(SetEdge("x", (-4.0, 0.0, z), (3.0, 0.0, z)))
    return found


shed_doors = Take(
    "SKL_040", 40, shed_doors_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 36.0, 72.0),
    [[3.6, 1.82, 3.10], [3.52, 1.81, 2.95], [3.42, 1.80, 2.78]],
    [[-0.7, 1.15, -6.0], [-0.7, 1.15, -6.0], [-0.7, 1.16, -6.0]],
    hand_held(np.random.default_rng(1040), 0.004, 0.002), FOCAL_MM, SENSOR_WIDTH_MM, (K1, 0.0, 0.0),
)  # fmt: skip
"""SKL_040: a creep towards the doors."""
