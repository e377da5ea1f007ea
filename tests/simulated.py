"""Synthetic tracks of random points, for tests that need no pictures."""

from dataclasses import replace

import numpy as np
import pytest

from amberkeel.core.camera import CameraPath
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.plate.plate import Plate
from amberkeel.core.solve.world_frame import tangents
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


def stepped(bundle, block: str, key: int, d: np.ndarray):
    """Return a bundle after a step of one of its blocks."""
    if block == "zoom":
        return replace(bundle, lenses=(replace(bundle.lenses[0], zoom=bundle.lenses[0].zoom + d),))
    if block == "world":
        return replace(bundle, world=bundle.world.stepped(d))
    if block in ("plane", "line", "spot"):
        return replace(bundle, shapes=tuple(s.stepped(d) if k == key else s for k, s in enumerate(bundle.shapes)))
    changed = {name: getattr(bundle, name).copy() for name in ("rotations", "centres", "directions", "rhos")}
    if block == "rotation":
        changed["rotations"][key] = changed["rotations"][key] @ rotation_exp(d)
    elif block == "position":
        changed["centres"][key] += d
    elif block == "point":
        changed["directions"][key] += tangents(changed["directions"][key]) @ d[:2]
        changed["rhos"][key] += d[2]
    else:
        lens = bundle.lenses[key]
        return replace(bundle, lenses=(replace(lens, values=lens.values.stepped(block, d[0])),))
    return replace(bundle, **changed)


def check_derivatives(term, bundle):
    """Hold a term's derivatives against finite differences, group by group."""
    rows = term.evaluate(bundle)
    assert len(rows.derivatives) == len(term.unknowns())
    for unknowns, derivatives in zip(term.unknowns(), rows.derivatives):
        for group, key in enumerate(unknowns.keys):
            for k, d in enumerate(1e-6 * np.eye(derivatives.shape[2])):
                ahead, behind = (
                    term.evaluate(stepped(bundle, unknowns.block, int(key), way * d)).residual[group] for way in (1, -1)
                )
                assert derivatives[group, :, k] == pytest.approx((ahead - behind) / 2e-6, rel=2e-5, abs=2e-5)


class Pictures(Plate):
    """A plate of pictures in memory."""

    def __init__(self, pictures):
        super().__init__("made", np.arange(1, len(pictures) + 1), pictures[0].shape[1], pictures[0].shape[0], None)
        self.pictures = pictures

    def read(self, frame):
        return self.pictures[frame - 1]
