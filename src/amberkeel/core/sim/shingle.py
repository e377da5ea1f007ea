"""SKL_080 Shingle: a camera held low over a beach of ridges and boulders, where no ground is flat."""

from typing import Any

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, hull, join, surface, tube
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.scenery import far_hills, rock
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 24.0, 24.0

PEBBLES, BOULDER, DRIFTWOOD, TAR, PAINT, HEATH, CLOUD, COARSE = range(8)


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [
        tx.shingle(rng, 3200),
        tx.concrete(rng, (0.27, 0.26, 0.25)),
        tx.planks(rng, 4, (0.44, 0.40, 0.34), 0.02, 0.9),
        tx.planks(rng, 5, (0.13, 0.11, 0.10), 0.08, 0.4),
        tx.painted_strakes(rng),
        tx.heath(rng),
        tx.cloud(rng),
        tx.shingle(rng, 700),
    ]


def ground_height(x: Any, z: Any) -> Any:
    """Return the beach's height at x, z, metres: two storm ridges across, hollows and a slope down to the right."""
    ridges = 0.55 * np.exp(-(((z + 4.2 + 0.25 * x) / 1.3) ** 2)) + 0.9 * np.exp(-(((z + 11.5 - 0.15 * x) / 2.2) ** 2))
    hollows = 0.10 * np.sin(0.9 * x + 0.5 * z) + 0.07 * np.sin(1.7 * z - 0.8 * x + 1.0) + 0.05 * np.sin(2.6 * x + 1.9)
    return ridges + hollows - 0.06 * x


def _beach() -> list[Mesh]:
    x, z = np.meshgrid(np.arange(-14.0, 14.1, 0.3), np.arange(-24.0, 7.1, 0.3))
    points = np.stack([x, ground_height(x, z), z], -1)
    far_x, far_z = np.meshgrid(np.linspace(-60.0, 60.0, 25), np.linspace(-60.0, -23.6, 10))
    behind = np.stack([far_x, ground_height(0.1 * far_x, np.full_like(far_z, -24.0)) + 0.0 * far_z, far_z], -1)
    return [
        surface(points, points[..., [0, 2]] / 1.5, PEBBLES),
        surface(behind, behind[..., [0, 2]] / 6.0, COARSE),
    ]


def _wrack() -> list[Mesh]:
    """Boulders, driftwood, a row of groyne posts and an upturned boat, each where the beach lies."""
    rng, parts = np.random.default_rng(80), []
    for _ in range(46):
        x, z = rng.uniform(-7.0, 7.0), rng.uniform(-15.0, 2.2)
        radius = rng.uniform(0.08, 0.42) * (1.0 if abs(x) > 0.9 else 0.4)
        parts.append(rock([x, ground_height(x, z) + 0.2 * radius, z], radius, BOULDER, rng))
    for x, z, heading, length in (
        (-1.6, -1.2, 0.5, 1.7),
        (1.9, -3.1, -0.9, 2.2),
        (-2.6, -6.8, 0.2, 2.6),
        (0.8, -8.0, 1.3, 1.4),
    ):
        reach = length * np.array([np.cos(heading), np.sin(heading)])
        start, end = [x, ground_height(x, z) + 0.12, z], np.array([x + reach[0], 0.0, z + reach[1]])
        end[1] = ground_height(end[0], end[2]) + 0.16
        parts.append(tube(start, end, 0.09, DRIFTWOOD, 0.7, 10, 0.05))
    for k, x in enumerate(np.arange(2.4, 8.5, 0.75)):
        z = -5.4 - 0.35 * k
        parts.append(
            tube([x, ground_height(x, z) - 0.2, z], [x + 0.05, ground_height(x, z) + 0.75, z], 0.1, TAR, 0.6, 10)
        )
    over = np.diag([1.0, -1.0, -1.0])
    turn = np.array([[np.cos(0.5), 0.0, np.sin(0.5)], [0.0, 1.0, 0.0], [-np.sin(0.5), 0.0, np.cos(0.5)]])
    parts.append(hull(3.6, 1.4, 0.75, PAINT).moved(turn @ over, [-5.6, ground_height(-4.0, -9.0) + 0.85, -8.6]))
    return parts


def shingle_scene(seed: int = 80) -> Scene:
    """Return the beach of SKL_080; nobody is on it."""
    static = join(_beach() + _wrack() + far_hills(HEATH, CLOUD))
    return build_scene(static, [], lambda: _textures(np.random.default_rng(seed)), (0.7, 0.42, 0.25))


shingle = Take(
    "SKL_080", 80, shingle_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 24.0, 48.0, 72.0),
    [[-0.9, 0.62, 3.6], [-0.5, 0.58, 2.8], [0.0, 0.66, 1.9], [0.4, 0.80, 0.9]],
    [[0.2, 0.35, -7.0], [0.0, 0.30, -7.0], [-0.3, 0.42, -7.0], [-0.2, 0.55, -7.0]],
    hand_held(np.random.default_rng(1080), 0.012, 0.005), FOCAL_MM, SENSOR_WIDTH_MM, (-0.05, 0.0, 0.0),
)  # fmt: skip
"""SKL_080: low over the beach."""
