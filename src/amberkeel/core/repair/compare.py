"""Before and after a remedy: the same check tracks on the same frames, and a verdict in words.

Whether the number fell is one question, whether the camera got better another: deleting what disagrees always lowers
the residual of what is left. So what counts is withheld tracks, each measurement judged in both attempts, outliers of
either at no more than `CAP` times their expected noise; or, where tracks are too few to withhold any, each left out in
turn; and where those say the same, how far the camera moves when part of the tracks is left out (its predicted slip).
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.errors import KeelError
from amberkeel.core.solve.compare_paths import path_difference
from amberkeel.core.solve.predicted_slip import predicted_slip
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import CHECK

BETTER, SAME, WORSE, FOOLED = "better", "same", "worse", "number only"

CAP = 6.0
"""Length of a residual, over its expected noise, at which it is cut off when attempts are compared."""

NOTICEABLE = 0.015
"""Change of the check residual, as a share, that is noticed."""

SURELY_BETTER, SURELY_WORSE = 2.0, 1.0
"""Standard errors by which it must differ: a doubt counts against a change."""

FELL = 0.02
"""Fall of the used residual, as a share, that a person would take for an improvement."""

SURER = 0.93
"""Predicted slip, over that before, below which a camera is surer."""

KEPT = 0.98
"""Share of the measurements that must still count for a camera that is surer to be better."""

LEAST_CHECKS = 5
"""Check tracks in common below which nothing is said."""


@dataclass(frozen=True)
class Side:
    """Figures of one attempt; lengths in pixels, `slip_px` NaN where unknown."""

    rms_px: float
    check_px: float
    focal_px: float
    focal_sigma_px: float
    slip_px: float
    tracks: int
    observations: int
    frames: int


@dataclass(frozen=True)
class Comparison:
    """Two attempts held against each other.

    Attributes
    ----------
    before, after : figures; `check_px` is over the same measurements. sigmas : by how many standard errors, over check
        tracks, the check residual rose. position_share : RMS difference of the paths over their length. turn_deg : RMS
        difference of the turns. focal_share : by how much the focal length changed. frames (F,) : in common, with
        before_rms and after_rms (F,), pixels. verdict : BETTER, SAME, WORSE or FOOLED. words : the verdict, a sentence.
    """

    before: Side
    after: Side
    sigmas: float
    position_share: float
    turn_deg: float
    focal_share: float
    frames: tuple[int, ...]
    before_rms: tuple[float, ...]
    after_rms: tuple[float, ...]
    verdict: str
    words: str


def compare(before: Solution, after: Solution, proof: str = "") -> Comparison:
    """Return two attempts of one shot compared.

    Parameters
    ----------
    before, after : solved from the same tracks, by their ids, or from changed ones. proof : what speaks for the second
        one besides check tracks, in words; then it is better unless they say that it is worse.
    """
    check_before, check_after, sigmas, count = _checks(before, after)
    one, other = _side(before, check_before), _side(after, check_after)
    try:
        apart = path_difference(before.path, after.path)
        moved = apart.position_share, float(np.degrees(apart.turn_rms)), apart.focal
    except KeelError:
        moved = 0.0, 0.0, 0.0
    verdict = _verdict(one, other, sigmas, count, bool(proof))
    frames, a, b = np.intersect1d(before.path.frames, after.path.frames, return_indices=True)
    return Comparison(
        one, other, sigmas, *moved, tuple(frames.tolist()), _plain(before.frame_rms[a]), _plain(after.frame_rms[b]),
        verdict, _words(verdict, one, other, count, proof, "withheld" if CHECK in before.tracks.states else "left-out"),
    )  # fmt: skip


def _plain(values: np.ndarray) -> tuple[float, ...]:
    return tuple(round(float(v), 4) for v in np.nan_to_num(values))


def _side(solution: Solution, check: float) -> Side:
    counts = solution.counts
    slip = np.nan
    if solution.shifts is not None and len(solution.shifts):
        middle = int(solution.path.frames[len(solution.path.frames) // 2])
        px = predicted_slip(solution, middle).px
        slip = float(np.nanmedian(px)) if np.isfinite(px).any() else np.nan
    return Side(
        solution.rms_px, check, float(solution.path.lens.focal_px[0]), solution.focal_sigma_px, slip,
        counts["tracks_used"], counts["observations"], len(solution.path.frames),
    )  # fmt: skip


def _keys(solution: Solution) -> tuple[np.ndarray, ...]:
    """Return a key for each measurement of a check track that has a residual, its length and its expected noise in
    pixels, the track's id, and whether it is no outlier.
    """
    tracks = solution.tracks
    own = tracks.track_of_sample
    length = np.linalg.norm(solution.residuals, axis=1)
    at = np.nonzero(tracks.in_state(CHECK)[own] & np.isfinite(length))[0]
    ids = tracks.ids[own[at]]
    sigma = solution.stated_sigma[at]
    return ids * 10_000_000 + tracks.frames[at], length[at], sigma, ids, ~solution.outlier[at]


def _checks(before: Solution, after: Solution) -> tuple[float, float, float, int]:
    """Return the check residual before and after over the same measurements, pixels, by how many standard errors it
    rose, and how many check tracks tell.
    """
    key, length, sigma, ids, agrees = _keys(before)
    key2, length2, _, _, agrees2 = _keys(after)
    _, a, b = np.intersect1d(key, key2, return_indices=True)
    either = agrees[a] | agrees2[b]
    a, b = a[either], b[either]
    if not len(a):
        return _left_out(before, after)
    scale = max(float(np.median(length[a] / sigma[a])), 0.5)
    # Cut off by what was expected before, alike on both sides: otherwise a measurement could be made to count less.
    most = CAP * scale * sigma[a]
    one, other = np.minimum(length[a], most) ** 2, np.minimum(length2[b], most) ** 2
    numbers, own = np.unique(ids[a], return_inverse=True)
    n = np.bincount(own)
    x, y = np.bincount(own, one) / n, np.bincount(own, other) / n
    change = np.log(np.maximum(y, 1e-8) / np.maximum(x, 1e-8))
    error = float(np.std(change)) / np.sqrt(len(numbers)) if len(numbers) > 1 else np.inf
    mean = float((y * n).sum() / n.sum()), float((x * n).sum() / n.sum())
    z = float(np.mean(change)) / error if error > 0.0 else 0.0
    return float(np.sqrt(mean[1])), float(np.sqrt(mean[0])), float(z), len(numbers)


def _left_out(before: Solution, after: Solution) -> tuple[float, float, float, int]:
    """Return the same as `_checks` where no track is withheld and each was left out in turn: over the tracks that were
    left out in both.
    """
    if not (before.folds and after.folds):
        return 0.0, 0.0, 0.0, 0
    one, other = (dict(s.folds.each) for s in (before, after) if s.folds)
    both = sorted(one.keys() & other.keys())
    if not both:
        return 0.0, 0.0, 0.0, 0
    x, y = (np.array([own[track] for track in both]) for own in (one, other))
    # One that stands apart weighs no more than others, as of withheld tracks.
    most = CAP * float(np.median(x)) / np.sqrt(2.0)
    x, y = np.minimum(x, most), np.minimum(y, most)
    change = 2.0 * np.log(np.maximum(y, 1e-4) / np.maximum(x, 1e-4))
    error = float(np.std(change)) / np.sqrt(len(both)) if len(both) > 1 else np.inf
    z = float(np.mean(change)) / error if error > 0.0 else 0.0
    return float(np.sqrt((x**2).mean())), float(np.sqrt((y**2).mean())), z, len(both)


def _verdict(one: Side, other: Side, sigmas: float, count: int, proved: bool) -> str:
    if other.frames < one.frames:
        return WORSE
    if count < LEAST_CHECKS:
        return SAME
    change = other.check_px / max(one.check_px, 1e-9) - 1.0
    if change > NOTICEABLE and sigmas > SURELY_WORSE:
        return WORSE
    if change < -NOTICEABLE and sigmas < -SURELY_BETTER:
        return BETTER
    if proved:
        return BETTER
    surer = other.slip_px < SURER * one.slip_px and other.observations >= KEPT * one.observations
    if surer and change < NOTICEABLE:
        return BETTER
    return FOOLED if other.rms_px < (1.0 - FELL) * one.rms_px else SAME


def _words(verdict: str, one: Side, other: Side, count: int, proof: str, judges: str) -> str:
    """Return a verdict in words; `judges` says which tracks gave it, withheld or left-out ones."""
    check = f"{one.check_px:.3f} to {other.check_px:.3f} px"
    if other.frames < one.frames:
        return f"Worse: {one.frames - other.frames} frames lost their camera."
    if count < LEAST_CHECKS:
        return f"Nothing can be said: only {count} check tracks are in both attempts."
    if verdict == BETTER and other.check_px < (1.0 - NOTICEABLE) * one.check_px:
        return f"Better: {judges} tracks went from {check}. {proof}".rstrip()
    if verdict == BETTER and proof:
        return f"Better. {proof} {judges.capitalize()} tracks say the same ({check})."
    if verdict == BETTER:
        slip = f"{one.slip_px:.3f} to {other.slip_px:.3f} px"
        return f"Better: {judges} tracks say the same, and the camera is surer (predicted slip {slip})."
    if verdict == WORSE:
        return f"Worse: {judges} tracks went from {check}."
    if verdict == FOOLED:
        return (
            f"The number fell ({one.rms_px:.3f} to {other.rms_px:.3f} px), the camera did not get better: "
            f"{judges} tracks stay at {other.check_px:.3f} px."
        )
    return f"No difference that {judges} tracks could tell ({check})."
