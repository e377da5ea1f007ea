"""Reflections: features whose mirror images are features too, and which move as mirror images do.

A point and its reflection in a flat surface are seen, up to perspective, one above the other (a level surface) or one
beside the other (an upright one), and look alike but for the flip. When the camera moves, the middles between all such
pairs go as points of the mirror itself do, by one homography (Hartley and Zisserman 13.1), and the two of a pair leave
it to opposite sides. Likeness alone is not believed: planks and stones have many doubles.
"""

import cv2
import numpy as np

from amberkeel.core.geometry.homography import carried
from amberkeel.core.geometry.pixels import opencv_point
from amberkeel.core.masks.proposal import REFLECTION, TAILED, Proposal, packed
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

HALF = 7
"""Half the side of the patches compared."""

ALIKE = 0.72
"""Least correlation of a patch with the flipped other."""

ASKEW = 0.08
"""How far a pair may lie off the upright or the level, as a share of the picture's height."""

APART_PX = 14.0
"""Least distance between the two of a pair."""

MIDDLE_PX = 1.2
"""How well the middle of a pair must follow the mirror's homography, pixels."""

MIRRORED_PX = 1.5
"""How far each of a pair must leave the mirror's motion, pixels."""

PAIRS, EXPLAINED = 6, 0.4
"""Pairs that a mirror needs at a frame, and their least share among all that look alike."""

SPAN, EVERY = 16, 4
"""Frames between the two compared, and between those on which it is tried."""


def find_reflections(plate: Plate, tracks: TrackSet, background: str, progress: Progress = silent) -> list[Proposal]:
    """Return reflections seen in a plate as proposals, one for level and one for upright mirrors; often none.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it. background : how the background moves, handed on as evidence.
    """
    grid = tracks.grid(plate.frames)
    votes: dict[bool, dict[tuple[int, int], int]] = {True: {}, False: {}}
    tried = range(0, max(1, len(plate.frames) - SPAN), EVERY)
    for n, k in enumerate(tried):
        other = min(k + SPAN, len(plate.frames) - 1)
        for level in (True, False):
            for pair in _pairs(plate, grid, k, other, level):
                votes[level][pair] = votes[level].get(pair, 0) + 1
        progress((n + 1) / len(tried), f"Looking for reflections, frame {plate.frames[k]}")
    found = [_proposal(plate, tracks, grid, votes[level], background) for level in (True, False)]
    return [p for p in found if p is not None]


def _pairs(plate: Plate, grid: np.ndarray, k: int, other: int, level: bool) -> list[tuple[int, int]]:
    """Return pairs (what is mirrored, its reflection) of tracks that look and move as mirror images between two
    frames.
    """
    rows = np.nonzero(np.isfinite(grid[k, :, 0]) & np.isfinite(grid[other, :, 0]))[0]
    if len(rows) < 2 * PAIRS:
        return []
    x, y = grid[k, rows], grid[other, rows]
    patches, contrast = _patches(to_gray(plate.read(int(plate.frames[k]))), x)
    a, b = _alike(x, patches, level, plate.height)
    if len(a) < PAIRS:
        return []
    before, after = 0.5 * (x[a] + x[b]), 0.5 * (y[a] + y[b])
    h, _ = cv2.findHomography(before, after, cv2.USAC_MAGSAC, MIDDLE_PX, None, 2000, 0.999)
    if h is None:
        return []
    good = np.linalg.norm(carried(h, before) - after, axis=1) < MIDDLE_PX
    leaving = [y[side] - carried(h, x[side]) for side in (a, b)]
    opposite = np.einsum("nk,nk->n", *leaving) < -0.5 * np.linalg.norm(leaving[0], axis=1) * np.linalg.norm(
        leaving[1], axis=1
    )
    mirrored = good & opposite & (np.linalg.norm(leaving[0], axis=1) > MIRRORED_PX)
    if mirrored.sum() < PAIRS or good.mean() < EXPLAINED:
        return []
    a, b = a[mirrored], b[mirrored]
    # In a level mirror the reflection is the lower one; in an upright one, the side with less contrast.
    swap = np.median(x[a, 1] - x[b, 1]) > 0 if level else np.median(contrast[a] - contrast[b]) < 0
    if swap:
        a, b = b, a
    return list(zip(rows[a].tolist(), rows[b].tolist()))


def _patches(gray: np.ndarray, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return patches (N, S, S) of zero mean and unit norm, and their contrast (N,)."""
    soft = cv2.GaussianBlur(gray, (0, 0), 1.2).astype(np.float32)
    side = 2 * HALF + 1
    out = np.array([cv2.getRectSubPix(soft, (side, side), opencv_point(u, v)) for u, v in x])
    out -= out.mean((1, 2), keepdims=True)
    contrast = np.linalg.norm(out, axis=(1, 2))
    return out / np.maximum(contrast, 1e-6)[:, None, None], contrast


def _alike(x: np.ndarray, patches: np.ndarray, level: bool, height: int) -> tuple[np.ndarray, np.ndarray]:
    """Return pairs (first, second) that each are the other's best mirror image, level mirrors one above the other."""
    flipped = patches[:, ::-1] if level else patches[:, :, ::-1]
    likeness = patches.reshape(len(x), -1) @ flipped.reshape(len(x), -1).T
    across, along = (0, 1) if level else (1, 0)
    off = np.abs(x[:, None, across] - x[None, :, across])
    ahead = x[None, :, along] - x[:, None, along]
    likeness[(off > ASKEW * height) | (np.abs(ahead) < APART_PX)] = -1.0
    best = likeness.argmax(1)
    first = np.arange(len(x))
    mutual = (best[best] == first) & (likeness[first, best] > ALIKE) & (ahead[first, best] > 0)
    return first[mutual], best[mutual]


def _proposal(plate: Plate, tracks: TrackSet, grid: np.ndarray, votes: dict, background: str) -> Proposal | None:
    """Return what the pairs of one mirror show, or None where too few of them agree."""
    twin: dict[int, int] = {}
    for (seen, reflected), count in sorted(votes.items(), key=lambda v: v[1]):
        both = np.isfinite(grid[:, seen, 0]) & np.isfinite(grid[:, reflected, 0])
        if count > 1 or both.sum() < SPAN + 2 * EVERY:
            twin[reflected] = seen
    # A track cannot be both a thing and a reflection of another; the stronger role is the commoner one.
    twin = {r: s for r, s in twin.items() if s not in twin}
    if len(twin) < PAIRS:
        return None
    own = sorted(twin)
    frames, masks = [], []
    for k, frame in enumerate(plate.frames.tolist()):
        at = grid[k, own]
        at = at[np.isfinite(at[:, 0])]
        if len(at) >= 3:
            frames.append(frame)
            masks.append(_region(at, plate.width, plate.height))
    if not frames:
        return None
    tails = []
    for track in own[:TAILED]:
        both = np.isfinite(grid[:, track, 0]) & np.isfinite(grid[:, twin[track], 0])
        tails.append((track, plate.frames[both], grid[both, twin[track]]))
    return packed(REFLECTION, frames, masks, own, tails, float("nan"), background)


def _region(at: np.ndarray, width: int, height: int) -> np.ndarray:
    """Return the region (H, W) bool around features at `at` (N, 2): discs wide enough to meet, closed."""
    distance = np.linalg.norm(at[:, None] - at[None], axis=-1)
    np.fill_diagonal(distance, np.inf)
    radius = int(np.clip(1.6 * np.median(distance.min(1)), 10, 0.1 * height))
    mask = np.zeros((height, width), np.uint8)
    for x, y in at:
        cv2.circle(mask, (int(x), int(y)), radius, 1, -1)
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))
    framed = cv2.copyMakeBorder(mask, radius, radius, radius, radius, cv2.BORDER_CONSTANT)
    return cv2.morphologyEx(framed, cv2.MORPH_CLOSE, kernel)[radius:-radius, radius:-radius] > 0
