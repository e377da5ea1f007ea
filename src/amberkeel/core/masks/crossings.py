"""False corners: points where a near and a far edge cross in the picture, and nothing in the set is.

Such a corner goes with neither edge: it leaves the background's rigid motion. Against the true features on one of the
two it slides along that edge: ``n.(d - m) = 0`` with the edge's normal n, the corner's displacement d and theirs, m.
"""

from concurrent.futures import ThreadPoolExecutor

import cv2
import numpy as np

from amberkeel.core.geometry.background import FREE, RigidMotion, fit_background
from amberkeel.core.geometry.homography import carried
from amberkeel.core.geometry.pixels import opencv_point
from amberkeel.core.masks.proposal import CROSSING, TAILED, Proposal, packed
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

SPAN, EVERY = 10, 4
"""Frames between the two at which tracks are compared, and between those on which it is done."""

LEAVES_PX, OVER_NOISE = 0.45, 4.0
"""How far a track must leave the background's motion over the span: in pixels, and times the tracks' noise."""

SLIDES_PX = 1.0
"""How far it must slide along one of its edges."""

ACROSS_PX, ACROSS_SHARE = 0.35, 0.12
"""How far it may leave an edge: in pixels, and as a share of how far it slides."""

BESIDE_PX, NEIGHBOURS = 0.11, 16
"""Reach, as a share of the picture's width, within which true features are compared with, and their number at most."""

HALF = 9
"""Half the side of the patch whose edges are looked at."""

ON_EDGE = 2
"""True features beside it that must agree."""

PARTED = np.radians(25.0)
"""Least angle between the two edges."""

OFTEN = 0.5
"""Share of the spans over a track that must say so."""

TAIL = 6
"""About how many frames it is told on where the background would have taken a false corner."""

DISC_PX = 9
"""Radius of what is masked round a false corner."""

THREADS = 2
"""Spans, and tails, that are worked on at once."""


def find_crossings(
    plate: Plate,
    tracks: TrackSet,
    moving: np.ndarray,
    background: str,
    progress: Progress = silent,
    tailed: int = TAILED,
) -> list[Proposal]:
    """Return the false corners among the tracks as one proposal, or none.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it. moving : (T,) bool, tracks left out since they move by themselves.
    background : how the background moves, handed on as evidence. progress : called with the share done. tailed : of how
        many of them it is told where the background would have taken them, at the most.
    """
    grid = tracks.grid(plate.frames)
    votes, seen = np.zeros(len(tracks)), np.zeros(len(tracks))
    slid = np.full(len(tracks), np.nan)
    tried = range(0, max(1, len(plate.frames) - 4), EVERY)
    with ThreadPoolExecutor(THREADS) as pool:
        judged = pool.map(lambda k: _judge(plate, grid, k, min(k + SPAN, len(plate.frames) - 1), moving), tried)
        for n, (k, (rows, slides_by)) in enumerate(zip(tried, judged)):
            seen[rows] += 1.0
            votes[rows] += np.isfinite(slides_by)
            slid[rows] = np.fmax(slid[rows], slides_by)
            progress((n + 1) / len(tried), f"Looking for false corners, frame {plate.frames[k]}")
    own = np.nonzero((votes > 0) & (votes >= OFTEN * np.maximum(seen, 1.0)))[0]
    if not len(own):
        return []
    frames, masks = [], []
    for k, frame in enumerate(plate.frames.tolist()):
        at = grid[k, own]
        at = at[np.isfinite(at[:, 0])]
        if len(at):
            mask = np.zeros((plate.height, plate.width), np.uint8)
            for x, y in at:
                cv2.circle(mask, (int(x), int(y)), DISC_PX, 1, -1)
            frames.append(frame)
            masks.append(mask > 0)
    with ThreadPoolExecutor(THREADS) as pool:
        expected = list(pool.map(lambda t: _expected(plate, grid, t, moving), own[:tailed]))
    tails = [(int(t), *tail) for t, tail in zip(own, expected)]
    return [packed(CROSSING, frames, masks, own.tolist(), tails, float(np.nanmedian(slid[own])) / SPAN, background)]


def _judge(plate: Plate, grid: np.ndarray, k: int, other: int, moving: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the tracks (M,) that run from frame number `k` to `other`, and by how many pixels each slides along one of
    its edges, NaN where it does not.
    """
    rows = np.nonzero(np.isfinite(grid[k, :, 0]) & np.isfinite(grid[other, :, 0]) & ~moving)[0]
    x, y = grid[k, rows], grid[other, rows]
    slid = np.full(len(rows), np.nan)
    motion = fit_background(x, y)
    if motion is None:
        return rows[:0], slid[:0]
    residual = motion.residuals(x, y)
    leaves = np.nonzero(residual > max(LEAVES_PX, OVER_NOISE * motion.noise))[0]
    if not len(leaves):
        return rows, slid
    gray = cv2.GaussianBlur(to_gray(plate.read(int(plate.frames[k]))), (0, 0), 1.0).astype(np.float32)
    true, moved = np.nonzero(residual < 2.0 * motion.noise)[0], y - x
    for t in leaves.tolist():
        beside = _beside(x, t, true, BESIDE_PX * plate.width)
        if len(beside) >= ON_EDGE and slides(edges(gray, x[t]), moved[t], moved[beside]):
            slid[t] = np.linalg.norm(moved[t] - np.median(moved[beside], axis=0))
    return rows, slid


def _beside(x: np.ndarray, t: int, true: np.ndarray, reach: float) -> np.ndarray:
    """Return the rows of the true features nearest to track `t`, within reach."""
    distance = np.linalg.norm(x[true] - x[t], axis=1)
    order = np.argsort(distance)[:NEIGHBOURS]
    return true[order[distance[order] < reach]]


def edges(gray: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Return the unit normals (1 or 2, 2) of the edges that make the corner at a position (2,), the stronger first.

    Directions of the patch's gradients, each with its opposite, vote by their strength; two peaks apart are two edges.
    """
    side = 2 * HALF + 3
    patch = cv2.getRectSubPix(gray, (side, side), opencv_point(*at))
    gx, gy = cv2.Sobel(patch, cv2.CV_32F, 1, 0)[1:-1, 1:-1], cv2.Sobel(patch, cv2.CV_32F, 0, 1)[1:-1, 1:-1]
    strength = np.hypot(gx, gy)
    bins = 36
    cell = (np.arctan2(gy, gx) % np.pi) * bins / np.pi
    votes = np.bincount(cell.astype(int).ravel() % bins, strength.ravel() ** 1.5, minlength=bins)
    smooth = ((-2, 0.15), (-1, 0.7), (0, 1.0), (1, 0.7), (2, 0.15))
    votes = np.sum([w * np.roll(votes, s) for s, w in smooth], axis=0)
    first = int(votes.argmax())
    apart = np.abs((np.arange(bins) - first + bins // 2) % bins - bins // 2) * np.pi / bins
    peak = (
        (votes >= np.roll(votes, 1))
        & (votes >= np.roll(votes, -1))
        & (apart >= PARTED)
        & (votes >= 0.25 * votes[first])
    )
    found = [first, int(np.where(peak, votes, -1.0).argmax())] if peak.any() else [first]
    angles = [_mean_angle(cell, strength, c, bins) for c in found]
    return np.array([[np.cos(a), np.sin(a)] for a in angles])


def _mean_angle(cell: np.ndarray, strength: np.ndarray, centre: int, bins: int) -> float:
    """Return the mean direction, radians, of the gradients about one peak."""
    off = (cell - centre - 0.5 + bins / 2) % bins - bins / 2
    weight = np.where(np.abs(off) < 2.5, strength**2, 0.0)
    return float((centre + 0.5 + (weight * off).sum() / max(weight.sum(), 1e-9)) * np.pi / bins)


def slides(normals: np.ndarray, moved: np.ndarray, beside: np.ndarray) -> bool:
    """Tell whether a corner displaced by `moved` (2,) slides along one of its edges.

    Parameters
    ----------
    normals : (E, 2) the edges' unit normals. beside : (N, 2) displacements of true features beside it.
    """
    apart = moved - beside
    length = np.linalg.norm(apart, axis=1)
    along = (np.abs(apart @ normals.T) < (ACROSS_PX + ACROSS_SHARE * length)[:, None]) & (length > SLIDES_PX)[:, None]
    return bool((along.sum(0) >= ON_EDGE).any())


def _expected(plate: Plate, grid: np.ndarray, track: int, moving: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return frames (M,) and the positions (M, 2) to which the background would have taken the track from its first
    frame.
    """
    rows = np.nonzero(np.isfinite(grid[:, track, 0]))[0]
    start, out, frames = grid[rows[0], track], [], []
    for k in rows[1 :: max(1, len(rows) // TAIL)]:
        common = np.isfinite(grid[rows[0], :, 0]) & np.isfinite(grid[k, :, 0]) & ~moving
        motion = fit_background(grid[rows[0], common], grid[k, common])
        if motion is None:
            break
        frames.append(int(plate.frames[k]))
        out.append(nearest(motion, start, grid[k, track]))
    return np.array(frames, int), np.array(out).reshape(-1, 2)


def nearest(motion: RigidMotion, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return the position (2,) nearest to `y` to which the motion can take a point of the set from `x`.

    Parameters
    ----------
    motion : of the background. x : (2,) pixels on the first frame. y : (2,) pixels on the second.
    """
    if motion.kind != FREE:
        return carried(motion.matrix, x[None])[0]
    line = motion.matrix @ [*x, 1.0]
    return y - line[:2] * (line[:2] @ y + line[2]) / (line[:2] @ line[:2])
