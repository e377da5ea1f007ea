"""What several sets share: far hills under a cloudy sky, coils, ladders."""

import numpy as np

from amberkeel.core.sim.meshes import Mesh, surface, tube


def far_hills(heath: int, cloud: int) -> list[Mesh]:
    """Return two ridges and the dome of the sky, with the numbers of their textures."""
    parts = []
    for distance, height, shift in ((70.0, 9.0, 0.0), (130.0, 22.0, 2.1)):
        x = np.linspace(-2.2 * distance, 2.2 * distance, 60)
        ridge = height * (0.55 + 0.25 * np.sin(0.021 * x + shift) + 0.16 * np.sin(0.067 * x + 2 * shift))
        points = np.stack(
            [np.stack([x, 0 * x - 2.0, 0 * x - distance], -1), np.stack([x, ridge, 0 * x - distance - 25.0], -1)]
        )
        parts.append(surface(points, points[..., :2] / (0.18 * distance), heath))
    angle = np.linspace(0.0, 2.0 * np.pi, 49)
    lift = np.linspace(-0.08, 0.5 * np.pi, 10)
    a, b = np.meshgrid(angle, lift)
    dome = 400.0 * np.stack([np.cos(b) * np.sin(a), np.sin(b), -np.cos(b) * np.cos(a)], -1)
    parts.append(surface(dome, np.stack([a / np.pi, b / 1.6], -1), cloud, 1.0))
    return parts


def coil(centre, texture: int, radius: float = 0.34, turns: int = 4) -> list[Mesh]:
    """Return a coil of rope lying at `centre`, metres.

    Parameters
    ----------
    centre : (3,) metres. texture : its number. radius : metres. turns : of the rope.
    """
    parts, angle = [], np.linspace(0, 2 * np.pi, 15)
    for k in range(turns):
        r = radius - 0.02 * k
        ring = np.stack([r * np.cos(angle), 0.05 + 0.075 * k + 0 * angle, r * np.sin(angle)], 1) + np.asarray(
            centre, float
        )
        parts += [tube(a, b, 0.045, texture, 0.35, 8) for a, b in zip(ring[:-1], ring[1:])]
    return parts


def rock(centre, radius: float, texture: int, rng: np.random.Generator) -> Mesh:
    """Return a boulder, a flattened ball of uneven surface.

    Parameters
    ----------
    centre : (3,) metres. radius : metres. texture : its number. rng : of its shape.
    """
    around, lift = np.meshgrid(np.linspace(0.0, 2.0 * np.pi, 19), np.linspace(-0.5 * np.pi, 0.5 * np.pi, 10))
    ball = np.stack([np.cos(lift) * np.sin(around), np.sin(lift), np.cos(lift) * np.cos(around)], -1)
    waves, phase = rng.normal(0.0, 2.2, (5, 3)), rng.uniform(0.0, 2.0 * np.pi, 5)
    bumps = 1.0 + 0.07 * np.sin(ball @ waves.T + phase).sum(-1)
    squash = np.array([1.0, rng.uniform(0.5, 0.75), rng.uniform(0.75, 1.1)])
    points = np.asarray(centre, float) + radius * bumps[..., None] * ball * squash
    return surface(points, radius * np.stack([around, lift], -1) / 0.8, texture)
