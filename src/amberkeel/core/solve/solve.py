"""From tracks to a solved camera."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve import reasons
from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.check_tracks import choose_checks
from amberkeel.core.solve.finish import make_solution
from amberkeel.core.solve.grow import fill_between, grow, settle
from amberkeel.core.solve.held_lens import straightened
from amberkeel.core.solve.held_out import held_out
from amberkeel.core.solve.lens_plan import Freedom, LensPlan, zoom_basis, zooming
from amberkeel.core.solve.lens_report import lens_report
from amberkeel.core.solve.motions import AUTO, EXPLAINS, FREE, MOTIONS, NODAL, SWING, Rival, compare
from amberkeel.core.solve.outliers import FINAL_SCALE, find_outliers
from amberkeel.core.solve.problem import Problem, Rows, make_problem
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.reversal import ALIKE, better_of_twins
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.start import FIELDS_OF_VIEW, find_pairs, sweep
from amberkeel.core.solve.turn import released, swinging, turning
from amberkeel.core.solve.uncertainty import Uncertainty, uncertainty
from amberkeel.core.tracks import ACTIVE, CHECK, TrackSet

LEAST_TRACKS = 8
"""Active tracks below which there is no solve."""

ZOOM_FIELDS = np.radians(np.geomspace(80.0, 12.0, 6))
"""Horizontal fields of view from which a zoom is begun, radians."""

ABOUT = np.array([1.0, 0.85, 1.18])
"""Starts about a focal length that is known: with little parallax the right one alone may give no start."""

CLEARLY = 4.0
"""Sigmas by which a further coefficient must differ from 0 to be estimated."""

CYCLE_SCALES = (4.0, 3.0, FINAL_SCALE, FINAL_SCALE)
"""Cauchy scales of the rounds of adjusting and judging outliers, in sigmas."""

MOST_WHITENED = 20.0
"""Whitened residual to which each measurement counts when starts are compared."""


@dataclass(frozen=True)
class Asked:
    """A shot to solve.

    Attributes
    ----------
    measured : tracks as given, in the states the solve uses. tracks : the same, straightened where a lens is held.
    frames : (F,) frame numbers. recipe : what is asked. plan : what the solve may do with the lens. size : of the
    picture, pixels.
    """

    measured: TrackSet
    tracks: TrackSet
    frames: np.ndarray
    recipe: Recipe
    plan: LensPlan
    size: tuple[int, int]

    def problem(self) -> Problem:
        """Return the problem with nothing solved yet."""
        return make_problem(self.tracks, self.frames, self.plan.start, self.tracks.in_state(ACTIVE))


@dataclass(frozen=True)
class Solved:
    """A shot with its camera adjusted, before it is judged.

    Attributes
    ----------
    problem : all of it solved; only the tracks that agree are active. freedom : what of the lens was free in the end.
    dropped : (T,) bool, tracks that are outliers as a whole. twin : by how much the solve with depth reversed is worse.
    motion : how the camera moves. rivals : the explanations that were compared.
    """

    problem: Problem
    freedom: Freedom
    dropped: np.ndarray
    twin: float = np.inf
    motion: str = FREE
    rivals: tuple[Rival, ...] = ()

    def final_bundle(self) -> tuple[Bundle, Rows]:
        """Return the bundle of all that counts, all cameras free, and its rows."""
        problem = self.problem
        return problem.bundle(problem.solved, problem.active, problem.solved, self.freedom, FINAL_SCALE)


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
    The camera with its points and errors, in a world whose scale and datum are arbitrary.

    Raises
    ------
    SolveError : a locked-off camera, too few tracks, or a shot that breaks in the middle.
    """
    asked = ask(tracks, frames, width, height, recipe)
    solved = solve_shot(asked, span(progress, 0.0, 0.95))
    progress(0.96, "Trying the lens on check tracks")
    bundle, _ = solved.final_bundle()
    return conclude(asked, solved, uncertainty(bundle))


def ask(tracks: TrackSet, frames: np.ndarray, width: int, height: int, recipe: Recipe) -> Asked:
    """Return a shot to solve: samples outside its frames left away, check tracks chosen; arguments as for
    `solve_tracks`.

    Parameters
    ----------
    tracks, frames, width, height, recipe : as for `solve_tracks`.
    """
    if recipe.motion not in MOTIONS:
        raise SolveError(f"There is no camera motion “{recipe.motion}”.", f"Choose {', '.join(MOTIONS)}.")
    if recipe.zoom and recipe.motion not in (AUTO, FREE):
        raise SolveError("A zoom is solved with a free camera only.", "Ask for a free camera, or for no zoom.")
    measured = tracks.on_frames(frames)
    if CHECK not in measured.states:
        checks = choose_checks(measured, width, height, recipe.check_share, np.random.default_rng(recipe.seed))
        measured = replace(measured, states=[CHECK if c else s for c, s in zip(checks, measured.states)])
    active = int(measured.in_state(ACTIVE).sum())
    if active < LEAST_TRACKS:
        raise SolveError(f"Only {active} tracks are active.", "A solve needs eight at the least, better fifty.")
    straight = straightened(measured, recipe.held_lens) if recipe.held_lens else measured
    return Asked(measured, straight, frames, recipe, recipe.plan(width, height), (width, height))


def solve_shot(asked: Asked, progress: Progress) -> Solved:
    """Solve a shot, all but how sure it is: the explanation asked for, or the best one."""
    motion = asked.recipe.motion
    if motion == FREE or asked.recipe.zoom:
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
    progress(0.5, "Comparing it with a camera that moves")
    everyone = asked.problem().active
    let_go = released(turned[-1].problem)
    settle(let_go, asked.plan.free, 20)
    candidates = [*turned, _finish(let_go, asked.plan.free, asked.plan.later, span(progress, 0.5, 0.8))]
    rivals = compare(candidates, everyone)
    best = candidates[int(np.argmin([rival.score for rival in rivals]))]
    if best.motion == FREE:
        best = _free(asked, span(progress, 0.8, 1.0))
    return replace(best, rivals=tuple(rivals))


def _turning(asked: Asked, progress: Progress) -> list[Solved]:
    """Return the shot solved as a camera that only turns, and as one that swings; neither where the motion is to be
    found and rotation explains too little.
    """
    plan = asked.plan
    most = EXPLAINS if asked.recipe.motion == AUTO else np.inf
    turned = turning(asked.problem(), plan, asked.size[0], span(progress, 0.0, 0.5), most)
    if turned is None:
        return []
    nodal = replace(_finish(turned, plan.free, plan.later, span(progress, 0.5, 0.7)), motion=NODAL)
    if asked.recipe.motion == NODAL:
        return [nodal]
    swung, freedom = swinging(turned, plan.free)
    try:
        swing = replace(_finish(swung, freedom, plan.later, span(progress, 0.7, 1.0)), motion=SWING)
    except SolveError:
        return [nodal]
    return [nodal, swing]


def _free(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved as a camera that moves freely."""
    plan, width = asked.plan, asked.size[0]
    if asked.recipe.zoom:
        freedom = zooming(plan)
        problem = _zooming(asked.problem(), plan, freedom, width, span(progress, 0.0, 0.75))
    else:
        freedom = plan.free
        problem = _best_start(asked.problem(), plan, width, span(progress, 0.0, 0.4))
        grow(problem, freedom, span(progress, 0.4, 0.7))
    progress(0.72, "Trying it with depth reversed")
    problem, twin = better_of_twins(problem, freedom)
    return replace(_finish(problem, freedom, plan.later, span(progress, 0.75, 1.0)), twin=twin)


def conclude(asked: Asked, solved: Solved, sure: Uncertainty) -> Solution:
    """Return the solution of a solved shot: every track judged, its lens tested on held-out tracks.

    Parameters
    ----------
    asked : the shot as it was asked for. solved : its camera, adjusted. sure : how sure that is.
    """
    problem, measured = solved.problem, asked.measured
    bundle, rows = solved.final_bundle()
    report = lens_report(problem.lens, sure, asked.recipe.held_lens)
    report = report.tested(held_out(problem, solved.freedom, sure, measured.in_state(CHECK)))
    if solved.twin < ALIKE * sure.noise_factor**2:
        report = report.noted(Reason(reasons.DEPTH_REVERSED))
    counted = np.zeros(len(measured.frames), bool)
    counted[rows.observations] = True
    return make_solution(
        problem, measured, solved.dropped, counted, sure, report, asked.recipe, asked.size, tuple(bundle.figures()),
        solved.motion, solved.rivals,
    )  # fmt: skip


def _zooming(problem: Problem, plan: LensPlan, freedom: Freedom, width: int, progress: Progress) -> Problem:
    """Return the best of several zooming solves, each begun at a focal length of its own.

    A start of constant focal length misleads where it changes, so the choice is made once the whole shot is grown.
    """
    basis = zoom_basis(len(problem.frames))
    tried = 0.5 * width / np.tan(ZOOM_FIELDS / 2.0) if plan.search else np.array([plan.start.focal])
    best, least, failure = None, np.inf, SolveError("No focal length gives a start.")
    for k, focal in enumerate(tried):
        own = span(progress, k / len(tried), (k + 1) / len(tried))
        held = Freedom(plan.free.without("focal").lens)
        start = replace(plan, start=plan.start.with_value("focal", focal), free=held, search=False)
        trial = problem.copied()
        trial.lens = start.start
        try:
            trial = _best_start(trial, start, width, span(own, 0.0, 0.5))
            trial.zoom_basis, trial.zoom = basis, np.zeros(basis.shape[1])
            grow(trial, freedom, span(own, 0.5, 1.0))
        except SolveError as error:
            failure = error
            continue
        settle(trial, freedom, 25)
        cost = _merit(trial)
        if cost < least:
            best, least = trial, cost
    if best is None:
        raise failure
    return best


def _best_start(problem: Problem, plan: LensPlan, width: int, progress: Progress) -> Problem:
    """Return the best of several starts, each extended over the frames of its pair with the lens free."""
    around = ABOUT if "focal" in plan.free.lens else np.ones(1)
    focals = 0.5 * width / np.tan(FIELDS_OF_VIEW / 2.0) if plan.search else plan.start.focal * around
    candidates = []
    pairs = find_pairs(problem)
    for k, pair in enumerate(pairs):
        progress(k / len(pairs), f"Trying frames {problem.frames[pair.a]} and {problem.frames[pair.b]} as a start")
        candidates += [(start, pair) for start in _distinct(sweep(problem, pair, focals, plan.search))]
    if not candidates and len(around) == 1 and not plan.search:
        for pair in pairs:
            for start in _distinct(sweep(problem, pair, plan.start.focal * ABOUT, True)):
                start.problem.lens = start.problem.lens.with_value("focal", plan.start.focal)
                candidates.append((start, pair))
    if not candidates:
        raise SolveError(
            "No two frames give a start.", "More tracks that last longer would help, or a known focal length."
        )
    candidates.sort(key=lambda c: c[0].cost)
    best, best_cost = candidates[0][0].problem, np.inf
    for start, pair in candidates[:3]:
        trial = start.problem
        fill_between(trial, pair.a, pair.b)
        settle(trial, plan.free, 10)
        cost = _merit(trial)
        if cost < best_cost:
            best, best_cost = trial, cost
    return best


def _distinct(starts: list, most: int = 2) -> list:
    """Keep the best starts whose focal lengths differ by more than a tenth."""
    kept: list = []
    for start in starts:
        if all(abs(np.log(start.problem.lens.focal / k.problem.lens.focal)) > 0.1 for k in kept):
            kept.append(start)
    return kept[:most]


def _merit(problem: Problem) -> float:
    """Return a bounded mean cost over the tracks of the solved frames; lower is better."""
    return float(np.mean(np.minimum(problem.whitened(problem.active)[0], MOST_WHITENED) ** 2))


def _finish(problem: Problem, freedom: Freedom, later: tuple[str, ...], progress: Progress) -> Solved:
    """Adjust all, outliers judged by their residuals after each round; further coefficients are tried on the way."""
    problem = problem.copied()
    everyone = problem.active.copy()
    dropped = np.zeros(len(problem.rhos), bool)
    for cycle, scale in enumerate(CYCLE_SCALES):
        progress(cycle / len(CYCLE_SCALES), "Adjusting cameras, points and lens")
        problem.active = everyone & ~dropped
        settle(problem, freedom, 30 if cycle else 20, scale)
        if cycle == 1:
            problem, freedom = _more_lens(problem, freedom, later, scale)
        problem, dropped = find_outliers(problem, everyone)
        if (everyone & ~dropped).sum() < LEAST_TRACKS:
            raise SolveError(
                "Fewer than eight tracks agree with any one camera.", "Mask what moves, or follow more features."
            )
    problem.active = everyone & ~dropped
    bundle, rows = problem.bundle(problem.solved, problem.active, problem.all_but_first, freedom, FINAL_SCALE)
    problem.update(adjust(bundle, 40, 1e-8).bundle, rows)
    return Solved(problem, freedom, dropped)


def _more_lens(problem: Problem, freedom: Freedom, later: tuple[str, ...], scale: float) -> tuple[Problem, Freedom]:
    """Free further coefficients while the shot determines them clearly; return the problem and what is free then."""
    for name in later:
        trial, wider = problem.copied(), freedom.with_value(name)
        settle(trial, wider, 20, scale)
        bundle, _ = Solved(trial, wider, ~trial.active).final_bundle()
        if abs(trial.lens.value(name)) < CLEARLY * uncertainty(bundle).sigma(name):
            break
        problem, freedom = trial, wider
    return problem, freedom
