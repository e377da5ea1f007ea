"""Proposals of false corners and reflections against what the simulator knows of each track."""

import numpy as np

from amberkeel.core.follow import follow_plate
from amberkeel.core.geometry.background import FREE
from amberkeel.core.masks.crossings import find_crossings
from amberkeel.core.masks.mirrors import find_reflections
from amberkeel.core.plate.plate import Plate
from amberkeel.core.sim.render import Renderer, Shot, render_all, truth
from amberkeel.core.tracks import TrackSet
from benchmarks.pool import pool_shot

LEAVES_PX = 1.0


def false_corners(shot: Shot, plate: Plate, tracks: TrackSet, mattes) -> None:
    """Print how many of the tracks proposed as false corners leave the set, and how many of those that do are
    proposed.
    """
    error = leaving(shot, tracks)
    masked = [mattes(int(f)) for f in plate.frames]
    hidden = np.array(
        [
            np.mean([_at(masked, shot, f, xy) for f, xy in zip(tracks.frames[r], tracks.xy[r])]) > 0.2
            for r in map(tracks.rows, range(len(tracks)))
        ]
    )
    own = [t for p in find_crossings(plate, tracks, hidden, FREE) for t in p.tracks]
    wrong = (error > LEAVES_PX) & ~hidden
    print(
        f"false corners, SKL_010: {np.sum(wrong[own])} of {len(own)} proposed tracks leave the set by over "
        f"{LEAVES_PX:.0f} px; {wrong.sum()} do in all"
    )


def _at(masked, shot: Shot, frame: int, xy) -> bool:
    x, y = np.clip(xy.astype(int), 0, [shot.lens.width - 1, shot.lens.height - 1])
    return bool(masked[frame - int(shot.frames[0])][y, x])


def leaving(shot: Shot, tracks: TrackSet) -> np.ndarray:
    """Return how far each track (T,) leaves, on most of its frames, the point of the set that explains it best,
    pixels.
    """
    renderer, path = Renderer(shot), truth(shot)
    depth = [renderer.depth(int(f)) for f in shot.frames]
    out = np.full(len(tracks), np.inf)
    for t in range(len(tracks)):
        rows = np.arange(len(tracks.frames))[tracks.rows(t)]
        frames = tracks.frames[rows] - int(shot.frames[0])
        for s in range(0, len(rows), max(1, len(rows) // 4)):
            k, xy = frames[s], tracks.xy[rows[s]]
            ray = np.append(shot.lens.normalise(xy[None])[0], 1.0)
            for dy, dx in np.ndindex(3, 3):
                x, y = np.clip(
                    xy.astype(int) + 2 * (np.array([dx, dy]) - 1), 0, [shot.lens.width - 1, shot.lens.height - 1]
                )
                if np.isfinite(depth[k][y, x]):
                    point = path.world_from_camera[k] @ (ray * depth[k][y, x]) + path.positions[k]
                    seen = path.project(np.broadcast_to(point, (len(frames), 3)), frames)
                    out[t] = min(out[t], np.percentile(np.linalg.norm(seen - tracks.xy[rows], axis=1), 80))
    return out


class _Pictures(Plate):
    """A plate of rendered pictures in memory."""

    def __init__(self, shot: Shot):
        super().__init__(shot.name, shot.frames, shot.lens.width, shot.lens.height, None)
        self.pictures = {frame: picture for frame, picture, _ in render_all(shot)}

    def read(self, frame: int) -> np.ndarray:
        return self.pictures[int(frame)]


def reflections() -> None:
    """Print what is proposed as a reflection in a rendered pool."""
    shot = pool_shot()
    plate, renderer, path = _Pictures(shot), Renderer(shot), truth(shot)
    x, y = np.meshgrid(np.arange(shot.lens.width) + 0.5, np.arange(shot.lens.height) + 0.5)
    rays = np.concatenate([shot.lens.normalise(np.stack([x, y], -1)), np.ones((*x.shape, 1))], -1)
    below = [
        ((rays @ path.world_from_camera[k].T)[..., 1] * np.minimum(renderer.depth(int(f)), 1e3) + path.positions[k][1])
        < 0
        for k, f in enumerate(shot.frames)
    ]
    tracks = follow_plate(plate)
    mirrored = np.array(
        [
            np.mean([_at(below, shot, f, xy) for f, xy in zip(tracks.frames[r], tracks.xy[r])]) > 0.5
            for r in map(tracks.rows, range(len(tracks)))
        ]
    )
    for p in find_reflections(plate, tracks, FREE):
        masks = [(p.mask(int(f)), below[int(f) - int(shot.frames[0])]) for f in p.frames]
        covered = np.mean([(m & b).sum() / max(b.sum(), 1) for m, b in masks])
        extra = np.mean([(m & ~b).mean() for m, b in masks])
        print(
            f"reflection, pool: {mirrored[p.tracks].sum()} of {len(p.tracks)} proposed tracks are reflections "
            f"({mirrored.sum()} in all); covers {100 * covered:.0f} % of it, {100 * extra:.0f} % of the rest"
        )
