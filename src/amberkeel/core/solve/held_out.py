"""The held-out test of a lens: is a value needed to explain tracks that an adjustment never saw?

Cameras, points and lens are adjusted to one half of the tracks, once as they are and once with a value put elsewhere and
held there. The other half and the check tracks judge (a split sample; Stone 1974): where they fit as well, the shot does not
tell that value, however small its sigma is. With whitened residuals e that change by d, the cost changes by
sum(2 e d + d d); were the value right, that has the mean sum(d d) and the variance 4 f f sum(d d), f the noise factor. So the
change of the residuals also says whether the held-out tracks could have told.
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.solve.bundle import adjust
from amberkeel.core.solve.judge import FINAL_SCALE
from amberkeel.core.solve.lens_terms import LENS_NAMES
from amberkeel.core.solve.problem import Problem

FOCAL_STEP, FOCAL_MOST = 0.1, 0.3
"""By what share the focal length is put elsewhere, both ways: at the least, and where its sigma is large, at the most."""

SIGMAS = 9.0
"""Sigmas by which a value is put elsewhere, so that half of the tracks can see it."""

POWER = 3.0
"""Standard errors by which held-out tracks must be expected to fit worse for their silence to mean anything."""

LEAST_TRACKS = 8
"""Held-out tracks below which they cannot judge."""

MOST = 6.0
"""Whitened residual, in noise factors, beyond which a measurement does not judge: one astray track must not decide."""

CLEARLY = 2.0
"""Standard errors by which held-out tracks must fit worse for a value to count as told."""

STEPS = 25


@dataclass(frozen=True)
class HeldOut:
    """One value put elsewhere.

    Attributes
    ----------
    name, words : which value, and where it was put. before_px, after_px : RMS residual of held-out tracks.
    worse : by how many standard errors they fit worse. told : whether that tells the value.
    fair : whether they could have told it; where not, their silence means nothing.
    """

    name: str
    words: str
    before_px: float
    after_px: float
    worse: float
    told: bool
    fair: bool


def held_out(problem: Problem, free_lens: tuple[int, ...], sigmas: np.ndarray, factor: float, options: dict, checks: np.ndarray) -> list[HeldOut]:
    """Return the test of the focal length and of each free coefficient.

    Parameters
    ----------
    problem : adjusted. free_lens : what of the lens is free; sigmas (L,) : of those, as the covariance has them (the focal
        length's relative). factor : by which stated noise is too small. checks : (P,) bool, tracks withheld. Empty where there are too few tracks to part.
    """
    half = problem.used & (np.cumsum(problem.used) % 2 == 0)
    judges = (problem.used & ~half) | checks
    if min(half.sum(), judges.sum()) < LEAST_TRACKS:
        return []
    before = _judged(_adjusted(problem, half, free_lens, options, None), judges)
    out = []
    for q, value, words in _elsewhere(problem, free_lens, sigmas):
        after = _judged(_adjusted(problem, half, free_lens, options, (q, value)), judges)
        out.append(_compared(LENS_NAMES[q], words, before, after, factor))
    return out


def _elsewhere(problem: Problem, free_lens: tuple[int, ...], sigmas: np.ndarray) -> list[tuple[int, float, str]]:
    """Return what is tried: a value's number, where it is put, and words for that."""
    lens, out = problem.lens, []
    for q, sigma in zip(free_lens, np.maximum(sigmas, 1e-12)):
        if q == 0:
            step = float(np.clip(SIGMAS * sigma, FOCAL_STEP, FOCAL_MOST))
            out.append((0, lens[0] / (1.0 + step), f"{100 * step:.0f} % shorter"))
            out.append((0, lens[0] * (1.0 + step), f"{100 * step:.0f} % longer"))
        elif q < 4:
            out.append((q, 0.0, "at 0"))
    return out


def _adjusted(problem: Problem, tracks: np.ndarray, free_lens: tuple[int, ...], options: dict, held: tuple[int, float] | None) -> Problem:
    """Return the problem adjusted to some tracks (P,) bool, one value of the lens held elsewhere."""
    trial = problem.copied()
    if held is not None:
        q, value = held
        if q == 0:
            # Distortion goes with the picture, not with the focal length: k of degree n by its n-th power.
            trial.lens[4:7] *= (value / trial.lens[0]) ** np.array([2.0, 4.0, 6.0])
        trial.lens[0 if q == 0 else 3 + q] = value
        free_lens = tuple(k for k in free_lens if k != q)
    free = trial.solved.copy()
    free[int(np.nonzero(trial.solved)[0][0])] = False
    bundle, rows = trial.bundle(trial.solved, tracks, free, free_lens=free_lens, loss_scale=FINAL_SCALE, **options)
    adjust(bundle, STEPS, 1e-5)
    trial.take(bundle, rows)
    return trial


def _judged(problem: Problem, checks: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return held-out residuals (N, 2), pixels, NaN where there are none, and one over their sigmas (N,)."""
    judge = problem.copied()
    judge.place(checks, FINAL_SCALE)
    bundle, rows = judge.whole(checks)
    residuals = np.full((len(judge.camera), 2), np.nan)
    residuals[rows] = bundle.residuals()
    residuals[~judge.usable] = np.nan
    return residuals, 1.0 / judge.sigma


def _compared(name: str, words: str, before: tuple, after: tuple, factor: float) -> HeldOut:
    weight = before[1][:, None]
    e, g = before[0] * weight, after[0] * weight
    near = (np.nan_to_num(np.hypot(*e.T), nan=1e9) < MOST * factor) & (np.nan_to_num(np.hypot(*g.T), nan=1e9) < MOST * factor)
    moved = float(np.sqrt(((g - e)[near] ** 2).sum()))
    gone = float((g[near] ** 2).sum() - (e[near] ** 2).sum())
    worse = gone / max(2.0 * factor * moved, 1e-9)
    px = [float(np.sqrt((one[0][near] ** 2).sum(1).mean())) if near.any() else 0.0 for one in (before, after)]
    return HeldOut(name, words, px[0], px[1], worse, worse > CLEARLY, moved / (2.0 * factor) > POWER)
