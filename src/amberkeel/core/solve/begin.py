"""Where a solve of a moving camera begins: pairs of frames and focal lengths tried, and the best of them extended."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.grow import fill_between, grow, settle
from amberkeel.core.solve.lens_plan import Freedom, LensPlan, zoom_basis
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.side_by_side import side_by_side
from amberkeel.core.solve.start import FIELDS_OF_VIEW, MOST_PARALLAX_PX, Pair, Start, find_pairs, sweep

ZOOM_FIELDS = np.radians(np.geomspace(80.0, 12.0, 6))
"""Horizontal fields of view from which a zoom is begun, radians."""

ABOUT = np.array([1.0, 0.85, 1.18])
"""Starts about a focal length that is known: with little parallax the right one alone may give no start."""

MOST_EXTENDED, EXTENDED_WITH = 3, 5000
"""Starts that are extended over the frames between their pair before the best one is chosen, and measurements of the
tracks that they are extended with, about.
"""

FIRST_PAIRS, MORE_PAIRS, MOST_OTHERS = 2, 6, 2
"""Pairs of frames tried as a start at first, and in all where the first ones explain too little; of the others, starts
that are grown.
"""

ALIKE = 1.25
"""Mean cost over the least one up to which starts fit alike."""

MOST_WHITENED = 20.0
"""Whitened residual to which each measurement counts when starts are compared."""


def zooming_start(problem: Problem, plan: LensPlan, freedom: Freedom, width: int, progress: Progress) -> Problem:
    """Return the best of several zooming solves, each begun at a focal length of its own.

    A start of constant focal length misleads where it changes, so the choice is made once the whole shot is grown.

    Parameters
    ----------
    problem : with nothing solved. plan : what the solve may do with the lens. freedom : the same with the zoom.
    width : of the picture, pixels.

    Raises
    ------
    SolveError : no start was found.
    """
    basis = zoom_basis(len(problem.frames))
    tried = 0.5 * width / np.tan(ZOOM_FIELDS / 2.0) if plan.search else np.array([plan.start.focal])
    best, least, failure = None, np.inf, SolveError("No focal length gives a start.")
    pairs = find_pairs(problem, FIRST_PAIRS)
    for k, focal in enumerate(tried):
        own = span(progress, k / len(tried), (k + 1) / len(tried))
        held = Freedom(plan.free.without("focal").lens)
        start = replace(plan, start=plan.start.with_value("focal", focal), free=held, search=False)
        trial = problem.copied()
        trial.lens = start.start
        try:
            trial, _ = best_start(trial, start, width, pairs, span(own, 0.0, 0.5))
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


def best_start(
    problem: Problem, plan: LensPlan, width: int, pairs: list[Pair], progress: Progress
) -> tuple[Problem, Pair]:
    """Return the best of several starts, each extended over the frames of its pair with the lens free, and its pair.

    Parameters
    ----------
    problem : with nothing solved. plan : what the solve may do with the lens. width : of the picture, pixels.
    pairs : of frames, to begin with.

    Raises
    ------
    SolveError : no start was found.
    """
    candidates = _starts(problem, plan, width, pairs, progress)[:MOST_EXTENDED]
    extended = _extended(candidates, plan.free)
    merits = np.array([np.nan_to_num(_merit(part), nan=np.inf) for part, _ in extended])
    # A start over few frames fits well by itself: among those that fit alike the one with most parallax is taken.
    alike = np.nonzero(merits <= ALIKE * merits.min())[0]
    best = int(max(alike, key=lambda k: (min(candidates[k][1].parallax, MOST_PARALLAX_PX), -merits[k])))
    start, pair = candidates[best]
    return start.problem.with_part(*extended[best]), pair


def other_starts(
    problem: Problem, plan: LensPlan, width: int, pairs: list[Pair], progress: Progress
) -> list[tuple[Problem, Pair]]:
    """Return starts from pairs of frames with their pairs, each extended over its frames, best first; none where none
    gives a start.

    Parameters
    ----------
    problem : with nothing solved. plan : what the solve may do with the lens. width : of the picture, pixels.
    pairs : of frames, to begin with.
    """
    try:
        candidates = _starts(problem, plan, width, pairs, progress)
    except SolveError:
        return []
    chosen: list[tuple[Start, Pair]] = []
    for start, pair in candidates:
        if len(chosen) < MOST_OTHERS and all(pair.a != other.a for _, other in chosen):
            chosen.append((start, pair))
    extended = _extended(chosen, plan.free)
    return [(start.problem.with_part(*part), pair) for (start, pair), part in zip(chosen, extended)]


def _extended(starts: list[tuple[Start, Pair]], freedom: Freedom) -> list[tuple[Problem, np.ndarray]]:
    """Return starts extended over the frames between their pair, each as a part of its problem with the part's rows."""
    parts = [_part(start.problem, pair) for start, pair in starts]

    def extend(one: tuple[Problem, Pair]) -> None:
        part, pair = one
        fill_between(part, pair.a, pair.b)
        settle(part, freedom, 10)

    most = max((len(part.camera) for part, _ in parts), default=0)
    side_by_side(extend, [(part, pair) for (part, _), (_, pair) in zip(parts, starts)], most)
    return parts


def _part(problem: Problem, pair: Pair) -> tuple[Problem, np.ndarray]:
    """Return a start with some of its tracks alone, and their rows: those that it was made with, and as many others
    seen between its frames as there is room for.
    """
    between = (problem.camera >= pair.a) & (problem.camera <= pair.b)
    seen = np.bincount(problem.track[between], minlength=len(problem.rhos))
    others = np.nonzero(problem.active & ~problem.triangulated & (seen >= 2))[0]
    lengths = np.diff(problem.first)
    room = EXTENDED_WITH - int(lengths[problem.triangulated].sum())
    step = max(1, -(-int(lengths[others].sum()) // max(room, 1)))
    rows = np.union1d(np.nonzero(problem.triangulated)[0], others[::step])
    return problem.of_tracks(rows), rows


def _starts(problem: Problem, plan: LensPlan, width: int, pairs: list[Pair], progress: Progress) -> list:
    """Return starts from pairs of frames, each with its pair, best first."""
    around = ABOUT if "focal" in plan.free.lens else np.ones(1)
    focals = 0.5 * width / np.tan(FIELDS_OF_VIEW / 2.0) if plan.search else plan.start.focal * around
    candidates = []
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
    return sorted(candidates, key=lambda c: c[0].cost)


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
