"""One shot brought into another's world, or into a set's, by ties: a similarity that withstands wrong ones.

Least median of squares over triples of ties finds the similarity that most agree with (Rousseeuw 1984; each triple by
Umeyama 1991); then it is adjusted by the ties' covariances with Cauchy's weights, and judged tie by tie.
"""

from dataclasses import dataclass
from itertools import combinations

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.world.align import similarity
from amberkeel.core.world.datum import Datum

LEAST, WISHED = 3, 6
"""Ties without which nothing is aligned, and with which one wrong one is told."""

MOST_TRIPLES = 3000

NARROW, FLAT = 0.02, 0.1
"""Extent across the longest below which ties lie on a line, and below which they are hardly spread, as shares of it."""

WRONG_SIGMAS = 4.0
"""Sigmas, of the ties' own spread too, from which one is wrong."""

MIDDLE = 0.888
"""Median of a tie's distance in space over the root mean square of an axis, for normal errors."""

FINEST = 1e-6
"""One sigma of a tie of which nothing is known, and the least of any, over the ties' extent."""

DISAGREE = 0.1
"""Root mean square of the ties that are left over their extent, from which they hold no shot."""

MOST_DELETED = 80
"""Ties up to which each is judged by a fit without it."""

FEW = 26
"""Ties of which all triples are tried."""

CAUCHY = 2.0
ROUNDS, ENOUGH = 50, 1e-10


@dataclass(frozen=True)
class Ties:
    """Spots known in two worlds.

    Attributes
    ----------
    names : of the K ties. own : (K, 3) in the world that is brought. fixed : (K, 3) in the one that stays.
    own_covariance, fixed_covariance : (K, 3, 3) of both, or None.
    """

    names: list[str]
    own: np.ndarray
    fixed: np.ndarray
    own_covariance: np.ndarray | None = None
    fixed_covariance: np.ndarray | None = None


@dataclass(frozen=True)
class Alignment:
    """How a shot is brought, and what its ties say.

    Attributes
    ----------
    change : ``x_fixed = scale * rotation @ x_own + translation``. covariance : (7, 7) of turn (radians), translation
        and the scale's logarithm. off : (K,) distance of each tie from where it belongs, units of the fixed world.
        sigmas : (K,) the same over what its covariance and the others' spread let expect. wrong : (K,) bool. decides :
        (K,) by how far the ties would move without it at the most, units. spread : extent of the right ties along their
        three axes, units. rms : of the right ones, units. notes : what is to be said of them, in words.
    """

    change: Datum
    covariance: np.ndarray
    off: np.ndarray
    sigmas: np.ndarray
    wrong: np.ndarray
    decides: np.ndarray
    spread: np.ndarray
    rms: float
    notes: tuple[str, ...]


def align(ties: Ties) -> Alignment:
    """Return the similarity that brings a world to a fixed one by ties.

    Parameters
    ----------
    ties : three or more.

    Raises
    ------
    TieError : fewer than three, all on a line, or no three that agree with a fourth.
    """
    count = len(ties.own)
    if count < LEAST:
        raise TieError(
            f"{count} tie{'' if count == 1 else 's'} cannot align a shot.", "Make three at the least, better six."
        )
    if _extent(ties.fixed)[1] < NARROW * _extent(ties.fixed)[0] or _extent(ties.own)[1] < NARROW * _extent(ties.own)[0]:
        raise TieError("These ties lie on a line.", "Make one well beside it.")
    start = _agreed(ties)
    wrong = _told_wrong(ties, start)
    change, covariance, inflated = _adjusted(ties, start, ~wrong)
    off = np.linalg.norm(change.apply(ties.own) - ties.fixed, axis=1)
    rms = float(np.sqrt((off[~wrong] ** 2).mean())) if (~wrong).any() else np.inf
    if (~wrong).sum() < LEAST or rms > DISAGREE * _extent(ties.fixed)[0]:
        raise TieError("These ties contradict each other.", "No three of them agree with a fourth: look at each.")
    return Alignment(
        change, covariance, off, _sigmas(ties, change, inflated), wrong, _deciding(ties, change, wrong),
        _extent(ties.fixed[~wrong]), rms, _notes(ties, wrong),
    )  # fmt: skip


def seen_off(path: CameraPath, ties: Ties, change: Datum) -> np.ndarray:
    """Return how far each tie lies from where it belongs as the nearest frame that sees it shows it, pixels (K,); NaN
    where none does.

    Parameters
    ----------
    path : the camera of the fixed world. ties : of it. change : as they were brought.
    """
    out = np.full(len(ties.own), np.nan)
    away = np.linalg.norm(ties.fixed[:, None] - path.positions[None], axis=2)
    for row in range(len(path.frames)):
        away[~path.seen(ties.fixed, row)[1], row] = np.inf
    best = away.argmin(1)
    moved = change.apply(ties.own)
    for k in np.nonzero(np.isfinite(away.min(1)))[0]:
        row = int(best[k])
        out[k] = np.linalg.norm(path.project(moved[k][None], row)[0] - path.project(ties.fixed[k][None], row)[0])
    return out


def _extent(xyz: np.ndarray) -> np.ndarray:
    """Return the extents of points along their axes, the longest first."""
    values = np.linalg.svd(xyz - xyz.mean(0), compute_uv=False) * 2.0 / np.sqrt(len(xyz))
    return np.pad(values, (0, 3 - len(values)))


def _agreed(ties: Ties) -> Datum:
    """Return the similarity of the triple with which most ties agree."""
    count = len(ties.own)
    if count == LEAST:
        return similarity(ties.own, ties.fixed)
    triples = np.array(list(combinations(range(count), 3))) if count <= FEW else _drawn(count)
    best, least, reach = None, np.inf, _extent(ties.fixed)[0]
    # The median among the ties that did not make the triple; half of them may be wrong.
    rank = max(count // 2 + 1, LEAST + 1) - 1
    for triple in triples:
        if _extent(ties.fixed[triple])[1] < FLAT * reach:
            continue
        tried = similarity(ties.own[triple], ties.fixed[triple])
        off = np.sort(np.linalg.norm(tried.apply(ties.own) - ties.fixed, axis=1))[rank]
        if off < least:
            best, least = tried, float(off)
    return best or similarity(ties.own, ties.fixed)


def _drawn(count: int) -> np.ndarray:
    rng = np.random.default_rng(0)
    return np.array([rng.choice(count, 3, replace=False) for _ in range(MOST_TRIPLES)])


def _spreads(ties: Ties, change: Datum) -> np.ndarray:
    """Return the covariance (K, 3, 3) of each tie's difference by both worlds; all alike where neither is known."""
    out = np.zeros((len(ties.own), 3, 3))
    if ties.own_covariance is not None:
        turn = change.scale * change.rotation
        out = out + turn @ np.nan_to_num(ties.own_covariance) @ turn.T
    if ties.fixed_covariance is not None:
        out = out + np.nan_to_num(ties.fixed_covariance)
    return out + (FINEST * _extent(ties.fixed)[0]) ** 2 * np.eye(3)


def _whitened(off: np.ndarray, inverse: np.ndarray) -> np.ndarray:
    """Return differences (K, 3) over their covariances, of which the inverses are given: root mean squares of three
    axes.
    """
    return np.sqrt(np.einsum("ka,kab,kb->k", off, inverse, off) / 3.0)


def _inflation(ties: Ties, whitened: np.ndarray) -> float:
    """Return by which factor the ties scatter more than their covariances say; freely where there are none."""
    count = len(whitened)
    free = max(3 * count - 7, 1)
    factor = float(np.median(whitened)) / MIDDLE * np.sqrt(3 * count / free)
    known = ties.own_covariance is not None or ties.fixed_covariance is not None
    return max(factor, 1.0) if known else max(factor, 1e-9)


def _sigmas(ties: Ties, change: Datum, inflated: float) -> np.ndarray:
    inverse = np.linalg.inv(_spreads(ties, change))
    return _whitened(change.apply(ties.own) - ties.fixed, inverse) / inflated


def _adjusted(ties: Ties, start: Datum, good: np.ndarray) -> tuple[Datum, np.ndarray, float]:
    """Return the similarity by the ties' covariances with Cauchy's weights, its covariance (7, 7), and by which factor
    the ties scatter more than theirs say.
    """
    change, middle = start, ties.fixed[good].mean(0)
    for _ in range(ROUNDS):
        inverse = np.linalg.inv(_spreads(ties, change))
        moved = change.apply(ties.own)
        off, slope = ties.fixed - moved, _slopes(moved - middle)
        whitened = _whitened(off, inverse)
        inflated = _inflation(ties, whitened[good])
        weights = good / (1.0 + (whitened / (CAUCHY * inflated)) ** 2)
        normal = np.einsum("k,kai,kab,kbj->ij", weights, slope, inverse, slope)
        right = np.einsum("k,kai,kab,kb->i", weights, slope, inverse, off)
        step = np.linalg.lstsq(normal, right, rcond=None)[0]
        turn, gain = Rotation.from_rotvec(step[:3]).as_matrix(), float(np.exp(step[6]))
        shifted = gain * turn @ (change.translation - middle) + middle + step[3:6]
        change = Datum(gain * change.scale, turn @ change.rotation, shifted)
        if np.linalg.norm(step) < ENOUGH * (1.0 + np.linalg.norm(middle)):
            break
    return change, inflated**2 * np.linalg.pinv(normal), inflated


def _told_wrong(ties: Ties, start: Datum) -> np.ndarray:
    """Return which ties (K,) the others contradict: one after another the one that lies furthest from where all others
    put it, over its own and their covariance (deleted residuals, Cook and Weisberg 1982).
    """
    good = np.ones(len(ties.own), bool)
    if len(good) > MOST_DELETED:
        change, _, inflated = _adjusted(ties, start, good)
        return _sigmas(ties, change, inflated) > WRONG_SIGMAS
    while good.sum() > LEAST + 1:
        rows = np.nonzero(good)[0]
        off = np.array([_deleted(ties, start, good, int(k)) for k in rows])
        if off.max() <= WRONG_SIGMAS:
            break
        good[rows[off.argmax()]] = False
    return ~good


def _deleted(ties: Ties, start: Datum, good: np.ndarray, k: int) -> float:
    """Return by how many sigmas a tie lies from where the other good ones put it."""
    held = good.copy()
    held[k] = False
    change, covariance, inflated = _adjusted(ties, start, held)
    slope = _slopes((change.apply(ties.own[k]) - ties.fixed[held].mean(0))[None])[0]
    spread = inflated**2 * _spreads(ties, change)[k] + slope @ covariance @ slope.T
    off = change.apply(ties.own[k]) - ties.fixed[k]
    return float(np.sqrt(off @ np.linalg.solve(spread, off) / 3.0))


def _slopes(arm: np.ndarray) -> np.ndarray:
    """Return how points (K, 3), from the middle, move with a turn about it, a shift, and growth: (K, 3, 7)."""
    out = np.zeros((len(arm), 3, 7))
    # A turn w moves a point by w x arm, growth by the arm itself.
    out[:, 0, 1], out[:, 0, 2] = arm[:, 2], -arm[:, 1]
    out[:, 1, 0], out[:, 1, 2] = -arm[:, 2], arm[:, 0]
    out[:, 2, 0], out[:, 2, 1] = arm[:, 1], -arm[:, 0]
    out[:, :, 3:6], out[:, :, 6] = np.eye(3), arm
    return out


def _deciding(ties: Ties, change: Datum, wrong: np.ndarray) -> np.ndarray:
    """Return by how far the ties' far ends move when each tie is left out, units; NaN where too few would be left."""
    good = np.nonzero(~wrong)[0]
    out = np.full(len(wrong), np.nan)
    if len(good) <= LEAST:
        return out
    for k in good:
        held = ~wrong
        held[k] = False
        without, *_ = _adjusted(ties, change, held)
        out[k] = np.linalg.norm(without.apply(ties.own[good]) - change.apply(ties.own[good]), axis=1).max()
    return out


def _notes(ties: Ties, wrong: np.ndarray) -> tuple[str, ...]:
    """Return what is to be said of ties: few, or hardly spread."""
    good = int((~wrong).sum())
    extent = _extent(ties.fixed[~wrong])
    notes = []
    if good < WISHED:
        notes.append(f"{good} ties hold the shot: with six or more a wrong one is told from the right ones.")
    if extent[1] < FLAT * extent[0]:
        notes.append("The ties lie almost on a line: the turn about it is hardly held. Make some beside it.")
    if wrong.any():
        names = [name for name, bad in zip(ties.names, wrong) if bad]
        notes.append(
            f"Left out, since the others contradict {'it' if len(names) == 1 else 'them'}: {', '.join(names)}."
        )
    return tuple(notes)
