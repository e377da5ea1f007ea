"""A made-up still pool: a quay with crates, seen with its mirror image, to measure reflections by."""

import numpy as np

from amberkeel.core.lens import Lens, focal_px_from_mm
from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, box, drum, join, panel
from amberkeel.core.sim.motion import Move, hand_held
from amberkeel.core.sim.render import Shot
from amberkeel.core.sim.scene import build_scene

FRAMES = 40


def _mirrored(mesh: Mesh) -> Mesh:
    """Return a mesh as still water at height 0 shows it."""
    return mesh.moved(np.diag([1.0, -1.0, 1.0]), [0.0, 0.0, 0.0])


def pool_shot(width: int = 960, height: int = 540) -> Shot:
    """Return a slow move along the pool's edge; what lies below height 0 is reflection."""
    rng = np.random.default_rng(61)
    parts = [
        panel([-12.0, 0.0, -9.0], [24.0, 0.0, 0.0], [0.0, 1.1, 0.0], 0, 2.1),
        panel([-12.0, 1.1, -13.0], [24.0, 0.0, 0.0], [0.0, 3.4, 0.0], 1, 2.6),
    ]
    for k, x in enumerate(np.linspace(-5.0, 5.5, 9)):
        size = rng.uniform([0.6, 0.5, 0.6], [1.2, 1.2, 1.0])
        parts.append(box([x, 1.1 + size[1] / 2, -9.8 - 0.4 * (k % 3)], size, 2 + k % 2, 0.9, rng.uniform(-0.6, 0.6)))
    parts += [drum([x, 1.1, -9.5], 0.3, 0.9, 3, 3) for x in (-3.4, 2.7)]
    parts += [box([x, 0.6, -7.2], [0.28, 1.2, 0.28], 2, 0.7, 0.3 * x) for x in (-2.6, -0.4, 1.9, 3.6)]
    still = join(parts)
    textures = [
        tx.stone(rng),
        tx.planks(rng, 7, (0.3, 0.24, 0.2), 0.06, 0.8),
        tx.planks(rng, 5, (0.2, 0.2, 0.18), 0.08, 0.5),
        tx.iron(rng),
    ]
    scene = build_scene(join([still, _mirrored(still)]), [], lambda: textures, (-0.4, 0.7, 0.6))
    keys = np.array([0.0, 20.0, 40.0]) + 1001
    move = Move(
        keys, np.array([[-0.9, 1.7, 1.0], [0.0, 1.85, 0.4], [0.8, 1.75, -0.3]]),
        np.array([[-0.2, 0.4, -9.0], [0.1, 0.4, -9.0], [0.3, 0.4, -9.0]]), hand_held(np.random.default_rng(6)),
    )  # fmt: skip
    lens = Lens.centred(width, height, focal_px_from_mm(30.0, 24.0, width))
    return Shot("pool", scene, lens, move, np.arange(1001, 1001 + FRAMES), samples=4, seed=61)
