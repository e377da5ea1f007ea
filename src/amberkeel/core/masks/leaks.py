"""Frames on which something that moves leaves its mask: what is masked for the most, or on the frames beside it, and
sticks out or lies bare here.
"""

from dataclasses import dataclass

import cv2
import numpy as np

TOLERATED = 1
"""Spots by which what moves may stick out: the grid is no finer."""

CARRIED = 2
"""Spots by which what moves goes on from frame to frame, about."""

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
    out = {f: bodies[f] & ~_wider(masks[f], TOLERATED) for f in frames}
    beside = {f: [covered[k] for k in (f - 1, f, f + 1) if k in covered] for f in frames}
    meant = {f: _touching(out[f], beside[f], NEAR) for f in frames}
    others = {f: out[f] & ~meant[f] for f in frames}
    for way, order in ((-1, frames), (1, frames[::-1])):
        # What was something else a frame before is something else, however little of it is left.
        for f in order:
            if f + way in others and covered[f + way].any():
                others[f] = others[f] | _touching(out[f] & ~others[f], [others[f + way]], CARRIED)
    found = (_leak(f, out[f] & ~others[f]) for f in frames)
    return sorted((one for one in found if one is not None), key=lambda one: -one.share)


def _leak(frame: int, bare: np.ndarray) -> Leak | None:
    """Return what leaves its mask on a frame; None where that is too little."""
    count, parts = cv2.connectedComponents(bare.astype(np.uint8))
    size = np.bincount(parts.ravel(), minlength=count)
    size[0] = 0
    if size.max(initial=0) < LEAST_SPOTS:
        return None
    rows, columns = np.nonzero(parts == int(size.argmax()))
    height, width = bare.shape
    share = float(size[size >= LEAST_SPOTS].sum() / bare.size)
    return Leak(frame, share, float((columns.mean() + 0.5) / width), float((rows.mean() + 0.5) / height))


def _wider(spots: np.ndarray, by: int) -> np.ndarray:
    return cv2.dilate(spots.astype(np.uint8), np.ones((2 * by + 1,) * 2, np.uint8)) > 0


def _touching(out: np.ndarray, those: list[np.ndarray], near: int) -> np.ndarray:
    """Return the parts of some spots (gh, gw) that lie for the most within `near` spots of others."""
    reached = np.zeros_like(out)
    for one in those:
        reached |= _wider(one, near)
    count, parts = cv2.connectedComponents(out.astype(np.uint8))
    size = np.maximum(np.bincount(parts.ravel(), minlength=count), 1)
    touching = np.bincount(parts[out & reached], minlength=count) >= MEANT * size
    touching[0] = False
    return touching[parts]
