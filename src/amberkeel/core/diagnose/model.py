"""Whether the camera was taken otherwise than it is: a lens that distorts, zooms or is off centre, rows read in turn.

Points, poses and the focal length absorb most of such an error, so residuals show no pattern that a fit to them alone
would find. So each value is set free in turn and the whole of a sample of the tracks is adjusted again, all other
unknowns following: the likelihood ratio test of nested models. What is gained is judged as a share of the cost; by
chance it is the number of values over the number of measurements.
"""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.errors import SolveError
from amberkeel.core.solve.grow import adjust_all
from amberkeel.core.solve.lens_plan import ZOOM_BEND, Freedom, zoom_along
from amberkeel.core.solve.motions import LOCKED
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import READOUT_NAME
from amberkeel.core.solve.recipe import KNOWN_ROWS
from amberkeel.core.solve.resume import resumed
from amberkeel.core.solve.rows import TRIED, row_drift
from amberkeel.core.solve.terms import SmoothZoom

DISTORTS, ZOOMS, ROLLS, OFF_CENTRE, HELD_FOCAL = "distorts", "zooms", "rolling-shutter", "off-centre", "held-focal"

MOST_TRACKS = 250
"""Tracks by which a model is tried."""

MOST_FRAMES = 100
"""Frames of it on which it is tried."""

HOW = (12, 1e-4, FINAL_SCALE)
"""Iterations, tolerance and Cauchy scale of an adjustment."""

GAINED = {DISTORTS: 0.03, ZOOMS: 0.03, ROLLS: 0.006, OFF_CENTRE: 0.03, HELD_FOCAL: 0.03}
"""Share of the cost that a freed value must gain. A calm camera hardly shows that its rows are read in turn, but the
readout that comes out where they are not is near nothing.
"""

LEAST_CORNER_PX = 0.5
"""How far distortion must move the picture's corner."""

LEAST_ZOOM = 0.004
"""Change of the focal length over the shot that matters, as a share."""

LEAST_READOUT = 0.08
"""Share of the frame interval between first and last row that matters."""

LEAST_OFF = 0.01
"""Shift of the optical centre that matters, in widths of the picture."""


LEAST_FOCAL = 0.01
"""Change of a focal length that was held which matters, as a share."""


@dataclass(frozen=True)
class Freed:
    """What came of freeing a value: the share of the cost gained, and its size in units of what matters."""

    gained: float
    size: float
    problem: Problem


def findings(evidence: Evidence) -> list[Finding]:
    """Return the one change of the camera's model that explains the tracks best, where one clearly does."""
    solution = evidence.solution
    if solution.motion == LOCKED or solution.recipe.held_lens is not None or len(solution.path.frames) < 12:
        return []
    count, known = len(solution.path.frames), solution.recipe.rows == KNOWN_ROWS
    # Rows are read between neighbouring frames: for them a stretch is taken, for all else frames from all of the shot.
    spread = np.unique(np.linspace(0, count - 1, MOST_FRAMES).astype(int))
    middle = np.arange(max(0, (count - MOST_FRAMES) // 2), min(count, (count + MOST_FRAMES) // 2))
    tried = {}
    for rows, trials in ((spread, _OVER_ALL), (middle, _IN_A_STRETCH)):
        try:
            problem, freedom = resumed(solution, MOST_TRACKS, rows=rows)
        except SolveError:
            continue
        cost = adjust_all(problem, freedom, *HOW).cost
        for kind, trial in trials.items():
            freed = trial(problem, freedom, cost, known) if cost > 0.0 else None
            if freed is not None:
                tried[kind] = freed
    clear = {kind: one for kind, one in tried.items() if one.gained > GAINED[kind] and one.size > 1.0}
    if not clear:
        return []
    kind = max(clear, key=lambda name: clear[name].gained / GAINED[name])
    return [_told(kind, clear[kind])]


def _distorts(problem: Problem, freedom: Freedom, cost: float, _known: bool) -> Freed | None:
    if "k1" in freedom.lens:
        return None
    trial = problem.copied()
    after = adjust_all(trial, freedom.with_value("k1"), *HOW).cost
    lens = trial.lens
    corner = np.hypot(lens.cx, lens.cy)
    moved = abs(lens.value("k1")) * (corner / lens.focal) ** 3 * lens.focal
    return Freed(1.0 - after / cost, float(moved / LEAST_CORNER_PX), trial)


def _zooms(problem: Problem, freedom: Freedom, cost: float, _known: bool) -> Freed | None:
    if len(problem.zoom):
        return None
    trial = problem.copied()
    trial.zoom_basis, trial.zoom = zoom_along(np.zeros(len(trial.frames)))
    wider = replace(freedom, terms=(*freedom.terms, SmoothZoom(ZOOM_BEND)))
    after = adjust_all(trial, wider, *HOW).cost
    course = trial.zoom_basis @ trial.zoom
    return Freed(1.0 - after / cost, float(np.ptp(course) / LEAST_ZOOM), trial)


def _rolls(problem: Problem, freedom: Freedom, _cost: float, known: bool) -> Freed | None:
    if READOUT_NAME in freedom.lens or known:
        return None
    wider, trial = freedom.with_value(READOUT_NAME), problem.copied()
    # Rows before the first pose and after the last one do not count with a rolling shutter: compared without them too.
    trial.lens = trial.lens.with_value(READOUT_NAME, 1e-6)
    cost = adjust_all(trial, freedom, *HOW).cost
    after = cost
    for reach in (TRIED, None):
        trial.drift = row_drift(trial, reach or trial.lens.readout)
        after = adjust_all(trial, wider, *HOW).cost
    return Freed(1.0 - after / max(cost, 1e-12), abs(trial.lens.readout) / LEAST_READOUT, trial)


def _off_centre(problem: Problem, freedom: Freedom, cost: float, _known: bool) -> Freed | None:
    if "cx" in freedom.lens:
        return None
    trial = problem.copied()
    after = adjust_all(trial, freedom.with_value("cx").with_value("cy"), *HOW).cost
    moved = np.hypot(trial.lens.cx - problem.lens.cx, trial.lens.cy - problem.lens.cy)
    return Freed(1.0 - after / cost, float(moved / (LEAST_OFF * 2.0 * problem.lens.cx)), trial)


def _held_focal(problem: Problem, freedom: Freedom, cost: float, _known: bool) -> Freed | None:
    if "focal" in freedom.lens:
        return None
    trial = problem.copied()
    after = adjust_all(trial, freedom.with_value("focal"), *HOW).cost
    return Freed(1.0 - after / cost, abs(float(np.log(trial.lens.focal / problem.lens.focal))) / LEAST_FOCAL, trial)


_OVER_ALL = {DISTORTS: _distorts, ZOOMS: _zooms, OFF_CENTRE: _off_centre, HELD_FOCAL: _held_focal}
_IN_A_STRETCH = {ROLLS: _rolls}

_WORDS = {
    DISTORTS: "The lens distorts, by {distortion:.0f} px at the corner, and was taken as straight",
    ZOOMS: "The focal length changes by {zoom:.1f} % over the shot, and was taken as fixed: a zoom, or breathing",
    ROLLS: "Rows are read in turn, over {readout:.0f} % of the frame interval, and were taken as read at once",
    HELD_FOCAL: "Residuals scale with depth as those of a wrong focal length: it was held, and would be {focal:.0f} px",
    OFF_CENTRE: "The optical centre lies {centre:.0f} px off the middle of the picture: a crop, or a shifted lens",
}

_REMEDIES = {
    DISTORTS: (Remedy("distortion", "Solve with distortion"),),
    ZOOMS: (Remedy("zoom", "Solve with a zoom"),),
    ROLLS: (Remedy("rows", "Solve with a rolling shutter"),),
    HELD_FOCAL: (Remedy("focal", "Solve with the focal length free"),),
    OFF_CENTRE: (Remedy("centre", "Solve with the centre free"),),
}


def _told(kind: str, freed: Freed) -> Finding:
    size = {
        "distortion": freed.size * LEAST_CORNER_PX if kind == DISTORTS else 0.0,
        "zoom": 100.0 * freed.size * LEAST_ZOOM if kind == ZOOMS else 0.0,
        "readout": 100.0 * freed.size * LEAST_READOUT if kind == ROLLS else 0.0,
        "focal": freed.problem.lens.focal,
        "centre": freed.size * LEAST_OFF * 2.0 * freed.problem.lens.cx if kind == OFF_CENTRE else 0.0,
    }
    text = (
        f"{_WORDS[kind].format(**size)}; set free, it explains {100 * freed.gained:.0f} % of what the residuals cost."
    )
    severity = SERIOUS if freed.gained > 3 * GAINED[kind] else NOTABLE
    return Finding(
        kind, severity, surety(freed.gained, GAINED[kind]), text, (), (), _REMEDIES[kind], {"gained": freed.gained}
    )
