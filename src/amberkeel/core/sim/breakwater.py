"""SKL_030 Breakwater: a pan with a long lens on a tripod, over a breakwater and its beacon; the camera only turns."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, box, drum, hull, join, panel, tube
from amberkeel.core.sim.motion import Wander, hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import far_hills, rock
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 65.0, 24.0
HEAD = (0.0, 3.2, 0.0)
"""Where the tripod's head stands, metres; the entrance pupil lies on its axis."""

STONE, BLOCK, TAR, IRON, PAINT, WATER, HEATH, CLOUD, CANVAS, WHITE = range(10)

MOLE_Z, MOLE_TOP = -44.0, 2.1


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.stone(rng),
        tx.concrete(rng),
        tx.planks(rng, 5, (0.14, 0.11, 0.09), 0.08, 0.4),
        tx.iron(rng, 0),
        tx.painted_strakes(rng, 6, (0.30, 0.09, 0.06)),
        tx.shingle(rng, 900) * np.float32(0.35),
        tx.heath(rng),
        tx.cloud(rng),
        tx.canvas(rng),
        tx.painted_strakes(rng, 5, (0.55, 0.54, 0.50)),
    ]


def _mole() -> list[Mesh]:
    """A mole of dressed stone from left to right, a parapet on it, blocks and boulders at its foot."""
    rng = np.random.default_rng(30)
    parts = [
        panel([-34.0, -1.0, MOLE_Z], [68.0, 0.0, 0.0], [0.0, 3.1, 0.0], STONE, 4.5, 1.5),
        panel([-34.0, MOLE_TOP, MOLE_Z], [68.0, 0.0, 0.0], [0.0, 0.0, -5.0], BLOCK, 3.0, 1.5),
        panel([-34.0, MOLE_TOP, MOLE_Z - 5.0], [68.0, 0.0, 0.0], [0.0, 1.3, 0.0], STONE, 3.1, 1.5),
    ]
    for x in np.arange(-33.0, 33.0, 2.3):
        size = rng.uniform([1.2, 1.0, 1.2], [2.1, 1.7, 1.9])
        centre = [x + rng.uniform(-0.5, 0.5), -0.6 + rng.uniform(0.0, 0.7), MOLE_Z + rng.uniform(1.6, 3.4)]
        parts.append(box(centre, size, BLOCK, 1.7, rng.uniform(-0.7, 0.7)))
        parts.append(rock([x + 1.2, -0.7, MOLE_Z + rng.uniform(3.4, 6.0)], rng.uniform(0.5, 1.1), STONE, rng))
    return parts


def _on_the_mole() -> list[Mesh]:
    rng = np.random.default_rng(31)
    parts = [
        drum([10.0, MOLE_TOP, MOLE_Z - 2.4], 1.5, 5.4, WHITE, IRON),
        drum([10.0, MOLE_TOP + 5.4, MOLE_Z - 2.4], 1.9, 0.22, IRON, IRON),
        drum([10.0, MOLE_TOP + 5.6, MOLE_Z - 2.4], 0.8, 1.5, PAINT, IRON),
        box([-14.0, MOLE_TOP + 1.2, MOLE_Z - 2.8], [4.4, 2.4, 2.8], PAINT, 2.0, 0.08),
        panel([-16.5, MOLE_TOP + 2.4, MOLE_Z - 1.2], [5.0, 0.0, 0.0], [0.0, 1.1, -1.7], TAR, 1.6),
        tube([-4.0, MOLE_TOP, MOLE_Z - 1.5], [-3.6, MOLE_TOP + 6.2, MOLE_Z - 1.5], 0.12, TAR, 0.9, 10, 0.07),
        tube([-3.6, MOLE_TOP + 5.6, MOLE_Z - 1.5], [-0.4, MOLE_TOP + 3.4, MOLE_Z - 1.0], 0.08, TAR, 0.9, 8),
    ]
    for k in range(10):
        angle = 2.0 * np.pi * k / 10
        foot = np.array([10.0 + 1.8 * np.sin(angle), MOLE_TOP + 5.6, MOLE_Z - 2.4 + 1.8 * np.cos(angle)])
        parts.append(tube(foot, foot + [0.0, 0.9, 0.0], 0.04, IRON, 0.4, 6))
    for x in (-29.0, -22.0, -8.5, 3.0, 8.0, 19.0, 25.0, 30.0):
        parts.append(drum([x, MOLE_TOP, MOLE_Z - 0.6], 0.32, 0.8, IRON, IRON))
        size = rng.uniform([0.8, 0.5, 0.8], [1.7, 1.3, 1.5])
        crate = [x + rng.uniform(1.0, 2.2), MOLE_TOP + size[1] / 2, MOLE_Z - rng.uniform(1.5, 3.2)]
        parts.append(box(crate, size, CANVAS if x > 0 else TAR, 1.1, rng.uniform(-0.5, 0.5)))
    return parts


def _afloat() -> list[Mesh]:
    """The water, two moored boats, and mooring posts nearer to the camera."""
    turned = np.array([[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [-1.0, 0.0, 0.0]])
    parts = [
        panel([-60.0, -1.0, -8.0], [120.0, 0.0, 0.0], [0.0, 0.0, -62.0], WATER, 7.0, 3.0),
        hull(7.4, 2.4, 1.5, PAINT).moved(None, [-11.5, -1.1, -33.0]),
        hull(6.2, 2.2, 1.4, WHITE).moved(turned, [6.5, -1.1, -30.0]),
        tube([-8.6, 0.2, -33.0], [-8.5, 5.4, -33.1], 0.08, TAR, 0.7, 10, 0.05),
    ]
    for x, z in ((-7.0, -24.0), (-3.0, -26.0), (1.5, -23.0), (8.6, -25.5), (12.0, -28.0), (-14.5, -27.0)):
        parts.append(tube([x, -1.2, z], [x + 0.1, 1.3, z], 0.17, TAR, 0.6, 12))
    return parts


def breakwater_scene(seed: int = 30) -> Scene:
    """Return the breakwater of SKL_030 across the water."""
    static = join(_mole() + _on_the_mole() + _afloat() + far_hills(HEATH, CLOUD))
    return build_scene(
        static,
        [],
        lambda: _textures(np.random.default_rng(seed)),
        (-0.5, 0.6, 0.62),
        haze_reach=0.004,
        near_m=62.0,
    )


def _tripod() -> Wander:
    """Return the tremor of a tripod's head in the wind: it turns a little, and moves not at all."""
    return hand_held(np.random.default_rng(1030), 0.0, 0.0004)


breakwater = Take(
    "SKL_030", 30, breakwater_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 24.0, 48.0, 72.0),
    [list(HEAD)] * 4,
    [[-6.5, 0.4, MOLE_Z], [-2.0, 0.8, MOLE_Z], [2.8, 2.7, MOLE_Z], [6.5, 5.6, MOLE_Z]],
    _tripod(), FOCAL_MM, SENSOR_WIDTH_MM, (-0.1, 0.0, 0.0),
    shutter=0.35,
)  # fmt: skip
"""SKL_030: a pan along the mole."""
