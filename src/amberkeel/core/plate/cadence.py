"""Frames that repeat the one before, and places where frames are lacking, found by how the picture moves.

A doubled frame differs from the one before it by far less than its neighbours do from theirs. Where a frame was dropped
the picture moves about twice as far as before and after; that is told only where it moves evenly, since a hand's own
jerks look alike.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.plate.sequence import spans

SMALL_WIDTH = 240
"""Width in pixels at which frames are compared."""

AROUND = 4
"""Frames to each side that a frame is compared with."""

DOUBLED = 0.12
"""Share of the usual difference between frames below which a frame repeats the one before."""

LEAST_DIFFERENCE = 0.15
"""Usual difference in code values below which nothing is told: nothing moves, and there is no grain."""

LEAST_SHIFT = 0.75
"""Usual shift in pixels of the small picture below which dropped frames are not told."""

EVEN = 0.2
"""Share of the usual shift by which the shifts around a gap may differ from it."""


@dataclass(frozen=True)
class Cadence:
    """Frames that repeat the one before, and frames before which another is lacking, by index from 0."""

    doubled: tuple[int, ...]
    dropped: tuple[int, ...]


def small(gray: np.ndarray) -> np.ndarray:
    """Return a frame's luma (H, W) uint8 as it is compared: (h, w) float32, at most SMALL_WIDTH wide."""
    scale = min(1.0, SMALL_WIDTH / gray.shape[1])
    size = max(8, round(gray.shape[1] * scale)), max(8, round(gray.shape[0] * scale))
    return cv2.resize(gray, size, interpolation=cv2.INTER_AREA).astype(np.float32)


class CadenceWatch:
    """Takes frames in their order and tells in the end which were doubled or lack one before; keeps one frame only."""

    def __init__(self):
        self._before: np.ndarray | None = None
        self._differences: list[float] = []
        self._shifts: list[tuple[float, float]] = []
        self._window: np.ndarray | None = None

    def see(self, gray: np.ndarray) -> None:
        """Take the next frame's luma (H, W) uint8."""
        now = small(gray)
        if self._before is not None:
            if self._window is None:
                self._window = cv2.createHanningWindow(now.shape[::-1], cv2.CV_32F)
            self._differences.append(float(np.abs(now - self._before).mean()))
            # Copies, since the function lays the window on what it is given.
            (x, y), _ = cv2.phaseCorrelate(self._before.copy(), now.copy(), self._window)
            self._shifts.append((x, y))
        self._before = now

    def told(self) -> Cadence:
        """Return what was found."""
        return Cadence(doubled_of(np.array(self._differences)), dropped_of(np.array(self._shifts).reshape(-1, 2)))


def doubled_of(differences: np.ndarray) -> tuple[int, ...]:
    """Return the frames that repeat the one before, by index from 0.

    Parameters
    ----------
    differences : (F - 1,) mean absolute difference of each frame to the one before, code values.
    """
    out = []
    for k in range(1, len(differences) - 1):
        before, after = differences[max(0, k - AROUND) : k], differences[k + 1 : k + AROUND + 1]
        # On both sides: a camera that comes to rest, or starts from it, repeats nothing.
        usual = float(min(np.median(before), np.median(after)))
        if usual >= LEAST_DIFFERENCE and differences[k] < DOUBLED * usual:
            out.append(k + 1)
    return tuple(out)


def dropped_of(shifts: np.ndarray) -> tuple[int, ...]:
    """Return the frames before which one is lacking, by index from 0.

    Parameters
    ----------
    shifts : (F - 1, 2) shift of each frame against the one before, pixels.
    """
    out = []
    for k in range(2, len(shifts) - 2):
        around = shifts[[k - 2, k - 1, k + 1, k + 2]]
        usual = around.mean(0)
        speed = float(np.linalg.norm(usual))
        if speed < LEAST_SHIFT or np.linalg.norm(around - usual, axis=1).max() > EVEN * speed:
            continue
        if np.linalg.norm(shifts[k] - 2.0 * usual) < EVEN * speed:
            out.append(k + 1)
    return tuple(out)


def cadence_words(found: Cadence, frames: np.ndarray) -> list[str]:
    """Return what was found in words, of a plate with these frame numbers (F,)."""
    out = []
    if found.doubled:
        which, one = spans(int(frames[k]) for k in found.doubled), len(found.doubled) == 1
        out.append(f"Frame {which} repeats the one before." if one else f"Frames {which} repeat the ones before.")
    if found.dropped:
        out.append(f"A frame seems to be lacking before {spans(int(frames[k]) for k in found.dropped)}.")
    return out
