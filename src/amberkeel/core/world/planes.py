"""Planes through solved points: fitted robustly, found among many, and under the pointer."""

from dataclasses import dataclass
from functools import lru_cache
from itertools import combinations

import numpy as np
from numba import njit
from scipy.spatial import cKDTree

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError

HYPOTHESES, ALL_TRIPLES = 400, 13
"""Planes through three points each that are tried; of up to so many points, all are."""

LEAST_ROBUST = 5
"""Points from which some of them may be wrong."""

OFF, TUKEY = 3.5, 4.685
"""Sigmas from which a point is named as lying off the plane; sigmas at which its weight is 0 (Huber 1981)."""

ROUNDS = 30
NARROW = 0.02
"""Spread across over spread along below which points lie on a line."""

GROUND_LIKE, WALL_LIKE = np.cos(np.radians(25.0)), np.sin(np.radians(8.0))
"""Cosine of the angle between normal and up above which a plane may be the ground; and below which it may be a wall."""

GROUND, WALL, SLOPE = "ground", "wall", "slope"

TRIED, NEIGHBOURS = 3000, 24
"""Planes that are tried among all points, each through a point and two of so many about it."""

ROUGH, SIGMAS = 0.004, 2.5
"""Roughness of a surface over the usual distance of points; sigmas within which a point belongs to it."""

LEAST_POINTS, MOST_PLANES = 12, 6

UNDER_SHARE, UNDER_LEAST, UNDER_MOST = 0.09, 8, 40
"""Reach about the pointer in widths of the picture; points that are looked at there, least and most."""

GRAZING = 0.05
"""Sine of the angle between ray and plane below which the plane is seen on its edge."""


@dataclass(frozen=True)
class Plane:
    """A plane through points.

    Attributes
    ----------
    centre, normal : (3,) a point on it, its unit normal. off : (N,) signed distances of the points it was fitted to.
    on : (N,) bool, which of them lie on it. rms : of the distances of those.
    """

    centre: np.ndarray
    normal: np.ndarray
    off: np.ndarray
    on: np.ndarray
    rms: float

    def towards(self, eye: np.ndarray) -> "Plane":
        """Return the plane with its normal on the side of a point (3,)."""
        if (eye - self.centre) @ self.normal >= 0.0:
            return self
        return Plane(self.centre, -self.normal, -self.off, self.on, self.rms)


def fit_plane(xyz: np.ndarray, covariance: np.ndarray | None = None, seed: int = 0) -> Plane:
    """Fit a plane to points, up to nearly half of which may lie off it: least median of squares (Rousseeuw 1984), then
    weighted total least squares with Tukey's weights.

    Parameters
    ----------
    xyz : (N, 3). covariance : (N, 3, 3) of the points in the same units squared, NaN where unknown, or None.
    seed : of the triples that are tried.

    Raises
    ------
    WorldError : fewer than three points, or all on a line.
    """
    if len(xyz) < 3:
        raise WorldError("A plane needs three points.", "Select three or more tracks on it.")
    _spread_or_raise(xyz)
    centre, normal = _first(xyz, seed)
    weights = np.ones(len(xyz))
    for _ in range(ROUNDS):
        sigma = _sigmas(xyz, centre, normal, covariance)
        if len(xyz) >= LEAST_ROBUST:
            away = np.abs((xyz - centre) @ normal) / (TUKEY * sigma)
            weights = np.where(away < 1.0, (1.0 - away**2) ** 2, 0.0)
        before = normal
        centre, normal = _weighted(xyz, weights / sigma**2)
        if 1.0 - abs(before @ normal) < 1e-14:
            break
    off = (xyz - centre) @ normal
    on = np.abs(off) <= OFF * sigma if len(xyz) >= LEAST_ROBUST else np.ones(len(xyz), bool)
    _spread_or_raise(xyz[on])
    return Plane(centre, normal, off, on, float(np.sqrt((off[on] ** 2).mean())))


def _spread_or_raise(xyz: np.ndarray) -> None:
    spread = np.linalg.svd(xyz - xyz.mean(0), compute_uv=False)
    if len(xyz) < 3 or spread[1] < NARROW * spread[0] or spread[0] == 0.0:
        raise WorldError("These points lie on a line.", "Choose three or more points spread over the ground.")


def _first(xyz: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Return centre and normal of the plane through three of the points from which half of them are least away."""
    count = len(xyz)
    if count < LEAST_ROBUST:
        return _weighted(xyz, np.ones(count))
    triples = _all_triples(count) if count <= ALL_TRIPLES else _some_triples(count, seed)
    a, b, c = (xyz[triples[:, k]] for k in range(3))
    normals = np.cross(b - a, c - a)
    long = np.linalg.norm(normals, axis=1)
    kept = long > NARROW * np.linalg.norm(b - a, axis=1) * np.linalg.norm(c - a, axis=1)
    if not kept.any():
        return _weighted(xyz, np.ones(count))
    a, normals = a[kept], normals[kept] / long[kept, None]
    away = np.abs(xyz @ normals.T - (a * normals).sum(1))
    half = np.partition(away, count // 2 + 1, axis=0)[: count // 2 + 2].max(0)
    best = int(np.argmin(half))
    return a[best], normals[best]


@lru_cache(maxsize=64)
def _all_triples(count: int) -> np.ndarray:
    """Return all sets of three of so many, (M, 3)."""
    return np.array(list(combinations(range(count), 3)))


@lru_cache(maxsize=256)
def _some_triples(count: int, seed: int) -> np.ndarray:
    """Return `HYPOTHESES` sets of three of so many, (M, 3)."""
    rng = np.random.default_rng(seed)
    return np.stack([rng.choice(count, 3, replace=False) for _ in range(HYPOTHESES)])


def _sigmas(xyz: np.ndarray, centre: np.ndarray, normal: np.ndarray, covariance: np.ndarray | None) -> np.ndarray:
    """Return one sigma of each point's distance (N,): what the solve says, and how rough the surface is beside it."""
    own = np.zeros(len(xyz))
    if covariance is not None:
        own = np.einsum("a,nab,b->n", normal, covariance, normal)
        own = np.where(np.isfinite(own), own, np.nanmax(np.append(own[np.isfinite(own)], 0.0)))
    away = np.abs((xyz - centre) @ normal)
    usual = 1.4826 * float(np.median(away)) * (1.0 + 5.0 / max(len(xyz) - 3, 1))
    floor = 1e-6 * float(np.linalg.norm(xyz - xyz.mean(0), axis=1).max())
    rough = max(usual**2 - float(np.median(own)), 0.04 * usual**2, floor**2)
    return np.sqrt(np.maximum(own, 0.0) + rough)


def _weighted(xyz: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the weighted middle of points and the direction in which they spread least."""
    centre = weights @ xyz / weights.sum()
    away = xyz - centre
    return centre, np.linalg.eigh(away.T @ (weights[:, None] * away))[1][:, 0]


@dataclass(frozen=True)
class FoundPlane:
    """A plane found among points: the plane, fitted to the points `rows` (M,), what it may be, and to which of those
    found before it is square or parallel, by number.
    """

    plane: Plane
    rows: np.ndarray
    kind: str
    square_to: tuple[int, ...] = ()
    parallel_to: tuple[int, ...] = ()


def find_planes(
    xyz: np.ndarray, covariance: np.ndarray | None, path: CameraPath, seed: int = 0, most: int = MOST_PLANES
) -> list[FoundPlane]:
    """Find the large planes among points, what may be the ground first, then those that hold most points (MSAC, Torr
    and Zisserman 2000, one plane after the other).

    Parameters
    ----------
    xyz : (N, 3). covariance : (N, 3, 3) or None. path : the camera, in the same coordinates: which side is up, and
        how far points usually are. seed : of the triples. most : planes.
    """
    eye, up = path.positions.mean(0), -path.world_from_camera[:, :, 1].mean(0)
    distance = np.linalg.norm(xyz - eye, axis=1)
    rough = ROUGH * float(np.median(distance)) if len(xyz) else 0.0
    spread = np.zeros(len(xyz)) if covariance is None else np.einsum("naa->n", covariance) / 3.0
    sigma = np.sqrt(rough**2 + np.where(np.isfinite(spread), spread, np.inf))
    left = np.nonzero(sigma < 4.0 * rough)[0]
    rng = np.random.default_rng(seed)
    found: list[tuple[Plane, np.ndarray]] = []
    while len(left) >= LEAST_POINTS and len(found) < most:
        near = cKDTree(xyz[left]).query(xyz[left], min(NEIGHBOURS, len(left)))[1]
        starts = rng.integers(0, len(left), TRIED)
        others = rng.integers(1, near.shape[1], (TRIED, 2))
        triples = np.stack([starts, near[starts, others[:, 0]], near[starts, others[:, 1]]], 1)
        best = _best_triple(xyz[left], triples, SIGMAS * sigma[left], np.ones(len(left)))
        if best < 0:
            break
        a, b, c = xyz[left][triples[best]]
        normal = np.cross(b - a, c - a)
        rows = left[np.abs((xyz[left] - a) @ (normal / np.linalg.norm(normal))) < SIGMAS * sigma[left]]
        if len(rows) < LEAST_POINTS:
            break
        left = np.setdiff1d(left, rows)
        try:
            plane = fit_plane(xyz[rows], part_of(covariance, rows)).towards(eye)
        except WorldError:
            continue
        found.append((plane, rows[plane.on]))
    return _ranked(found, up / np.linalg.norm(up))


def _ranked(found: list[tuple[Plane, np.ndarray]], up: np.ndarray) -> list[FoundPlane]:
    """Return planes with what they may be, the likeliest ground first; walls are judged by its normal."""
    found = sorted(found, key=lambda one: -len(one[1]))
    grounds = [one for one in found if one[0].normal @ up > GROUND_LIKE]
    if grounds:
        first = grounds[0]
        up, found = first[0].normal, [first, *(one for one in found if one is not first)]
    out: list[FoundPlane] = []
    for plane, rows in found:
        upward = float(plane.normal @ up)
        kind = GROUND if upward > GROUND_LIKE else WALL if abs(upward) < WALL_LIKE else SLOPE
        turns = [np.degrees(np.arccos(min(abs(float(plane.normal @ o.plane.normal)), 1.0))) for o in out]
        square = tuple(k for k, turn in enumerate(turns) if turn > 88.0)
        out.append(FoundPlane(plane, rows, kind, square, tuple(k for k, turn in enumerate(turns) if turn < 2.0)))
    return out


@njit(cache=True, nogil=True)
def _best_triple(xyz, triples, reach, counts):
    """Return which triple's plane most points lie near; -1 where none is one.

    Parameters
    ----------
    xyz : (N, 3). triples : (M, 3) rows of it. reach : (N,) how near each point must lie. counts : (N,) for how much.
    """
    best, most = -1, 0.0
    for t in range(len(triples)):
        a, b, c = xyz[triples[t, 0]], xyz[triples[t, 1]], xyz[triples[t, 2]]
        u0, u1, u2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        v0, v1, v2 = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
        size = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        if size <= 0.1 * np.sqrt((u0 * u0 + u1 * u1 + u2 * u2) * (v0 * v0 + v1 * v1 + v2 * v2)):
            continue
        total = 0.0
        for n in range(len(xyz)):
            d = (n0 * (xyz[n, 0] - a[0]) + n1 * (xyz[n, 1] - a[1]) + n2 * (xyz[n, 2] - a[2])) / (size * reach[n])
            if d * d < 1.0:
                total += counts[n] * (1.0 - d * d)
        if total > most:
            best, most = t, total
    return best


@dataclass(frozen=True)
class PlaneUnder:
    """The plane under a spot of the picture: `at` (3,) where the spot's ray meets it, the plane with its normal towards
    the camera, the points `rows` (M,) that it goes through, and their RMS as seen on the frame, pixels.
    """

    at: np.ndarray
    plane: Plane
    rows: np.ndarray
    rms_px: float


def plane_under(
    path: CameraPath, row: int, xy: np.ndarray, xyz: np.ndarray, covariance: np.ndarray | None = None
) -> PlaneUnder:
    """Return the plane through the solved points about a spot of the picture.

    Parameters
    ----------
    path : the camera. row : of the path. xy : (2,) pixels. xyz : (N, 3) points in the path's world. covariance :
        (N, 3, 3) or None.

    Raises
    ------
    WorldError : too few points there, or they do not make a plane that faces the camera.
    """
    camera = path.to_camera(xyz, row)
    ahead = np.nonzero(np.isfinite(camera[:, 2]) & (camera[:, 2] > 0.0))[0]
    seen = path.project(xyz[ahead], row)
    away = np.where(np.isfinite(seen).all(1), np.linalg.norm(seen - xy, axis=1), np.inf)
    order = np.argsort(away, kind="stable")[:UNDER_MOST]
    within = int((away[order] < UNDER_SHARE * path.lens.width).sum())
    rows = ahead[order[: max(within, UNDER_LEAST)]]
    if len(rows) < LEAST_ROBUST or away[order[min(len(order), UNDER_LEAST) - 1]] > 3 * UNDER_SHARE * path.lens.width:
        raise WorldError("There are too few solved points here.", "Point where tracks lie.")
    apart = away[np.searchsorted(ahead, rows)]
    rows = rows[_near_one_plane(xyz[rows], camera[rows, 2], part_of(covariance, rows), apart)]
    plane = fit_plane(xyz[rows], part_of(covariance, rows)).towards(path.positions[row])
    at = on_plane(path, row, xy, plane.centre, plane.normal)
    return PlaneUnder(at, plane, rows[plane.on], _rms_px(path, row, xyz[rows[plane.on]], plane))


def _near_one_plane(xyz: np.ndarray, depth: np.ndarray, covariance: np.ndarray | None, away: np.ndarray) -> np.ndarray:
    """Return which points lie on the plane that most of them do, those near the pointer counting more.

    Parameters
    ----------
    xyz : (N, 3). depth : (N,) in the camera. covariance : (N, 3, 3) or None. away : (N,) from the pointer, pixels.
    """
    triples = _all_triples(len(xyz))
    spread = np.zeros(len(xyz)) if covariance is None else np.nan_to_num(np.einsum("naa->n", covariance) / 3.0, nan=1e9)
    reach = SIGMAS * np.sqrt((ROUGH * depth) ** 2 + spread)
    best = _best_triple(xyz, triples, reach, 1.0 / (1.0 + (away / max(float(np.median(away)), 1.0)) ** 2))
    if best < 0:
        raise WorldError("There are too few solved points here.", "Point where tracks lie.")
    a, b, c = xyz[triples[best]]
    normal = np.cross(b - a, c - a)
    return np.abs((xyz - a) @ (normal / np.linalg.norm(normal))) < reach


def part_of(values: np.ndarray | None, rows: np.ndarray) -> np.ndarray | None:
    """Return rows of values that may not be known."""
    return None if values is None else values[rows]


def _rms_px(path: CameraPath, row: int, xyz: np.ndarray, plane: Plane) -> float:
    """Return how far points (M, 3) lie off a plane as one frame sees it, pixels RMS."""
    return float(np.sqrt(np.nanmean(off_px(path, row, xyz, plane.centre, plane.normal) ** 2)))


def off_px(path: CameraPath, row: int, xyz: np.ndarray, centre: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """Return how far points (M, 3) lie off a plane as one frame sees it, pixels (M,).

    Parameters
    ----------
    path : the camera. row : of it. xyz : points in its world. centre, normal : (3,) of the plane.
    """
    foot = xyz - ((xyz - centre) @ normal)[:, None] * normal
    return np.linalg.norm(path.project(xyz, row) - path.project(foot, row), axis=1)


def ray_of(path: CameraPath, row: int, xy: np.ndarray) -> np.ndarray:
    """Return the direction (3,) in the world of the ray through a pixel (2,) of a row; its depth component is 1."""
    straight = path.normalise(np.asarray(xy, float)[None], row)[0]
    return path.world_from_camera[row] @ np.array([straight[0], straight[1], 1.0])


def on_plane(path: CameraPath, row: int, xy: np.ndarray, centre: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """Return where the ray through a pixel meets a plane, (3,).

    Parameters
    ----------
    path : the camera. row : of it. xy : (2,) pixels. centre, normal : (3,) of the plane.

    Raises
    ------
    WorldError : the ray passes along it, or it lies behind the camera.
    """
    ray, start = ray_of(path, row, xy), path.positions[row]
    facing = float(ray @ normal) / float(np.linalg.norm(ray))
    along = float((centre - start) @ normal) / float(ray @ normal) if abs(facing) > 1e-12 else -1.0
    if abs(facing) < GRAZING or along <= 0.0:
        raise WorldError("The surface is seen on its edge here.", "Point nearer to the camera, or at another surface.")
    return start + along * ray
