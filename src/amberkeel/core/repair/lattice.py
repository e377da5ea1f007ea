"""A lattice of probe points close to the camera: it shows jitter that the far set hides.

What is measured is how hard its points accelerate on the screen beside what lies behind them at the set's distance: the
second difference of their positions from frame to frame, less that of the far points. A turn moves both alike; what is
left comes of positions alone, which the far set hardly shows.
"""

import numpy as np

from amberkeel.core.camera import CameraPath

NEAR_SHARE = 0.12
"""Distance of the lattice from the camera, in usual distances of the set."""

SIDE = 5
"""Points across and down."""


def near_acceleration(path: CameraPath, distance: float) -> np.ndarray:
    """Return the acceleration on the screen of a lattice held close before the camera, against the set behind it,
    pixels a frame squared, RMS over its points, (F,); NaN at the first and the last frame and beside gaps.

    Parameters
    ----------
    path : solved. distance : usual distance of the set, world units.
    """
    x, y = np.meshgrid(np.linspace(-0.35, 0.35, SIDE), np.linspace(-0.35, 0.35, SIDE))
    height = path.lens.height / path.lens.width
    rays = np.stack([x.ravel(), height * y.ravel(), np.full(x.size, path.lens.focal_px[0] / path.lens.width)], 1)
    rays *= NEAR_SHARE * distance / rays[:, 2:]
    out = np.full(len(path.frames), np.nan)
    for k in range(1, len(path.frames) - 1):
        if path.frames[k + 1] - path.frames[k - 1] != 2:
            continue
        near, far = (_second_difference(path, k, depth * rays) for depth in (1.0, 1.0 / NEAR_SHARE))
        out[k] = np.sqrt(np.nanmean(((near - far) ** 2).sum(1)))
    return out


def _second_difference(path: CameraPath, row: int, rays: np.ndarray) -> np.ndarray:
    """Return the second difference (P, 2) over frames of points given in a row's camera (P, 3)."""
    xyz = rays @ path.world_from_camera[row].T + path.positions[row]
    before, here, after = (path.project(xyz, k) for k in (row - 1, row, row + 1))
    return before + after - 2.0 * here
