"""Several shots that were filmed through one lens, adjusted together: cameras and points of their own, one lens for all.

Each is solved alone first; the one that tells the focal length best leads, and the others begin again where it ended, since
a shot that hardly tells its focal length may have settled elsewhere. Covariances: the shots touch through the lens alone, so
each shot's cameras are eliminated by themselves (a Schur complement on the lens; Triggs et al. 1999, section 6).
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.linear import scaled_inverse
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve.bundle import Bundle, adjust
from amberkeel.core.solve.judge import FINAL_SCALE, set_aside
from amberkeel.core.solve.lens_terms import LENS_NAMES, SOFT, LensPriors, LensTerm
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solution import Solution, Spread
from amberkeel.core.solve.solve import Take, begin_take, solve_take, spread_of
from amberkeel.core.solve.uncertainty import gauge_rows, noise_factor, reduced_system
from amberkeel.core.tracks import TrackSet

MOST_SHOTS = 6
"""Shots adjusted at once: the camera system is dense."""

LEADING = 0.01
"""Least relative sigma at which a leading shot's focal length is given to the others as their start."""

DISAGREE = 4.0
"""Sigmas by which a shot's own focal length may differ from the one found together."""

CYCLES = (3.0, FINAL_SCALE, FINAL_SCALE)
"""Cauchy scales of the rounds of adjusting together and setting aside."""


@dataclass(frozen=True)
class SharedShot:
    """One of the shots: its name, tracks, frames (F,), picture size in pixels, and what it is asked to do."""

    name: str
    tracks: TrackSet
    frames: np.ndarray
    width: int
    height: int
    recipe: Recipe = Recipe()


def solve_together(shots: Sequence[SharedShot], progress: Progress = silent) -> list[Solution]:
    """Return a solution of each shot, with one lens for all.

    Raises SolveError for fewer than two, for pictures of different sizes, zooms, different held lenses, and what a single
    solve refuses; the message then names the shot.
    """
    _check(shots)
    takes, spreads = [], []
    for k, shot in enumerate(shots):
        take = _alone(shot, shot.recipe, span(progress, 0.6 * k / len(shots), 0.6 * (k + 1) / len(shots)))
        takes.append(take)
        spreads.append(spread_of(take.problem, take.free_lens, take.options))
    looseness = [_focal_sigma(spread) for spread in spreads]
    alone = [float(take.problem.lens[0]) for take in takes]
    lead = int(np.argmin(looseness))
    for k, shot in enumerate(shots):
        if k != lead:
            progress(0.6 + 0.2 * k / len(shots), f"{shot.name} begins where {shots[lead].name} ended")
            takes[k] = _alone(shot, _led(shot.recipe, takes[lead], looseness[lead]), span(progress, 0.6 + 0.2 * k / len(shots), 0.6 + 0.2 * (k + 1) / len(shots)))
            takes[k] = replace(takes[k], plan=shot.recipe.plan(shot.width, shot.height), recipe=shot.recipe)
    free_lens = _free_together(takes)
    priors = _priors_together([take.plan.priors for take in takes])
    lens = takes[lead].problem.lens
    for take in takes:
        take.problem.lens = lens.copy()
    _settle(takes, free_lens, priors, span(progress, 0.8, 0.97))
    names = [shot.name for shot in shots]
    for k, take in enumerate(takes):
        take.free_lens = free_lens
        take.recipe = replace(take.recipe, shared_with=tuple(names[:k] + names[k + 1 :]))
    solutions = [take.solution(spread) for take, spread in zip(takes, _spreads(takes, free_lens, priors))]
    for note in _disagreements(names, alone, looseness, float(takes[0].problem.lens[0])):
        for solution in solutions:
            solution.lens_report.notes.append(note)
    return solutions


def _disagreements(names: list[str], alone: list[float], looseness: list[float], focal_px: float) -> list[str]:
    """Say which shots tell another focal length when they are solved alone."""
    return [
        f"{name} alone tells a focal length of {own:.0f} ±{own * sigma:.0f} px, together it is {focal_px:.0f} px: was it really the same lens at the same focal length?"
        for name, own, sigma in zip(names, alone, looseness)
        if sigma > 0.0 and abs(np.log(own / focal_px)) > DISAGREE * sigma
    ]


def _check(shots: Sequence[SharedShot]) -> None:
    if len(shots) < 2:
        raise SolveError("One shot shares its lens with nobody.", "Choose a second one.")
    if len(shots) > MOST_SHOTS:
        raise SolveError(f"{len(shots)} shots are too many to adjust at once.", f"Choose {MOST_SHOTS} at the most.")
    first = shots[0]
    for shot in shots[1:]:
        if (shot.width, shot.height) != (first.width, first.height):
            raise SolveError(
                f"{shot.name} is {shot.width}x{shot.height}, {first.name} is {first.width}x{first.height}: pixels mean different things.",
                "Bring both plates in at one size.",
            )
        if shot.recipe.held_lens != first.recipe.held_lens:
            raise SolveError(f"{shot.name} and {first.name} hold different lens profiles.", "Let both hold the same one, or none.")
    if any(shot.recipe.zoom for shot in shots):
        raise SolveError("A zoom has no one lens to share.", "Solve it alone.")


def _alone(shot: SharedShot, recipe: Recipe, progress: Progress) -> Take:
    try:
        take = begin_take(shot.tracks, shot.frames, shot.width, shot.height, recipe)
        solve_take(take, lambda share, doing: progress(share, f"{shot.name}: {doing}"))
    except SolveError as error:
        raise SolveError(f"{shot.name} does not solve. {error}") from error
    return take


def _focal_sigma(spread: Spread) -> float:
    """Return the relative sigma of the focal length, 0 where it was fixed."""
    if 0 not in spread.free_lens:
        return 0.0
    at = len(spread.covariance) - len(spread.free_lens) + spread.free_lens.index(0)
    return float(np.sqrt(spread.covariance[at, at]))


def _led(recipe: Recipe, lead: Take, looseness: float) -> Recipe:
    """Return a recipe held softly about the leading shot's lens."""
    values = dict(zip(LENS_NAMES, [lead.problem.lens[0], *lead.problem.lens[4:7], *lead.problem.lens[2:4]]))
    terms = dict(recipe.terms) | {"focal": LensTerm(SOFT, float(values["focal"]), float(max(looseness, LEADING) * values["focal"]))}
    if recipe.held_lens is None:
        reach = max(abs(values["k1"]), 0.05)
        terms |= {name: LensTerm(SOFT, float(values[name]), 0.1 * reach) for k, name in ((1, "k1"), (2, "k2"), (3, "k3")) if k in lead.free_lens}
    return replace(recipe, terms=terms, focal_px=None)


def _free_together(takes: list[Take]) -> tuple[int, ...]:
    """Return what of the lens is free: what all leave free from the start, and what any took up later."""
    always = set.intersection(*(set(take.plan.free) for take in takes))
    fixed = set.union(*(set(range(len(LENS_NAMES))) - set(take.plan.free) - set(take.plan.later) for take in takes))
    later = set().union(*(set(take.free_lens) & set(take.plan.later) for take in takes))
    return tuple(sorted((always | later) - fixed))


def _priors_together(all_priors: list[LensPriors]) -> LensPriors:
    """Return soft values that say what all of them say: equal ones once, different ones weighed together."""
    mean, weight = all_priors[0].mean.copy(), all_priors[0].weight.copy()
    for priors in all_priors[1:]:
        other = (np.abs(priors.mean - mean) > 1e-9) | (np.abs(priors.weight - weight) > 1e-9)
        both = weight**2 + priors.weight**2
        mean = np.where(other & (both > 0.0), (weight**2 * mean + priors.weight**2 * priors.mean) / np.maximum(both, 1e-30), mean)
        weight = np.where(other, np.sqrt(both), weight)
    return LensPriors(mean, weight)


def _settle(takes: list[Take], free_lens: tuple[int, ...], priors: LensPriors, progress: Progress) -> None:
    """Adjust all shots with their one lens, and judge measurements and tracks anew."""
    everyone = [take.problem.used | take.dropped for take in takes]
    for cycle, scale in enumerate(CYCLES):
        progress(cycle / len(CYCLES), "Adjusting the shots together")
        cut = []
        for take, all_of_it in zip(takes, everyone):
            problem = take.problem
            problem.used = all_of_it & ~take.dropped
            problem.place(problem.used, scale)
            free = problem.solved.copy()
            free[int(np.nonzero(problem.solved)[0][0])] = False
            cut.append(problem.bundle(problem.solved, problem.used, free, free_lens=free_lens, loss_scale=scale))
        joined = _joined([bundle for bundle, _ in cut], priors)
        last = cycle == len(CYCLES) - 1
        adjust(joined, 40, 1e-8 if last else 1e-5)
        for take, (bundle, rows), part in zip(takes, cut, _parted(joined, [bundle for bundle, _ in cut])):
            take.problem.take(part, rows)
        if not last:
            for take, all_of_it in zip(takes, everyone):
                take.dropped = set_aside(take.problem, all_of_it)


def _joined(bundles: list[Bundle], priors: LensPriors) -> Bundle:
    """Return one bundle of several, side by side, with the first one's lens."""
    cameras = np.cumsum([0] + [len(b.centres) for b in bundles])
    samples = np.cumsum([0] + [len(b.camera) for b in bundles])
    whole = {name: np.concatenate([getattr(b, name) for b in bundles]) for name in ("rotations", "centres", "anchors", "directions", "rhos", "xy", "weight", "free_cameras")}
    first = np.concatenate([[0], *(b.first[1:] + at for b, at in zip(bundles, samples))]).astype(np.int64)
    camera = np.concatenate([b.camera + at for b, at in zip(bundles, cameras)])
    return Bundle(lens=bundles[0].lens.copy(), first=first, camera=camera, free_lens=bundles[0].free_lens, priors=priors, loss_scale=bundles[0].loss_scale, **whole)


def _parted(joined: Bundle, bundles: list[Bundle]) -> list[Bundle]:
    """Return the joined bundle's parts."""
    out, camera, point = [], 0, 0
    for b in bundles:
        c, p = slice(camera, camera + len(b.centres)), slice(point, point + len(b.rhos))
        out.append(replace(
            b, rotations=joined.rotations[c], centres=joined.centres[c], anchors=joined.anchors[p],
            directions=joined.directions[p], rhos=joined.rhos[p], lens=joined.lens.copy(),
        ))  # fmt: skip
        camera, point = c.stop, p.stop
    return out


def _spreads(takes: list[Take], free_lens: tuple[int, ...], priors: LensPriors) -> list[Spread]:
    """Return how sure each shot is, the others' word on the lens counted in."""
    count, parts, lens_system = len(free_lens), [], np.zeros((len(free_lens), len(free_lens)))
    for take in takes:
        problem = take.problem
        final, rows = problem.bundle(problem.solved, problem.used, problem.solved.copy(), free_lens=free_lens, loss_scale=FINAL_SCALE)
        factor = noise_factor(final.residuals(), final.weight, final.first, int(problem.solved.sum()), count)
        system = reduced_system(final) / factor**2
        held = gauge_rows(final)
        size = len(system) - count
        free = np.setdiff1d(np.arange(size), held)
        inverse = scaled_inverse(system[np.ix_(free, free)])
        bridge = inverse @ system[np.ix_(free, range(size, size + count))]
        lens_system += system[size:, size:] - system[np.ix_(range(size, size + count), free)] @ bridge
        parts.append((final, rows, factor, free, inverse, bridge, size))
    _, rows = priors.rows(parts[0][0].lens_parameters())
    lens_system += rows[:, list(free_lens)].T @ rows[:, list(free_lens)]
    lens_covariance = scaled_inverse(lens_system)
    out = []
    for final, rows, factor, free, inverse, bridge, size in parts:
        covariance = np.zeros((size + count, size + count))
        covariance[np.ix_(free, free)] = inverse + bridge @ lens_covariance @ bridge.T
        at = range(size, size + count)
        covariance[np.ix_(free, at)] = -bridge @ lens_covariance
        covariance[np.ix_(at, free)] = covariance[np.ix_(free, at)].T
        covariance[np.ix_(at, at)] = lens_covariance
        out.append(Spread(covariance, final, rows, free_lens, factor))
    return out

