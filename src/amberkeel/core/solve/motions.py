"""Which camera is it: rival explanations of the tracks, scored by what they explain and by what they spend.

A free camera always fits a little better. Each explanation pays for its unknowns by the Bayesian information criterion
(Schwarz 1978), the dimension of the points among them, as Torr (1998) asks: directions have two, points in depth three.
The noise is that of the explanation that fits best, inflated for the correlation of residuals in time.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.outliers import OUTLIER
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.residuals import rms
from amberkeel.core.solve.uncertainty import bundle_noise_factor

if TYPE_CHECKING:
    from amberkeel.core.solve.shot import Solved

AUTO, FREE, NODAL, SWING, PLANE, LOCKED = "auto", "free", "nodal", "swing", "plane", "locked"

MOTIONS = (AUTO, FREE, NODAL, SWING, PLANE, LOCKED)
"""What a solve may be asked for: a camera that moves freely; one that only turns; one that turns about a point that is
not its entrance pupil; one that moves freely before a single plane; one that neither moves nor turns."""

DIRECTIONS = (NODAL, LOCKED)
"""Explanations in which a point is a direction: nothing tells its depth."""

LEAST_OVER_DRIFT = 5.0
"""Ratio of `parallax_over_drift` from which a camera that moves is believed over one that only turns."""

DEPTH_STEP = 1e-3
"""Share of the usual inverse depth that derivatives by it are taken with."""

EXPLAINS = 4.0
"""Median whitened residual up to which a camera that only turns explains the tracks, roughly."""


@dataclass(frozen=True)
class Rival:
    """One explanation of the tracks.

    Attributes
    ----------
    motion : one of `MOTIONS`. rms_px : RMS residual of what it explains. explained : share of all measurements that it
        explains. focal_px : its focal length. unknowns : numbers it spends.
    score : by how much it is worse than the best one, in units of the log likelihood times two; 0 for the best.
    """

    motion: str
    rms_px: float
    explained: float
    focal_px: float
    unknowns: int
    score: float


def compare(solved: "list[Solved]", everyone: np.ndarray) -> list[Rival]:
    """Return the explanations of one shot, scored, in the order given.

    Parameters
    ----------
    solved : at least one, of the same tracks. everyone : (P,) bool, tracks that might have served.
    """
    errors = [_whitened(one, everyone) for one in solved]
    bundles = [one.final_bundle()[0] for one in solved]
    best = int(np.argmin([np.minimum(e, OUTLIER).mean() for e in errors]))
    noise, count = bundle_noise_factor(bundles[best], solved[best].stated_weights()), 2 * len(errors[best])
    scale = max(1.0, float(np.median(errors[best])))
    unknowns = [_unknowns(one, bundle) for one, bundle in zip(solved, bundles)]
    costs = [float((np.minimum(e, OUTLIER * scale) ** 2).sum() / noise**2) for e in errors]
    totals = [cost + spent * float(np.log(max(count, 2))) for cost, spent in zip(costs, unknowns)]
    return [
        Rival(
            one.motion,
            _agreeing_rms(one, OUTLIER * scale),
            float((error <= OUTLIER * scale).mean()),
            one.problem.lens.focal,
            spent,
            total - min(totals),
        )
        for one, bundle, error, spent, total in zip(solved, bundles, errors, unknowns, totals)
    ]


def parallax_over_drift(turning: Problem, moving: Problem) -> float:
    """Return by how many times more of a turning camera's residuals depths explain along the parallax than across it.

    Tracks drift, and a depth for each takes up what of its drift lies along its parallax, which looks like a gain. How
    much drift there is, the same pattern turned by a right angle in the picture tells, which no depth can cause: a
    placebo (Imbens and Rubin 2015, chapter 21). Without parallax the ratio is that of a path fitted to drift, two to
    four; with it, much more.

    Parameters
    ----------
    turning, moving : the shot solved as a camera that turns only, and as one that moves.
    """
    tracks = turning.active & moving.active & turning.triangulated & moving.triangulated
    nearer, step = moving.copied(), DEPTH_STEP * max(float(np.median(np.abs(moving.rhos[tracks]))), 1e-9)
    nearer.rhos = moving.rhos + step
    e = turning.residuals(tracks)
    g = (nearer.residuals(tracks) - moving.residuals(tracks)) / step
    live = turning.inlier & moving.inlier & np.isfinite(e + g).all(1)
    own, count = turning.track, len(turning.rhos)
    weight = np.where(live, turning.sigma**-2.0, 0.0)
    total = np.maximum(np.bincount(own, weight, count), 1e-300)

    def about_mean(v: np.ndarray) -> np.ndarray:
        v = np.where(live[:, None], v, 0.0)
        return v - np.stack([np.bincount(own, weight * v[:, k], count) / total for k in (0, 1)], 1)[own]

    def explained(pattern: np.ndarray) -> float:
        along = np.bincount(own, weight * (e * pattern).sum(1), count)
        power = np.bincount(own, weight * (pattern * pattern).sum(1), count)
        return float((along[power > 0.0] ** 2 / power[power > 0.0]).sum())

    e, g = about_mean(e), about_mean(g)
    return explained(g) / max(explained(np.stack([-g[:, 1], g[:, 0]], 1)), 1e-300)


def _agreeing_rms(solved: "Solved", limit: float) -> float:
    """Return the RMS residual, pixels, of what an explanation was adjusted to and agrees with to `limit` sigmas."""
    bundle, rows = solved.final_bundle()
    residuals = bundle.residuals()
    return rms(residuals[np.linalg.norm(residuals, axis=1) <= limit * solved.problem.sigma[rows.observations]])


def _whitened(solved: "Solved", everyone: np.ndarray) -> np.ndarray:
    """Return the whitened distance of every measurement, endless where a track has no point."""
    out = np.full(len(solved.problem.camera), np.inf)
    distances, rows = solved.problem.whitened(everyone)
    out[rows] = distances
    return out[everyone[solved.problem.track]]


def _unknowns(solved: "Solved", bundle: Bundle) -> int:
    """Return how many numbers an explanation spends; the gauge is not among them."""
    free = bundle.free.copy()
    free[0] = False
    moves = bool(free[:, 3:].any())
    depths = (moves or solved.motion == SWING) and solved.motion != PLANE
    plane = 3 if solved.motion == PLANE else 0
    return int(free.sum()) - moves + (3 if depths else 2) * len(bundle.rhos) + plane + len(solved.freedom.lens)
