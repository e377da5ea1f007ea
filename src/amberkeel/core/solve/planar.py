"""A set that is one plane: found among the solved points, and held.

With all points on one plane a point has two unknowns instead of three, and what a free camera cannot tell of its focal
length the plane may. The plane is found by sampling (Fischler and Bolles 1981) in inverse depths, whose errors are
known, and refitted to what agrees.
"""

import numpy as np

from amberkeel.core.solve.evidence.statement import PlaneThrough
from amberkeel.core.solve.problem import UNKNOWN_DEPTH, Problem
from amberkeel.core.tracks import TrackSet

FLAT, MOSTLY_FLAT = 0.9, 0.5
"""Share of the tracks that must lie on the plane for it to be tried, and where it was asked for."""

NEAR = 4.0
"""Sigmas of its inverse depth within which a point lies on the plane, in robust scales."""

SAMPLES, REFITS = 150, 3

LEAST_POINTS, LEAST_ASKED = 12, 5
"""Points that must lie on the plane, and where it was asked for."""


def flat_part(problem: Problem, noise: float, seed: int, share: float = FLAT) -> np.ndarray | None:
    """Return the active tracks (T,) bool of a solved problem that lie on one plane, or None where too few do.

    Parameters
    ----------
    problem : solved. noise : factor by which the stated noise of the tracks understates. seed : of the samples.
    share : of the active tracks that must.
    """
    variance = problem.depth_variances()
    rows = np.nonzero(problem.active & problem.triangulated & (variance < UNKNOWN_DEPTH) & (problem.rhos > 0.0))[0]
    least = LEAST_ASKED if share == MOSTLY_FLAT else LEAST_POINTS
    if len(rows) < least:
        return None
    m, rho = problem.directions[rows], problem.rhos[rows]
    points = np.concatenate([m + rho[:, None] * problem.anchors[rows], rho[:, None]], 1)
    sigma = noise * np.sqrt(variance[rows])
    rng, best = np.random.default_rng(seed), np.zeros(len(rows), bool)
    for _ in range(SAMPLES):
        chosen = rng.choice(len(rows), 3, replace=False)
        near = _off(np.linalg.svd(points[chosen])[2][-1], points, m, sigma) < NEAR
        best = near if near.sum() > best.sum() else best
    for _ in range(REFITS):
        if best.sum() < least:
            return None
        plane = _fitted(points[best], m[best], sigma[best])
        best = _off(plane, points, m, sigma) < NEAR
    if best.sum() < share * problem.active.sum():
        return None
    out = np.zeros(len(problem.rhos), bool)
    out[rows[best]] = True
    return out


def _off(plane: np.ndarray, points: np.ndarray, m: np.ndarray, sigma: np.ndarray) -> np.ndarray:
    """Return by how many sigmas the inverse depths of points (N, 4) differ from those of a plane (4,), (N,).

    A point ``(m + rho a, rho)`` with anchor ``a`` lies on it where ``n·m + rho (n·a + d) = 0``.
    """
    slope = (points @ plane - m @ plane[:3]) / np.maximum(points[:, 3], 1e-12)
    return np.abs(points @ plane) / np.maximum(np.abs(slope) * sigma, 1e-12)


def _fitted(points: np.ndarray, m: np.ndarray, sigma: np.ndarray) -> np.ndarray:
    """Return the plane (4,) of least squares through points (N, 4), each weighted by one over its sigma."""
    plane = np.linalg.svd(points)[2][-1]
    for _ in range(REFITS):
        slope = (points @ plane - m @ plane[:3]) / points[:, 3]
        weight = 1.0 / np.maximum(np.abs(slope) * sigma, 1e-12)
        plane = np.linalg.svd(points * weight[:, None])[2][-1]
    return plane


def on_one_plane(tracks: TrackSet, chosen: np.ndarray) -> PlaneThrough:
    """Return the constraint that all chosen tracks (T,) bool lie on one plane, whichever it is."""
    ids = [int(i) for i in tracks.ids[chosen]]
    return PlaneThrough.model_construct(name="One plane", tracks=ids, exact=True)
