"""Lines as an artist would draw them over a simulated shot: points along edges of the set, off by a hand's noise."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.sim.render import Shot, truth

HAND_PX = 0.3
"""Noise of a drawn point, pixels, one sigma in x and y."""

EVERY_PX = 45.0
"""Distance between the points of a drawn line, pixels, about."""

MARGIN_PX = 3.0


@dataclass(frozen=True)
class SetEdge:
    """A straight edge of the set: the world axis it runs along ("x", "y", "z", or "") and its ends in metres."""

    axis: str
    start: tuple[float, float, float]
    end: tuple[float, float, float]


def drawn_lines(shot: Shot, edges: list[SetEdge], frame: int, noise_px: float = HAND_PX, seed: int = 0) -> list[dict]:
    """Return the edges' visible parts as drawn lines: {"frame", "axis", "points": [[x, y], ...]}, pixels.

    Parameters
    ----------
    shot : that is filmed. edges : of the set. frame : number. noise_px : one sigma of a drawn point. seed : of
        the noise.
    """
    path, rng, out = truth(shot), np.random.default_rng([shot.seed, seed]), []
    row, size = path.index_of(frame), np.array([shot.lens.width, shot.lens.height])
    for edge in edges:
        world = np.linspace(edge.start, edge.end, 400)
        ahead = path.to_camera(world, row)[:, 2] > 0.3
        px = path.project(world, row)
        seen = ahead & (px > MARGIN_PX).all(1) & (px < size - MARGIN_PX).all(1)
        if seen.sum() < 20:
            continue
        px = px[seen]
        along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(px, axis=0), axis=1))])
        count = max(3, int(round(along[-1] / EVERY_PX)) + 1)
        at = np.linspace(0.0, along[-1], count)
        points = np.stack([np.interp(at, along, px[:, k]) for k in (0, 1)], 1)
        points += rng.normal(0.0, noise_px, points.shape)
        out.append({"frame": int(frame), "axis": edge.axis, "points": points.round(3).tolist()})
    return out
