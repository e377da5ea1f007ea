"""SKL_070 Lamp room: a night interior with little light, low contrast and heavy grain."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, box, drum, join, panel, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import coil
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 28.0, 24.0
GRAIN, EXPOSURE = 5.5, 0.42

STONE, DECK, IRON, BRASS, ROPE, CANVAS, TAR, NIGHT = range(8)


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.stone(rng),
        tx.planks(rng, 8, (0.28, 0.22, 0.16), 0.06, 0.5),
        tx.iron(rng, 0, (0.20, 0.20, 0.21)),
        tx.iron(rng, 0, (0.42, 0.31, 0.12)),
        tx.rope(rng),
        tx.canvas(rng),
        tx.planks(rng, 5, (0.13, 0.11, 0.10), 0.08, 0.4),
        tx.cloud(rng),
    ]


def _room() -> list[Mesh]:
    """Eight walls around the lamp, windows in the far ones, boards below."""
    parts = [panel([-4.5, 0.0, 4.5], [9.0, 0.0, 0.0], [0.0, 0.0, -9.0], DECK, 2.0)]
    turn = np.linspace(0.0, 2.0 * np.pi, 9) + np.pi / 8
    corners = np.stack([4.1 * np.sin(turn), 0 * turn, -4.1 * np.cos(turn)], 1)
    for a, b in zip(corners[:-1], corners[1:]):
        along, up = b - a, np.array([0.0, 1.0, 0.0])
        parts.append(panel(a, along, 1.0 * up, STONE, 1.9))
        parts.append(panel(a + 2.3 * up, along, 0.8 * up, STONE, 1.9))
        for share in (0.0, 0.86):
            parts.append(panel(a + share * along + up, 0.14 * along, 1.3 * up, STONE, 1.9))
        for share in (0.38, 0.62):
            parts.append(tube(a + share * along + up, a + share * along + 2.3 * up, 0.035, IRON, 0.5, 8))
        parts.append(tube(a + 0.14 * along + 1.65 * up, a + 0.86 * along + 1.65 * up, 0.03, IRON, 0.5, 8))
    return parts


def _lamp() -> list[Mesh]:
    parts = [
        drum([0.0, 0.0, -0.6], 0.62, 0.75, IRON, BRASS),
        drum([0.0, 0.75, -0.6], 0.34, 0.55, BRASS, BRASS),
        drum([0.0, 2.15, -0.6], 0.50, 0.22, BRASS, IRON),
    ]
    for k in range(8):
        angle = 2.0 * np.pi * k / 8
        foot = np.array([0.46 * np.sin(angle), 1.3, -0.6 + 0.46 * np.cos(angle)])
        parts.append(tube(foot, foot + [0.0, 0.85, 0.0], 0.02, BRASS, 0.4, 8))
    for k in range(5):
        parts.append(drum([0.0, 1.32 + 0.17 * k, -0.6], 0.27 - 0.03 * abs(k - 2), 0.1, CANVAS, BRASS))
    return parts


def _stores() -> list[Mesh]:
    parts = [
        box([-2.3, 0.35, -2.1], [0.8, 0.7, 0.6], TAR, 0.8, 0.4),
        box([-2.25, 0.85, -2.1], [0.5, 0.3, 0.4], DECK, 0.7, 0.1),
        box([2.2, 0.3, -2.4], [0.7, 0.6, 0.9], DECK, 0.8, -0.3),
        box([1.9, 0.25, 0.9], [0.5, 0.5, 0.5], TAR, 0.7, 0.6),
        drum([2.75, 0.0, -0.7], 0.27, 0.8, IRON, IRON),
        drum([-2.8, 0.0, 0.0], 0.25, 0.7, BRASS, IRON),
        box([-1.6, 0.45, 1.0], [0.6, 0.9, 0.3], DECK, 0.7, 0.9),
        tube([-1.2, 0.0, -3.3], [-0.9, 3.0, -3.5], 0.04, DECK, 0.6, 8),
        tube([-0.75, 0.0, -3.3], [-0.45, 3.0, -3.5], 0.04, DECK, 0.6, 8),
    ]
    for k in range(7):
        foot = np.array([-1.16 + 0.04 * k, 0.35 + 0.38 * k, -3.32 - 0.025 * k])
        parts.append(tube(foot, foot + [0.42, 0.0, 0.0], 0.025, DECK, 0.6, 6))
    return parts + coil([1.2, 0.0, -2.6], ROPE, 0.3)


def lamp_room_scene(seed: int = 70) -> Scene:
    """Return the lamp room of SKL_070 at night."""
    night = panel([-30.0, -8.0, -25.0], [60.0, 0.0, 0.0], [0.0, 30.0, 0.0], NIGHT, 20.0, 6.0, glow=0.03)
    static = join(_room() + _lamp() + _stores() + [night])
    return build_scene(
        static,
        [],
        lambda: _textures(np.random.default_rng(seed)),
        (0.35, 0.75, 0.55),
        sun_power=0.9,
        sky_power=0.9,
        haze=(0.03, 0.035, 0.05),
        haze_reach=0.02,
    )


lamp_room = Take(
    "SKL_070", 70, lamp_room_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 24.0, 48.0, 72.0),
    [[-1.5, 1.55, 3.3], [-0.8, 1.5, 3.35], [0.0, 1.5, 3.2], [0.8, 1.55, 2.9]],
    [[0.2, 1.0, -1.6], [0.1, 1.05, -1.6], [0.0, 1.05, -1.6], [-0.2, 1.1, -1.6]],
    hand_held(np.random.default_rng(1070), 0.012, 0.004), FOCAL_MM, SENSOR_WIDTH_MM, (-0.03, 0.0, 0.0),
    grain=GRAIN, exposure=lambda t: EXPOSURE * (1.0 + 0.06 * np.sin(0.9 * t)),
)  # fmt: skip
"""SKL_070: about the lamp at night."""
