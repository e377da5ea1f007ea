"""The plate projected onto what stands for the set, and seen from elsewhere: depth-tested, blended, or its median.

Geometry is rasterised through the lens: corners are bent, and within a triangle, small by make, the inverse depth is
linear in the picture. Points of surfaces are then looked up in the frames that see them (view-dependent weights after
Debevec et al. 1996).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numba import njit, prange

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.lens.kernels import distort_one
from amberkeel.core.progress import Progress, silent
from amberkeel.core.world.solids import Solid

OCCLUDED = 0.012
"""By how much nearer something must be to hide a point, as a share of its depth."""

RIM_PX = 1.5
"""Rim of the picture from which nothing is taken."""

GRAZING = 0.05
"""Cosine of the view below which a surface is seen on its edge."""

ONE, BLEND, MEDIAN = "one", "blend", "median"
MODES = ONE, BLEND, MEDIAN

MOST_VIEWS = 48
"""Frames that a blend or median is taken over, evenly taken from those asked for."""

ALIKE = 60_000
"""Points by which the exposures of frames are compared."""

LEAST_ALIKE = 200


@dataclass(frozen=True)
class View:
    """A frame that lends its picture: `picture` (H, W, 3) as float32, its row, and `inverse` (H, W), one over the depth
    of the nearest surface, 0 for none.
    """

    row: int
    picture: np.ndarray
    inverse: np.ndarray


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
        _raster(px, over_depth, faces, start + own, inverse, face)
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
def _raster(px, inverse, faces, numbers, out, index):
    """Draw triangles into one over depth (H, W) and their numbers; the nearest stays."""
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
    triangles = np.concatenate([one.triangles for one in solids])
    normals = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
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
    _raster(px, np.ones(len(px)), faces, np.arange(len(faces)), inverse, face)
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


def looked_up(path: CameraPath, view: View, points: Points) -> tuple[np.ndarray, np.ndarray]:
    """Return the colours (N, 3) that a view has of points, NaN where it does not see them, and how well it sees each,
    (N,): the cosine of the view over the depth.

    Parameters
    ----------
    path : the camera in the world. view : a frame. points : on surfaces.
    """
    lens, count = path.lens_at(view.row), len(points.xyz)
    colour, weight = np.full((count, 3), np.nan, np.float32), np.zeros(count, np.float32)
    frame = np.concatenate([path.world_from_camera[view.row].ravel(), path.positions[view.row]])
    bent = np.array([*lens.focal_px, *lens.principal_px])
    levels = _halved(view.picture)
    given = points.xyz, points.normal, points.apart, frame, bent, lens.coefficients
    _look_up(*given, levels, view.inverse, colour, weight)
    return colour, weight


LEVELS = 4
"""The picture and its halvings, for points that lie further apart than its pixels."""


def _halved(picture: np.ndarray) -> tuple[np.ndarray, ...]:
    """Return a picture and its halvings, each the mean of four pixels."""
    out = [np.ascontiguousarray(picture, np.float32)]
    for _ in range(LEVELS - 1):
        last = out[-1]
        even = last[: last.shape[0] // 2 * 2, : last.shape[1] // 2 * 2]
        if min(even.shape[:2]) < 8:
            out.append(last)
            continue
        out.append(np.ascontiguousarray(0.25 * (even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2])))
    return tuple(out)


@njit(cache=True, nogil=True)
def _at(picture, x, y, c):
    """Return a channel of a picture (H, W, 3) at a position; it is repeated beyond its edge."""
    height, width = picture.shape[0], picture.shape[1]
    u, v = min(max(x - 0.5, 0.0), width - 1.001), min(max(y - 0.5, 0.0), height - 1.001)
    i, j = int(u), int(v)
    a, b = u - i, v - j
    top = picture[j, i, c] * (1 - a) + picture[j, i + 1, c] * a
    below = picture[j + 1, i, c] * (1 - a) + picture[j + 1, i + 1, c] * a
    return top * (1 - b) + below * b


@njit(cache=True, nogil=True, parallel=True)
def _look_up(xyz, normal, spacing, frame, bent, coefficients, levels, inverse, colour, weight):
    """Fill colours (N, 3) and weights (N,) of points (N, 3) as a picture (H, W, 3) with its halvings shows them."""
    height, width = levels[0].shape[0], levels[0].shape[1]
    for n in prange(len(xyz)):
        x, y, z = xyz[n, 0] - frame[9], xyz[n, 1] - frame[10], xyz[n, 2] - frame[11]
        u = frame[0] * x + frame[3] * y + frame[6] * z
        v = frame[1] * x + frame[4] * y + frame[7] * z
        depth = frame[2] * x + frame[5] * y + frame[8] * z
        if depth <= 1e-9:
            continue
        long = np.sqrt(x * x + y * y + z * z)
        facing = abs(normal[n, 0] * x + normal[n, 1] * y + normal[n, 2] * z) / long
        if facing < GRAZING:
            continue
        p, q = distort_one(coefficients, u / depth, v / depth)
        px, py = bent[0] * p + bent[2], bent[1] * q + bent[3]
        if not (RIM_PX < px < width - RIM_PX and RIM_PX < py < height - RIM_PX):
            continue
        i, j = int(px - 0.5), int(py - 0.5)
        # Seen where any of the four pixels about it shows no nearer surface.
        hidden = True
        for b in range(2):
            for a in range(2):
                hidden &= inverse[j + b, i + a] * depth > 1.0 + OCCLUDED
        if hidden:
            continue
        # Points further apart than pixels are looked up in halvings, or they would alias.
        wide = np.log2(max(spacing[n] * bent[0] / depth, 1.0))
        low = min(int(wide), len(levels) - 1)
        high, share = min(low + 1, len(levels) - 1), wide - low
        first, second = 0.5**low, 0.5**high
        for c in range(3):
            near = _at(levels[low], px * first, py * first, c)
            if share > 0.01 and high > low:
                near = (1.0 - share) * near + share * _at(levels[high], px * second, py * second, c)
            colour[n, c] = near
        weight[n] = facing / depth


@njit(cache=True, nogil=True, parallel=True)
def _medians(colours, out):
    """Fill the medians (N, 3) over views (K, N, 3) of those that are numbers; NaN for none."""
    count = colours.shape[0]
    for n in prange(colours.shape[1]):
        held = np.empty(count, np.float32)
        for c in range(3):
            used = 0
            for k in range(count):
                value = colours[k, n, c]
                if value == value:
                    at = used
                    while at > 0 and held[at - 1] > value:
                        held[at] = held[at - 1]
                        at -= 1
                    held[at] = value
                    used += 1
            if used == 0:
                out[n, c] = np.nan
            elif used % 2:
                out[n, c] = held[used // 2]
            else:
                out[n, c] = 0.5 * (held[used // 2 - 1] + held[used // 2])


@dataclass(frozen=True)
class Light:
    """How frames differ in light: `gain` by row, and how the picture falls off towards its corners, a share at the
    corner's distance from the middle.
    """

    gain: dict[int, float]
    falloff: float

    def undone(self, view: View) -> View:
        """Return a view at the light of the reference, without its falloff."""
        height, width = view.picture.shape[:2]
        y, x = np.mgrid[0:height, 0:width].astype(np.float32)
        gain = self.gain.get(view.row, 1.0) / (1.0 - self.falloff * _radius2(x + 0.5, y + 0.5, width, height))
        return replace(view, picture=(view.picture * gain[..., None]).astype(np.float32))


def _radius2(x, y, width: int, height: int):
    """Return the square of the distance from the picture's middle, 1 at its corner."""
    return ((x - width / 2) ** 2 + (y - height / 2) ** 2) / (width**2 + height**2) * 4.0


def lights(path: CameraPath, views: list[View], points: Points, reference: View, seed: int = 0) -> Light:
    """Return how the light of views differs from that of a reference, by the points that both see: a gain each, and one
    falloff for all, robust against what covers the points on some.

    Parameters
    ----------
    path : the camera in the world. views : frames. points : on surfaces. reference : the frame whose light is kept.
    seed : of the points that are compared.
    """
    rng = np.random.default_rng(seed)
    chosen = rng.choice(len(points.xyz), min(ALIKE, len(points.xyz)), replace=False)
    some = Points(points.xyz[chosen], points.normal[chosen], points.apart[chosen])
    height, width = reference.picture.shape[:2]
    base, _ = looked_up(path, reference, some)
    at = path.project(some.xyz, reference.row)
    own = _radius2(at[:, 0], at[:, 1], width, height)
    rows, ratios, spreads = [], [], []
    for view in views:
        colour, _ = looked_up(path, view, some)
        luma, other = base.mean(1), colour.mean(1)
        with np.errstate(invalid="ignore", divide="ignore"):
            good = (luma > 0.02 * np.nanmax(base)) & (other > 0.02 * np.nanmax(base))
        if good.sum() < LEAST_ALIKE:
            continue
        apart = np.log(luma[good] / other[good])
        at = path.project(some.xyz[good], view.row)
        spread = _radius2(at[:, 0], at[:, 1], width, height) - own[good]
        near = np.abs(apart - np.median(apart)) < 0.25
        rows.append(view.row)
        ratios.append(apart[near])
        spreads.append(spread[near])
    if not rows:
        return Light({}, 0.0)
    # log(1 - f r²) is about -f r²: what a view lost more than the reference is the falloff times their spread.
    top = sum(float(((s - np.median(s)) * (r - np.median(r))).sum()) for s, r in zip(spreads, ratios))
    below = sum(float(((s - np.median(s)) ** 2).sum()) for s in spreads)
    falloff = float(np.clip(top / below if below > 1e-6 else 0.0, 0.0, 0.6))
    gains = {row: float(np.exp(np.median(r - falloff * s))) for row, r, s in zip(rows, ratios, spreads)}
    return Light(gains, falloff)


Look = Callable[[int], np.ndarray]
"""From a row of the path to its picture (H, W, 3), any numbers."""


def chosen_rows(rows: np.ndarray) -> np.ndarray:
    """Return the rows that serve of those asked for: at most `MOST_VIEWS`, evenly taken."""
    if len(rows) <= MOST_VIEWS:
        return rows
    return rows[np.unique(np.linspace(0, len(rows) - 1, MOST_VIEWS).astype(int))]


def coloured(
    path: CameraPath,
    points: Points,
    rows: np.ndarray,
    solids: list[Solid],
    look: Look,
    mode: str = MEDIAN,
    reference: int | None = None,
    sharpness: np.ndarray | None = None,
    progress: Progress = silent,
) -> np.ndarray:
    """Return the colours (N, 3) of surface points from one frame, several blended, or their median; NaN unseen.

    Parameters
    ----------
    path : the camera in the world. points : on surfaces. rows : (K,) of the path that lend their pictures.
    solids : all that stands there, for what hides what. look : pictures by row. mode : one of `MODES`; a blend weighs
    by view angle, distance and sharpness. reference : row whose light is kept, the first when None. sharpness : (F,)
    by row, or None. progress : called with the share done.

    Raises
    ------
    WorldError : no frames, no points, or an unknown mode.
    """
    if mode not in MODES or not len(rows) or not len(points.xyz):
        raise WorldError("There is nothing to project.", "Choose frames, and proxies that they see.")
    rows = rows[:1] if mode == ONE else chosen_rows(rows)
    views = []
    for k, row in enumerate(rows.tolist()):
        progress(0.5 * k / len(rows), f"Reading frame {int(path.frames[row])}")
        views.append(View(row, np.asarray(look(row), np.float32), surface_seen(path, row, solids).inverse))
    if len(views) > 1:
        kept = reference if reference is not None else int(rows[0])
        base = next((v for v in views if v.row == kept), None)
        base = base or View(kept, np.asarray(look(kept), np.float32), surface_seen(path, kept, solids).inverse)
        light = lights(path, views, points, base)
        views = [light.undone(view) for view in views]
    seen = [looked_up(path, view, points) for view in views]
    progress(0.9, "Joining what was seen")
    colours = np.stack([colour for colour, _ in seen])
    out = np.full((len(points.xyz), 3), np.nan, np.float32)
    if mode == MEDIAN:
        _medians(colours, out)
    else:
        sharp = np.ones(len(rows)) if sharpness is None else sharpness[rows]
        weights = np.stack([weight**2 * s for (_, weight), s in zip(seen, sharp)])
        total = weights.sum(0)
        with np.errstate(invalid="ignore", divide="ignore"):
            out = (np.nan_to_num(colours) * weights[..., None]).sum(0) / np.where(total > 0, total, np.nan)[:, None]
    if len(views) > 1 and light.falloff > 0.0 and reference is not None:
        # Back to the reference's own falloff where it sees the point.
        px = path.project(points.xyz, reference)
        height, width = views[0].picture.shape[:2]
        back = 1.0 - light.falloff * _radius2(px[:, 0], px[:, 1], width, height)
        out = out * np.where(np.isfinite(back), back, 1.0)[:, None]
    return out
