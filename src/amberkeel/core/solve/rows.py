"""A rolling shutter: rows read one after another, each seen from where the camera is at its own time.

The pose at a row's time lies between those of two neighbouring frames (Hedborg et al. 2012): rotation and position are
interpolated, a frame's own pose being that of its middle row. How far a row's time moves a pixel, for a readout of one,
is its drift; the readout is one more value of the lens, and the drift is taken anew as the cameras settle.
"""

from dataclasses import replace

import numpy as np

from amberkeel.core.camera import poses_at, row_times
from amberkeel.core.solve.grow import GROW_SCALE, settle
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import READOUT_NAME
from amberkeel.core.solve.start import START_SCALE
from amberkeel.core.solve.terms import SoftLens

TRIED = 0.4
"""Readout from which an unknown one is begun, and for which drifts are taken while it is smaller."""

MOST_PASSES, ROUGH_PASSES, SETTLED = 12, 3, 1e-3
"""Passes of taking drifts anew and settling, at the most, and how many of them with the wide loss of a start; share of
the cost whose gain ends them.
"""

BETRAYED = 8.0
"""Standard errors by which residuals must follow the drift for a rolling shutter to be tried."""


def row_drift(problem: Problem, readout: float) -> np.ndarray:
    """Return how far a row's own time moves each measurement for a readout of one, (N, 2) pixels.

    Parameters
    ----------
    problem : with all frames solved. readout : at which the drift is taken; smaller ones are taken as `TRIED`.
    """
    reach = max(abs(readout), TRIED) * (1.0 if readout >= 0.0 else -1.0)
    times = row_times(problem.xy[:, 1], problem.height, reach)
    track, camera = problem.track, problem.camera
    pupils = problem.centres + problem.rotations @ problem.lens.arm
    rotations, centres = poses_at(problem.rotations, pupils, camera, times)
    lens = problem.lens.as_lens(1, 1)

    def seen(r: np.ndarray, c: np.ndarray) -> np.ndarray:
        away = problem.directions[track] + problem.rhos[track, None] * (problem.anchors[track] - c)
        return lens.project(np.einsum("nji,nj->ni", r, away))

    moved = seen(rotations, centres) - seen(problem.rotations[camera], pupils[camera])
    good = problem.triangulated[track] & np.isfinite(moved).all(1) & (np.abs(moved).max(1) < 0.25 * problem.height)
    return np.where(good[:, None], moved / reach, 0.0)


def betrayed(problem: Problem) -> float:
    """Return by how many standard errors residuals of a solved problem follow the drift; the cameras have taken up
    much of it already.
    """
    drift = row_drift(problem, TRIED)
    residuals = problem.residuals(problem.active)
    live = problem.inlier & np.isfinite(residuals).all(1)
    e, d = (x[live] / problem.sigma[live, None] for x in (residuals, drift))
    power = float((d * d).sum())
    if power <= 0.0:
        return 0.0
    noise = max(1.4826 * float(np.median(np.abs(e))), 1e-9)
    return abs(float((e * d).sum())) / np.sqrt(power) / noise


def with_rows(problem: Problem, freedom: Freedom, readout: float | None, sigma: float = 0.0) -> tuple[Problem, Freedom]:
    """Return a solved problem settled with a rolling shutter, and what is free of its lens.

    Parameters
    ----------
    problem : solved; it is left as it is. freedom : what of the lens may change. readout : where it is known, or None
        where it is to be found. sigma : of a readout that is known, where it is held softly.
    """
    out = problem.copied()
    out.lens = problem.lens.with_value(READOUT_NAME, TRIED if readout is None else readout)
    wider = freedom if readout is not None and not sigma else freedom.with_value(READOUT_NAME)
    if readout is not None and sigma:
        wider = replace(wider, terms=(*wider.terms, SoftLens(READOUT_NAME, readout, sigma)))
    least = np.inf
    for k in range(MOST_PASSES):
        out.drift = row_drift(out, out.lens.readout)
        cost = settle(out, wider, 15, START_SCALE if k < ROUGH_PASSES else GROW_SCALE)
        if k > ROUGH_PASSES and cost > (1.0 - SETTLED) * least:
            break
        least = cost if k >= ROUGH_PASSES else np.inf
    out.drift = row_drift(out, out.lens.readout)
    return out, wider
