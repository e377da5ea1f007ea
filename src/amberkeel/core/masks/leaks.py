"""Frames on which something that moves leaves its mask: what is masked for the most, or on the frames beside it, and
sticks out or lies bare here.
"""

from dataclasses import dataclass

import cv2
import numpy as np

TOLERATED = 1
"""Spots by which what moves may stick out: the grid is no finer."""

LEAST_SPOTS = 3
"""Spots that must stick out."""

NEAR, MEANT = 3, 0.5
"""Spots from what is masked of it within which a part that sticks out must lie for the most to count as meant to be
masked: what else moves beside it reaches further.
"""


@dataclass(frozen=True)
class Leak:
    """Something that moves and is not masked on a frame: how large it is, as a share of the picture, and where its
    middle lies, as shares of the picture's width and height.
    """

    frame: int
    share: float
    x: float
    y: float


def leaks(bodies: dict[int, np.ndarray], masks: dict[int, np.ndarray]) -> list[Leak]:
    """Return the frames on which something that moves leaves its mask, the largest leak first.

    What no mask covers on any frame beside it was never meant to be masked, and is no leak.

    Parameters
    ----------
    bodies : by frame, spots (gh, gw) bool that move. masks : by frame, spots (gh, gw) bool that are masked.
    """
    frames = sorted(bodies.keys() & masks.keys())
    covered = {f: bodies[f] & masks[f] for f in frames}
    out = []
    for frame in frames:
        bare = _bare(bodies[frame], masks[frame], [covered[k] for k in (frame - 1, frame + 1) if k in covered])
        count, parts = cv2.connectedComponents(bare.astype(np.uint8))
        size = np.bincount(parts.ravel(), minlength=count)
        size[0] = 0
        if size.max(initial=0) < LEAST_SPOTS:
            continue
        rows, columns = np.nonzero(parts == int(size.argmax()))
        height, width = bare.shape
        out.append(
            Leak(
                frame,
                float(size[size >= LEAST_SPOTS].sum() / bare.size),
                float((columns.mean() + 0.5) / width),
                float((rows.mean() + 0.5) / height),
            )
        )
    return sorted(out, key=lambda one: -one.share)


def _bare(body: np.ndarray, mask: np.ndarray, beside: list[np.ndarray]) -> np.ndarray:
    """Return which spots of what moves ought to be masked and are not: parts that stick out and lie where, on this
    frame or on one beside it, what moves is masked.
    """
    wider = cv2.dilate(mask.astype(np.uint8), np.ones((2 * TOLERATED + 1,) * 2, np.uint8)) > 0
    out = body & ~wider
    near = np.ones((2 * NEAR + 1,) * 2, np.uint8)
    reached = np.zeros_like(body)
    for one in (body & mask, *beside):
        reached |= cv2.dilate(one.astype(np.uint8), near) > 0
    count, parts = cv2.connectedComponents(out.astype(np.uint8))
    size = np.maximum(np.bincount(parts.ravel(), minlength=count), 1)
    meant = np.bincount(parts[out & reached], minlength=count) >= MEANT * size
    meant[0] = False
    return meant[parts]
