"""A shot refined by its ties: they are anchored points of its solve, within their sigmas or exactly; what they are tied
to stays.
"""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.evidence.statement import Anchor
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.ties.align import Alignment, Ties, align
from amberkeel.core.ties.set_file import Set
from amberkeel.core.tracks import ACTIVE, EXCLUDED

LEAST_SIGMA = 2e-4
"""One sigma of an anchored coordinate at the least, over the ties' extent."""

SMALL = 0.2
"""Extent of the ties over that of the shot's points below which they lie in one small part of the set."""

PULLS = 4.0
"""By how many times the usual residual a tied track's may rise before it is said to pull."""


@dataclass(frozen=True)
class Anchored:
    """What a tie says of a track: its id, coordinates (3,) in the fixed world, NaN on axes of which it says nothing,
    and one sigma (3,) of each.
    """

    track: int
    name: str
    xyz: np.ndarray
    sigma: np.ndarray


def anchored_at(track: int, name: str, known: Set) -> Anchored | None:
    """Return what a set knows of a track that is tied to one of its points; None where it has no such point.

    Parameters
    ----------
    track : id. name : of the point. known : the set.
    """
    point = known.point(name)
    if point is None:
        return None
    return Anchored(track, name, np.array(point.xyz), np.array(point.sigma or (known.usual_sigma,) * 3))


@dataclass(frozen=True)
class Refined:
    """A shot brought into a fixed world.

    Attributes
    ----------
    solution : in its own coordinates. alignment : takes it to the fixed world, and judges its ties. ties : all whole
        ones, in the solution's coordinates. rms, check : residual of the whole shot before and after, pixels, and check
        residual. pulls : names of ties that bend the shot, with how many pixels.
    """

    solution: Solution
    alignment: Alignment
    ties: Ties
    rms: tuple[float, float]
    check: tuple[float | None, float | None]
    pulls: tuple[tuple[str, float], ...]


def standing(solution: Solution, anchored: list[Anchored]) -> list[Anchored]:
    """Return the ties whose track has a point in a solve, and is not excluded from it."""
    return [one for one in anchored if _row_of(solution, one) is not None]


def ties_of(solution: Solution, anchored: list[Anchored]) -> Ties:
    """Return ties of a solve's points with known coordinates, those of which all three are known.

    Parameters
    ----------
    solution : with a point for each of the tracks. anchored : what is known of them.

    Raises
    ------
    TieError : a track is excluded, or has no point.
    """
    row = {one.track: at for one in anchored if (at := _row_of(solution, one)) is not None}
    xyz = solution.points.positions(solution.path.positions[0])
    lost = [one.name for one in anchored if one.track not in row]
    if lost:
        raise TieError(
            f"{len(lost)} of these ties hold on to a track without a point: {', '.join(lost[:4])}.",
            "It was deleted, excluded, or is seen too shortly. Take the tie out, or follow the track again.",
        )
    whole = [one for one in anchored if np.isfinite(one.xyz).all()]
    own = [row[one.track] for one in whole]
    covariance = solution.point_covariance
    return Ties(
        [one.name for one in whole], xyz[own].reshape(-1, 3), np.array([one.xyz for one in whole]).reshape(-1, 3),
        None if covariance is None else covariance[own],
        np.array([np.diag(one.sigma**2) for one in whole]).reshape(-1, 3, 3),
    )  # fmt: skip


def refined(solution: Solution, anchored: list[Anchored], exact: bool = False, progress: Progress = silent) -> Refined:
    """Return a shot adjusted again with its ties as anchored points; ties that the others contradict are left out.

    Parameters
    ----------
    solution : of the shot alone. anchored : its ties, three whole ones at the least. exact : hold the anchored
        coordinates exactly. progress : called with the share done.

    Raises
    ------
    TieError : too few ties, all on a line, or they contradict each other.
    """
    ties = ties_of(solution, anchored)
    first = align(ties)
    wrong = {name for name, bad in zip(ties.names, first.wrong) if bad}
    good = [one for one in anchored if one.name not in wrong]
    evidence = tuple(anchors_of(good, first, exact))
    states = list(solution.tracks.states)
    tied = {one.track for one in good}
    for k, track in enumerate(solution.tracks.ids.tolist()):
        if track in tied:
            states[k] = ACTIVE
    recipe = replace(
        solution.recipe, begin=solution.path, motion=solution.motion, evidence=(*solution.recipe.evidence, *evidence)
    )
    path = solution.path
    done = solve_tracks(
        replace(solution.tracks, states=states), path.frames, path.lens.width, path.lens.height, recipe, progress
    )
    done = replace(done, recipe=replace(done.recipe, begin=None))
    stands = standing(done, good)
    alignment = align(ties_of(done, stands))
    alignment = replace(alignment, notes=(*alignment.notes, *_in_one_part(done, alignment)))
    whole = _judged(ties, first, ties_of(done, stands), alignment)
    before, after = (_track_rms(of_it, stands) for of_it in (solution, done))
    usual = float(np.nanmedian(done.track_rms))
    pulls = [(one.name, float(a)) for one, b, a in zip(stands, before, after) if a > PULLS * max(usual, float(b))]
    return Refined(
        done, whole[1], whole[0], (solution.rms_px, done.rms_px), (solution.check_rms_px, done.check_rms_px),
        tuple(pulls),
    )  # fmt: skip


def _row_of(solution: Solution, one: Anchored) -> int | None:
    """Return the row of a tie's track in a solve; None where it has no point there."""
    at = np.nonzero(solution.tracks.ids == one.track)[0]
    if not len(at) or not solution.points.known[at[0]] or solution.tracks.states[at[0]] == EXCLUDED:
        return None
    return int(at[0])


def _in_one_part(solution: Solution, alignment: Alignment) -> tuple[str, ...]:
    """Return what is to be said where the ties lie in one small part of what the shot sees; nothing otherwise."""
    used = solution.points.known & ~solution.tracks.in_state(EXCLUDED)
    xyz = alignment.change.apply(solution.points.positions(solution.path.positions[0])[used])
    low, high = np.quantile(xyz, [0.1, 0.9], axis=0)
    if alignment.spread[0] > SMALL * float((high - low).max()):
        return ()
    return ("The ties lie in one small part of the set: far from it the shot is hardly held. Make some elsewhere.",)


def _track_rms(solution: Solution, anchored: list[Anchored]) -> np.ndarray:
    """Return the residual of each tie's track in a solve, pixels RMS; NaN where it has none."""
    rms = solution.track_rms
    return np.array([np.nan if (at := _row_of(solution, one)) is None else rms[at] for one in anchored])


def _judged(ties: Ties, first: Alignment, last_ties: Ties, last: Alignment) -> tuple[Ties, Alignment]:
    """Return all ties in the refined solve's coordinates, and what is said of each: those that were left out, or whose
    track the refined solve let go, as they lay before it.
    """
    own, off, wrong = last.change.back(first.change.apply(ties.own)), first.off.copy(), np.ones(len(ties.names), bool)
    sigmas, decides = first.sigmas.copy(), np.full(len(ties.names), np.nan)
    at = {name: k for k, name in enumerate(ties.names)}
    for k, name in enumerate(last_ties.names):
        row = at[name]
        own[row], off[row], wrong[row] = last_ties.own[k], last.off[k], last.wrong[k]
        sigmas[row], decides[row] = last.sigmas[k], last.decides[k]
    notes = tuple(dict.fromkeys(first.notes + last.notes))
    return replace(ties, own=own), replace(last, off=off, sigmas=sigmas, decides=decides, wrong=wrong, notes=notes)


def anchors_of(anchored: list[Anchored], found: Alignment, exact: bool = False) -> list[Anchor]:
    """Return ties as constraints of a solve.

    Parameters
    ----------
    anchored : the ties. found : how they align the shot, of which their extent is taken. exact : hold them exactly.
    """
    return [_anchor(one, LEAST_SIGMA * float(found.spread[0]), exact) for one in anchored]


def _anchor(one: Anchored, least: float, exact: bool) -> Anchor:
    known = np.isfinite(one.xyz)
    x, y, z = (float(v) if on else None for v, on in zip(one.xyz, known))
    a, b, c = (float(max(s, least)) if np.isfinite(s) else least for s in one.sigma)
    return Anchor(name=one.name, track=one.track, xyz=(x, y, z), sigma=(a, b, c), exact=exact)
