"""A plate's pictures at the size at which motion is looked at, and dense flow between neighbouring frames.

Flow from frame to frame is short, so it is right where flow over many frames is lost; chains of it reach further. Dense
inverse search (Kroeger et al. 2016, OpenCV), forwards and backwards, so that either can be checked by the other.
"""

from collections import OrderedDict
from collections.abc import Callable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from threading import local

import cv2
import numpy as np

from amberkeel.core.plate.plate import Plate

ANALYSIS_WIDTH = 640
"""Pictures wider than this are looked at at this width."""

LARGEST_SHARE, NARROWEST = 0.75, 480
"""Share of a plate's width at which it is looked at at the most, down to a width: what moves shows as well there, in
half the time.
"""

SOFTEN_PX = 0.7
"""Sigma of the blur that takes the edge off grain, analysis pixels."""

_mine = local()


def shrunk(picture: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """Return a picture at a size (width, height) not above its own."""
    if picture.shape[1::-1] == size:
        return picture
    return cv2.resize(picture, size, interpolation=cv2.INTER_AREA)


SHORT = 120
"""Frames up to which all flow of a plate is kept in memory: at most 0.6 GB."""


class FlowReader:
    """Pictures and flows of a plate's frames, the last `keep` of them kept."""

    def __init__(self, plate: Plate, keep: int):
        self.plate, self.keep = plate, keep
        self.scale = min(1.0, max(LARGEST_SHARE, NARROWEST / plate.width), ANALYSIS_WIDTH / plate.width)
        self.size = round(plate.width * self.scale), round(plate.height * self.scale)
        self._pool = ThreadPoolExecutor(2)
        self._beside = ThreadPoolExecutor(1)
        self._begun: Future | None = None
        self._pictures: OrderedDict[int, tuple[np.ndarray, np.ndarray]] = OrderedDict()
        self._flows: OrderedDict[tuple[int, int], np.ndarray] = OrderedDict()

    def picture(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """Return a frame's colours (h, w, 3) uint8 and its luma (h, w) uint8, a little softened."""
        if frame not in self._pictures:
            self._put(self._pictures, frame, self._look(frame), self.keep)
        return self._pictures[frame]

    def flow(self, frame: int, to: int) -> np.ndarray:
        """Return the flow (h, w, 2) float32 from a frame to a neighbouring one, analysis pixels."""
        if (frame, to) not in self._flows:
            self._put(self._flows, (frame, to), _flow(self.picture(frame)[1], self.picture(to)[1]), 2 * self.keep)
        return self._flows[frame, to]

    def begin(self, after: Callable[[], object] | None = None) -> None:
        """Begin to find all flow of a short plate beside other work, once, and then do what comes after it; nothing for
        a long one.
        """
        if len(self.plate.frames) > SHORT:
            return
        if self._begun is None:
            # One thread: the work beside which this is done comes first.
            self._begun = self._beside.submit(self.prepare, self.plate.frames.tolist(), map)
        if after is not None:
            self._begun = self._beside.submit(after)

    def finish(self) -> None:
        """Wait for what was begun last; raises what went wrong in it."""
        if self._begun is not None:
            self._begun.result()

    def prepare(self, frames: list[int], each: Callable[..., Iterable] | None = None) -> None:
        """Bring in what is lacking of a run of neighbouring frames, pictures and flows both ways.

        Parameters
        ----------
        frames : neighbouring ones. each : as `map`; on two threads where it is left out.
        """
        each = each or self._pool.map
        self.keep = max(self.keep, len(frames))
        lacking = [f for f in frames if f not in self._pictures]
        for frame, looked in zip(lacking, each(self._look, lacking)):
            self._put(self._pictures, frame, looked, self.keep)
        pairs = [(a, b) for n in zip(frames, frames[1:]) for a, b in (n, n[::-1]) if (a, b) not in self._flows]
        lumas = [(self.picture(a)[1], self.picture(b)[1]) for a, b in pairs]
        for pair, made in zip(pairs, each(lambda two: _flow(*two), lumas)):
            self._put(self._flows, pair, made, 2 * self.keep)

    def _look(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        colours = shrunk(self.plate.read(frame), self.size)
        return colours, cv2.GaussianBlur(cv2.cvtColor(colours, cv2.COLOR_RGB2GRAY), (0, 0), SOFTEN_PX)

    @staticmethod
    def _put(kept: OrderedDict, key, made, most: int) -> None:
        kept[key] = made
        while len(kept) > most:
            kept.popitem(last=False)


def _flow(before: np.ndarray, after: np.ndarray) -> np.ndarray:
    """Return the flow between two lumas. One reader of flow belongs to each thread: OpenCV's are not shared."""
    if not hasattr(_mine, "flow"):
        _mine.flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST)
        _mine.flow.setFinestScale(1)
        _mine.flow.setPatchStride(4)
        _mine.flow.setVariationalRefinementIterations(0)
    return _mine.flow.calc(before, after, None)
