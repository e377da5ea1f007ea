"""A rough outline that follows the subject in it: keys about what `subject` finds, from those that a hand set."""

from dataclasses import dataclass, replace

import cv2
import numpy as np

from amberkeel.core.masks.moves import Moves
from amberkeel.core.masks.moving import WIDER, at_plate_size
from amberkeel.core.masks.raster import contour, fill
from amberkeel.core.masks.shape import FOLLOWED, HAND, Key, Shape, area, evenly, flatten, outline_at, polygon
from amberkeel.core.masks.subject import DOUBT_SPOTS, Seen, Shown, follow_subject
from amberkeel.core.progress import Progress, silent

POINTS = 64
"""Points of an outline that wraps its subject."""

LEAST_PART = 0.06
"""Share of the largest part from which a further one is put into the outline too."""

BEYOND = 12
"""Pixels by which an outline runs out of the picture where its subject does."""

CUT_CORNERS = 0.3
"""Spots by which a subject is widened so that an outline of so few points does not cut it."""

SURE = 0.75
"""Overlap of a subject with what flow expects, from which it is not widened: limbs that swing keep it below 1."""

JOINED_SPOTS, MOST_JOINED = 3, 0.3
"""Gap over which parts of a subject are put into one outline, spots, and the widest, as a share of the picture."""


@dataclass(frozen=True)
class Wrapped:
    """What wrapping gave.

    Attributes
    ----------
    keys : by frame, all with one number of points, those set by hand where they were. doubtful : frames on which it is
        hidden, stands, or is in doubt, with what is said. first, last : frames from and to which it is in the picture.
    """

    keys: dict[int, Key]
    doubtful: dict[int, str]
    first: int
    last: int


def wrapped(
    moves: Moves, shape: Shape, first: int, last: int, size: tuple[int, int], progress: Progress = silent
) -> Wrapped:
    """Return a shape that follows what moves inside its keys set by hand.

    Parameters
    ----------
    moves : of the plate. shape : rough; keys set by hand from `first` to `last` show the subject. size : width and
        height of the plate. progress : the share done.

    Raises
    ------
    MaskError : nothing moves inside any of the keys, or none lies in the range.
    """
    hand = {f: k for f, k in shape.keys.items() if k.by == HAND and first <= f <= last}
    shown = [Shown(f, _none(moves), _none(moves), _inside(moves, shape, f, size)) for f in hand]
    seen = follow_subject(moves, shown, first, last, progress)
    keys = {f: Key(_with_points(key.points), HAND, 1.0) for f, key in hand.items()}
    for way in (sorted(f for f in seen if f >= min(hand)), sorted((f for f in seen if f < min(hand)), reverse=True)):
        before = keys[min(hand)].points
        for frame in way:
            if frame not in keys:
                outline = outline_of(seen[frame], size)
                keys[frame] = Key(_placed(outline, before), FOLLOWED, seen[frame].sure)
            before = keys[frame].points
    kept = {f: k for f, k in shape.keys.items() if not first <= f <= last}
    keys |= {f: Key(_with_points(k.points), k.by, k.confidence) for f, k in kept.items()}
    doubtful = {f: one.said for f, one in seen.items() if one.said}
    return Wrapped(dict(sorted(keys.items())), doubtful, min(seen), max(seen))


def mask_of(seen: Seen, size: tuple[int, int], wider: float = 0.0) -> np.ndarray:
    """Return the subject on a frame (H, W) bool, widened by the doubt.

    Parameters
    ----------
    seen : its spots. size : width and height of the plate. wider : spots by which it is widened further.
    """
    return at_plate_size(seen.spots, size, WIDER + wider + DOUBT_SPOTS * max(0.0, 1.0 - seen.sure / SURE))


def outline_of(seen: Seen, size: tuple[int, int]) -> np.ndarray:
    """Return one closed outline (M, 2) about a subject, its parts joined, in plate pixels.

    Parameters
    ----------
    seen : its spots. size : width and height of the plate.
    """
    width, reach = seen.spots.shape[1], JOINED_SPOTS
    count, parts = cv2.connectedComponents(seen.spots.astype(np.uint8))
    size_of = np.bincount(parts.ravel(), minlength=count)
    large = size_of >= LEAST_PART * size_of[1:].max(initial=0)
    large[0] = False
    spots = large[parts].astype(np.uint8)
    while reach < MOST_JOINED * width:
        around = cv2.copyMakeBorder(spots, reach, reach, reach, reach, cv2.BORDER_CONSTANT)
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (reach, reach))
        joined = cv2.morphologyEx(around, cv2.MORPH_CLOSE, disc)[reach:-reach, reach:-reach]
        if cv2.connectedComponents(joined)[0] == 2:
            spots = joined
            break
        reach += 2
    mask = mask_of(replace(seen, spots=spots > 0), size, CUT_CORNERS)
    # Where it runs out of the picture, the outline does too.
    framed = cv2.copyMakeBorder(mask.astype(np.uint8), BEYOND, BEYOND, BEYOND, BEYOND, cv2.BORDER_REPLICATE)
    return contour(framed > 0) - BEYOND


def _placed(outline: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Return control points (N, 6) evenly along an outline (M, 2), in the order and from the place at which they lie
    nearest to those of the frame before.
    """
    new, old = evenly(outline, len(before)), before[:, :2]
    if (area(new) > 0) != (area(old) > 0):
        new = new[::-1]
    p, q = new - new.mean(0), old - old.mean(0)
    apart = [float(((np.roll(p, -k, 0) - q) ** 2).sum()) for k in range(len(p))]
    return polygon(np.roll(new, -int(np.argmin(apart)), 0))


def _none(moves: Moves) -> np.ndarray:
    return np.zeros(moves.grid[::-1], bool)


def _inside(moves: Moves, shape: Shape, frame: int, size: tuple[int, int]) -> np.ndarray:
    width, height = moves.grid
    scale = np.array([width / size[0], height / size[1]])
    return fill(outline_at(shape, frame) * scale, height, width)


def _with_points(points: np.ndarray, count: int = POINTS) -> np.ndarray:
    """Return control points (N, 6) with more points along their outline, so that it can wrap a subject; the outline
    stays as it is to a fraction of a pixel.
    """
    if len(points) >= count:
        return points
    dense = flatten(points)
    closed = np.concatenate([dense, dense[:1]])
    length = np.linalg.norm(np.diff(closed, axis=0), axis=1)
    pieces = np.maximum(1, np.round(length / max(length.sum(), 1e-9) * count).astype(int))
    while pieces.sum() > count and pieces.max() > 1:
        pieces[pieces.argmax()] -= 1
    while pieces.sum() < count:
        pieces[(length / pieces).argmax()] += 1
    rows = [
        closed[k] + (closed[k + 1] - closed[k]) * (np.arange(n) / n)[:, None] for k, n in enumerate(pieces.tolist())
    ]
    return polygon(np.concatenate(rows))
