"""From tracks to a solved camera."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve import reasons
from amberkeel.core.solve.adjust_shot import CLEARLY, ROUGHLY, TO_THE_END, finished, weigh
from amberkeel.core.solve.again import REFINE_SCALES, refined
from amberkeel.core.solve.begin import FIRST_PAIRS, MORE_PAIRS, best_start, other_starts, zooming_start
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.check_tracks import choose_checks
from amberkeel.core.solve.evidence.constrained import bound_to, check_evidence, stated_of, tightened
from amberkeel.core.solve.evidence.piece import Piece
from amberkeel.core.solve.evidence.statement import Constraint
from amberkeel.core.solve.finish import make_solution
from amberkeel.core.solve.folds import check_folds, cross_validated
from amberkeel.core.solve.grow import Broken, adjust_all, grow, settle
from amberkeel.core.solve.held_lens import straightened
from amberkeel.core.solve.held_out import held_out
from amberkeel.core.solve.lens_plan import Freedom, LensPlan, zooming
from amberkeel.core.solve.lens_report import lens_report
from amberkeel.core.solve.locked import locked
from amberkeel.core.solve.motions import AUTO, EXPLAINS, FREE, LOCKED, MOTIONS, NODAL, PLANE, SWING, compare
from amberkeel.core.solve.planar import flat_part, on_one_plane
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import READOUT_NAME
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.recipe import AUTO_ROWS, JERKIEST, KNOWN_ROWS, NO_ROWS, ROWS, Recipe
from amberkeel.core.solve.refusals import check_tracks
from amberkeel.core.solve.residuals import rms
from amberkeel.core.solve.reversal import ALIKE, better_of_twins
from amberkeel.core.solve.rows import BETRAYED, betrayed, row_drift, with_rows
from amberkeel.core.solve.shot import LEAST_PART, Asked, Solved, Stopped, keeping
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.standing import standing, worth_it
from amberkeel.core.solve.start import Pair, begun, chosen_pair, find_pairs, jerkiest, stands_still
from amberkeel.core.solve.terms import COST, Figure
from amberkeel.core.solve.turn import released, swinging, turning
from amberkeel.core.solve.uncertainty import Uncertainty, bundle_noise_factor
from amberkeel.core.tracks import ACTIVE, CHECK, TrackSet

MOST_READOUT = 1.2
"""Readout above which what was found is no shutter."""

MOST_RADIUS = 1e6
"""Metres below which the points of a camera that does not move are put."""

EVIDENCE_ROUNDS = 4
"""Rounds of adjusting with evidence; what is held exactly is held firmer in each."""

LOOSE_FOCAL = 0.015
"""Relative sigma of the focal length, for independent noise, from which others are tried."""

OTHER_FOCALS = (0.5, 0.7, 1.4, 2.0)
"""What it is multiplied by then."""

BRIEFLY, CLEARLY_BELOW = 15, 0.995
"""Iterations for each of them, and share of the solve's own cost below which one is adjusted to the end."""

SURE = 0.93
"""Share of the measurements explained below which other starts are tried."""


def solve_tracks(
    tracks: TrackSet,
    frames: np.ndarray,
    width: int,
    height: int,
    recipe: Recipe = Recipe(),
    progress: Progress = silent,
) -> Solution:
    """Solve a camera from tracks alone.

    Parameters
    ----------
    tracks : measurements; excluded tracks are left out, check tracks are only judged. If no track is marked as check,
        a share of them is withheld.
    frames : (F,) frame numbers to solve, rising. width, height : plate size in pixels. recipe : what is asked.

    Returns
    -------
    The camera with its points and errors, in a world whose scale and datum are arbitrary. Cancelled when a camera
    stood already, it is that one, `stopped`.

    Raises
    ------
    SolveError : a locked-off camera of unknown focal length, too few tracks, or a shot that breaks in the middle.
    """
    asked = ask(tracks, frames, width, height, recipe)
    try:
        solved = solve_shot(asked, span(progress, 0.0, 0.95))
    except Stopped as stop:
        return replace(conclude(asked, stop.best, stop.best.uncertainty(clustered=False)), stopped=True)
    progress(0.96, "Trying the lens on check tracks")
    return conclude(asked, solved, solved.uncertainty(), span(progress, 0.97, 1.0))


def ask(tracks: TrackSet, frames: np.ndarray, width: int, height: int, recipe: Recipe) -> Asked:
    """Return a shot to solve: samples outside its frames left away, check tracks chosen; arguments as for
    `solve_tracks`.

    Parameters
    ----------
    tracks, frames, width, height, recipe : as for `solve_tracks`.
    """
    if recipe.motion not in MOTIONS:
        raise SolveError(f"There is no camera motion “{recipe.motion}”.", f"Choose {', '.join(MOTIONS)}.")
    _check_rows(recipe)
    check_folds(recipe.folds)
    if not 0.0 < recipe.radius < MOST_RADIUS:
        raise SolveError(f"A radius of {recipe.radius:g} is impossible.", "Give metres above 0, such as 10.")
    if recipe.zoom and recipe.motion not in (AUTO, FREE):
        raise SolveError("A zoom is solved with a free camera only.", "Ask for a free camera, or for no zoom.")
    measured = tracks.on_frames(frames)
    check_tracks(measured)
    if CHECK not in measured.states:
        rng, needed = np.random.default_rng(recipe.seed), stated_of(recipe.evidence, measured)
        checks = choose_checks(measured, width, height, recipe.check_share, rng, needed)
        measured = replace(measured, states=[CHECK if c else s for c, s in zip(checks, measured.states)])
    check_evidence(recipe.evidence, measured, frames, recipe.fps)
    straight = straightened(measured, recipe.held_lens) if recipe.held_lens else measured
    return Asked(measured, straight, frames, recipe, recipe.plan(width, height), (width, height))


def _check_rows(recipe: Recipe) -> None:
    hint = "Give a share of the frame interval, 0 to 1, such as 0.46."
    if (recipe.rows == KNOWN_ROWS) != (recipe.readout is not None) or recipe.rows not in ROWS:
        raise SolveError("A known readout needs its value.", hint)
    if recipe.readout is not None and not 0.0 <= recipe.readout <= 1.0:
        raise SolveError(f"A readout of {recipe.readout:g} is impossible.", hint)


def solve_shot(asked: Asked, progress: Progress) -> Solved:
    """Solve a shot, all but how sure it is: the explanation asked for, or the best one, at last with every track
    weighted by its own noise.
    """
    solved = _explained_best(asked, span(progress, 0.0, 0.9))
    if solved.motion == LOCKED:
        return solved
    with keeping(solved):
        progress(0.9, "Weighing each track by its own noise")
        problem = solved.problem.copied()
        for how in (ROUGHLY, TO_THE_END):
            weigh(problem, solved.freedom)
            adjust_all(problem, solved.freedom, *how)
        progress(0.97, "Adding what is known")
    return _with_evidence(asked, _flat(asked, _standing(asked, replace(solved, problem=problem))))


def _standing(asked: Asked, solved: Solved) -> Solved:
    """Return a shot with its camera held at one spot where it stands still for a while."""
    if solved.motion != FREE or asked.recipe.motion != AUTO or asked.recipe.zoom or solved.problem.lens.readout:
        return solved
    stretches = standing(solved.problem)
    if not stretches:
        return solved
    held = replace(solved, standing=tuple(stretches))
    held = _held_to(asked, held, held.known)
    saved = sum(3 * (last - first) for first, last in stretches)
    noise = bundle_noise_factor(solved.final_bundle()[0], solved.stated_weights())
    if not worth_it(solved.problem, held.problem, solved.problem.active, noise, saved):
        return solved
    return held


def _flat(asked: Asked, solved: Solved) -> Solved:
    """Return a shot with all its points on one plane where that was asked for, or explains the tracks better."""
    wanted = asked.recipe.motion == PLANE
    if solved.motion != FREE or not wanted and asked.recipe.motion != AUTO or solved.problem.lens.readout:
        return solved
    noise = bundle_noise_factor(solved.final_bundle()[0], solved.stated_weights())
    flat = flat_part(solved.problem, noise, asked.recipe.seed)
    if flat is None:
        if wanted:
            raise SolveError("The tracks do not lie on one plane.", "Ask for a free camera.")
        return solved
    thin = solved.problem.copied()
    thin.active = flat
    dropped = solved.dropped | (solved.problem.active & ~flat)
    one = replace(solved, problem=thin, dropped=dropped, plane=on_one_plane(asked.measured, flat), motion=PLANE)
    one = _held_to(asked, one, one.known)
    rivals = compare([one, solved], asked.tracks.in_state(ACTIVE))
    best = one if wanted or rivals[0].score < rivals[1].score else solved
    return replace(best, rivals=tuple(rivals))


def _with_evidence(asked: Asked, solved: Solved) -> Solved:
    """Return a solved shot adjusted to what is known of the set and of the path too."""
    if not any(one.on for one in asked.recipe.evidence):
        return solved
    before = rms(solved.final_bundle()[0].residuals())
    return replace(_held_to(asked, solved, (*asked.recipe.evidence, *solved.known)), rms_before_px=before)


def _held_to(asked: Asked, solved: Solved, evidence: tuple[Constraint, ...]) -> Solved:
    """Return a solved shot adjusted with evidence instead of any that it has."""
    problem = solved.problem.copied()
    bound = bound_to(problem, asked.measured, evidence, asked.recipe.fps)
    own = tuple(term for term in solved.freedom.terms if not isinstance(term, Piece))
    freedom = replace(solved.freedom, terms=(*own, *bound.terms))
    for _ in range(EVIDENCE_ROUNDS):
        adjust_all(problem, freedom, *TO_THE_END)
        freedom = replace(freedom, terms=tightened(problem, freedom.terms))
    return replace(solved, problem=problem, freedom=freedom)


def _explained_best(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved by the explanation asked for, or by the one that explains it best."""
    motion = asked.recipe.motion
    if motion == LOCKED:
        return locked(asked)
    if asked.recipe.begin is not None:
        return refined(asked, progress)
    if stands_still(asked.problem()):
        return locked(asked)
    if motion in (FREE, PLANE) or asked.recipe.zoom:
        return _free(asked, progress)
    if motion in (NODAL, SWING):
        found = _turning(asked, progress)
        if not found:
            raise SolveError("No rotation joins the frames.", "Ask for a free camera.")
        return found[-1 if motion == SWING else 0]
    try:
        turned = _turning(asked, span(progress, 0.0, 0.4))
    except SolveError:
        return _free(asked, span(progress, 0.4, 1.0))
    if not turned:
        return _free(asked, span(progress, 0.2, 1.0))
    with keeping(turned[-1]):
        return _compared(asked, turned, span(progress, 0.5, 1.0))


def _compared(asked: Asked, turned: list[Solved], progress: Progress) -> Solved:
    """Return the best of cameras that turn and one that moves."""
    progress(0.0, "Comparing it with a camera that moves")
    everyone = asked.tracks.in_state(ACTIVE)
    let_go = released(turned[-1].problem)
    settle(let_go, asked.plan.free, 20)
    candidates = [*turned, finished(let_go, asked.plan.free, asked.plan.later, span(progress, 0.0, 0.6))]
    rivals = compare(candidates, everyone)
    least = min(rivals, key=lambda rival: rival.score)
    if least.motion == FREE or least.explained < SURE:
        # One that is let go of a pivot stays near it: the free camera is looked for everywhere.
        try:
            candidates[-1] = _free(asked, span(progress, 0.6, 1.0))
            rivals = compare(candidates, everyone)
        except SolveError:
            pass
    best = int(np.argmin([rival.score for rival in rivals]))
    return replace(candidates[best], rivals=tuple(rivals))


def _turning(asked: Asked, progress: Progress) -> list[Solved]:
    """Return the shot solved as a camera that only turns, and as one that swings; neither where the motion is to be
    found and rotation explains too little.
    """
    plan = asked.plan
    most = EXPLAINS if asked.recipe.motion == AUTO else np.inf
    turned = turning(asked.problem(), plan, asked.size[0], span(progress, 0.0, 0.5), most)
    if turned is None:
        return []
    nodal = replace(finished(turned, plan.free, plan.later, span(progress, 0.5, 0.7)), motion=NODAL)
    if asked.recipe.motion == NODAL:
        return [nodal]
    swung, freedom = swinging(turned, plan.free)
    try:
        swing = replace(finished(swung, freedom, plan.later, span(progress, 0.7, 1.0)), motion=SWING)
    except SolveError:
        return [nodal]
    return [nodal, swing]


def _free(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved as a camera that moves freely.

    Where much is left unexplained, or the solve breaks, other pairs of frames are tried as a start: what moves on its
    own can make the pairs with most parallax the worst ones.
    """
    plan, width = asked.plan, asked.size[0]
    if asked.recipe.zoom:
        freedom = zooming(plan)
        problem = zooming_start(asked.problem(), plan, freedom, width, span(progress, 0.0, 0.75))
        return _settled(problem, freedom, plan, span(progress, 0.75, 1.0))
    best: Solved | None = None
    failure, pairs = SolveError("No two frames give a start."), _pairs(asked)
    try:
        problem, pair = best_start(asked.problem(), plan, width, pairs[:FIRST_PAIRS], span(progress, 0.0, 0.25))
        best = replace(_grown(problem, plan, span(progress, 0.25, 0.5)), begun=begun(problem, pair))
    except SolveError as error:
        failure = error
    others = best is None
    if best is None:
        best = _from_other_starts(asked, None, failure, pairs, span(progress, 0.5, 0.6))
    if not best.problem.solved.all():
        return best
    with keeping(best):
        if not others and _explained(best) < SURE and betrayed(best.problem) < BETRAYED:
            best = _from_other_starts(asked, best, failure, pairs, span(progress, 0.5, 0.6))
        return _by_rows(asked, _refocused(asked, best, span(progress, 0.6, 0.7)), span(progress, 0.7, 1.0))


def _pairs(asked: Asked) -> list[Pair]:
    """Return the pairs of frames to begin from, best first: those that were asked for, or found."""
    start, problem = asked.recipe.start, asked.problem()
    if start is None:
        return find_pairs(problem, MORE_PAIRS)
    return [chosen_pair(problem, *(jerkiest(problem) if start == JERKIEST else start))]


def _from_other_starts(
    asked: Asked, best: Solved | None, failure: SolveError, pairs: list[Pair], progress: Progress
) -> Solved:
    """Return the best of a solve, if any, and of those begun from other pairs of frames; what holds together of one
    that breaks where none reaches all frames.
    """
    plan = asked.plan
    tried = other_starts(asked.problem(), plan, asked.size[0], pairs[FIRST_PAIRS:], span(progress, 0.0, 0.2))
    for problem, pair in tried:
        try:
            trial = replace(_grown(problem, plan, span(progress, 0.2, 1.0)), begun=begun(problem, pair))
        except SolveError as error:
            failure = _further(failure, error)
            continue
        if best is None or _explained(trial) > _explained(best):
            best = trial
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
        trial = solved.problem.copied()
        trial.lens = trial.lens.refocused(gain * trial.lens.focal)
        if settle(trial, solved.freedom, BRIEFLY) > CLEARLY_BELOW * as_it_is:
            continue
        try:
            found = finished(trial, solved.freedom, (), progress, REFINE_SCALES)
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
    """Return a start extended over the whole shot and finished."""
    grow(start, plan.free, span(progress, 0.0, 0.5))
    return _settled(start, plan.free, plan, span(progress, 0.5, 1.0))


def _settled(problem: Problem, freedom: Freedom, plan: LensPlan, progress: Progress) -> Solved:
    """Return a problem with all frames solved, finished in the better of its two depths."""
    progress(0.0, "Trying it with depth reversed")
    problem, twin = better_of_twins(problem, freedom)
    return replace(finished(problem, freedom, plan.later, progress), twin=twin)


def _by_rows(asked: Asked, solved: Solved, progress: Progress) -> Solved:
    """Return a moving camera solved with a rolling shutter where one is given, or explains the tracks better."""
    recipe = asked.recipe
    if recipe.rows == NO_ROWS or recipe.zoom or (recipe.rows == AUTO_ROWS and betrayed(solved.problem) < BETRAYED):
        return solved
    progress(0.0, "Trying a rolling shutter")
    problem = solved.problem.copied()
    problem.active, problem.inlier = problem.active | solved.dropped, np.ones_like(problem.inlier)
    problem, freedom = with_rows(problem, solved.freedom, recipe.readout)
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


def _explained(solved: Solved) -> float:
    """Return the share of the measurements that a solve explains."""
    problem = solved.problem
    return len(solved.final_bundle()[1].observations) / max(
        int((problem.active | solved.dropped)[problem.track].sum()), 1
    )


def conclude(asked: Asked, solved: Solved, sure: Uncertainty, progress: Progress = silent) -> Solution:
    """Return the solution of a solved shot: every track judged, its lens tested on held-out tracks.

    Parameters
    ----------
    asked : the shot as it was asked for. solved : its camera, adjusted. sure : how sure that is. progress : called with
        the share done.
    """
    problem, measured = solved.problem, asked.measured
    bundle, rows = solved.final_bundle()
    shown = _figures(bundle, solved)
    report = lens_report(problem.lens, sure, asked.recipe.held_lens)
    report = report.tested(held_out(problem, solved.freedom, sure, measured.in_state(CHECK)))
    if solved.twin < ALIKE * sure.noise_factor**2:
        report = report.noted(Reason(reasons.DEPTH_REVERSED))
    counted = np.zeros(len(measured.frames), bool)
    counted[rows.observations] = True
    folds = cross_validated(solved, asked.recipe.folds, asked.recipe.seed, progress) if asked.recipe.folds else None
    solution = make_solution(
        problem, measured, solved.dropped, counted, sure, report, asked.recipe, asked.size, shown,
        solved.motion, solved.rivals, rows.points, solved.standing,
    )  # fmt: skip
    return replace(solution, folds=folds, begun=solved.begun)


def _figures(bundle: Bundle, solved: Solved) -> tuple[Figure, ...]:
    """Return what each piece of knowledge says, and what all of them together cost the tracks."""
    figures = tuple(bundle.figures())
    if solved.rms_before_px is None:
        return figures
    return *figures, Figure(COST, solved.rms_before_px, rms(bundle.residuals()), 0.0, "px", COST)
