"""From tracks to a solved camera."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve.bundle import adjust
from amberkeel.core.solve.checks import choose_checks
from amberkeel.core.solve.grow import fill_between, grow, settle
from amberkeel.core.solve.held_lens import straightened
from amberkeel.core.solve.held_out import held_out
from amberkeel.core.solve.judge import FINAL_SCALE, set_aside
from amberkeel.core.solve.lens_terms import ZOOM_BEND, LensPlan, LensPriors, LensTerm, zoom_basis
from amberkeel.core.solve.problem import Problem, make_problem
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.reversal import ALIKE, other_way_round
from amberkeel.core.solve.solution import Solution, Spread, make_solution
from amberkeel.core.solve.start import FIELDS_OF_VIEW, Start, find_pairs, sweep
from amberkeel.core.solve.uncertainty import covariance, noise_factor
from amberkeel.core.tracks import ACTIVE, CHECK, TrackSet

ZOOM_FIELDS = np.radians(np.geomspace(80.0, 12.0, 6))
"""Horizontal fields of view from which a zoom is begun, radians."""

ABOUT = np.array([1.0, 0.85, 1.18])
"""Starts about a focal length that is known: with little parallax the right one alone may give no start."""

CLEARLY = 4.0
"""Sigmas by which a further coefficient must differ from 0 to be taken up."""


@dataclass
class Take:
    """A shot on its way to a solution.

    Attributes
    ----------
    problem : its cameras, points and measurements, straightened where a lens is held. measured : tracks as given, with
    states : (T,) of them. plan : what the solve may do with the lens; free_lens : what of it is free in the end.
    dropped : (T,) bool, tracks set aside whole. twin : by how much the solve with depth reversed is worse.
    """

    problem: Problem
    measured: TrackSet
    states: list[str]
    plan: LensPlan
    recipe: Recipe
    size: tuple[int, int]
    free_lens: tuple[int, ...] = ()
    dropped: np.ndarray | None = None
    twin: float = np.inf

    @property
    def options(self) -> dict:
        """What every bundle of this take is given."""
        return {"priors": self.plan.priors}

    def solution(self, spread: Spread) -> Solution:
        """Return the finished solution."""
        sigmas = np.sqrt(np.diagonal(spread.covariance))[len(spread.covariance) - len(self.free_lens) :]
        trials = held_out(self.problem, self.free_lens, sigmas, spread.factor, self.options, np.array([s == CHECK for s in self.states]))
        found = make_solution(self.problem, self.measured, self.states, self.dropped, spread, self.recipe, self.size)
        report = found.lens_report.tried(trials)
        if self.twin < ALIKE * spread.factor**2:
            report.notes.append(
                "The shot does not tell near from far: with depth reversed and the camera moving the other way it fits as well. "
                "An anchored point, axis lines or a second shot would settle it."
            )
        return replace(found, lens_report=report)


def solve_tracks(
    tracks: TrackSet, frames: np.ndarray, width: int, height: int, recipe: Recipe = Recipe(), progress: Progress = silent
) -> Solution:
    """Solve a free camera with one focal length from tracks alone.

    Parameters
    ----------
    tracks : measurements; excluded tracks are left out, check tracks are only judged. If no track is marked as check,
        a share of them is withheld.
    frames : (F,) frame numbers to solve, rising. width, height : plate size in pixels.

    Raises
    ------
    SolveError : a locked-off or nodal camera, too few tracks, or a shot that breaks in the middle.
    """
    take = begin_take(tracks, frames, width, height, recipe)
    solve_take(take, span(progress, 0.0, 0.95))
    progress(0.96, "Trying the lens on check tracks")
    return take.solution(spread_of(take.problem, take.free_lens, take.options))


def begin_take(tracks: TrackSet, frames: np.ndarray, width: int, height: int, recipe: Recipe) -> Take:
    """Return a shot with nothing solved yet; arguments and errors as for `solve_tracks`."""
    if recipe.motion == "nodal":
        raise SolveError("Nodal solves are not available yet.", "Ask for a free or automatic camera.")
    measured = _inside(tracks, frames)
    tracks = straightened(measured, recipe.held_lens) if recipe.held_lens else measured
    states = list(tracks.states)
    if CHECK not in states:
        checks = choose_checks(measured, width, height, recipe.check_share, np.random.default_rng(recipe.seed))
        states = [CHECK if c else s for c, s in zip(checks, states)]
    used = np.array([s == ACTIVE for s in states], bool)
    if used.sum() < 8:
        raise SolveError(f"Only {int(used.sum())} tracks are active.", "A solve needs eight at the least, better fifty.")
    plan = recipe.plan(width, height)
    return Take(make_problem(tracks, frames, plan.start, used), measured, states, plan, recipe, (width, height))


def solve_take(take: Take, progress: Progress) -> None:
    """Solve a shot, all but how sure it is."""
    plan, width = take.plan, take.size[0]
    if take.recipe.zoom:
        take.problem, free_lens = _zooming(take.problem, plan, width, take.options, span(progress, 0.0, 0.75))
    else:
        take.problem, free_lens = _best_start(take.problem, plan, width, take.options, span(progress, 0.0, 0.4)), plan.free
        grow(take.problem, free_lens, take.options, span(progress, 0.4, 0.7))
    progress(0.72, "Seeing it the other way round")
    take.problem, take.twin = other_way_round(take.problem, free_lens, take.options)
    take.dropped, take.free_lens = _finish(take.problem, free_lens, plan.later, take.options, span(progress, 0.75, 1.0))


def _zooming(problem: Problem, plan: LensPlan, width: int, options, progress: Progress) -> tuple[Problem, tuple[int, ...]]:
    """Return the best of several zooming solves, each begun at a focal length of its own, and what of the lens is free.

    A start of constant focal length misleads where it changes, so the choice is made once the whole shot is grown.
    """
    priors = plan.priors
    basis = zoom_basis(len(problem.frames))
    priors.zoom, priors.bend = basis.shape[1], 1.0 / ZOOM_BEND
    free = plan.free + tuple(6 + k for k in range(priors.zoom))
    tried, best, least, failure = 0.5 * width / np.tan(ZOOM_FIELDS / 2.0) if plan.search else plan.start[:1], None, np.inf, None
    for k, focal in enumerate(tried):
        own = span(progress, k / len(tried), (k + 1) / len(tried))
        start = replace(plan, start=np.array([focal, *plan.start[1:]]), free=tuple(q for q in plan.free if q), search=False)
        try:
            trial = _best_start(problem.copied(), start, width, {"priors": LensPriors()}, span(own, 0.0, 0.5))
            trial.basis, trial.zoom = basis, np.zeros(priors.zoom)
            grow(trial, free, options, span(own, 0.5, 1.0))
        except SolveError as error:
            failure = error
            continue
        settle(trial, free, options, 25)
        cost = _merit(trial)
        if cost < least:
            best, least = trial, cost
    if best is None:
        raise failure
    return best, free


def _inside(tracks: TrackSet, frames: np.ndarray) -> TrackSet:
    """Drop samples outside the frames asked for."""
    keep = np.isin(tracks.frames, frames)
    if keep.all():
        return tracks
    counts = np.bincount(tracks.track_of_sample[keep], minlength=len(tracks))
    first = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return TrackSet(
        tracks.names, first, tracks.frames[keep], tracks.xy[keep], tracks.sigma[keep], tracks.score[keep],
        tracks.kinds, tracks.states,
    )  # fmt: skip


def _best_start(problem: Problem, plan: LensPlan, width: int, options, progress: Progress) -> Problem:
    """Return the best of several starts, each extended over the frames of its pair with the lens free."""
    around = ABOUT if 0 in plan.free else np.ones(1)
    focals = 0.5 * width / np.tan(FIELDS_OF_VIEW / 2.0) if plan.search else plan.start[0] * around
    candidates = []
    pairs = find_pairs(problem)
    for k, pair in enumerate(pairs):
        progress(k / len(pairs), f"Trying frames {problem.frames[pair.a]} and {problem.frames[pair.b]} as a start")
        found = sweep(problem, pair, focals, plan.search)
        candidates += [(start, pair) for start in _distinct(found)]
    if not candidates and len(around) == 1 and not plan.search:
        for pair in pairs:
            found = sweep(problem, pair, plan.start[0] * ABOUT, True)
            candidates += [(_at_focal(start, plan), pair) for start in _distinct(found)]
    if not candidates:
        raise SolveError("No two frames give a start.", "More tracks that last longer would help, or a known focal length.")
    candidates.sort(key=lambda c: c[0].cost)
    best, best_cost = None, np.inf
    for start, pair in candidates[:3]:
        trial = start.problem
        fill_between(trial, pair.a, pair.b)
        settle(trial, plan.free, options, 10)
        cost = _merit(trial)
        if cost < best_cost:
            best, best_cost = trial, cost
    return best


def _at_focal(start: Start, plan: LensPlan) -> Start:
    """Return a start found about a fixed focal length, put at it: the adjustment that follows does the rest."""
    start.problem.lens[0] = plan.start[0]
    return start


def _distinct(starts: list, most: int = 2) -> list:
    """Keep the best starts whose focal lengths differ by more than a tenth."""
    kept: list = []
    for start in starts:
        if all(abs(np.log(start.problem.lens[0] / k.problem.lens[0])) > 0.1 for k in kept):
            kept.append(start)
    return kept[:most]


def _merit(problem: Problem) -> float:
    """Return a bounded mean cost over the tracks of the solved frames; lower is better."""
    bundle, _ = problem.whole(problem.used)
    whitened = np.linalg.norm(bundle.residuals(), axis=1) * bundle.weight
    return float(np.mean(np.minimum(whitened, 20.0) ** 2))


def _finish(problem: Problem, free_lens, later, options, progress: Progress) -> tuple[np.ndarray, tuple[int, ...]]:
    """Adjust all with measurements and tracks set aside by their residuals; return the dropped tracks (P,) bool and what
    of the lens was free in the end."""
    dropped = np.zeros(len(problem.rhos), bool)
    everyone = problem.used.copy()
    for cycle, scale in enumerate((4.0, 3.0, 2.5, 2.5)):
        progress(cycle / 4, "Adjusting cameras, points and lens")
        problem.used = everyone & ~dropped
        settle(problem, free_lens, options, 30 if cycle else 20, scale)
        if cycle == 1:
            free_lens = _more_lens(problem, free_lens, later, options, scale)
        dropped = set_aside(problem, everyone)
        if (everyone & ~dropped).sum() < 8:
            raise SolveError("Fewer than eight tracks agree with any one camera.", "Mask what moves, or follow more features.")
    problem.used = everyone & ~dropped
    first = int(np.nonzero(problem.solved)[0][0])
    free = problem.solved.copy()
    free[first] = False
    bundle, rows = problem.bundle(problem.solved, problem.used, free, free_lens=free_lens, loss_scale=FINAL_SCALE, **options)
    adjust(bundle, 40, 1e-8)
    problem.take(bundle, rows)
    return dropped, free_lens


def _more_lens(problem: Problem, free_lens, later, options, scale: float) -> tuple[int, ...]:
    """Free further coefficients where the shot tells them clearly; return what is free then."""
    for q in later:
        kept = problem.lens.copy()
        trial = tuple(sorted((*free_lens, q)))
        settle(problem, trial, options, 20, scale)
        spread = spread_of(problem, trial, options).covariance
        sigma = np.sqrt(np.diagonal(spread))[len(spread) - len(trial) + trial.index(q)]
        if abs(problem.lens[3 + q]) < CLEARLY * sigma:
            problem.lens = kept
            settle(problem, free_lens, options, 10, scale)
            break
        free_lens = trial
    return free_lens


def spread_of(problem: Problem, free_lens: tuple[int, ...], options: dict) -> Spread:
    """Return how sure an adjusted problem is."""
    final, rows = problem.bundle(
        problem.solved, problem.used, problem.solved.copy(), free_lens=free_lens, loss_scale=FINAL_SCALE, **options
    )
    factor = noise_factor(final.residuals(), final.weight, final.first, int(problem.solved.sum()), len(free_lens))
    return Spread(covariance(final, factor), final, rows, free_lens, factor)


__all__ = ["LensTerm", "Recipe", "Solution", "begin_take", "solve_take", "solve_tracks", "spread_of"]
