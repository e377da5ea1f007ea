"""Synthetic tracks of random points, for tests that need no pictures."""

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.tracks import from_pieces


def moving_camera(frames: int = 30, focal: float = 700.0, k1: float = 0.0, step: float = 0.08) -> CameraPath:
    """Return a camera that moves sideways and forwards, 640x360; `step` 0 stands still and turns."""
    t = np.arange(frames, dtype=float)
    positions = np.stack([step * t, 0.02 * step * t, 0.35 * step * t], 1)
    rotations = np.array([rotation_exp(np.array([0.001 * k, -0.004 * k, 0.0005 * k])) for k in t])
    return CameraPath(np.arange(1001, 1001 + frames), positions, rotations, Lens.centred(640, 360, focal, k1))


def cloud(rng: np.random.Generator, count: int) -> np.ndarray:
    """Return points in front of the camera (count, 3)."""
    return rng.uniform([-4, -2.2, 5], [5, 2.2, 16], (count, 3))


def observe(path: CameraPath, points: np.ndarray, noise: float, rng: np.random.Generator):
    """Return tracks of points (N, 3), or of points that move (F, N, 3), with Gaussian noise in pixels."""
    moving = points if points.ndim == 3 else np.broadcast_to(points, (len(path.frames), *points.shape))
    px = np.array([path.project(moving[k], k) for k in range(len(path.frames))])
    return tracks_of(path.frames, px + rng.normal(0.0, noise, px.shape), noise)


def tracks_of(frames: np.ndarray, px: np.ndarray, noise: float):
    """Return tracks of what is seen at pixels (F, N, 2) of a picture of 640x360, on the frames on which it is in it."""
    pieces, names = [], []
    for n in range(px.shape[1]):
        seen = ((px[:, n] > 0) & (px[:, n] < [640, 360])).all(1)
        if seen.sum() >= 6:
            count = int(seen.sum())
            pieces.append((frames[seen], px[seen, n], np.full(count, max(noise, 0.01)), np.ones(count)))
            names.append(f"p{n:03d}")
    return from_pieces(names, pieces)


def lowest(points: list[dict], count: int) -> list[dict]:
    """Return the lowest of a solve's active points that lie near: far ones say nothing of the ground."""
    active = [p for p in points if p["state"] == "active"]
    reach = np.linalg.norm([p["xyz"] for p in active], axis=1)
    near = [p for p, r in zip(active, reach) if r < 1.5 * np.median(reach)]
    return sorted(near, key=lambda p: p["xyz"][1])[:count]
