"""Bundle adjustment by Levenberg-Marquardt with a gain ratio (Triggs et al. 1999) and a Cauchy loss."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.linalg import LinAlgError

from amberkeel.core.solve import terms as known
from amberkeel.core.solve.bundle import Bundle, LensBlock, point_costs_of
from amberkeel.core.solve.cost import guard_points
from amberkeel.core.solve.normal_system import NormalSystem
from amberkeel.core.solve.radial_lens import MOST_RADIAL, RADIAL_NAMES
from amberkeel.core.solve.refocus import stretch_cameras, stretch_points
from amberkeel.core.solve.step import move_points, point_steps, turn_cameras
from amberkeel.core.solve.unknowns import WORLD, ZOOM, Unknown

SETTLED = 1e-6
"""Damping at or below which a small gain means convergence; above it, a step may only be short along a valley."""

MOST_SMALL = 3
"""Steps of a small gain in a row that mean convergence at any damping: shorter ones follow longer ones that failed."""

LEAST_DAMPING, MOST_DAMPING = 1e-9, 1e8
"""Bounds of the damping: below, it does nothing; above, no step is long enough to matter."""

PIVOT_FLOOR = 1e-12
"""Share of the largest diagonal added to all of it before factoring."""


CREEPING, LITTLE, PATIENCE = 0.9, 0.01, 4
"""Gain ratio and share of the cost gained below which an accepted step creeps, and how many of them in a row are
enough.
"""

ROUGH = 1e-4
"""Tolerance from which an adjustment only ranks starts, or another one follows it, and does not leap."""

MOST_LEAPS, LONGEST_LEAP, LEAP_STEPS, LEAP_TOLERANCE = 6, 0.3, 10, 1e-5
"""Leaps of an adjustment at the most; the longest, in log focal length; steps of adjusting all else after it, with
their tolerance.
"""

FIRST_DAMPING, CAREFUL_DAMPING = 1e-7, 1e-5
"""Damping of the first step, near a solution and far from one. The focal length of a moving camera often keeps a
millionth of its own diagonal once all else follows it: with more damping than that it creeps.
"""


@dataclass(frozen=True)
class Adjusted:
    """An adjusted bundle and its robust cost."""

    bundle: Bundle
    cost: float


def adjust(bundle: Bundle, iterations: int = 20, tolerance: float = 1e-5, damping: float = FIRST_DAMPING) -> Adjusted:
    """Adjust a bundle; return the new one and its cost.

    Where it creeps along the valley of the focal length it leaps: the whole step is taken, though it leads uphill at
    first, and everything else is adjusted there with the focal length held. So the focal length is stepped on the cost
    that is left when all else follows it (variable projection; Golub and Pereyra 1973).

    Parameters
    ----------
    iterations : steps at the most. tolerance : share of the cost below which an accepted step's gain ends the work.
    damping : of the first step.
    """
    alone = len(bundle.lenses) == 1 and "focal" in bundle.lenses[0].free
    leaps = MOST_LEAPS if alone and tolerance < ROUGH else 0
    at = _descended(_begun(bundle, damping, iterations), tolerance, leaps > 0)
    while at.creeps:
        leapt = _leapt(at)
        leaps -= 1
        at = _descended(leapt or at, tolerance, leapt is not None and leaps > 0)
    return Adjusted(at.bundle, at.cost)


@dataclass(frozen=True)
class _Descent:
    """Where an adjustment stands: its bundle, its cost and that of each point (P,), the damping of the next step, how
    many steps are left, and whether it creeps.
    """

    bundle: Bundle
    cost: float
    costs: np.ndarray
    damping: float
    left: int
    creeps: bool = False


def _begun(bundle: Bundle, damping: float, left: int) -> _Descent:
    costs = point_costs_of(bundle)
    return _Descent(bundle, known.cost(bundle.terms, bundle) + float(costs.sum()), costs, damping, left)


def _descended(start: _Descent, tolerance: float, watchful: bool) -> _Descent:
    """Return where steps of Levenberg and Marquardt lead; `watchful` ends them where they creep."""
    system = NormalSystem(start.bundle)
    bundle, cost, costs, damping = start.bundle, start.cost, start.costs, start.damping
    rise, slow, small = 2.0, 0, 0
    for left in range(start.left, 0, -1):
        found = _step(system, bundle, damping)
        if found is None:
            damping *= 10.0
            continue
        step, side, diagonal = found
        trial, moved, new_costs = _stepped(bundle, system, step, costs)
        new_cost = known.cost(trial.terms, trial) + float(new_costs.sum())
        expected = 0.5 * (step @ (damping * diagonal * step + side) + float((moved * system.kept.gradients).sum()))
        ratio = (cost - new_cost) / max(expected, 1e-300)
        if new_cost < cost:
            gone = (cost - new_cost) / max(cost, 1e-300)
            bundle, cost, costs, rise = trial, new_cost, new_costs, 2.0
            slow = slow + 1 if ratio < CREEPING and gone < LITTLE and damping > SETTLED else 0
            damping = max(damping * max(1.0 / 3.0, 1.0 - (2.0 * min(ratio, 1.0) - 1.0) ** 3), LEAST_DAMPING)
            small = small + 1 if gone < tolerance else 0
            if small and damping <= SETTLED or small >= MOST_SMALL:
                return _Descent(bundle, cost, costs, damping, 0)
            if small:
                damping *= 0.1
        else:
            damping, rise = damping * rise, rise * 2.0
            if damping > MOST_DAMPING:
                return _Descent(bundle, cost, costs, damping, 0)
        if watchful and slow >= PATIENCE:
            return _Descent(bundle, cost, costs, damping, left - 1, True)
    return _Descent(bundle, cost, costs, damping, 0)


def _leapt(at: _Descent) -> _Descent | None:
    """Return where the whole Gauss-Newton step leads once all but the focal length is adjusted there; None where that
    is no lower.
    """
    system = NormalSystem(at.bundle)
    found = _step(system, at.bundle, LEAST_DAMPING)
    if found is None:
        return None
    step, _, _ = found
    own = abs(float(step[system.whole_rows(Unknown("focal", 0))[0]]))
    step *= min(1.0, LONGEST_LEAP / max(own, 1e-12))
    trial, _, _ = _stepped(at.bundle, system, step, np.full(len(at.bundle.rhos), np.inf))
    (lens,) = trial.lenses
    held = replace(trial, lenses=(replace(lens, free=tuple(name for name in lens.free if name != "focal")),))
    there = _descended(_begun(held, FIRST_DAMPING, LEAP_STEPS), LEAP_TOLERANCE, False)
    if there.cost >= at.cost:
        return None
    landed = replace(there.bundle, lenses=(replace(there.bundle.lenses[0], free=lens.free),))
    return _Descent(landed, there.cost, there.costs, FIRST_DAMPING, at.left)


def _step(system: NormalSystem, bundle: Bundle, damping: float) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
    """Return the damped step (n + C,) of a bundle, with the right side and the diagonal it was solved with; None where
    the system is singular.
    """
    system.fill(bundle, damping)
    side, diagonal = system.side().copy(), system.diagonal()
    try:
        factored = system.factored(damping * diagonal + PIVOT_FLOOR * diagonal.max(initial=1.0))
    except LinAlgError:
        return None
    return np.concatenate(factored.solve(side[: system.full], side[system.full :])), side, diagonal


def _stepped(
    bundle: Bundle, system: NormalSystem, step: np.ndarray, costs: np.ndarray
) -> tuple[Bundle, np.ndarray, np.ndarray]:
    """Return the bundle after a step of cameras and lenses, with the points following, the points' step, and the
    robust cost of each point (P,) then; `costs` (P,) are those before.
    """
    moved = np.empty((len(bundle.rhos), 3))
    point_steps(bundle.observations(), system.structure, system.full, system.kept, step, moved)
    cameras = system.camera_rows(step)
    turns, shifts = np.ascontiguousarray(cameras[:, :3]), np.ascontiguousarray(cameras[:, 3:])
    rotations, centres = np.empty_like(bundle.rotations), bundle.centres + shifts
    directions, rhos = np.empty_like(bundle.directions), np.empty_like(bundle.rhos)
    lenses = tuple(_stepped_lens(lens, number, system, step) for number, lens in enumerate(bundle.lenses))
    if len(lenses) == 1 and lenses[0].values.focal != bundle.lens.focal:
        stretch = float(np.log(lenses[0].values.focal / bundle.lens.focal))
        first, axis = bundle.centres[0], np.ascontiguousarray(bundle.rotations[0][:, 2])
        stretch_points(bundle.directions, bundle.rhos, bundle.anchors, first, axis, stretch, moved, directions, rhos)
        stretch_cameras(
            bundle.rotations, bundle.centres, bundle.free, first, axis, stretch, turns, shifts, rotations, centres
        )
    else:
        turn_cameras(bundle.rotations, turns, rotations)
        move_points(bundle.directions, bundle.rhos, moved, directions, rhos)
    trial = replace(
        bundle, rotations=rotations, centres=centres, lenses=lenses,
        directions=directions, rhos=rhos, world=_stepped_scene(bundle.world, Unknown(WORLD, 0), system, step),
        shapes=tuple(_stepped_scene(s, Unknown(s.block, k), system, step) for k, s in enumerate(bundle.shapes)),
    )  # fmt: skip
    free = system.structure.kept < 0
    new = guard_points(trial.scene(), trial.observations(), trial.loss_scale**2, costs, free)
    return trial, moved, new


def _stepped_scene(own: Any, unknown: Unknown, system: NormalSystem, step: np.ndarray) -> Any:
    """Return the world or a shape after a step; as it is where all of it is held."""
    rows = system.whole_rows(unknown)
    return own.stepped(np.where(rows >= 0, step[rows], 0.0)) if (rows >= 0).any() else own


def _stepped_lens(lens: LensBlock, number: int, system: NormalSystem, step: np.ndarray) -> LensBlock:
    values, own = lens.values, {n: float(step[system.whole_rows(Unknown(n, number))[0]]) for n in lens.free}
    if "focal" in own:
        # Coefficients go along with the focal length, so that its step alone leaves the map of the picture as it is.
        focal = values.stepped("focal", own["focal"]).focal
        for power, name in zip((2, 4, 6), RADIAL_NAMES):
            if name in own:
                gain, value = focal / values.focal, values.value(name)
                own[name] += value * (gain**power - 1.0 - power * np.log(gain))
    for name, change in own.items():
        values = values.stepped(name, change)
    if not lens.zooms:
        return replace(lens, values=values)
    bends = step[system.whole_rows(Unknown(ZOOM, number))]
    return replace(lens, values=values, zoom=lens.zoom + np.clip(bends, -MOST_RADIAL, MOST_RADIAL))
