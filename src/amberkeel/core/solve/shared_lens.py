"""Several shots that were filmed through one lens, adjusted together: cameras and points of their own, one lens for
all.

Each is solved alone first; the one that determines the focal length best leads, and the others begin again where it
ended, since a shot that hardly determines its focal length may have settled elsewhere.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve import reasons
from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.joint import MOST_BUNDLES, joined, parted
from amberkeel.core.solve.lens_plan import SOFT, Freedom, LensChoice
from amberkeel.core.solve.outliers import FINAL_SCALE, find_outliers
from amberkeel.core.solve.radial_lens import LENS_NAMES, RADIAL_NAMES
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.shot import Asked, Solved
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import Early, ask, conclude, solve_shot, solve_tracks
from amberkeel.core.solve.terms import SoftLens, Term
from amberkeel.core.solve.uncertainty import Uncertainty, part_of, uncertainties
from amberkeel.core.tracks import TrackSet

LEADING = 0.01
"""Least relative sigma at which a leading shot's focal length is given to the others as their start."""

DISAGREE = 4.0
"""Sigmas by which a shot's own focal length may differ from the one found together."""

LEAST_K1, LED_SHARE = 0.05, 0.1
"""Least k1 taken for the scale of the leading shot's coefficients, and one sigma of each as a share of that scale."""

CYCLES = (3.0, FINAL_SCALE, FINAL_SCALE)
"""Cauchy scales of the rounds of adjusting together and judging outliers."""


@dataclass(frozen=True)
class SharedShot:
    """One of the shots: its name, tracks, frames (F,), picture size in pixels, and what it is asked to do."""

    name: str
    tracks: TrackSet
    frames: np.ndarray
    width: int
    height: int
    recipe: Recipe = Recipe()


def solve_shots(shots: Sequence[SharedShot], progress: Progress = silent, early: Early | None = None) -> list[Solution]:
    """Return a solution of each shot: one by itself, several with one lens for all; errors as of those two.

    Parameters
    ----------
    shots : as they are asked for. progress : called with the share done. early : of a single one, see `solve_tracks`.
    """
    if len(shots) != 1:
        return solve_together(shots, progress)
    (one,) = shots
    return [solve_tracks(one.tracks, one.frames, one.width, one.height, one.recipe, progress, early)]


def solve_together(shots: Sequence[SharedShot], progress: Progress = silent) -> list[Solution]:
    """Return a solution of each shot, with one lens for all.

    Raises
    ------
    SolveError : fewer than two or too many shots, pictures of different sizes, zooms, different held lenses, and what a
        single solve refuses; the message then names the shot.
    """
    _check(shots)
    names, count = [shot.name for shot in shots], len(shots)
    asked = [_asked(shot, shot.recipe) for shot in shots]
    solved = [
        _alone(n, a, span(progress, 0.6 * k / count, 0.6 * (k + 1) / count))
        for k, (n, a) in enumerate(zip(names, asked))
    ]
    sigmas = [_focal_sigma(one) for one in solved]
    alone = [one.problem.lens.focal for one in solved]
    lead = int(np.argmin(sigmas))
    for k, shot in enumerate(shots):
        if k != lead:
            own = span(progress, 0.6 + 0.2 * k / count, 0.6 + 0.2 * (k + 1) / count)
            own(0.0, f"{shot.name} begins where {shots[lead].name} ended")
            solved[k] = _alone(shot.name, _asked(shot, _led(shot.recipe, solved[lead], sigmas[lead])), own)
    freedom = Freedom(_free_together(asked, solved), _terms_together(asked))
    solved = _adjust_together(asked, solved, lead, freedom, span(progress, 0.8, 0.97))
    found = []
    for k, (one, sure) in enumerate(zip(solved, _uncertainties(solved, freedom))):
        recipe = replace(asked[k].recipe, shared_with=tuple(names[:k] + names[k + 1 :]))
        found.append(conclude(replace(asked[k], recipe=recipe), one, sure))
    notes = _disagreements(names, alone, sigmas, solved[0].problem.lens.focal)
    return [replace(one, lens_report=one.lens_report.noted(*notes)) for one in found]


def _disagreements(names: list[str], alone: list[float], sigmas: list[float], together: float) -> list[Reason]:
    """Return which shots have another focal length (pixels, relative sigmas) when they are solved alone."""
    return [
        Reason(reasons.OTHER_FOCAL, (name,), {"alone_px": own, "sigma_px": own * sigma, "together_px": together})
        for name, own, sigma in zip(names, alone, sigmas)
        if sigma > 0.0 and abs(np.log(own / together)) > DISAGREE * sigma
    ]


def _check(shots: Sequence[SharedShot]) -> None:
    if len(shots) < 2:
        raise SolveError("One shot shares its lens with nobody.", "Choose a second one.")
    if len(shots) > MOST_BUNDLES:
        raise SolveError(f"{len(shots)} shots are too many to adjust at once.", f"Choose {MOST_BUNDLES} at the most.")
    first = shots[0]
    for shot in shots[1:]:
        if (shot.width, shot.height) != (first.width, first.height):
            raise SolveError(
                f"{shot.name} is {shot.width}x{shot.height}, {first.name} is {first.width}x{first.height}: "
                "pixels mean different things.",
                "Bring both plates in at one size.",
            )
        if shot.recipe.held_lens != first.recipe.held_lens:
            raise SolveError(
                f"{shot.name} and {first.name} hold different lens profiles.", "Let both hold the same one, or none."
            )
    if any(shot.recipe.zoom for shot in shots):
        raise SolveError("A zoom has no one lens to share.", "Solve it alone.")


def _asked(shot: SharedShot, recipe: Recipe) -> Asked:
    try:
        return ask(shot.tracks, shot.frames, shot.width, shot.height, recipe)
    except SolveError as error:
        raise SolveError(f"{shot.name} does not solve. {error}") from error


def _alone(name: str, asked: Asked, progress: Progress) -> Solved:
    try:
        return solve_shot(asked, lambda share, doing: progress(share, f"{name}: {doing}"))
    except SolveError as error:
        raise SolveError(f"{name} does not solve. {error}") from error


def _focal_sigma(solved: Solved) -> float:
    """Return the relative sigma of the focal length, 0 where it was fixed."""
    return solved.uncertainty().sigma("focal")


def _led(recipe: Recipe, lead: Solved, sigma: float) -> Recipe:
    """Return a recipe held softly about the leading shot's lens, whose focal length has the relative `sigma`."""
    lens = lead.problem.lens
    choices = dict(recipe.lens) | {"focal": LensChoice(SOFT, lens.focal, max(sigma, LEADING) * lens.focal)}
    if recipe.held_lens is None:
        reach = LED_SHARE * max(abs(lens.k1), LEAST_K1)
        free = [name for name in RADIAL_NAMES if name in lead.freedom.lens]
        choices |= {name: LensChoice(SOFT, lens.value(name), reach) for name in free}
    return replace(recipe, lens=choices, focal_px=None)


def _free_together(asked: list[Asked], solved: list[Solved]) -> tuple[str, ...]:
    """Return what of the lens is free: what all leave free from the start, and what any freed later."""
    plans = [one.plan for one in asked]
    always = set.intersection(*(set(plan.free.lens) for plan in plans))
    fixed = set().union(*(set(LENS_NAMES) - set(plan.free.lens) - set(plan.later) for plan in plans))
    later = set().union(*(set(one.freedom.lens) & set(plan.later) for one, plan in zip(solved, plans)))
    return tuple(name for name in LENS_NAMES if name in (always | later) - fixed)


def _terms_together(asked: list[Asked]) -> tuple[Term, ...]:
    """Return what is known of the one lens: what several shots say alike counts once, different values each for
    itself.
    """
    terms: list[Term] = []
    for one in asked:
        terms += [term for term in one.plan.free.terms if term not in terms]
    weak = [term for term in terms if isinstance(term, SoftLens) and not term.shown]
    stated = {term.value for term in terms if isinstance(term, SoftLens) and term.shown}
    return tuple(term for term in terms if term not in weak or term.value not in stated)


def _adjust_together(
    asked: list[Asked], solved: list[Solved], lead: int, freedom: Freedom, progress: Progress
) -> list[Solved]:
    """Return all shots adjusted with their one lens, begun with that of `lead`, outliers judged anew."""
    problems = [one.problem.copied() for one in solved]
    dropped = [one.dropped for one in solved]
    everyone = [problem.active | drop for problem, drop in zip(problems, dropped)]
    for problem in problems:
        problem.lens = solved[lead].problem.lens
    for cycle, scale in enumerate(CYCLES):
        progress(cycle / len(CYCLES), "Adjusting the shots together")
        cut = []
        for problem, all_of_it, drop in zip(problems, everyone, dropped):
            problem.active = all_of_it & ~drop
            problem.triangulate(problem.active, scale)
            cut.append(problem.bundle(problem.solved, problem.active, problem.all_but_first, freedom, scale))
        last = cycle == len(CYCLES) - 1
        joint = joined([bundle for bundle, _ in cut], share_lens=True)
        parts = parted(adjust(joint, 40, 1e-8 if last else 1e-5).bundle, [bundle for bundle, _ in cut])
        for k, (part, (_, rows)) in enumerate(zip(parts, cut)):
            problems[k].update(part, rows)
            if not last:
                problems[k], dropped[k] = find_outliers(problems[k], everyone[k])
    return [replace(one, problem=p, freedom=freedom, dropped=d) for one, p, d in zip(solved, problems, dropped)]


def _uncertainties(solved: list[Solved], freedom: Freedom) -> list[Uncertainty]:
    """Return how sure each shot is, with what the other shots say of the lens."""
    bundles = [one.final_bundle()[0] for one in solved]
    parts = [part_of(bundle, one.stated_weights()) for one, bundle in zip(solved, bundles)]
    return uncertainties(joined(bundles, share_lens=True), parts)
