"""What a lens fit looks like over the plate: the lines it bends, the world's grid, horizon and vanishing points, in
pixels.
"""

import numpy as np

from amberkeel.core.lens.drawn import AXES
from amberkeel.core.lens.model import Lens

FAR_PX = 1e5


def bent_lines(lens: Lens, lines: list[np.ndarray], steps: int = 24) -> list[np.ndarray]:
    """Return straight lines through drawn points (N, 2) as the lens shows them, (steps, 2) pixels from end to end.

    Parameters
    ----------
    lens : that shows them. lines : (N, 2) pixels each. steps : points of each drawn line.
    """
    if not lines:
        return []
    count = np.array([len(line) for line in lines])
    first = np.concatenate([[0], np.cumsum(count)[:-1]])
    u = lens.normalise(np.concatenate(lines))
    middle = np.add.reduceat(u, first) / count[:, None]
    x, y = (u - np.repeat(middle, count, 0)).T
    xx, xy, yy = (np.add.reduceat(v, first) for v in (x * x, x * y, y * y))
    angle = 0.5 * np.arctan2(2.0 * xy, xx - yy)
    along = np.stack([np.cos(angle), np.sin(angle)], 1)
    s = x * np.repeat(along[:, 0], count) + y * np.repeat(along[:, 1], count)
    positions = np.linspace(np.minimum.reduceat(s, first), np.maximum.reduceat(s, first), steps, axis=1)
    bent = lens.distort(middle[:, None] + positions[..., None] * along[:, None])
    return list(bent * np.array(lens.focal_px) + np.array(lens.principal_px))


def vanishing_points(lens: Lens, rotation: np.ndarray) -> dict[str, list[float] | None]:
    """Return each axis's vanishing point in undistorted pixels, None where it lies too far away to draw."""
    out: dict[str, list[float] | None] = {}
    for k, name in enumerate(AXES):
        v = rotation[k]
        px = (
            v[:2] / v[2] * np.array(lens.focal_px) + np.array(lens.principal_px)
            if abs(v[2]) > 1e-6
            else np.full(2, np.inf)
        )
        out[name] = px.tolist() if np.abs(px).max() < FAR_PX else None
    return out


def horizon(lens: Lens, rotation: np.ndarray, steps: int = 40) -> np.ndarray:
    """Return the horizon across the picture as the lens shows it, (N, 2) pixels.

    Parameters
    ----------
    lens : that shows it. rotation : (3, 3), camera_from_world. steps : points across the picture.
    """
    up = rotation[1]
    if abs(up[1]) < 0.1:
        return np.zeros((0, 2))
    reach = 0.7 * lens.width / lens.focal_px[0]
    x = np.linspace(-reach, reach, steps)
    u = np.stack([x, -(up[0] * x + up[2]) / up[1]], 1)
    u = u[np.hypot(*u.T) < _reach(lens)]
    return lens.distort(u) * np.array(lens.focal_px) + np.array(lens.principal_px)


def horizon_angles(rotation: np.ndarray) -> tuple[float, float]:
    """Return roll and tilt in radians: roll of the horizon in the picture, tilt of the view above it."""
    up = rotation[1]
    return float(np.arctan2(-up[0], -up[1])), float(np.arcsin(np.clip(up[2], -1.0, 1.0)))


CELLS_M = (0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0)
"""Sizes of the floor grid's cells where the scale is known, metres."""


def floor_cell(distance: float) -> float:
    """Return the size of a floor grid's cells, metres, that reads well at a distance in metres: about a fifth of it."""
    return min(CELLS_M, key=lambda cell: abs(np.log(cell / max(0.2 * distance, 1e-9))))


def floor_ahead(lens: Lens, rotation: np.ndarray, through: np.ndarray) -> tuple[np.ndarray, float] | None:
    """Return where the plate pixel `through` (2,) meets a floor one unit below the camera, (3,) from the camera, and a
    third of its distance.

    None where it looks above the horizon.

    Parameters
    ----------
    lens : that looks. rotation : (3, 3), camera_from_world. through : (2,) pixels.
    """
    ray = rotation @ np.append(lens.normalise(through), 1.0)
    if ray[1] > -1e-3:
        return None
    at = ray / -ray[1]
    return at, float(np.linalg.norm(at)) / 3.0


def floor_grid(lens: Lens, rotation: np.ndarray, at: np.ndarray, pitch: float, cells: int = 3) -> list[np.ndarray]:
    """Return a floor grid of X and Z lines about a position on the floor, each (N, 2) pixels.

    Parameters
    ----------
    rotation : ``world_from_camera``. at : (3,) the position from the camera, in any unit, along the world's axes.
        pitch : size of a cell in
        that unit. cells : to each side.
    """
    s = np.linspace(-cells, cells, 12 * cells) * pitch
    world = np.tile(at, (2, 2 * cells + 1, len(s), 1))
    for row, axis in enumerate((0, 2)):
        world[row, ..., axis] += s
        world[row, ..., 2 - axis] += (np.arange(-cells, cells + 1) * pitch)[:, None]
    camera = world.reshape(-1, len(s), 3) @ rotation
    ahead = camera[..., 2] > 0.05
    seen = ahead & (np.hypot(camera[..., 0], camera[..., 1]) < _reach(lens) * np.where(ahead, camera[..., 2], 1.0))
    px = lens.project(np.where(seen[..., None], camera, [0.0, 0.0, 1.0]))
    return [line[own] for line, own in zip(px, seen) if own.sum() > 1]


def _reach(lens: Lens) -> float:
    """Return how far from the view axis, undistorted, positions are drawn: beyond the picture a model may fold back
    into it.
    """
    corners = np.array([[0.0, 0.0], [lens.width, 0.0], [0.0, lens.height], [lens.width, lens.height]])
    return 1.1 * float(np.hypot(*lens.normalise(corners).T).max())
