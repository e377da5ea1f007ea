"""A wall with fiducial tags of several sizes, filmed by a hand-held camera; its truth in pixels."""

import numpy as np

from amberkeel.core.lens import Lens, focal_px_from_mm
from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import join, panel
from amberkeel.core.sim.motion import Move, hand_held
from amberkeel.core.sim.render import Shot, truth
from amberkeel.core.sim.scene import build_scene

TAGS = (
    (3, -1.6, 1.9, 0.42),
    (7, -0.9, 0.9, 0.30),
    (11, 0.0, 1.7, 0.22),
    (19, 0.6, 0.8, 0.16),
    (23, 1.2, 1.9, 0.36),
    (42, 1.7, 1.0, 0.12),
)
"""Number, position on the wall (metres), and the black square's side (metres) of each tag."""

WALL_Z = -4.0


def board_shot(width: int = 960, height: int = 540, frames: int = 20, samples: int = 9, grain: float = 1.2) -> Shot:
    """Return the shot."""
    rng = np.random.default_rng(8)
    parts = [
        panel([-4.0, 0.0, WALL_Z - 0.02], [8.0, 0.0, 0.0], [0.0, 3.2, 0.0], 0, 2.0),
        panel([-4.0, 0.0, 3.0], [8.0, 0.0, 0.0], [0.0, 0.0, -7.0], 0, 2.0),
    ]
    for k, (_, x, y, side) in enumerate(TAGS):
        sheet = side / tx.TAG_SHARE
        parts.append(
            panel(
                [x - sheet / 2, y + sheet / 2, WALL_Z], [sheet, 0.0, 0.0], [0.0, -sheet, 0.0], k + 1, sheet, sheet / 2
            )
        )
    textures = [tx.planks(rng, 7, (0.30, 0.24, 0.20), 0.06, 0.8)] + [tx.tag(number) for number, *_ in TAGS]
    scene = build_scene(join(parts), [], lambda: textures, (0.3, 0.6, 0.7))
    keys = np.array([0.0, 10.0, 20.0, 30.0]) + 1001
    move = Move(
        keys,
        np.array([[-1.4, 1.5, 0.6], [-0.5, 1.6, 0.2], [0.4, 1.5, -0.2], [1.3, 1.5, -0.5]]),
        np.array([[0.0, 1.4, -4.0]] * 4),
        hand_held(np.random.default_rng(3)),
    )
    lens = Lens.centred(width, height, focal_px_from_mm(24.0, 24.0, width))
    return Shot("board", scene, lens, move, np.arange(1001, 1001 + frames), samples=samples, grain=grain, seed=8)


def true_corners(shot: Shot) -> dict[int, np.ndarray]:
    """Return each tag's true corners and centre (F, 5, 2), pixels, corners clockwise from its own top left."""
    path, out = truth(shot), {}
    for number, x, y, side in TAGS:
        h = side / 2
        points = np.array(
            [
                [x - h, y + h, WALL_Z],
                [x + h, y + h, WALL_Z],
                [x + h, y - h, WALL_Z],
                [x - h, y - h, WALL_Z],
                [x, y, WALL_Z],
            ]
        )
        out[number] = np.array([path.project(points, row) for row in range(len(shot.frames))])
    return out
