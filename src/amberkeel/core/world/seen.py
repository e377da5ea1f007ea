"""What a frame sees of what stands in a scene: surfaces rasterised through the lens, and their points.

Corners are bent by the lens, triangles split until they are small in the picture, and within one the inverse depth is
linear.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from amberkeel.core.camera import CameraPath
from amberkeel.core.world.solids import Solid


@dataclass(frozen=True)
class Surface:
    """What one frame sees of the geometry: `inverse` (H, W), one over the depth, 0 for none, and `face` (H, W), which
    triangle, -1 for none.
    """

    inverse: np.ndarray
    face: np.ndarray


@dataclass(frozen=True)
class Points:
    """Points of surfaces (N, 3) with their unit normals (N, 3) and how far apart they lie there, (N,)."""

    xyz: np.ndarray
    normal: np.ndarray
    apart: np.ndarray


def joined(parts: list[Points]) -> Points:
    """Return points of several surfaces as one."""
    return Points(*(np.concatenate([getattr(one, name) for one in parts]) for name in ("xyz", "normal", "apart")))


def surface_seen(path: CameraPath, row: int, solids: list[Solid], scale: float = 1.0) -> Surface:
    """Return which surfaces a frame sees.

    Parameters
    ----------
    path : the camera in the world. row : of it. solids : what stands there. scale : of the picture, 1 for the plate's.
    """
    height, width = round(path.lens.height * scale), round(path.lens.width * scale)
    inverse, face = np.zeros((height, width), np.float32), np.full((height, width), -1, np.int32)
    start, near = 0, NEAR * _reach(path, row, solids)
    for solid in solids:
        px, over_depth, faces, own = _in_the_picture(path, row, solid, near, scale)
        raster(px, over_depth, faces, start + own, inverse, face)
        start += len(solid.faces)
    return Surface(inverse, face)


NEAR = 1e-3
"""Depth nearer than which nothing is drawn, over the usual distance of what stands there."""

LONGEST_PX, SPLITS = 24.0, 7
"""Side in the picture above which a triangle is split, so that it bends as the lens does; and how often."""

TRUSTED = 1.25
"""How far beyond the picture's corner the lens's polynomial is trusted; further out it is carried on straight."""

MOST_SPLIT = 400_000
"""Triangles of a solid up to which they are split."""


def _in_the_picture(
    path: CameraPath, row: int, solid: Solid, near: float, scale: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return a solid's triangles before the camera, split until they are small in the picture: pixels (V, 2), one over
    depth (V,), triangles (F, 3) and which of the solid's each is part of, (F,).
    """
    camera, faces = path.to_camera(solid.vertices, row), solid.faces.astype(np.int64)
    own, size = np.arange(len(faces), dtype=np.int64), np.array([path.lens.width, path.lens.height]) * scale
    for _ in range(SPLITS):
        ahead, px = camera[:, 2] > near, _seen_at(path, row, camera, near) * scale
        some, all_ahead = np.any(ahead[faces], axis=1), np.all(ahead[faces], axis=1)
        corners = px[faces]
        low, high = corners.min(1), corners.max(1)
        beside = (high[:, 0] < 0.0) | (high[:, 1] < 0.0) | (low[:, 0] > size[0]) | (low[:, 1] > size[1])
        outside = all_ahead & beside
        (kept,) = np.nonzero(some & ~outside)
        faces, own, all_ahead, low, high = faces[kept], own[kept], all_ahead[kept], low[kept], high[kept]
        long = ~all_ahead | ((high - low).max(1) > LONGEST_PX)
        if not long.any() or len(faces) > MOST_SPLIT:
            break
        camera, faces, own = _split(camera, faces, own, long)
    ahead, px = camera[:, 2] > near, _seen_at(path, row, camera, near) * scale
    whole = ahead[faces].all(1)
    return px, 1.0 / np.maximum(camera[:, 2], near), faces[whole], own[whole]


def _split(camera: np.ndarray, faces: np.ndarray, own: np.ndarray, which: np.ndarray):
    """Return vertices and triangles with some of them split into four."""
    a, b, c = faces[which].T
    edges = np.sort(np.concatenate([np.stack([a, b], 1), np.stack([b, c], 1), np.stack([c, a], 1)]), axis=1)
    single, place = np.unique(edges, axis=0, return_inverse=True)
    middle = len(camera) + place.reshape(3, -1)
    ab, bc, ca = middle
    parts = [np.stack(t, 1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
    return (
        np.concatenate([camera, camera[single].mean(1)]),
        np.concatenate([faces[~which], *parts]),
        np.concatenate([own[~which], *[own[which]] * 4]),
    )


def _seen_at(path: CameraPath, row: int, camera: np.ndarray, near: float) -> np.ndarray:
    """Return pixels (N, 2) of points in the camera (N, 3); far outside the picture, where the lens's polynomial may
    turn back, its edge is carried on straight.
    """
    lens = path.lens_at(row)
    flat = camera[:, :2] / np.maximum(camera[:, 2:], near)
    cx, cy = lens.principal_px
    fx, fy = lens.focal_px
    limit = TRUSTED * float(np.hypot(max(cx, lens.width - cx) / fx, max(cy, lens.height - cy) / fy))
    share = np.minimum(limit / np.maximum(np.linalg.norm(flat, axis=1), 1e-12), 1.0)[:, None]
    bent = lens.project(np.concatenate([flat * share, np.ones((len(flat), 1))], 1)) - [cx, cy]
    return bent / share + [cx, cy]


def _reach(path: CameraPath, row: int, solids: list[Solid]) -> float:
    away = [np.linalg.norm(one.vertices - path.positions[row], axis=1).mean() for one in solids if len(one.vertices)]
    return float(np.median(away)) if away else 1.0


@njit(cache=True, nogil=True)
def raster(px, inverse, faces, numbers, out, index):
    """Draw triangles into one over depth (H, W) and their numbers, both in place; the nearest stays.

    Parameters
    ----------
    px : (V, 2) pixels of corners. inverse : (V,) one over their depth, or anything that is larger nearer. faces :
    (F, 3) rows of corners. numbers : (F,) written into `index` for each. out : (H, W) float32. index : (H, W) int32.
    """
    height, width = out.shape
    for f in range(len(faces)):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, bx, by, cx, cy = px[a, 0], px[a, 1], px[b, 0], px[b, 1], px[c, 0], px[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if not abs(area) > 1e-9:
            continue
        left, right = max(int(min(ax, bx, cx) - 0.5), 0), min(int(max(ax, bx, cx) + 0.5), width - 1)
        top, bottom = max(int(min(ay, by, cy) - 0.5), 0), min(int(max(ay, by, cy) + 0.5), height - 1)
        for j in range(top, bottom + 1):
            y = j + 0.5
            for i in range(left, right + 1):
                x = i + 0.5
                v = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
                w = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
                u = 1.0 - v - w
                if u < -1e-6 or v < -1e-6 or w < -1e-6:
                    continue
                z = u * inverse[a] + v * inverse[b] + w * inverse[c]
                if z > out[j, i]:
                    out[j, i] = z
                    index[j, i] = numbers[f]


def points_seen(path: CameraPath, row: int, solids: list[Solid], seen: Surface) -> tuple[Points, np.ndarray]:
    """Return the surface points that a frame's pixels see, and which pixels (N, 2) they are, row and column.

    Parameters
    ----------
    path, row : the frame. solids : as `surface_seen` had them. seen : its result.
    """
    at = np.argwhere(seen.face >= 0)
    scale = seen.face.shape[1] / path.lens.width
    straight = path.normalise((at[:, ::-1] + 0.5) / scale, row)
    depth = 1.0 / seen.inverse[at[:, 0], at[:, 1]].astype(float)
    camera = np.concatenate([straight, np.ones((len(at), 1))], 1) * depth[:, None]
    normals = np.concatenate([one.normals for one in solids])
    own = normals[seen.face[at[:, 0], at[:, 1]]]
    apart = depth / (path.lens_at(row).focal_px[0] * scale)
    return Points(camera @ path.world_from_camera[row].T + path.positions[row], own, apart), at


def texture_points(solid: Solid, size: int) -> tuple[Points, np.ndarray]:
    """Return the surface points of a solid's texture and which texels (N, 2) they are, row and column; v runs up.

    Parameters
    ----------
    solid : with uv. size : of the texture, texels a side.
    """
    px = np.stack([solid.uv[:, 0] * size, (1.0 - solid.uv[:, 1]) * size], 1)
    inverse, face = np.zeros((size, size), np.float32), np.full((size, size), -1, np.int32)
    faces = solid.faces.astype(np.int64)
    raster(px, np.ones(len(px)), faces, np.arange(len(faces)), inverse, face)
    at = np.argwhere(face >= 0)
    own = face[at[:, 0], at[:, 1]]
    a, b, c = (px[solid.faces[own, k]] for k in range(3))
    p = at[:, ::-1] + 0.5
    area = _twice(a, b, c)
    v, w = _twice(a, p, c) / area, _twice(a, b, p) / area
    corners = solid.triangles[own]
    xyz = (1.0 - v - w)[:, None] * corners[:, 0] + v[:, None] * corners[:, 1] + w[:, None] * corners[:, 2]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    twice = np.linalg.norm(normal, axis=1)
    apart = np.sqrt(twice / np.maximum(np.abs(area), 1e-12))
    return Points(xyz, normal / np.maximum(twice, 1e-12)[:, None], apart), at


LEAST_SIDE, MOST_SIDE = 64, 4096
"""Texels along a texture's side."""

SPARE = 1.15
"""Texels over the plate's own pixels, so that nothing of it is lost."""


def texture_side(path: CameraPath, rows: np.ndarray, solid: Solid) -> int:
    """Return how many texels a side a solid's texture needs to hold the plate at its own resolution.

    Parameters
    ----------
    path : the camera in the world. rows : (K,) of the path that lend pictures. solid : with uv.
    """
    corners = solid.uv[solid.faces]
    share = np.abs(_twice(*(corners[:, k] for k in range(3))))
    best, size = 0.0, np.array([path.lens.width, path.lens.height])
    for row in rows.tolist():
        ahead = path.to_camera(solid.vertices, row)[:, 2] > 0.0
        px = path.project(solid.vertices, row)
        inside = ahead & ((px > 0.0) & (px < size)).all(1)
        seen = inside[solid.faces].all(1) & (share > 1e-12)
        if seen.any():
            area = np.abs(_twice(*(px[solid.faces[seen, k]] for k in range(3))))
            best = max(best, float(np.percentile(area / share[seen], 90)))
    return int(np.clip(np.ceil(SPARE * np.sqrt(best) / 8.0) * 8, LEAST_SIDE, MOST_SIDE))


def _twice(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
    """Return twice the signed areas of triangles."""
    return (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
