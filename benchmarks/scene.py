"""A made-up adjustment problem of a given size."""

import numpy as np

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.bundle import Bundle, fixed_focal
from amberkeel.core.solve.radial_lens import RadialLens


def large_problem(
    cameras: int = 200, points: int = 3000, track: int | tuple[int, int] = 20, seed: int = 5,
    free: tuple[str, ...] = (), step: float = 0.1,
) -> Bundle:  # fmt: skip
    """Return a disturbed bundle: a camera along a row of points; 60,000 observations as it stands.

    Parameters
    ----------
    cameras, points : how many. track : frames that each point is seen on, or the least and the most, evenly spread.
    seed : of the random numbers. free : names of what may change of the lens. step : from a camera to the next.
    """
    rng = np.random.default_rng(seed)
    least, most = (track, track) if isinstance(track, int) else track
    least, most = min(least, cameras), min(most, cameras)
    centres = np.stack([step * np.arange(cameras), np.zeros(cameras), np.zeros(cameras)], 1)
    rotations = np.array([rotation_exp(0.01 * rng.normal(size=3)) for _ in range(cameras)])
    start = rng.integers(0, max(cameras - most, 1), points)
    length = np.full(points, most) if least == most else rng.integers(least, most + 1, points)
    depth = rng.uniform(5.0, 15.0, points)
    middle = centres[start + length // 2]
    xyz = middle + np.stack([rng.uniform(-0.4, 0.4, points) * depth, rng.uniform(-0.3, 0.3, points) * depth, depth], 1)
    first = np.concatenate([[0], np.cumsum(length)])
    camera = np.repeat(start, length) + np.arange(first[-1]) - np.repeat(first[:-1], length)
    q = np.einsum("nji,nj->ni", rotations[camera], np.repeat(xyz, length, 0) - centres[camera])
    xy = 1000.0 * q[:, :2] / q[:, 2:] + [480.0, 270.0] + rng.normal(0, 0.2, (len(q), 2))
    anchors = centres[start]
    away = xyz + rng.normal(0, 0.02, xyz.shape) - anchors
    reach = np.linalg.norm(away, axis=1)
    moves = np.ones((cameras, 6), bool)
    moves[0] = False
    disturbed = centres + np.concatenate([np.zeros((1, 3)), rng.normal(0, 0.01, (cameras - 1, 3))])
    return Bundle(
        rotations, disturbed, moves, (fixed_focal(RadialLens(1000.0, 480.0, 270.0), free, cameras),),
        np.zeros(cameras, np.int64), anchors, away / reach[:, None], 1.0 / reach, first.astype(np.int64),
        camera.astype(np.int64), xy, np.full(len(xy), 5.0),
    )  # fmt: skip
