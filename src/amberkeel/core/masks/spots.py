"""A subject from clicked spots: what moves there, led over the plate, and corrected by spots on any frame."""

from collections.abc import Sequence

import cv2
import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.moves import Moves
from amberkeel.core.masks.samples import Cleaning, Sample, clean
from amberkeel.core.masks.subject import Seen, Shown, follow_subject, start_of
from amberkeel.core.masks.wrap import mask_of
from amberkeel.core.progress import Progress, silent, span

SPOT_RADIUS = 0.9
"""Radius of what one click samples, spots."""

FAR_PREVIEW = 15
"""Frames from the nearest clicked one up to which a single frame is led to at once."""


def shown_by(moves: Moves, samples: Sequence[Sample], size: tuple[int, int]) -> list[Shown]:
    """Return the frames on which spots were clicked, as `subject` takes them.

    Parameters
    ----------
    moves : of the plate. samples : the spots. size : width and height of the plate.
    """
    out = []
    for frame in sorted({s.frame for s in samples}):
        own = [s for s in samples if s.frame == frame]
        yes, no = (_discs(moves, [s for s in own if s.subject is kind], size) for kind in (True, False))
        out.append(Shown(frame, yes, no))
    return out


def _discs(moves: Moves, samples: list[Sample], size: tuple[int, int]) -> np.ndarray:
    width, height = moves.grid
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    out = np.zeros((height, width), bool)
    for s in samples:
        at = s.x * width / size[0], s.y * height / size[1]
        if not (0.0 <= at[0] < width and 0.0 <= at[1] < height):
            raise MaskError("A sample lies outside the picture.", "Click on the plate itself.")
        out |= (x - at[0]) ** 2 + (y - at[1]) ** 2 <= SPOT_RADIUS**2
    return out


def on_what_moves(moves: Moves, samples: Sequence[Sample], size: tuple[int, int]) -> bool:
    """Return whether any spot of the subject lies on something that moves by itself.

    Parameters
    ----------
    moves : of the plate. samples : spots. size : width and height of the plate.
    """
    near = np.ones((3, 3), np.uint8)
    for one in shown_by(moves, samples, size):
        if (moves.body(one.frame) & (cv2.dilate(one.yes.astype(np.uint8), near) > 0)).any():
            return True
    return False


def subject_of(
    moves: Moves,
    samples: Sequence[Sample],
    first: int,
    last: int,
    size: tuple[int, int],
    progress: Progress = silent,
) -> dict[int, Seen]:
    """Return the subject that spots show, on all frames of a range on which it is seen.

    Spots that are not the subject, on a frame with none that are, take away from what is found there, and all frames
    are led from that again.

    Parameters
    ----------
    moves : of the plate. samples : spots, at least one of the subject. first, last : frames. size : of the plate.
    progress : the share done.

    Raises
    ------
    MaskError : nothing moves at the spots, or none of them is the subject.
    """
    shown = shown_by(moves, samples, size)
    sure = [one for one in shown if one.yes.any()]
    if not sure:
        raise MaskError("Every spot says “not the subject”.", "Click a spot that is.")
    denied = [one for one in shown if not one.yes.any()]
    found = follow_subject(moves, sure, first, last, span(progress, 0.0, 0.5 if denied else 1.0))
    if not denied:
        return found
    for one in denied:
        if one.frame in found and (left := _taken_away(found[one.frame].spots, one.no)).any():
            sure.append(Shown(one.frame, left, one.no))
    return follow_subject(moves, sure, first, last, span(progress, 0.5, 1.0))


def _taken_away(spots: np.ndarray, no: np.ndarray) -> np.ndarray:
    """Return the spots (gh, gw) that are left when what is denied is taken out: the whole part in which it lies, or of
    one that is nearly all of the subject what lies about it.
    """
    _, parts = cv2.connectedComponents(spots.astype(np.uint8))
    hit = np.unique(parts[no & spots])
    whole = np.isin(parts, hit[hit > 0])
    if (spots & ~whole).sum() >= 0.2 * spots.sum():
        return spots & ~whole
    away = cv2.distanceTransform((~no).astype(np.uint8), cv2.DIST_L2, 5)
    inside = cv2.distanceTransform(spots.astype(np.uint8), cv2.DIST_L2, 5)
    return spots & (away > 0.6 * float(inside.max()) + 1.0)


def first_matte(
    moves: Moves, samples: Sequence[Sample], frame: int, size: tuple[int, int], cleaning: Cleaning = Cleaning()
) -> np.ndarray:
    """Return the matte (H, W) bool of one frame, at once: of a clicked frame, or of one not far from it.

    Parameters
    ----------
    moves : of the plate. samples : spots. frame : number. size : of the plate. cleaning : what is done to the matte.

    Raises
    ------
    MaskError : nothing moves at the spots, or the frame lies too far from all of them.
    """
    shown = [one for one in shown_by(moves, samples, size) if one.yes.any()]
    if not shown:
        raise MaskError("Every spot says “not the subject”.", "Click a spot that is.")
    own = [one for one in shown if one.frame == frame]
    if own:
        return matte_of(Seen(start_of(moves, own[0])[0], 1.0), size, cleaning)
    nearest = min(shown, key=lambda one: abs(one.frame - frame))
    if abs(nearest.frame - frame) > FAR_PREVIEW:
        raise MaskError(f"Frame {frame} is far from the spots.", "“This, everywhere” finds it on all frames.")
    low, high = sorted((nearest.frame, frame))
    seen = follow_subject(moves, [nearest], low, high).get(frame)
    return matte_of(seen, size, cleaning) if seen else np.zeros(size[::-1], bool)


def matte_of(seen: Seen, size: tuple[int, int], cleaning: Cleaning) -> np.ndarray:
    """Return a subject's matte (H, W) bool on a frame, cleaned.

    Parameters
    ----------
    seen : its spots. size : width and height of the plate. cleaning : what is done to it.
    """
    return clean(mask_of(seen, size), cleaning)
