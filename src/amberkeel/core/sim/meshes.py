"""Triangle meshes of set pieces: grids, boxes, tubes and lofted hulls.

A mesh lives in world coordinates (right-handed, Y up, metres). Texture coordinates count repeats of the texture.
"""

from dataclasses import dataclass, replace

import numpy as np


@dataclass(frozen=True)
class Mesh:
    """Triangles with a texture.

    Attributes
    ----------
    corners : (T, 3, 3) world positions of each triangle's corners in metres.
    uv : (T, 3, 2) texture coordinates in repeats.
    normals : (T, 3, 3) unit normals at the corners.
    texture : (T,) int, which of the scene's textures.
    glow : (T,) float; above 0 a triangle is drawn at that brightness, unlit and without haze.
    """

    corners: np.ndarray
    uv: np.ndarray
    normals: np.ndarray
    texture: np.ndarray
    glow: np.ndarray

    def __len__(self) -> int:
        return len(self.corners)

    def moved(self, rotation: np.ndarray | None = None, translation=(0.0, 0.0, 0.0)) -> "Mesh":
        """Return the mesh turned by `rotation` (3, 3) and then shifted by `translation` (3,) metres."""
        r = np.eye(3) if rotation is None else rotation
        return replace(self, corners=self.corners @ r.T + np.asarray(translation), normals=self.normals @ r.T)


def join(meshes: list[Mesh]) -> Mesh:
    """Return one mesh made of several."""
    names = ("corners", "uv", "normals", "texture", "glow")
    return Mesh(*(np.concatenate([getattr(m, name) for m in meshes]) for name in names))


def surface(points: np.ndarray, uv: np.ndarray, texture: int, glow: float = 0.0) -> Mesh:
    """Return a mesh over a grid of points (R, C, 3) with texture coordinates (R, C, 2); normals are smooth.

    Parameters
    ----------
    points : (R, C, 3) metres. uv : (R, C, 2). texture : its number. glow : light that it gives by itself.
    """
    du = np.gradient(points, axis=1)
    dv = np.gradient(points, axis=0)
    normal = np.cross(du, dv)
    normal /= np.maximum(np.linalg.norm(normal, axis=-1, keepdims=True), 1e-12)

    def split(grid):
        a, b, c, d = grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]
        both = np.stack([np.stack([a, b, c], 2), np.stack([a, c, d], 2)], 2)
        return both.reshape(-1, 3, grid.shape[-1])

    count = 2 * (points.shape[0] - 1) * (points.shape[1] - 1)
    return Mesh(split(points), split(uv), split(normal), np.full(count, texture), np.full(count, glow))


def panel(origin, along, up, texture: int, repeat_m: float = 2.0, step_m: float = 0.6, glow: float = 0.0) -> Mesh:
    """Return a flat rectangle from `origin` spanned by the vectors `along` and `up`, metres, cut into small pieces.

    Parameters
    ----------
    origin : (3,) metres. along, up : (3,) metres, its sides. texture : its number. repeat_m : length of one
        repeat. step_m : side of the pieces. glow : light that it gives by itself.
    """
    origin, along, up = (np.asarray(v, dtype=float) for v in (origin, along, up))
    width, height = np.linalg.norm(along), np.linalg.norm(up)
    s = np.linspace(0.0, 1.0, max(2, int(np.ceil(width / step_m)) + 1))
    t = np.linspace(0.0, 1.0, max(2, int(np.ceil(height / step_m)) + 1))
    ss, tt = np.meshgrid(s, t)
    points = origin + ss[..., None] * along + tt[..., None] * up
    return surface(points, np.stack([ss * width, tt * height], -1) / repeat_m, texture, glow)


def box(centre, size, texture: int, repeat_m: float = 1.0, turn: float = 0.0) -> Mesh:
    """Return a box of `size` (x, y, z) metres, turned by `turn` radians about Y, standing around `centre`.

    Parameters
    ----------
    centre : (3,) metres. size : (3,) metres. texture : its number. repeat_m : length of one repeat. turn :
        radians.
    """
    sx, sy, sz = size
    x, y, z = np.array([sx, 0, 0]), np.array([0, sy, 0]), np.array([0, 0, sz])
    low = -0.5 * np.array(size)
    sides = [
        (low + z, x, y),
        (low + x, -x, y),
        (low, z, y),
        (low + x + z, -z, y),
        (low + y + z, x, -z),
        (low, x, z),
    ]
    cos, sin = np.cos(turn), np.sin(turn)
    rotation = np.array([[cos, 0, sin], [0, 1, 0], [-sin, 0, cos]])
    step = max(0.25, min(size))
    return join([panel(*side, texture, repeat_m, step) for side in sides]).moved(rotation, centre)


def tube(start, end, radius, texture: int, repeat_m: float = 0.8, sides: int = 12, radius_end=None) -> Mesh:
    """Return an open tube from `start` to `end`, metres; `radius_end` tapers it.

    Parameters
    ----------
    start, end : (3,) metres. radius : metres. texture : its number. repeat_m : length of one repeat. sides : of
        its cross-section. radius_end : metres, or None for the same.
    """
    start, end = np.asarray(start, float), np.asarray(end, float)
    axis = end - start
    length = np.linalg.norm(axis)
    side = np.cross(axis, [1.0, 0.0, 0.0] if abs(axis[0]) < 0.9 * length else [0.0, 1.0, 0.0])
    side /= np.linalg.norm(side)
    other = np.cross(axis / length, side)
    angle = np.linspace(0.0, 2.0 * np.pi, sides + 1)
    along = np.linspace(0.0, 1.0, max(2, int(np.ceil(length / 0.5)) + 1))
    radii = radius + ((radius_end if radius_end is not None else radius) - radius) * along
    ring = np.cos(angle)[:, None] * side - np.sin(angle)[:, None] * other
    points = start + along[None, :, None] * axis + ring[:, None, :] * radii[None, :, None]
    around = angle[:, None] * radius + 0.0 * along[None]
    uv = np.stack([along[None] * length + 0.0 * angle[:, None], around], -1) / repeat_m
    return surface(points, uv, texture)


def drum(base, radius: float, height: float, texture: int, lid: int) -> Mesh:
    """Return a closed upright drum standing at `base`, metres.

    Parameters
    ----------
    base : (3,) metres. radius, height : metres. texture, lid : their numbers.
    """
    base = np.asarray(base, float)
    top = base + [0.0, height, 0.0]
    angle = np.linspace(0.0, 2.0 * np.pi, 17)
    r = np.array([0.0, radius])
    disc = top + np.stack([np.cos(angle)[:, None] * r, 0.0 * angle[:, None] * r, np.sin(angle)[:, None] * r], -1)
    return join([tube(base, top, radius, texture, 1.0, 20), surface(disc[:, ::-1], disc[:, ::-1, [0, 2]], lid)])


def hull(length: float, beam: float, depth: float, texture: int, repeat_m: float = 2.2) -> Mesh:
    """Return an open boat's hull along x from stern (0) to stem (length), keel at y = 0, metres.

    Parameters
    ----------
    length, beam, depth : metres. texture : its number. repeat_m : length of one repeat.
    """
    along = np.linspace(0.0, 1.0, 41)
    girth = np.linspace(-1.0, 1.0, 29)
    fullness = np.clip(np.minimum(0.62 + 1.9 * along, 1.0) * (1.0 - along**3.2), 0.0, 1.0)
    rise = 0.35 * depth * along**4 + 0.12 * depth * (1.0 - along) ** 2
    sheer = depth * (1.0 + 0.28 * along**2 + 0.06 * (1.0 - along) ** 2)
    side = np.sign(girth) * np.abs(girth) ** 0.62
    height = np.abs(girth) ** 1.75
    z = 0.5 * beam * fullness[:, None] * side[None]
    y = rise[:, None] + (sheer - rise)[:, None] * height[None]
    x = length * (along[:, None] + 0.07 * along[:, None] ** 3 * height[None])
    points = np.stack([x + 0.0 * z, y, z], -1)
    uv = np.stack([x + 0.0 * z, (girth * 1.25 * depth)[None] + 0.0 * x], -1) / repeat_m
    return surface(points, uv, texture)
