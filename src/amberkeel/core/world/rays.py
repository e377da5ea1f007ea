"""Rays cast on triangles (Moeller and Trumbore 1997)."""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

HARDLY = 1e-12


@dataclass(frozen=True)
class Hits:
    """Where rays meet triangles first: `along` (N,) in lengths of the ray, infinity where they miss; `face` (N,), the
    row of the triangle, -1 there.
    """

    along: np.ndarray
    face: np.ndarray


def cast(origins: np.ndarray, directions: np.ndarray, triangles: np.ndarray) -> Hits:
    """Return where rays first meet triangles, from either side.

    Parameters
    ----------
    origins, directions : (N, 3). triangles : (F, 3, 3).
    """
    along, face = np.full(len(directions), np.inf), np.full(len(directions), -1)
    starts = np.array(np.broadcast_to(origins, directions.shape), float, order="C")
    _cast(starts, np.ascontiguousarray(directions, float), np.ascontiguousarray(triangles, float), along, face)
    return Hits(along, face)


@njit(cache=True, nogil=True, parallel=True)
def _cast(origins, directions, triangles, along, face):
    """Fill `along` and `face` (N,) with the first triangle that each ray meets."""
    for n in prange(len(directions)):
        o0, o1, o2 = origins[n, 0], origins[n, 1], origins[n, 2]
        d0, d1, d2 = directions[n, 0], directions[n, 1], directions[n, 2]
        best, own = np.inf, -1
        for f in range(len(triangles)):
            a0, a1, a2 = triangles[f, 0, 0], triangles[f, 0, 1], triangles[f, 0, 2]
            e0, e1, e2 = triangles[f, 1, 0] - a0, triangles[f, 1, 1] - a1, triangles[f, 1, 2] - a2
            g0, g1, g2 = triangles[f, 2, 0] - a0, triangles[f, 2, 1] - a1, triangles[f, 2, 2] - a2
            p0, p1, p2 = d1 * g2 - d2 * g1, d2 * g0 - d0 * g2, d0 * g1 - d1 * g0
            det = e0 * p0 + e1 * p1 + e2 * p2
            if abs(det) < HARDLY:
                continue
            t0, t1, t2 = o0 - a0, o1 - a1, o2 - a2
            u = (t0 * p0 + t1 * p1 + t2 * p2) / det
            if u < 0.0 or u > 1.0:
                continue
            q0, q1, q2 = t1 * e2 - t2 * e1, t2 * e0 - t0 * e2, t0 * e1 - t1 * e0
            v = (d0 * q0 + d1 * q1 + d2 * q2) / det
            if v < 0.0 or u + v > 1.0:
                continue
            t = (g0 * q0 + g1 * q1 + g2 * q2) / det
            if 1e-9 < t < best:
                best, own = t, f
        along[n], face[n] = best, own
