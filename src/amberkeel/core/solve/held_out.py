"""The held-out test of a lens: whether a value is needed to explain tracks that an adjustment never saw.

Cameras, points and lens are adjusted to one half of the tracks, once as they are and once with a value put elsewhere
and held there. The other half and the check tracks judge (a split sample; Stone 1974): where they fit as well, the shot
does not determine that value, however small its sigma is. With whitened residuals e that change by d, the cost changes
by sum(2 e d + d d); were the value right, that has the mean sum(d d) and the variance 4 f f sum(d d), f being the noise
factor. So the change of the residuals also gives the power of the test: with too little of it the test is inconclusive.
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.arrays import FEW
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import RADIAL_NAMES
from amberkeel.core.solve.refocus import refocused
from amberkeel.core.solve.side_by_side import side_by_side
from amberkeel.core.solve.uncertainty import Uncertainty

FOCAL_STEP, FOCAL_MOST = 0.1, 0.3
"""By what share the focal length is put elsewhere, both ways: at the least, and where its sigma is large, at the most.
"""

SIGMAS = 9.0
"""Sigmas by which a value is put elsewhere, so that half of the tracks can see it."""

POWER = 3.0
"""Standard errors by which held-out tracks must be expected to fit worse; below, the test lacks power: inconclusive."""

LEAST_TRACKS = 8
"""Held-out tracks below which they cannot judge."""

MOST = 6.0
"""Whitened residual, in noise factors, beyond which a measurement does not judge: one outlier must not decide."""

CLEARLY = 2.0
"""Standard errors by which held-out tracks must fit worse for a value to count as determined."""

FIRST_STEPS, STEPS = 8, 20
"""Steps of an adjustment, and further ones."""

TOLERANCE = 1e-4
"""Share of the cost below which an accepted step ends an adjustment: the test asks for standard errors, not more."""

FAR = 1.2
"""Times the cost of the solve as it is from which a value put elsewhere fits worse, whatever further steps would do."""


@dataclass(frozen=True)
class HeldOut:
    """One value put elsewhere.

    Attributes
    ----------
    name : which value. share : by how much the focal length was changed, as a share of it; 0 where a coefficient was
        put at 0. before_px, after_px : RMS residual of held-out tracks.
    worse : by how many standard errors they fit worse. determined : whether that shows that the shot determines it.
    conclusive : whether the test had the power to show it.
    """

    name: str
    share: float
    before_px: float
    after_px: float
    worse: float
    determined: bool
    conclusive: bool


def held_out(problem: Problem, freedom: Freedom, sure: Uncertainty, checks: np.ndarray) -> list[HeldOut]:
    """Return the test of the focal length and of each free coefficient; empty where there are too few tracks to part.

    Parameters
    ----------
    problem : adjusted; it is left as it is. freedom : what of the lens was free. sure : how sure the problem is.
    checks : (P,) bool, tracks withheld.
    """
    half = problem.active & (np.cumsum(problem.active) % 2 == 0)
    judges = (problem.active & ~half) | checks
    half = _thinned(problem, half)
    if min(half.sum(), judges.sum()) < LEAST_TRACKS:
        return []
    settled, least = _adjusted(problem, half, freedom)
    before = _judged(settled, judges)
    tried = _elsewhere(freedom, sure)
    adjusted = side_by_side(
        lambda one: _adjusted(_moved(problem, *one), half, freedom.without(one[0]), least)[0],
        tried,
        int(np.diff(problem.first)[half].sum()),
    )
    return [
        _compared(name, share, before, _judged(after, judges), sure.noise_factor)
        for (name, share), after in zip(tried, adjusted)
    ]


def _moved(problem: Problem, name: str, share: float) -> Problem:
    """Return the problem with a value put elsewhere."""
    if name == "focal":
        return refocused(problem, problem.lens.focal * (1.0 + share if share > 0.0 else 1.0 / (1.0 - share)))
    out = problem.copied()
    out.lens = problem.lens.with_value(name, 0.0)
    return out


def _thinned(problem: Problem, tracks: np.ndarray) -> np.ndarray:
    """Return some of the tracks (P,) bool, evenly taken, with about `FEW` measurements at the most: whether a value
    matters shows on few. Up to so many, one thread does each loop, so that adjustments can run side by side.
    """
    measured = int(np.diff(problem.first)[tracks].sum())
    return tracks & (np.cumsum(tracks) % max(1, -(-measured // FEW)) == 0)


def _elsewhere(freedom: Freedom, sure: Uncertainty) -> list[tuple[str, float]]:
    """Return what is tried: a value's name, and by what share of it the focal length is changed."""
    out = []
    for name in freedom.lens:
        if name == "focal":
            step = float(np.clip(SIGMAS * sure.sigma(name), FOCAL_STEP, FOCAL_MOST))
            out += [(name, -step), (name, step)]
        elif name in RADIAL_NAMES:
            out.append((name, 0.0))
    return out


def _adjusted(problem: Problem, tracks: np.ndarray, freedom: Freedom, least: float = np.inf) -> tuple[Problem, float]:
    """Return a copy of the problem adjusted to some tracks (P,) bool, and its cost; not to the end where that is far
    above the `least` one.
    """
    trial = problem.copied()
    bundle, rows = trial.bundle(trial.solved, tracks, trial.all_but_first, freedom, FINAL_SCALE)
    adjusted = adjust(bundle, FIRST_STEPS, TOLERANCE)
    if adjusted.cost < FAR * least:
        adjusted = adjust(adjusted.bundle, STEPS, TOLERANCE)
    trial.update(adjusted.bundle, rows)
    return trial, adjusted.cost


def _judged(problem: Problem, checks: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return held-out residuals (N, 2), pixels, NaN where there are none, and one over their sigmas (N,)."""
    judge = problem.copied()
    judge.triangulate(checks, FINAL_SCALE)
    residuals = judge.residuals(checks)
    residuals[~judge.inlier] = np.nan
    return residuals, 1.0 / judge.sigma


def _compared(name: str, share: float, before: tuple, after: tuple, factor: float) -> HeldOut:
    """Return a test's result from residuals with their weights, before and after, and the noise factor."""
    weight = before[1][:, None]
    e, g = before[0] * weight, after[0] * weight
    reach = np.fmax(np.hypot(*e.T), np.hypot(*g.T)) + 0.0 * (e + g).sum(1)
    near = np.nan_to_num(reach, nan=np.inf) < MOST * factor
    moved = float(np.sqrt(((g - e)[near] ** 2).sum()))
    gone = float((g[near] ** 2).sum() - (e[near] ** 2).sum())
    worse = gone / max(2.0 * factor * moved, 1e-9)
    px = [float(np.sqrt((one[0][near] ** 2).sum(1).mean())) if near.any() else 0.0 for one in (before, after)]
    return HeldOut(name, share, px[0], px[1], worse, worse > CLEARLY, moved / (2.0 * factor) > POWER)
