"""Proxies drawn on the plate click by click: from spots of the scene to a thing."""

import numpy as np

from amberkeel.core.errors import WorldError
from amberkeel.core.world.planes import on_plane, ray_of
from amberkeel.core.world.solids import degrees_of
from amberkeel.core.world.standing import Proxy
from amberkeel.core.world.under import GROUND, SURFACE, UP, Sight, Under, snapped_under

CLICKS = {"plane": 3, "wall": 3, "box": 4, "cylinder": 3}
"""Clicks that each kind takes: an edge's two ends and then depth and height; a foot's middle, its rim, and height."""

LEAST = 1e-4
"""Least side over the distance from the camera."""

Click = tuple[int, tuple[float, float], float]
"""A row of the camera's path, a pixel, and within how many pixels it snaps."""


def draft(kind: str, sights: list[Sight], clicks: list[tuple[float, float]], reach_px: float) -> Proxy:
    """Return the thing that some clicks mean, the last of which may be where the pointer is now.

    Parameters
    ----------
    kind : one of `CLICKS`. sights : (K,) the frame that each was made on. clicks : (K,) pixels. reach_px : how near
        corners, points and edges are snapped to.

    Raises
    ------
    WorldError : a click meets no surface, or the thing has no size yet.
    """
    if kind not in CLICKS or not 2 <= len(clicks) <= CLICKS[kind]:
        raise WorldError(f"A {kind} is not drawn by {len(clicks)} clicks.")
    first = snapped_under(sights[0], np.array(clicks[0]), reach_px)
    normal = first.normal if kind == "plane" and first.on in (SURFACE, GROUND) else UP
    return _Draft(sights, clicks, reach_px, first, normal).make(kind)


class _Draft:
    """The clicks of a thing, its foot on a plane through the first of them."""

    def __init__(self, sights, clicks, reach_px: float, first: Under, normal: np.ndarray):
        self.sights, self.clicks, self.reach = sights, clicks, reach_px
        self.first, self.normal = first.xyz, normal
        away = np.linalg.norm(first.xyz - sights[0].path.positions[sights[0].row])
        self.least = LEAST * float(away)

    def make(self, kind: str) -> Proxy:
        if kind == "cylinder":
            return self._cylinder()
        second = self._on_foot(1)
        along = self._way(second - self.first)
        if kind == "wall":
            return self._wall(second, along)
        return self._over_an_edge(kind, second, along)

    def _on_foot(self, k: int) -> np.ndarray:
        """Return where a click lies on the foot's plane: a corner, point or edge near by counts by its place there."""
        sight, xy = self.sights[k], np.array(self.clicks[k])
        try:
            near = snapped_under(sight, xy, self.reach)
        except WorldError:
            near = None
        if near is not None and near.on not in (GROUND, SURFACE):
            off = float((near.xyz - self.first) @ self.normal)
            if abs(off) < 0.1 * max(float(np.linalg.norm(near.xyz - self.first)), self.least):
                return near.xyz - off * self.normal
        return on_plane(sight.path, sight.row, xy, self.first, self.normal)

    def _way(self, way: np.ndarray) -> np.ndarray:
        if np.linalg.norm(way) < self.least:
            raise WorldError("This has no size yet.", "Move on from the first click.")
        return way / np.linalg.norm(way)

    def _lift(self, k: int, foot: np.ndarray) -> float:
        """Return how high over a spot of the foot a click lies: where its ray passes nearest to the upright there."""
        if k >= len(self.clicks):
            return 0.0
        sight, xy = self.sights[k], np.array(self.clicks[k])
        start, ray = sight.path.positions[sight.row], ray_of(sight.path, sight.row, xy)
        ray = ray / np.linalg.norm(ray)
        between, tilt = foot - start, float(ray @ self.normal)
        if 1.0 - tilt**2 < 1e-6:
            return 0.0
        return max((float(between @ ray) * tilt - float(between @ self.normal)) / (1.0 - tilt**2), 0.0)

    def _eye(self) -> np.ndarray:
        return self.sights[0].path.positions[self.sights[0].row]

    def _wall(self, second: np.ndarray, along: np.ndarray) -> Proxy:
        middle, long = 0.5 * (self.first + second), float(np.linalg.norm(second - self.first))
        facing = np.cross(along, UP)
        if facing @ (self._eye() - middle) < 0.0:
            along, facing = -along, -facing
        height = max(self._lift(2, second), self.least)
        return _thing("wall", middle, np.stack([along, UP, facing], 1), (long, height, self.least))

    def _over_an_edge(self, kind: str, second: np.ndarray, along: np.ndarray) -> Proxy:
        """Return a plane or box over an edge: a third click gives its depth, a fourth its height."""
        across = np.cross(along, self.normal)
        deep = float((self._on_foot(2) - self.first) @ across) if len(self.clicks) > 2 else 0.0
        long = float(np.linalg.norm(second - self.first))
        middle = 0.5 * (self.first + second) + 0.5 * deep * across
        height = self._lift(3, second + deep * across)
        size = (long, max(height, self.least), max(abs(deep), self.least))
        return _thing(kind, middle, np.stack([along, self.normal, across], 1), size)

    def _cylinder(self) -> Proxy:
        radius = max(float(np.linalg.norm(self._on_foot(1) - self.first)), self.least)
        height = max(self._lift(2, self.first), self.least)
        return _thing("cylinder", self.first, np.eye(3), (2 * radius, height, 2 * radius))


def _thing(kind: str, position: np.ndarray, world_from_own: np.ndarray, size) -> Proxy:
    sides = [round(max(float(s), 1e-6), 6) for s in size]
    return Proxy.model_validate(
        {"kind": kind, "position": position.round(6).tolist(), "turn": degrees_of(world_from_own), "size": sides}
    )
