"""Residuals of an adjustment and their robust cost, in numba over flat arrays."""

import numpy as np
from numba import njit, prange

from amberkeel.core.solve.arrays import CHUNKS, FEW, Observations, Scene
from amberkeel.core.solve.projection import BEHIND, residual
from amberkeel.core.solve.radial_lens import READOUT


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def measured_at(seen, n, readout, out):
    """Fill `out` (2,) with measurement `n` as it would be had all rows been read at once.

    Parameters
    ----------
    seen : measurements. n : row. readout : share of the frame interval. out : (2,), filled.
    """
    out[0] = seen.xy[n, 0] - readout * seen.drift[n, 0]
    out[1] = seen.xy[n, 1] - readout * seen.drift[n, 1]


@njit(cache=True, nogil=True, fastmath=True)
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


@njit(cache=True, nogil=True, fastmath=True)
def _robust_cost(scene, seen, scale2, begin, end):
    """Return the sum of the Cauchy loss of whitened residuals over the points from `begin` to `end`."""
    e, at = np.empty(2), np.empty(2)
    total, product = 0.0, 1.0
    for p in range(begin, end):
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
    return scale2 * (total + np.log(product))


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def _robust_cost_parallel(scene, seen, scale2):
    parts, points = np.zeros(CHUNKS), len(scene.rhos)
    for chunk in prange(CHUNKS):
        parts[chunk] = _robust_cost(scene, seen, scale2, chunk * points // CHUNKS, (chunk + 1) * points // CHUNKS)
    return parts.sum()


def robust_cost(scene: Scene, seen: Observations, scale2: float) -> float:
    """Return half the sum of the Cauchy loss of whitened residuals, `scale2` being its scale squared.

    Parameters
    ----------
    scene : cameras, lens rows and points. seen : measurements. scale2 : square of the Cauchy scale, in sigmas.
    """
    if len(seen.camera) <= FEW:
        return 0.5 * _robust_cost(scene, seen, scale2, 0, len(scene.rhos))
    return 0.5 * _robust_cost_parallel(scene, seen, scale2)
