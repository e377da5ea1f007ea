"""A made-up adjustment problem of a given size."""

import numpy as np

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.bundle import Bundle, fixed_focal
from amberkeel.core.solve.radial_lens import RadialLens


def large_problem(cameras: int = 200, points: int = 3000, track: int = 20, seed: int = 5) -> Bundle:
    """Return a disturbed bundle: a camera along a row of points, each seen on `track` frames; 60,000 observations."""
    rng = np.random.default_rng(seed)
    centres = np.stack([0.1 * np.arange(cameras), np.zeros(cameras), np.zeros(cameras)], 1)
    rotations = np.array([rotation_exp(0.01 * rng.normal(size=3)) for _ in range(cameras)])
    start = rng.integers(0, max(cameras - track, 1), points)
    track = min(track, cameras)
    depth = rng.uniform(5.0, 15.0, points)
    middle = centres[np.minimum(start + track // 2, cameras - 1)]
    xyz = middle + np.stack([rng.uniform(-0.4, 0.4, points) * depth, rng.uniform(-0.3, 0.3, points) * depth, depth], 1)
    camera = (start[:, None] + np.arange(track)).ravel()
    q = np.einsum("nji,nj->ni", rotations[camera], np.repeat(xyz, track, 0) - centres[camera])
    xy = 1000.0 * q[:, :2] / q[:, 2:] + [480.0, 270.0] + rng.normal(0, 0.2, (len(q), 2))
    anchors = centres[start]
    away = xyz + rng.normal(0, 0.02, xyz.shape) - anchors
    reach = np.linalg.norm(away, axis=1)
    free = np.ones((cameras, 6), bool)
    free[0] = False
    disturbed = centres + np.concatenate([np.zeros((1, 3)), rng.normal(0, 0.01, (cameras - 1, 3))])
    return Bundle(
        rotations, disturbed, free, (fixed_focal(RadialLens(1000.0, 480.0, 270.0), (), cameras),),
        np.zeros(cameras, np.int64), anchors, away / reach[:, None], 1.0 / reach,
        np.arange(points + 1, dtype=np.int64) * track, camera.astype(np.int64), xy, np.full(len(xy), 5.0),
    )  # fmt: skip
