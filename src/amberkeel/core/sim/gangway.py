"""SKL_050 Gangway: a hand-held run along a jetty's planks, with bursts of motion blur and one knocked frame."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, box, drum, join, panel, tube
from amberkeel.core.sim.motion import Jolt, hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil, far_hills
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 80
FOCAL_MM, SENSOR_WIDTH_MM = 24.0, 24.0
BURSTS = ((1018, 1023), (1042, 1047), (1065, 1068))
"""First and last frame of each burst of blur."""

KNOCKED = 1055
"""The frame on which something strikes the camera."""

DECK, TAR, STONE, IRON, ROPE, CANVAS, HEATH, CLOUD, WATER, PAINT = range(10)


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.planks(rng, 9, (0.34, 0.29, 0.23), 0.07, 0.7),
        tx.planks(rng, 5, (0.13, 0.11, 0.10), 0.08, 0.4),
        tx.stone(rng),
        tx.iron(rng, 0),
        tx.rope(rng),
        tx.canvas(rng),
        tx.heath(rng),
        tx.cloud(rng),
        tx.shingle(rng, 1400),
        tx.painted_strakes(rng, 6, (0.30, 0.09, 0.06)),
    ]


def _jetty() -> list[Mesh]:
    parts = [
        panel([-1.3, 0.0, 6.0], [2.6, 0.0, 0.0], [0.0, 0.0, -30.0], DECK, 2.2, 0.5),
        panel([-14.0, -1.4, 9.0], [28.0, 0.0, 0.0], [0.0, 0.0, -60.0], WATER, 3.0, 1.0),
    ]
    for k, z in enumerate(np.arange(4.5, -22.0, -2.1)):
        for side in (-1.0, 1.0):
            lean = 0.03 * np.sin(2.3 * k + side)
            parts.append(tube([1.22 * side, -1.4, z], [1.22 * side + lean, 1.12, z], 0.065, TAR, 0.6, 10))
            parts.append(tube([1.22 * side, 1.02, z], [1.22 * side, 1.0, z - 2.1], 0.026, ROPE, 0.4, 8))
            parts.append(tube([1.22 * side, 0.55, z], [1.22 * side, 0.52, z - 2.1], 0.026, ROPE, 0.4, 8))
        parts.append(box([0.0, 0.03, z - 0.9], [2.3, 0.05, 0.14], TAR, 0.8))
    return parts


def _stores() -> list[Mesh]:
    rng = np.random.default_rng(50)
    parts = [
        panel([-6.0, -1.4, -24.0], [12.0, 0.0, 0.0], [0.0, 3.1, 0.0], STONE, 2.4),
        panel([-5.0, 1.6, -25.0], [5.6, 0.0, 0.0], [0.0, 3.4, 0.0], PAINT, 2.2),
        panel([1.2, 1.6, -26.0], [4.4, 0.0, 0.0], [0.0, 2.5, 0.0], DECK, 2.0),
        box([-3.6, -0.35, -8.0], [1.9, 1.3, 6.0], PAINT, 1.6, 0.12),
        box([-3.6, 0.65, -9.2], [1.3, 0.9, 2.0], CANVAS, 1.2, 0.12),
        box([3.9, -0.5, -12.5], [2.1, 1.1, 6.5], TAR, 1.4, -0.15),
        tube([3.9, 0.0, -11.5], [3.8, 5.6, -11.7], 0.075, DECK, 0.7, 10, 0.05),
        tube([-3.6, 0.2, -7.0], [-3.5, 6.0, -7.2], 0.075, DECK, 0.7, 10, 0.05),
    ]
    for side, z in ((-1, -3.4), (1, -5.2), (-1, -9.6), (1, -13.0), (-1, -15.5)):
        parts.append(drum([0.92 * side, 0.0, z], 0.24, 0.72, IRON if side > 0 else PAINT, IRON))
    for side, z in ((1, -1.6), (-1, -6.4), (1, -8.2), (-1, -12.2), (1, -17.0), (-1, 1.4)):
        size = rng.uniform([0.35, 0.25, 0.35], [0.55, 0.6, 0.6])
        parts.append(box([0.92 * side, size[1] / 2, z], size, TAR if side > 0 else CANVAS, 0.8, rng.uniform(-0.4, 0.4)))
    return parts + coil([0.75, 0.0, -10.4], ROPE, 0.28) + coil([-0.8, 0.0, -2.0], ROPE, 0.26, 3)


def gangway_scene(seed: int = 50) -> Scene:
    """Return the jetty of SKL_050; nobody is on it."""
    static = join(_jetty() + _stores() + far_hills(HEATH, CLOUD))
    return build_scene(static, [], lambda: _textures(np.random.default_rng(seed)), (0.6, 0.55, 0.5))


def _jolts() -> tuple[Jolt, ...]:
    return (
        Jolt(1020.5, 1.5, 5.2, (0.034, 0.026, 0.006)),
        Jolt(1044.5, 1.5, 4.6, (0.012, 0.040, -0.008)),
        Jolt(1066.5, 1.0, 4.2, (-0.036, 0.012, 0.004)),
        Jolt(float(KNOCKED), 0.5, 20.0, (0.018, -0.024, 0.012), (0.02, 0.015, 0.0), power=6),
    )


gangway = Take(
    "SKL_050", 50, gangway_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 27.0, 54.0, 80.0),
    [[-0.25, 1.62, 4.6], [0.15, 1.66, 2.3], [-0.1, 1.6, -0.2], [0.2, 1.64, -2.7]],
    [[0.2, 1.1, -9.0], [-0.3, 1.05, -11.0], [0.3, 1.1, -13.0], [0.0, 1.15, -15.0]],
    hand_held(np.random.default_rng(1050), 0.035, 0.009), FOCAL_MM, SENSOR_WIDTH_MM, (-0.04, 0.0, 0.0),
    jolts=_jolts(), shutter=0.6,
)  # fmt: skip
"""SKL_050: a run over the planks."""
