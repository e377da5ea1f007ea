"""From tracks to a solved camera."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve import reasons
from amberkeel.core.solve.adjust_shot import NEARLY, ROUGHLY, TO_THE_END, weigh, without_near
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.check_tracks import choose_checks
from amberkeel.core.solve.evidence.bind import SCALE
from amberkeel.core.solve.evidence.constrained import (
    bound_to,
    check_evidence,
    stated_of,
    straightened_lines,
    tightened,
)
from amberkeel.core.solve.evidence.piece import Piece
from amberkeel.core.solve.evidence.statement import Constraint, SwingRadius
from amberkeel.core.solve.explain import explained
from amberkeel.core.solve.finish import make_solution
from amberkeel.core.solve.folds import check_folds, cross_validated, each_in_turn
from amberkeel.core.solve.grow import adjust_all
from amberkeel.core.solve.held_lens import straightened
from amberkeel.core.solve.held_out import held_out
from amberkeel.core.solve.lens_plan import LensPlan
from amberkeel.core.solve.lens_report import lens_report
from amberkeel.core.solve.motions import (
    AUTO,
    FREE,
    LOCKED,
    MOTIONS,
    NODAL,
    PLANE,
    SWING,
    compare,
)
from amberkeel.core.solve.planar import FLAT, MOSTLY_FLAT, flat_part, on_one_plane
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.recipe import KNOWN_ROWS, MOST_WEIGHT, ROWS, Recipe
from amberkeel.core.solve.refusals import check_tracks, least_tracks
from amberkeel.core.solve.residuals import rms
from amberkeel.core.solve.reversal import ALIKE
from amberkeel.core.solve.shot import Asked, Solved, Stopped, keeping
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.standing import hold, standing, worth_it
from amberkeel.core.solve.surveyed import least_known, suffices, survey_of
from amberkeel.core.solve.terms import COST, Figure
from amberkeel.core.solve.uncertainty import Uncertainty, bundle_noise_factor
from amberkeel.core.tracks import ACTIVE, CHECK, KINDS, TrackSet

MOST_RADIUS = 1e6
"""Metres below which the points of a camera that does not move are put."""

UNMEASURED = {"m": "units", "m/s²": "units/s²"}
"""What lengths are called where nothing states one: of ten to the usual point."""

Early = Callable[[Solution], None]
"""Takes a solution before it is known how sure it is."""

EVIDENCE_ROUNDS = 4
"""Rounds of adjusting with evidence; what is held exactly is held firmer in each."""


def solve_tracks(
    tracks: TrackSet,
    frames: np.ndarray,
    width: int,
    height: int,
    recipe: Recipe = Recipe(),
    progress: Progress = silent,
    early: Early | None = None,
) -> Solution:
    """Solve a camera from tracks alone.

    Parameters
    ----------
    tracks : measurements; excluded tracks are left out, check tracks are only judged. If no track is marked as check,
        a share of them is withheld.
    frames : (F,) frame numbers to solve, rising. width, height : plate size in pixels. recipe : what is asked.
    progress : called with the share done. early : called with a refinement as it stands before it is known how sure it
        is: cameras, points and residuals are final to a fraction of their noise, sigmas are those of independent noise.

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
        solved = solve_shot(asked, span(progress, 0.0, 0.95), early)
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
    _check_refinement(recipe)
    check_folds(recipe.folds)
    if not 0.0 < recipe.radius < MOST_RADIUS:
        raise SolveError(f"A radius of {recipe.radius:g} is impossible.", "Give metres above 0, such as 10.")
    if recipe.zoom and recipe.motion not in (AUTO, FREE, NODAL):
        raise SolveError(
            "A zoom is solved with a camera that moves freely or only turns.", "Ask for free or nodal, or for no zoom."
        )
    measured = tracks.on_frames(frames)
    plan = recipe.plan(width, height)
    check_tracks(measured, _least(measured, frames, recipe, plan))
    if CHECK not in measured.states:
        rng, needed = np.random.default_rng(recipe.seed), stated_of(recipe.evidence, measured)
        checks = choose_checks(measured, width, height, recipe.check_share, rng, needed)
        measured = replace(measured, states=[CHECK if c else s for c, s in zip(checks, measured.states)])
    check_evidence(recipe.evidence, measured, frames, recipe.fps)
    straight = measured
    if recipe.held_lens:
        straight = straightened(measured, recipe.held_lens)
        recipe = replace(recipe, evidence=straightened_lines(recipe.evidence, recipe.held_lens))
    return Asked(measured, straight, frames, recipe, plan, (width, height))


def _least(tracks: TrackSet, frames: np.ndarray, recipe: Recipe, plan: LensPlan) -> int:
    """Return how many active tracks a solve needs: of known points fewer, since each of them says more."""
    if suffices(survey_of(recipe.evidence, tracks), tracks, frames, plan.search):
        return least_known(plan.search)
    return least_tracks(recipe.motion in (AUTO, NODAL), plan.search, plan.held, recipe.motion == PLANE)


def _check_rows(recipe: Recipe) -> None:
    hint = "Give a share of the frame interval, 0 to 1, such as 0.46."
    if (recipe.rows == KNOWN_ROWS) != (recipe.readout is not None) or recipe.rows not in ROWS:
        raise SolveError("A known readout needs its value.", hint)
    if recipe.readout is not None and not 0.0 <= recipe.readout <= 1.0:
        raise SolveError(f"A readout of {recipe.readout:g} is impossible.", hint)
    if recipe.readout is None and recipe.readout_sigma > 0.0:
        raise SolveError("A readout that is held softly needs its value.", hint)


def _check_refinement(recipe: Recipe) -> None:
    """Refuse weights and a range that cannot be."""
    for kind, factor in recipe.weights.items():
        if kind not in KINDS:
            raise SolveError(f"There is no kind of track “{kind}”.", f"Choose {', '.join(KINDS)}.")
        if not 0.0 < factor <= MOST_WEIGHT:
            raise SolveError(
                f"A weight of {factor:g} is impossible.", f"Give a factor up to {MOST_WEIGHT:g}, such as 4."
            )
    if recipe.within is not None and recipe.begin is None:
        raise SolveError(
            "Only a camera that was found before can be refined on a range.", "Choose an attempt to refine."
        )


def solve_shot(asked: Asked, progress: Progress, early: Early | None = None) -> Solved:
    """Solve a shot, all but how sure it is: the explanation asked for, or the best one, at last with every track
    weighted by its own noise.

    Parameters
    ----------
    asked : the shot. progress, early : as for `solve_tracks`.
    """
    solved = explained(asked, span(progress, 0.0, 0.9))
    if solved.motion == LOCKED:
        return solved
    with keeping(solved):
        progress(0.9, "Weighing each track by its own noise")
        problem = solved.problem.copied()
        for how in (ROUGHLY, TO_THE_END):
            weigh(problem, solved.freedom)
            adjust_all(problem, solved.freedom, *how)
            if early and how == ROUGHLY and asked.recipe.begin and not any(one.on for one in asked.recipe.evidence):
                soon = replace(solved, problem=problem.copied())
                early(conclude(asked, soon, soon.uncertainty(clustered=False), tested=False))
        solved = without_near(replace(solved, problem=problem))
        progress(0.97, "Adding what is known")
    if not solved.problem.surveyed.any():
        solved = _flat(asked, _standing(asked, solved))
    return _with_evidence(asked, solved)


def _standing(asked: Asked, solved: Solved) -> Solved:
    """Return a shot with its camera held at one spot where it stands still for a while."""
    if solved.motion != FREE or asked.recipe.motion != AUTO or asked.recipe.zoom or solved.problem.lens.readout:
        return solved
    stretches = standing(solved.problem)
    if not stretches:
        return solved
    held = replace(solved, standing=tuple(stretches))
    held = _held_to(asked, held, _known(held))
    saved = sum(3 * (last - first) for first, last in stretches)
    noise = bundle_noise_factor(solved.final_bundle()[0], solved.stated_weights())
    if not worth_it(solved.problem, held.problem, solved.problem.active & held.problem.active, noise, saved):
        return solved
    return held


def _flat(asked: Asked, solved: Solved) -> Solved:
    """Return a shot with all its points on one plane where that was asked for, or explains the tracks better."""
    wanted = asked.recipe.motion == PLANE
    if solved.motion != FREE or not wanted and asked.recipe.motion != AUTO or solved.problem.lens.readout:
        return solved
    # What following errs by beyond its noise is not in the factor; whether the plane holds the comparison says.
    noise = max(1.0, bundle_noise_factor(solved.final_bundle()[0], solved.stated_weights()))
    flat = flat_part(solved.problem, noise, asked.recipe.seed, MOSTLY_FLAT if wanted else FLAT)
    if flat is None:
        if wanted:
            raise SolveError("The tracks do not lie on one plane.", "Ask for a free camera.")
        return solved
    thin = solved.problem.copied()
    thin.active = flat
    dropped = solved.dropped | (solved.problem.active & ~flat)
    one = replace(solved, problem=thin, dropped=dropped, plane=on_one_plane(asked.measured, flat), motion=PLANE)
    one = _held_to(asked, one, _known(one))
    rivals = compare([one, solved], asked.tracks.in_state(ACTIVE))
    best = one if wanted or rivals[0].score < rivals[1].score else solved
    return replace(best, rivals=tuple(rivals))


def _with_evidence(asked: Asked, solved: Solved) -> Solved:
    """Return a solved shot adjusted to what is known of the set and of the path too."""
    if not any(one.on for one in asked.recipe.evidence):
        return solved
    radius = next((one for one in asked.recipe.evidence if isinstance(one, SwingRadius) and one.on), None)
    if radius and solved.motion != SWING:
        raise SolveError(
            f"{radius.name or 'A swing radius'}: the camera does not swing.", "Ask for a swing, or switch it off."
        )
    before = None if solved.problem.surveyed.any() else rms(solved.final_bundle()[0].residuals())
    return replace(_held_to(asked, solved, (*asked.recipe.evidence, *_known(solved))), rms_before_px=before)


def _known(solved: Solved) -> tuple[Constraint, ...]:
    """Return what a solve found of the path and of the set, as constraints."""
    found = tuple(hold(frames) for frames in solved.standing)
    return (*found, solved.plane) if solved.plane else found


def _held_to(asked: Asked, solved: Solved, evidence: tuple[Constraint, ...]) -> Solved:
    """Return a solved shot adjusted with evidence instead of any that it has."""
    problem = solved.problem.copied()
    bound = bound_to(problem, asked.measured, evidence, asked.recipe.fps)
    own = tuple(term for term in solved.freedom.terms if not isinstance(term, Piece))
    freedom = replace(solved.freedom, terms=(*own, *bound.terms))
    for left in range(EVIDENCE_ROUNDS if any(term.exact for term in bound.terms) else 1, 0, -1):
        adjust_all(problem, freedom, *(NEARLY if left > 1 else TO_THE_END))
        freedom = replace(freedom, terms=tightened(problem, freedom.terms))
    return without_near(replace(solved, problem=problem, freedom=freedom))


def conclude(
    asked: Asked, solved: Solved, sure: Uncertainty, progress: Progress = silent, tested: bool = True
) -> Solution:
    """Return the solution of a solved shot: every track judged, its lens tested on held-out tracks.

    Parameters
    ----------
    asked : the shot as it was asked for. solved : its camera, adjusted. sure : how sure that is. progress : called with
        the share done. tested : whether lens and folds are.
    """
    problem, measured = solved.problem, asked.measured
    bundle, rows = solved.final_bundle()
    shown = _figures(bundle, solved)
    report = lens_report(problem.lens, sure, asked.recipe.held_lens)
    if tested:
        report = report.tested(held_out(problem, solved.freedom, sure, measured.in_state(CHECK)))
    if solved.twin < ALIKE * sure.noise_factor**2:
        report = report.noted(Reason(reasons.DEPTH_REVERSED))
    counted = np.zeros(len(measured.frames), bool)
    counted[rows.observations] = True
    unchecked = CHECK not in measured.states
    wanted = 0 if not tested else asked.recipe.folds or (each_in_turn(solved) if unchecked else 0)
    folds = cross_validated(solved, wanted, asked.recipe.seed, progress) if wanted else None
    if folds:
        folds = replace(folds, each=tuple((int(measured.ids[row]), px) for row, px in folds.each))
    solution = make_solution(
        problem, measured, solved.dropped, counted, sure, report, asked.recipe, asked.size, shown,
        solved.motion, solved.rivals, rows.points, solved.standing,
    )  # fmt: skip
    return replace(solution, folds=folds, begun=solved.begun)


def _figures(bundle: Bundle, solved: Solved) -> tuple[Figure, ...]:
    """Return what each piece of knowledge says, and what all of them together cost the tracks."""
    figures = tuple(bundle.figures())
    if not bundle.world.free[SCALE] and not bundle.world.held:
        figures = tuple(replace(figure, unit=UNMEASURED.get(figure.unit, figure.unit)) for figure in figures)
    if solved.rms_before_px is None:
        return figures
    return *figures, Figure(COST, solved.rms_before_px, rms(bundle.residuals()), 0.0, "px", COST)
