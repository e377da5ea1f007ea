"""Yard hands: simple walking figures that cross the set."""

from collections.abc import Callable

import numpy as np

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.sim.meshes import Mesh, box, join, tube


def _limb(hip: np.ndarray, length: float, radius: float, swing: float, bend: float, texture: int) -> Mesh:
    """A two-part limb from `hip`, swung by `swing` and bent by `bend` radians in the walking plane (x, y)."""
    first = np.array([np.sin(swing), -np.cos(swing), 0.0]) * length / 2
    second = np.array([np.sin(swing - bend), -np.cos(swing - bend), 0.0]) * length / 2
    knee = hip + first
    return join(
        [
            tube(hip, knee, radius, texture, 0.5, 10, radius * 0.85),
            tube(knee, knee + second, radius * 0.85, texture, 0.5, 10, radius * 0.7),
        ]
    )


def _figure(phase: float, coat: int, trousers: int, skin: int) -> Mesh:
    """A figure that walks along +x, feet at y = 0, at a step `phase` in radians."""
    swing = 0.45 * np.sin(phase)
    hip, shoulder = np.array([0.0, 0.86, 0.0]), np.array([0.03, 1.42, 0.0])
    parts = [
        tube(hip - [0, 0.06, 0], shoulder + [0, 0.05, 0], 0.19, coat, 0.7, 14, 0.21),
        tube(shoulder + [0, 0.05, 0], shoulder + [0.0, 0.12, 0], 0.2, coat, 0.7, 14, 0.06),
        tube(shoulder + [0.01, 0.1, 0], shoulder + [0.02, 0.36, 0], 0.085, skin, 0.5, 12, 0.095),
        tube(shoulder + [0.02, 0.30, 0], shoulder + [0.02, 0.40, 0], 0.11, coat, 0.6, 12, 0.05),
    ]
    for side in (-1.0, 1.0):
        leg = hip + [0.0, 0.0, 0.1 * side]
        parts.append(_limb(leg, 0.88, 0.085, side * swing, 0.35 * max(0.0, side * np.cos(phase)), trousers))
        arm = shoulder + [0.0, 0.0, 0.25 * side]
        parts.append(_limb(arm, 0.62, 0.062, -side * swing * 0.8, -0.4, coat))
    return join(parts)


def yard_hand(start, end, frames: tuple[float, float], textures: tuple[int, int, int], carries: int = -1) -> Callable:
    """Return an actor who walks from `start` to `end` (world metres, on the ground) between two frames.

    `textures` are coat, trousers and skin; `carries` is the texture of a plank on the shoulder, or -1.

    Parameters
    ----------
    start, end : (3,) metres. frames : first and last number. textures : numbers of coat, trousers and skin.
        carries : number of a plank's texture, or -1.
    """
    start, end = np.asarray(start, float), np.asarray(end, float)
    heading = np.arctan2(-(end - start)[2], (end - start)[0])
    rotation = rotation_exp(np.array([0.0, heading, 0.0]))
    distance = float(np.linalg.norm(end - start))

    def at(time: float) -> Mesh:
        share = (time - frames[0]) / (frames[1] - frames[0])
        phase = share * distance / 0.72 * np.pi
        figure = _figure(phase, *textures)
        if carries >= 0:
            figure = join([figure, box([0.1, 1.56, 0.24], [2.6, 0.05, 0.22], carries, 1.0)])
        bob = 0.03 * abs(np.cos(phase))
        return figure.moved(rotation, start + share * (end - start) + [0.0, bob, 0.0])

    return at
