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
from amberkeel.core.tracks import ACTIVE, EXCLUDED

LEAST_SIGMA = 2e-4
"""One sigma of an anchored coordinate at the least, over the ties' extent."""

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


@dataclass(frozen=True)
class Refined:
    """A shot brought into a fixed world.

    Attributes
    ----------
    solution : in its own coordinates. alignment : takes it to the fixed world, and judges its ties. before, after : of
        the ties (K,), RMS of their tracks in their own shot, pixels. rms, check : residual of the whole shot before and
        after, pixels, and check residual. pulls : names of ties that bend the shot, with how many pixels.
    """

    solution: Solution
    alignment: Alignment
    before: np.ndarray
    after: np.ndarray
    rms: tuple[float, float]
    check: tuple[float, float]
    pulls: tuple[tuple[str, float], ...]


def ties_of(solution: Solution, anchored: list[Anchored]) -> Ties:
    """Return ties of a solve's points with known coordinates, those of which all three are known.

    Parameters
    ----------
    solution : with a point for each of the tracks. anchored : what is known of them.

    Raises
    ------
    TieError : a track is excluded, or has no point.
    """
    row = {int(t): k for k, t in enumerate(solution.tracks.ids)}
    xyz = solution.points.positions(solution.path.positions[0])
    lost = [
        one.name
        for one in anchored
        if one.track not in row
        or not solution.points.known[row[one.track]]
        or solution.tracks.states[row[one.track]] == EXCLUDED
    ]
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
    alignment = align(ties_of(done, good))
    rows = {int(t): k for k, t in enumerate(solution.tracks.ids)}
    own = [rows[one.track] for one in good]
    before, after = solution.track_rms[own], done.track_rms[own]
    usual = float(np.nanmedian(done.track_rms))
    pulls = tuple(
        (one.name, float(a)) for one, b, a in zip(good, before, after) if a > PULLS * max(usual, float(b))
    )  # fmt: skip
    all_ties = ties_of(done, anchored)
    off = np.linalg.norm(alignment.change.apply(all_ties.own) - all_ties.fixed, axis=1)
    return Refined(
        done, _with_wrong(first, alignment, ties, off, wrong), before, after,
        (solution.rms_px, done.rms_px), (solution.check_rms_px, done.check_rms_px), pulls,
    )  # fmt: skip


def _with_wrong(first: Alignment, last: Alignment, ties: Ties, off: np.ndarray, wrong: set[str]) -> Alignment:
    """Return the last alignment with the ties of the first one, those left out among them."""
    out = np.array([name in wrong for name in ties.names])
    sigmas, decides = first.sigmas.copy(), first.decides.copy()
    sigmas[~out], decides[~out] = last.sigmas, last.decides
    bad = out.copy()
    bad[~out] = last.wrong
    return replace(last, off=off, sigmas=sigmas, decides=decides, wrong=bad, notes=first.notes + last.notes)


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
