"""Residuals of an adjustment and their robust cost, in numba over flat arrays."""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST
from amberkeel.core.solve.arrays import CHUNKS, FEW, Observations, Scene
from amberkeel.core.solve.projection import BEHIND, residual
from amberkeel.core.solve.radial_lens import READOUT
from amberkeel.core.solve.refine import _refine

WORSE, GUARD_STEPS = 0.02, 6
"""Cost by which a point must be worse after a step for it to be adjusted by itself, and steps of that."""


@njit(cache=True, nogil=True, fastmath=FAST, inline="always")
def measured_at(seen, n, readout, out):
    """Fill `out` (2,) with measurement `n` as it would be had all rows been read at once.

    Parameters
    ----------
    seen : measurements. n : row. readout : share of the frame interval. out : (2,), filled.
    """
    out[0] = seen.xy[n, 0] - readout * seen.drift[n, 0]
    out[1] = seen.xy[n, 1] - readout * seen.drift[n, 1]


@njit(cache=True, nogil=True, fastmath=FAST)
def fill_residuals(scene, seen, point, out):
    """Fill `out` (N, 2) with projected minus measured pixels; `point` (N,) is each observation's point.

    Parameters
    ----------
    scene : cameras, lens rows and points. seen : measurements. point : (N,) int. out : (N, 2), filled.
    """
    at = np.empty(2)
    for n in range(len(point)):
        p, f = point[n], seen.camera[n]
        measured_at(seen, n, scene.lenses[f, READOUT], at)
        residual(
            scene.rotations[f], scene.centres[f], scene.anchors[p], scene.directions[p], scene.rhos[p],
            scene.lenses[f], at, out[n],
        )  # fmt: skip


@njit(cache=True, nogil=True, fastmath=FAST)
def _point_cost(scene, seen, scale2, p, e, at):
    """Return half the Cauchy loss of the whitened residuals of point `p`; `e`, `at` (2,) are room to work in."""
    total, product = 0.0, 1.0
    for n in range(seen.first[p], seen.first[p + 1]):
        if seen.weight[n] == 0.0:
            continue
        f = seen.camera[n]
        measured_at(seen, n, scene.lenses[f, READOUT], at)
        ahead = residual(
            scene.rotations[f], scene.centres[f], scene.anchors[p], scene.directions[p], scene.rhos[p],
            scene.lenses[f], at, e,
        )  # fmt: skip
        r2 = (e[0] * e[0] + e[1] * e[1]) * seen.weight[n] * seen.weight[n] if ahead else BEHIND
        product *= 1.0 + r2 / scale2
        if product > 1e200:
            total += np.log(product)
            product = 1.0
    return 0.5 * scale2 * (total + np.log(product))


@njit(cache=True, nogil=True, fastmath=FAST)
def _point_costs(scene, seen, scale2, begin, end, out):
    e, at = np.empty(2), np.empty(2)
    for p in range(begin, end):
        out[p] = _point_cost(scene, seen, scale2, p, e, at)


@njit(cache=True, nogil=True, fastmath=FAST, parallel=True)
def _point_costs_parallel(scene, seen, scale2, out):
    points = len(scene.rhos)
    for chunk in prange(CHUNKS):
        _point_costs(scene, seen, scale2, chunk * points // CHUNKS, (chunk + 1) * points // CHUNKS, out)


def point_costs(scene: Scene, seen: Observations, scale2: float) -> np.ndarray:
    """Return half the Cauchy loss of the whitened residuals of each point (P,).

    Parameters
    ----------
    scene : cameras, lens rows and points. seen : measurements. scale2 : square of the Cauchy scale, in sigmas.
    """
    out = np.empty(len(scene.rhos))
    if len(seen.camera) <= FEW:
        _point_costs(scene, seen, scale2, 0, len(out), out)
    else:
        _point_costs_parallel(scene, seen, scale2, out)
    return out


@njit(cache=True, nogil=True, fastmath=FAST)
def _guard(scene, seen, scale2, begin, end, before, free, out):
    e, at = np.empty(2), np.empty(2)
    for p in range(begin, end):
        out[p] = _point_cost(scene, seen, scale2, p, e, at)
        if not free[p] or out[p] <= before[p] + WORSE:
            continue
        a, z = seen.first[p], seen.first[p + 1]
        xy, own = np.empty((z - a, 2)), np.full(z - a, p)
        for n in range(a, z):
            measured_at(seen, n, scene.lenses[seen.camera[n], READOUT], xy[n - a])
        camera, weight, loose = seen.camera[a:z].copy(), seen.weight[a:z].copy(), np.zeros(z - a)
        _refine(scene, camera, own, xy, weight, 0, z - a, False, p, scale2, GUARD_STEPS, loose)
        out[p] = _point_cost(scene, seen, scale2, p, e, at)


@njit(cache=True, nogil=True, fastmath=FAST, parallel=True)
def _guard_parallel(scene, seen, scale2, before, free, out):
    points = len(scene.rhos)
    for chunk in prange(CHUNKS):
        _guard(scene, seen, scale2, chunk * points // CHUNKS, (chunk + 1) * points // CHUNKS, before, free, out)


def guard_points(scene: Scene, seen: Observations, scale2: float, before: np.ndarray, free: np.ndarray) -> np.ndarray:
    """Improve those points, in place, whose own costs a step of all has raised; return the costs (P,) then.

    Where cameras see a point from nearly one spot, its depth is hardly determined, and how it follows the cameras is
    far from linear. One such point must not shorten the steps of all: it is adjusted to the stepped cameras by itself
    (embedded point iterations; Jeong et al. 2012).

    Parameters
    ----------
    scene : after the step; its points are changed. seen : measurements. scale2 : square of the Cauchy scale, in sigmas.
    before : (P,) costs before the step. free : (P,) bool, points that nothing else speaks of.
    """
    out = np.empty(len(scene.rhos))
    if len(seen.camera) <= FEW:
        _guard(scene, seen, scale2, 0, len(out), before, free, out)
    else:
        _guard_parallel(scene, seen, scale2, before, free, out)
    return out
