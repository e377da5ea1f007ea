"""A scene drawn into pictures: paintings on what stands for the set, test objects, and the shadows they cast on it.

Shadows by a map of what the light sees (Williams 1978): test objects are drawn once as seen along the light, and a
point of a surface is in shadow where the map shows something nearer to the light.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.world.rays import cast
from amberkeel.core.world.relief import frame_along
from amberkeel.core.world.seen import Surface, raster, surface_seen
from amberkeel.core.world.solids import Solid, floor, joined
from amberkeel.core.world.textures import texels_at

SAIL = np.array([227.0, 221.0, 207.0], np.float32)
"""Colour of test objects, sRGB code values."""

AMBIENT = 0.34
"""Share of its light that a face turned away from the light has."""

DARK = 0.5
"""Share of the light that a shadow takes away."""

FARTHER = 0.004
"""Share of its depth by which a surface may lie before a test object that stands on it."""

MAP_SIDE = 1024
"""Texels of the shadow map's side."""

BIAS = 2.5
"""Texels by which something must be nearer to the light to cast a shadow."""

REACH = 8.0
"""How far the level under a test object goes, in sizes of it."""

ON_IT = 0.05
"""Share of a test object's size within which it stands on a surface."""


@dataclass(frozen=True)
class Staged:
    """What a scene shows in pictures, in one world with the camera.

    Attributes
    ----------
    probes : test objects. surfaces : what stands for the set; it hides, and catches shadows. textures : of each of
        these (S, S, 4) code values with alpha 0 to 1, or None. light : (3,) unit direction to the light. up : (3,).
    """

    probes: list[Solid]
    surfaces: list[Solid]
    textures: list[np.ndarray | None]
    light: np.ndarray
    up: np.ndarray

    @property
    def empty(self) -> bool:
        """Whether there is nothing to be drawn."""
        return not self.probes and not any(one is not None for one in self.textures)


class Stage:
    """A scene that is drawn into the pictures of a camera, at a scale of the plate's size."""

    def __init__(self, path: CameraPath, staged: Staged, scale: float = 1.0):
        self.path, self.staged, self.scale = path, staged, scale
        self._surfaces = [*staged.surfaces, *(_level(one, staged) for one in staged.probes)]
        self._textures = [*staged.textures, *(None for _ in staged.probes)]
        self._rays: dict[int, np.ndarray] = {}
        self._shadows = _Shadows(staged.probes, staged.light) if staged.probes else None

    def draw(self, picture: np.ndarray, row: int, masked: np.ndarray | None = None) -> None:
        """Draw the scene into a picture (H, W, 3) uint8, in place.

        Parameters
        ----------
        picture : of the row's frame, at the stage's scale. row : of the path. masked : (h, w) bool of any size, what
            stands before paintings and shadows, or None.
        """
        height, width = picture.shape[:2]
        ground = self._cut(surface_seen(self.path, row, self._surfaces, self.scale), height, width)
        at = np.nonzero(ground.face >= 0)
        if len(at[0]):
            over, dark = self._on_surfaces(row, ground, at)
            if masked is not None:
                free = cv2.resize(masked.astype(np.uint8), (width, height), interpolation=cv2.INTER_NEAREST)[at] == 0
                over[:, 3] *= free
                dark = dark * free
            own = picture[at].astype(np.float32)
            own += over[:, 3:] * (over[:, :3] - own)
            picture[at] = np.clip(own * (1.0 - DARK * dark[:, None]) + 0.5, 0, 255).astype(np.uint8)
        if self.staged.probes:
            self._draw_probes(picture, row, ground)

    @staticmethod
    def _cut(seen: Surface, height: int, width: int) -> Surface:
        """Return a surface of a picture's size; the two differ by a rounded pixel."""
        out = Surface(np.zeros((height, width), np.float32), np.full((height, width), -1, np.int32))
        high, wide = min(height, seen.face.shape[0]), min(width, seen.face.shape[1])
        out.inverse[:high, :wide], out.face[:high, :wide] = seen.inverse[:high, :wide], seen.face[:high, :wide]
        return out

    def _on_surfaces(self, row: int, ground: Surface, at: tuple) -> tuple[np.ndarray, np.ndarray]:
        """Return what is painted on the surfaces that pixels see, (N, 4), and the share of light kept from them."""
        xyz = self._points(row, ground, at)
        face, start = ground.face[at], 0
        over = np.zeros((len(xyz), 4), np.float32)
        for solid, texture in zip(self._surfaces, self._textures):
            if texture is not None:
                own = np.nonzero((face >= start) & (face < start + len(solid.faces)))[0]
                over[own] = texels_at(solid, texture, face[own] - start, xyz[own])
            start += len(solid.faces)
        dark = np.zeros(len(xyz), np.float32) if self._shadows is None else self._shadows.at(xyz)
        return over, dark

    def _points(self, row: int, ground: Surface, at: tuple) -> np.ndarray:
        """Return the points (N, 3) of the surfaces that pixels see."""
        key = 0 if self.path.zoom is None else row
        if key not in self._rays:
            height, width = ground.face.shape
            y, x = np.mgrid[0:height, 0:width]
            px = (np.stack([x.ravel(), y.ravel()], 1) + 0.5) / self.scale
            straight = self.path.normalise(px, row).astype(np.float32).reshape(height, width, 2)
            self._rays = {key: np.concatenate([straight, np.ones((height, width, 1), np.float32)], 2)}
        camera = self._rays[key][at] / ground.inverse[at][:, None]
        return camera @ self.path.world_from_camera[row].T + self.path.positions[row]

    def _draw_probes(self, picture: np.ndarray, row: int, ground: Surface) -> None:
        """Draw the test objects, shaded, where nothing stands before them."""
        seen = self._cut(surface_seen(self.path, row, self.staged.probes, self.scale), *picture.shape[:2])
        own = (seen.face >= 0) & (seen.inverse >= ground.inverse * (1.0 - FARTHER))
        if not own.any():
            return
        corners = np.concatenate([one.triangles for one in self.staged.probes])
        normals = np.concatenate([one.normals for one in self.staged.probes])
        facing = np.sign(((self.path.positions[row] - corners[:, 0]) * normals).sum(1))
        light = AMBIENT + (1.0 - AMBIENT) * np.clip((normals * facing[:, None]) @ self.staged.light, 0.0, 1.0)
        picture[own] = (SAIL * light[seen.face[own], None]).astype(np.uint8)


def _level(probe: Solid, staged: Staged) -> Solid:
    """Return the level that a test object stands on, without triangles where it stands on a surface already."""
    heights = probe.vertices @ staged.up
    size = float(np.ptp(probe.vertices, axis=0).max())
    foot = probe.vertices[heights <= heights.min() + 1e-6 * max(size, 1e-12)].mean(0)
    square = floor(2.0 * REACH * size, 2.0 * REACH * size)
    level = square.moved(frame_along(staged.up), foot)
    if any(_stands_on(one, foot, staged.up, ON_IT * size) for one in staged.surfaces):
        return Solid(level.vertices, level.faces[:0], level.uv, level.lines)
    return level


def _stands_on(solid: Solid, foot: np.ndarray, up: np.ndarray, within: float) -> bool:
    """Return whether a surface passes a point along up within a distance."""
    return bool(cast(foot + within * up, -up[None], solid.triangles).along[0] <= 2.0 * within)


class _Shadows:
    """What the light sees of test objects."""

    def __init__(self, probes: list[Solid], light: np.ndarray):
        # Rows across the light, and along it.
        self._frame = frame_along(light)[:, [2, 0, 1]].T
        whole = joined(probes)
        vertices = whole.vertices @ self._frame.T
        self._low = vertices[:, :2].min(0) - 1e-9
        self._texel = float(np.ptp(vertices[:, :2], axis=0).max()) * 1.01 / MAP_SIDE + 1e-12
        self._base = float(vertices[:, 2].min()) - 1.0
        px = (vertices[:, :2] - self._low) / self._texel
        faces = whole.faces.astype(np.int64)
        self._map = np.zeros((MAP_SIDE, MAP_SIDE), np.float32)
        index = np.full(self._map.shape, -1, np.int32)
        raster(px, vertices[:, 2] - self._base, faces, np.arange(len(faces)), self._map, index)

    def at(self, xyz: np.ndarray) -> np.ndarray:
        """Return the share of the light (N,) that is kept from points (N, 3)."""
        seen = xyz @ self._frame.T
        px = ((seen[:, :2] - self._low) / self._texel).astype(np.float32)
        near = ((px > -2.0) & (px < MAP_SIDE + 2.0)).all(1)
        out = np.zeros(len(xyz), np.float32)
        rows = np.nonzero(near)[0]
        height = seen[rows, 2] - self._base + BIAS * self._texel
        for dy in (-1, 0, 1):
            for dx in (-1, 0, 1):
                i, j = (px[rows] + [dx, dy]).astype(int).T
                inside = (i >= 0) & (j >= 0) & (i < MAP_SIDE) & (j < MAP_SIDE)
                found = self._map[np.clip(j, 0, MAP_SIDE - 1), np.clip(i, 0, MAP_SIDE - 1)]
                out[rows] += inside & (found > height)
        return out / 9.0
