"""SKL_095 Net loft: bare plaster and boards in flat light, a few weak chalk crosses; nothing else to follow."""

import numpy as np

from amberkeel.core.sim import textures as tx
from amberkeel.core.sim.meshes import Mesh, box, join, panel
from amberkeel.core.sim.motion import hand_held
from amberkeel.core.sim.scene import Scene, build_scene
from amberkeel.core.sim.take import Take

FIRST_FRAME, FRAME_COUNT = 1001, 72
FOCAL_MM, SENSOR_WIDTH_MM = 22.0, 24.0
GRAIN = 3.0

WALL, FLOOR, CHALK = range(3)

WALL_Z, SIDE_X = -4.2, 2.6

ARM, WIDE, THICK = 0.09, 0.022, 0.003
"""Half the length of a cross's bars, their width and how far they stand out, metres."""

CROSSES: tuple[tuple[str, float, float, float], ...] = (
    ("z", -1.9, 2.05, WALL_Z), ("z", -0.7, 1.1, WALL_Z), ("z", 0.45, 2.2, WALL_Z), ("z", 1.7, 1.3, WALL_Z),
    ("z", -1.5, 0.45, WALL_Z), ("z", 1.1, 0.4, WALL_Z), ("z", 2.2, 2.1, WALL_Z), ("x", SIDE_X, 0.9, -3.3),
    ("x", SIDE_X, 1.75, -2.5), ("x", SIDE_X, 0.55, -1.9), ("y", -1.2, 0.0, -3.0), ("y", 0.3, 0.0, -2.4),
    ("y", 1.5, 0.0, -3.1), ("y", -0.4, 0.0, -3.7),
)  # fmt: skip
"""The crosses: the axis along which their surface faces, and where their middles are, metres."""


def crosses() -> np.ndarray:
    """Return the middles of the crosses (14, 3), metres."""
    return np.array([at for _, *at in CROSSES])


def _flat(rng: np.random.Generator, rgb: tuple[float, float, float]) -> np.ndarray:
    """A surface with next to nothing on it: a broad, faint cloudiness."""
    tone = 1.0 + 0.02 * tx.fractal(rng, 3.0)
    return np.clip(tone[..., None] * np.array(rgb, np.float32), 0.012, 0.95).astype(np.float32)


def _textures(rng: np.random.Generator) -> list[np.ndarray]:
    return [_flat(rng, (0.42, 0.40, 0.36)), _flat(rng, (0.30, 0.26, 0.21)), _flat(rng, (0.62, 0.61, 0.57))]


def _room() -> list[Mesh]:
    return [
        panel([-6.0, 0.0, WALL_Z], [0.0, 5.0, 0.0], [SIDE_X + 6.0, 0.0, 0.0], WALL, 6.0),
        panel([SIDE_X, 0.0, WALL_Z], [0.0, 5.0, 0.0], [0.0, 0.0, 9.0], WALL, 6.0),
        panel([-6.0, 0.0, 5.0], [SIDE_X + 6.0, 0.0, 0.0], [0.0, 0.0, WALL_Z - 5.0], FLOOR, 6.0),
    ]


def _cross(axis: str, x: float, y: float, z: float) -> list[Mesh]:
    """Two bars of chalk on a surface that faces along an axis."""
    out, size = [], [2 * ARM, WIDE, THICK]
    across = {"z": ([0, 1, 2], [1, 0, 2]), "x": ([2, 0, 1], [2, 1, 0]), "y": ([0, 2, 1], [1, 2, 0])}[axis]
    for order in across:
        out.append(box([x, y, z], [size[k] for k in order], CHALK, 0.5))
    return out


def net_loft_scene(seed: int = 95) -> Scene:
    """Return the empty loft of SKL_095."""
    static = join(_room() + [bar for one in CROSSES for bar in _cross(*one)])
    return build_scene(
        static, [], lambda: _textures(np.random.default_rng(seed)), (0.2, 0.9, 0.5), sun_power=0.25, sky_power=1.5,
    )  # fmt: skip


net_loft = Take(
    "SKL_095", 95, net_loft_scene, FIRST_FRAME, FRAME_COUNT, (0.0, 24.0, 48.0, 72.0),
    [[-1.5, 1.5, 2.1], [-0.9, 1.48, 1.95], [-0.2, 1.52, 1.75], [0.4, 1.5, 1.6]],
    [[0.2, 1.0, -4.0], [0.25, 1.0, -4.0], [0.3, 1.02, -4.0], [0.35, 1.0, -4.0]],
    hand_held(np.random.default_rng(1095), 0.010, 0.004), FOCAL_MM, SENSOR_WIDTH_MM, (-0.04, 0.0, 0.0),
    grain=GRAIN,
)  # fmt: skip
"""SKL_095: past bare walls."""
