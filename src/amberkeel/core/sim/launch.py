"""SKL_090 Launch: a deckhand's small camera on a launch that runs along a quay; its rows are read one after another."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, box, drum, hull, join, panel, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil, far_hills
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 17.0, 24.0
READOUT = 0.58
"""Share of the frame interval between the camera's first and last row."""

STONE, PAVING, TAR, IRON, PAINT, WATER, HEATH, CLOUD, BOARDS, ROPE, CANVAS = range(11)

QUAY_Z, QUAY_TOP = -5.2, 1.7


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.stone(rng),
        tx.concrete(rng),
        tx.planks(rng, 5, (0.13, 0.11, 0.10), 0.08, 0.4),
        tx.iron(rng, 0),
        tx.painted_strakes(rng),
        tx.shingle(rng, 900) * np.float32(0.35),
        tx.heath(rng),
        tx.cloud(rng),
        tx.planks(rng, 9, (0.30, 0.25, 0.19), 0.06, 0.7),
        tx.rope(rng),
        tx.canvas(rng),
    ]


def _quay() -> list[Mesh]:
    parts = [
        panel([-16.0, -0.9, QUAY_Z], [32.0, 0.0, 0.0], [0.0, QUAY_TOP + 0.9, 0.0], STONE, 2.6),
        panel([-16.0, QUAY_TOP, QUAY_Z], [32.0, 0.0, 0.0], [0.0, 0.0, -9.0], PAVING, 2.4),
        panel([-30.0, -0.8, 8.0], [60.0, 0.0, 0.0], [0.0, 0.0, -14.0], WATER, 4.0, 1.5),
        panel([-11.0, QUAY_TOP, QUAY_Z - 6.0], [9.0, 0.0, 0.0], [0.0, 3.6, 0.0], BOARDS, 2.2),
        panel([-11.4, QUAY_TOP + 3.5, QUAY_Z - 5.6], [9.8, 0.0, 0.0], [0.0, 1.5, -2.4], TAR, 2.0),
        panel([1.0, QUAY_TOP, QUAY_Z - 7.0], [11.0, 0.0, 0.0], [0.0, 3.0, 0.0], STONE, 2.3),
    ]
    for k, x in enumerate(np.arange(-14.0, 14.1, 1.9)):
        parts.append(tube([x, -1.0, QUAY_Z + 0.16], [x, QUAY_TOP + 0.35, QUAY_Z + 0.12], 0.14, TAR, 0.6, 10))
        if k % 3 == 1:
            for side in (0.55, 0.95):
                parts.append(tube([x + side, -0.9, QUAY_Z + 0.07], [x + side, 1.9, QUAY_Z + 0.07], 0.03, IRON, 0.5, 6))
            for y in np.arange(-0.6, 1.9, 0.3):
                rung = [x + 0.55, y, QUAY_Z + 0.07], [x + 0.95, y, QUAY_Z + 0.07]
                parts.append(tube(*rung, 0.022, IRON, 0.4, 6))
    return parts


def _alongside() -> list[Mesh]:
    rng = np.random.default_rng(90)
    parts = [
        hull(5.0, 1.8, 1.1, PAINT).moved(None, [-5.2, -0.85, QUAY_Z + 1.5]),
        hull(4.2, 1.6, 1.0, TAR).moved(None, [3.4, -0.85, QUAY_Z + 1.4]),
        tube([-3.0, 0.0, QUAY_Z + 1.5], [-2.9, 4.4, QUAY_Z + 1.5], 0.06, BOARDS, 0.7, 10, 0.04),
        tube([-8.0, QUAY_TOP, QUAY_Z - 1.0], [-7.7, QUAY_TOP + 4.2, QUAY_Z - 0.8], 0.1, TAR, 0.7, 10, 0.07),
        tube([-7.7, QUAY_TOP + 3.9, QUAY_Z - 0.8], [-6.2, QUAY_TOP + 2.4, QUAY_Z + 0.2], 0.07, TAR, 0.7, 8),
        box([-0.4, 0.1, QUAY_Z + 0.4], [1.5, 0.9, 0.5], BOARDS, 0.9, 0.05),
    ]
    for x in np.arange(-13.0, 13.5, 2.1):
        parts.append(drum([x, QUAY_TOP, QUAY_Z - 0.5], 0.17, 0.5, IRON, IRON))
        size = rng.uniform([0.5, 0.4, 0.5], [1.1, 1.0, 1.0])
        crate = [x + rng.uniform(0.6, 1.4), QUAY_TOP + size[1] / 2, QUAY_Z - rng.uniform(1.2, 4.0)]
        parts.append(box(crate, size, CANVAS if rng.random() < 0.4 else BOARDS, 0.9, rng.uniform(-0.6, 0.6)))
    for x in (-4.3, 1.2, 6.0):
        parts += coil([x, QUAY_TOP, QUAY_Z - 1.1], ROPE, 0.3, 3)
    return parts


def launch_scene(seed: int = 90) -> Scene:
    """Return the quay of SKL_090 as it is seen from the water."""
    static = join(_quay() + _alongside() + far_hills(HEATH, CLOUD))
    return build_scene(static, [], lambda: _textures(np.random.default_rng(seed)), (0.4, 0.55, 0.7))


launch = Take(
    "SKL_090", 90, launch_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 24.0, 48.0, 72.0),
    [[-4.6, 1.25, 1.0], [-3.3, 1.32, 0.7], [-1.9, 1.22, 0.5], [-0.5, 1.30, 0.6]],
    [[-1.6, 1.3, -7.0], [-0.6, 1.4, -7.0], [0.9, 1.3, -7.0], [2.0, 1.35, -7.0]],
    hand_held(np.random.default_rng(1090), 0.03, 0.012), FOCAL_MM, SENSOR_WIDTH_MM, (-0.09, 0.0, 0.0),
    shutter=0.3, readout=READOUT,
)  # fmt: skip
"""SKL_090: along the quay on a moving launch."""
