"""What lies under a spot of the picture: a proxy, a solved point, a corner or an edge near by, or the ground."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.world.planes import on_plane, ray_of
from amberkeel.core.world.rays import cast
from amberkeel.core.world.solids import Solid

UP = np.array([0.0, 1.0, 0.0])

GROUND, SURFACE, POINT, CORNER, EDGE = "ground", "surface", "point", "corner", "edge"


@dataclass(frozen=True)
class Under:
    """A spot of the scene: `xyz` and `normal` (3,), what it is on, and the id of that proxy or track, None for none."""

    xyz: np.ndarray
    normal: np.ndarray
    on: str
    id: str | int | None = None


@dataclass(frozen=True)
class Sight:
    """A frame of a camera in the world with what stands there.

    Attributes
    ----------
    path, row : the camera and the frame's row. solids : by id. ids (P,), xyz (P, 3) : solved points in the world.
    """

    path: CameraPath
    row: int
    solids: dict[str, Solid]
    ids: np.ndarray
    xyz: np.ndarray

    def seen(self, xyz: np.ndarray) -> np.ndarray:
        """Return pixels (N, 2) of points (N, 3); NaN behind the camera."""
        ahead = self.path.to_camera(xyz, self.row)[:, 2:] > 0.0
        return np.where(ahead, self.path.project(xyz, self.row), np.nan)


def surface_under(sight: Sight, xy: np.ndarray, ground: bool = True) -> Under:
    """Return the nearest surface under a pixel (2,): a proxy's, or else the ground Y = 0 where that is wanted.

    Raises
    ------
    WorldError : there is none.
    """
    start, ray = sight.path.positions[sight.row], ray_of(sight.path, sight.row, xy)
    best, found = np.inf, None
    for name, solid in sight.solids.items():
        if not len(solid.faces):
            continue
        hits = cast(start[None], ray[None], solid.triangles)
        if hits.along[0] < best:
            a, b, c = solid.triangles[hits.face[0]]
            normal = np.cross(b - a, c - a)
            normal = normal / np.linalg.norm(normal)
            best = float(hits.along[0])
            found = Under(start + best * ray, normal if normal @ ray < 0.0 else -normal, SURFACE, name)
    if found is not None:
        return found
    if not ground:
        raise WorldError("There is no surface here.", "Point at a proxy.")
    return Under(on_plane(sight.path, sight.row, xy, np.zeros(3), UP), UP, GROUND)


def snapped_under(sight: Sight, xy: np.ndarray, reach_px: float) -> Under:
    """Return what a pixel means: a corner of a proxy near by, a solved point, an edge, or the surface there.

    Parameters
    ----------
    sight : the frame. xy : (2,) pixels. reach_px : how near counts; 0 for the surface alone.
    """
    if reach_px > 0.0:
        for near in (_corner, _point, _edge):
            found = near(sight, xy, reach_px)
            if found is not None:
                return found
    return surface_under(sight, xy)


def _corner(sight: Sight, xy: np.ndarray, reach: float) -> Under | None:
    best, found = reach, None
    for name, solid in sight.solids.items():
        if not len(solid.lines):
            continue
        # Corners are where lines of different directions meet.
        ends = _corners(solid)
        away = np.linalg.norm(sight.seen(solid.vertices[ends]) - xy, axis=1)
        if len(ends) and np.nanmin(away, initial=np.inf) < best:
            k = int(np.nanargmin(away))
            best, found = float(away[k]), Under(solid.vertices[ends[k]], UP, CORNER, name)
    return found


MOST_LINES = 4000
"""Lines of a solid up to which its corners and edges are snapped to; those of a fine mesh are everywhere."""

STRAIGHT = 0.999


def _corners(solid: Solid) -> np.ndarray:
    """Return vertices (K,) at which the lines of a solid turn."""
    if len(solid.lines) > MOST_LINES:
        return np.zeros(0, int)
    a, b = solid.lines[:, 0], solid.lines[:, 1]
    way = solid.vertices[b] - solid.vertices[a]
    long = np.linalg.norm(way, axis=1, keepdims=True)
    way = way / np.maximum(long, 1e-12)
    first = np.zeros((len(solid.vertices), 3))
    first[b], first[a] = way, way
    turns = np.zeros(len(solid.vertices), bool)
    for end in (a, b):
        turns[end[np.abs((first[end] * way).sum(1)) < STRAIGHT]] = True
    return np.nonzero(turns)[0]


def _point(sight: Sight, xy: np.ndarray, reach: float) -> Under | None:
    if not len(sight.xyz):
        return None
    away = np.linalg.norm(sight.seen(sight.xyz) - xy, axis=1)
    if not np.nanmin(away, initial=np.inf) < reach:
        return None
    k = int(np.nanargmin(away))
    return Under(sight.xyz[k], UP, POINT, int(sight.ids[k]))


def _edge(sight: Sight, xy: np.ndarray, reach: float) -> Under | None:
    best, found = reach, None
    for name, solid in sight.solids.items():
        if not 0 < len(solid.lines) <= MOST_LINES:
            continue
        a, b = (solid.vertices[solid.lines[:, k]] for k in (0, 1))
        p, q = sight.seen(a), sight.seen(b)
        way = q - p
        share = np.clip(((xy - p) * way).sum(1) / np.maximum((way * way).sum(1), 1e-9), 0.0, 1.0)
        away = np.linalg.norm(p + share[:, None] * way - xy, axis=1)
        if np.nanmin(away, initial=np.inf) < best:
            k = int(np.nanargmin(away))
            best, found = float(away[k]), Under(a[k] + share[k] * (b[k] - a[k]), UP, EDGE, name)
    return found
