"""A spot of the scene tied to the points about it, so that a solve in other coordinates finds it again.

The spot is a weighted sum of points whose weights sum to one. Such a sum goes with the points under every similarity
(affine coordinates); of all weights that give the spot the shortest are taken, so that the points' noise averages.
"""

import numpy as np
from scipy.linalg import qr

from amberkeel.core.errors import WorldError

POINTS = 16
"""Points that a spot is tied to at the most."""

LEAST = 4
"""Points, not on one plane, without which a spot off all of them cannot be told."""

FAR = 3.0
"""Norm of the weights above which a spot is said by points too far off, or too flat, to say it."""


def tied_to(spot: np.ndarray, xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return rows (K,) of points about a spot and the weights (K,) with which they sum up to it.

    Parameters
    ----------
    spot : (3,). xyz : (P, 3) points, in the same coordinates.

    Raises
    ------
    WorldError : there are too few points about it.
    """
    if len(xyz) < LEAST:
        raise WorldError("Too few points are solved to tie this side to.", "Solve with more tracks.")
    away = np.linalg.norm(xyz - spot, axis=1)
    scale = max(float(np.sort(away)[: 2 * POINTS].mean()), 1e-12)
    # Near ones count more; those chosen span space as well as any (QR with pivots, Golub and Van Loan 2013).
    worth = 1.0 / (1.0 + (away / scale) ** 2)
    system = np.concatenate([((xyz - spot) / scale).T, np.ones((1, len(xyz)))]) * worth
    left, rows = np.arange(len(xyz)), np.zeros(0, np.int64)
    while len(left) and len(rows) < POINTS:
        pivots = qr(system[:, left], mode="r", pivoting=True)[1][:LEAST]
        rows, left = np.append(rows, left[pivots]), np.delete(left, pivots)
    wanted = np.array([0.0, 0.0, 0.0, 1.0])
    scaled = np.linalg.lstsq(system[:, rows], wanted, rcond=None)[0]
    weights, missed = worth[rows] * scaled, float(np.abs(system[:, rows] @ scaled - wanted).max())
    if missed > 1e-6 or np.linalg.norm(weights) > FAR:
        raise WorldError("The points about this side lie on one plane, or far from it.", "Measure between two tracks.")
    return rows, weights / weights.sum()


def spot_of(
    weights: np.ndarray, xyz: np.ndarray, covariance: np.ndarray | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """Return a tied spot (3,) and its covariance (3, 3), the points taken as independent; zeros without theirs.

    Parameters
    ----------
    weights : (K,). xyz : (K, 3) its points. covariance : (K, 3, 3) theirs, or None.
    """
    spread = np.zeros((3, 3)) if covariance is None else np.einsum("k,kab->ab", weights**2, np.nan_to_num(covariance))
    return weights @ xyz, spread
