"""A shot solved as a camera that moves freely: begun, grown, settled, and begun elsewhere where that is no good."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.adjust_shot import CLEARLY, TO_THE_END, finished
from amberkeel.core.solve.begin import FIRST_PAIRS, MORE_PAIRS, best_start, other_starts, zooming_start
from amberkeel.core.solve.covering import COVERING, covering
from amberkeel.core.solve.grow import Broken, adjust_all, grow, set_outliers_apart, settle
from amberkeel.core.solve.lens_plan import Freedom, LensPlan
from amberkeel.core.solve.motions import PLANE, compare
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import READOUT_NAME
from amberkeel.core.solve.recipe import AUTO_ROWS, HAND_FIRST, JERKIEST, KNOWN_ROWS, NO_ROWS
from amberkeel.core.solve.refocus import refocused
from amberkeel.core.solve.refusals import least_tracks, too_few
from amberkeel.core.solve.reversal import adjusted_cost, came_back, twin_of
from amberkeel.core.solve.rows import BETRAYED, betrayed, row_drift, with_rows
from amberkeel.core.solve.shot import LEAST_PART, Asked, Solved, keeping
from amberkeel.core.solve.side_by_side import beside
from amberkeel.core.solve.start import FEWEST_COMMON, Pair, begun, chosen_pair, find_pairs, jerkiest
from amberkeel.core.tracks import ACTIVE, HAND, TAG

MOST_READOUT = 1.2
"""Readout above which what was found is no shutter."""

LOOSE_FOCAL = 0.015
"""Relative sigma of the focal length, for independent noise, from which others are tried."""

OTHER_FOCALS = (0.5, 0.7, 1.4, 2.0)
"""What it is multiplied by then."""

OTHER_SCALES = (FINAL_SCALE, FINAL_SCALE)
"""Cauchy scales of the rounds in which one of them is adjusted to the end, in sigmas."""

BRIEFLY, CLEARLY_BELOW = 15, 0.995
"""Iterations for each of them, and share of the solve's own cost below which one is adjusted to the end."""

SURE, MOSTLY = 0.93, 0.75
"""Shares of the measurements explained: below the first a camera let go of a pivot is looked for everywhere; below the
second other starts are tried. What moves by itself often takes a tenth or a fifth of the tracks, and no wrong camera
has explained three quarters.
"""


def free_camera(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved as a camera that moves freely.

    Where much is left unexplained, or the solve breaks, other pairs of frames are tried as a start: what moves on its
    own can make the pairs with most parallax the worst ones.
    """
    plan, width = asked.plan, asked.size[0]
    active = int(asked.tracks.in_state(ACTIVE).sum())
    if active < least_tracks(False, plan.search, plan.held, asked.recipe.motion == PLANE):
        raise too_few(active)
    if asked.recipe.zoom:
        problem = zooming_start(asked.problem(), plan, asked.freedom, width, span(progress, 0.0, 0.75))
        return _settled(problem, asked.freedom, plan, span(progress, 0.75, 1.0))
    best: Solved | None = None
    first = _leading(asked)
    failure, pairs = SolveError("No two frames give a start."), _pairs(asked, first)
    try:
        problem, pair = best_start(first, plan, width, pairs[:FIRST_PAIRS], span(progress, 0.0, 0.25))
        problem.active = asked.tracks.in_state(ACTIVE)
        best = replace(_grown(problem, plan, span(progress, 0.25, 0.5)), begun=begun(problem, pair))
    except SolveError as error:
        failure = error
    others = best is None
    if best is None:
        best = _from_other_starts(asked, None, failure, pairs, span(progress, 0.5, 0.6))
    if not best.problem.solved.all():
        return best
    with keeping(best):
        if not others and explained_share(best) < MOSTLY and betrayed(best.problem) < BETRAYED:
            best = _from_other_starts(asked, best, failure, pairs, span(progress, 0.5, 0.6))
        return _by_rows(asked, _refocused(asked, best, span(progress, 0.6, 0.7)), span(progress, 0.7, 1.0))


def _leading(asked: Asked) -> Problem:
    """Return the problem with nothing solved, those tracks active that a start is looked for with."""
    problem = asked.problem()
    if asked.recipe.start == HAND_FIRST:
        led = np.array([kind in (HAND, TAG) for kind in asked.tracks.kinds])
        if (problem.active & led).sum() < FEWEST_COMMON:
            raise SolveError(
                f"{int((problem.active & led).sum())} tracks are led by hand, too few to begin from.",
                f"Place {FEWEST_COMMON} or more, or start afresh with all tracks.",
            )
        problem.active &= led
    return problem


def _pairs(asked: Asked, problem: Problem) -> list[Pair]:
    """Return the pairs of frames to begin from, best first: those that were asked for, or found."""
    start = asked.recipe.start
    if start is None or start == HAND_FIRST:
        return find_pairs(problem, MORE_PAIRS)
    return [chosen_pair(problem, *(jerkiest(problem) if start == JERKIEST else start))]


def _from_other_starts(
    asked: Asked, best: Solved | None, failure: SolveError, pairs: list[Pair], progress: Progress
) -> Solved:
    """Return the best of a solve, if any, and of those begun from other pairs of frames, up to the first that explains
    most; what holds together of one that breaks where none reaches all frames.
    """
    plan = asked.plan
    everyone = asked.tracks.in_state(ACTIVE)
    tried = other_starts(_leading(asked), plan, asked.size[0], pairs[FIRST_PAIRS:], span(progress, 0.0, 0.2))
    for problem, pair in tried:
        problem.active = everyone
        try:
            trial = replace(_grown(problem, plan, span(progress, 0.2, 1.0)), begun=begun(problem, pair))
        except SolveError as error:
            failure = _further(failure, error)
            continue
        if best is None or explained_share(trial) > explained_share(best):
            best = trial
        if explained_share(best) >= MOSTLY:
            break
    return best or _part(asked, failure, progress)


def _refocused(asked: Asked, solved: Solved, progress: Progress) -> Solved:
    """Return the best of a solve and of those begun from it at other focal lengths, where it hardly determines its own:
    with little parallax, or one plane, a wrong focal length can be a minimum of its own.
    """
    free = "focal" in solved.freedom.lens and asked.plan.search and not len(solved.problem.zoom)
    if not free or solved.uncertainty(clustered=False).sigma("focal") < LOOSE_FOCAL:
        return solved
    candidates, everyone = [solved], asked.tracks.in_state(ACTIVE)
    as_it_is = settle(solved.problem.copied(), solved.freedom, BRIEFLY)
    for gain in OTHER_FOCALS:
        progress(0.0, f"Trying {gain:g} times the focal length")
        trial = refocused(solved.problem, gain * solved.problem.lens.focal)
        if settle(trial, solved.freedom, BRIEFLY) > CLEARLY_BELOW * as_it_is:
            continue
        try:
            found = finished(trial, solved.freedom, (), progress, OTHER_SCALES)
        except SolveError:
            continue
        candidates.append(replace(found, twin=solved.twin, begun=solved.begun))
    if len(candidates) == 1:
        return solved
    rivals = compare(candidates, everyone)
    return candidates[int(np.argmin([rival.score for rival in rivals]))]


def _further(one: SolveError, other: SolveError) -> SolveError:
    """Return that failure which got further: a solve that broke with more frames, or any that broke."""
    reached = [int(e.problem.solved.sum()) if isinstance(e, Broken) else -1 for e in (one, other)]
    return other if reached[1] > reached[0] else one


def _part(asked: Asked, failure: SolveError, progress: Progress) -> Solved:
    """Return what holds together of a solve that broke; raises the failure where that is too little."""
    if not isinstance(failure, Broken) or failure.problem.solved.sum() < LEAST_PART or asked.recipe.zoom:
        raise failure
    progress(0.8, "Keeping what holds together")
    try:
        return finished(failure.problem, asked.plan.free, asked.plan.later, progress)
    except SolveError:
        raise failure from None


def _grown(start: Problem, plan: LensPlan, progress: Progress) -> Solved:
    """Return a start extended over the whole shot with some of its tracks, and finished with all of them."""
    rows = covering(start, COVERING)
    part = start.of_tracks(rows)
    try:
        grow(part, plan.free, span(progress, 0.0, 0.5))
    except Broken as broken:
        broken.problem = start.with_part(broken.problem, rows)
        raise
    grown = start.with_part(part, rows)
    set_outliers_apart(grown)
    return _settled(grown, plan.free, plan, span(progress, 0.5, 1.0))


def _settled(problem: Problem, freedom: Freedom, plan: LensPlan, progress: Progress) -> Solved:
    """Return a problem with all frames solved, finished in the better of its two depths.

    The twin is pursued beside finishing what was found, which hardly ever turns out to be in vain.
    """
    twin = twin_of(problem)
    if twin is None:
        return finished(problem, freedom, plan.later, progress)
    progress(0.0, "Trying it with depth reversed")
    problem = problem.copied()
    own = adjusted_cost(problem, freedom)
    failure: SolveError | None = None
    with beside(lambda: adjusted_cost(twin, freedom, own), len(problem.track)) as pursued:
        try:
            solved = finished(problem, freedom, plan.later, progress)
        except SolveError as error:
            failure = error
    other = pursued.result()
    if came_back(problem, twin):
        other = np.inf
    if other < own:
        solved = finished(twin, freedom, plan.later, progress)
    elif failure:
        raise failure
    return replace(solved, twin=abs(other - own))


def _by_rows(asked: Asked, solved: Solved, progress: Progress) -> Solved:
    """Return a moving camera solved with a rolling shutter where one is given, or explains the tracks better."""
    recipe = asked.recipe
    if recipe.rows == NO_ROWS or recipe.zoom or (recipe.rows == AUTO_ROWS and betrayed(solved.problem) < BETRAYED):
        return solved
    progress(0.0, "Trying a rolling shutter")
    problem = solved.problem.copied()
    problem.active, problem.inlier = problem.active | solved.dropped, np.ones_like(problem.inlier)
    problem, freedom = with_rows(problem, solved.freedom, recipe.readout, recipe.readout_sigma)
    trial = replace(
        finished(problem, freedom, asked.plan.later, span(progress, 0.3, 1.0)), twin=solved.twin, begun=solved.begun
    )
    trial.problem.drift = row_drift(trial.problem, trial.problem.lens.readout)
    adjust_all(trial.problem, trial.freedom, *TO_THE_END)
    if recipe.rows == KNOWN_ROWS:
        return trial
    readout = trial.problem.lens.readout
    clear = trial.uncertainty(clustered=False).sigma(READOUT_NAME) * CLEARLY < readout < MOST_READOUT
    before, after = compare([solved, trial], asked.tracks.in_state(ACTIVE))
    return trial if clear and after.score < before.score else solved


def explained_share(solved: Solved) -> float:
    """Return the share of the measurements that a solve explains."""
    problem = solved.problem
    return len(solved.final_bundle()[1].observations) / max(
        int((problem.active | solved.dropped)[problem.track].sum()), 1
    )
