"""Where a track's spot lies by a camera that is known: for tags and ties that served in no solve."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath

ROUNDS, ENOUGH = 30, 1e-9
STEP = 1e-5
"""Step of the derivatives, over the spot's distance."""

LEAST_RAYS = 2


@dataclass(frozen=True)
class Located:
    """A spot: `xyz` (3,) in the path's world, its covariance (3, 3) by the track's noise alone, and `rms` of its
    residuals, pixels.
    """

    xyz: np.ndarray
    covariance: np.ndarray
    rms: float


def located(path: CameraPath, rows: np.ndarray, xy: np.ndarray, sigma: np.ndarray) -> Located | None:
    """Return where a track's spot lies: the maximum-likelihood point of its rays (Hartley and Sturm 1997, by
    Gauss-Newton on the residuals in pixels); None where the rays do not tell, or it lies behind the camera.

    Parameters
    ----------
    path : the camera. rows : (N,) of it. xy : (N, 2) measured, pixels. sigma : (N,) one sigma of a coordinate.
    """
    if len(rows) < LEAST_RAYS:
        return None
    xyz = _middle(path, rows, xy)
    weight = 1.0 / np.repeat(sigma, 2)
    for _ in range(ROUNDS):
        reach = float(np.linalg.norm(path.positions[rows] - xyz, axis=1).mean())
        off, slope = _linear(path, rows, xy, xyz, STEP * reach)
        if not np.isfinite(off).all():
            return None
        system = slope * weight[:, None]
        normal = system.T @ system
        if np.linalg.cond(normal) > 1e12:
            return None
        step = np.linalg.solve(normal, system.T @ (off * weight))
        xyz = xyz + step
        if np.linalg.norm(step) < ENOUGH * reach:
            break
    ahead = np.array([path.to_camera(xyz[None], int(row))[0, 2] for row in rows])
    if not (ahead > 0.0).all():
        return None
    return Located(xyz, np.linalg.inv(normal), float(np.sqrt((off**2).mean())))


def _linear(path: CameraPath, rows: np.ndarray, xy: np.ndarray, xyz: np.ndarray, step: float):
    """Return residuals (2N,) measured minus projected, and how the projection changes with the spot, (2N, 3)."""
    at = path.project(np.repeat(xyz[None], len(rows), 0), rows)
    slope = np.empty((2 * len(rows), 3))
    for k in range(3):
        ends = [path.project(np.repeat((xyz + s * np.eye(3)[k])[None], len(rows), 0), rows) for s in (step, -step)]
        slope[:, k] = ((ends[0] - ends[1]) / (2.0 * step)).ravel()
    return (xy - at).ravel(), slope


def _middle(path: CameraPath, rows: np.ndarray, xy: np.ndarray) -> np.ndarray:
    """Return the point nearest to all rays."""
    straight = np.array([path.normalise(p[None], int(row))[0] for p, row in zip(xy, rows)])
    rays = np.concatenate([straight, np.ones((len(rows), 1))], 1)
    ways = np.einsum("nij,nj->ni", path.world_from_camera[rows], rays)
    ways = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    across = np.eye(3) - ways[:, :, None] * ways[:, None, :]
    return np.linalg.lstsq(across.sum(0), np.einsum("nij,nj->i", across, path.positions[rows]), rcond=None)[0]
