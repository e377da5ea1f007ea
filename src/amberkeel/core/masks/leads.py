"""Where flow leads the spots of a frame on the frames about it: nothing of it needs a camera, so it is found beside."""

from collections import OrderedDict

import numpy as np

from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.still import lead

PITCH = 5
"""Analysis pixels between spots."""

OFFSETS = (-12, -6, -2, 2, 6, 12)
"""Frames from the one looked at to those compared with."""

NEAREST = 2
"""The nearest of them."""

BESIDE = 1
"""At the plate's ends, the frame on the other side that is looked at too: what is about to be covered, or was just
uncovered, is seen on near frames alone.
"""

REACH = 12
"""The furthest of them."""

KEPT = 2 * REACH + 4
"""Frames whose pictures and flows are kept while a plate is worked through."""

SLACK_PX, SLACK_SHARE = 0.35, 0.04
"""How far a spot led there and back may miss itself, analysis pixels and as a share of its way."""


def grid_of(flows: FlowReader) -> tuple[int, int]:
    """Return how many spots lie across and down the pictures."""
    return flows.size[0] // PITCH, flows.size[1] // PITCH


def spots_of(flows: FlowReader) -> np.ndarray:
    """Return the spots (N, 2) of a frame, analysis pixels."""
    across, down = grid_of(flows)
    x, y = np.meshgrid(np.arange(across), np.arange(down))
    return (np.stack([x.ravel(), y.ravel()], 1) + 0.5) * PITCH


def partners_of(frame: int, first: int, last: int) -> list[int]:
    """Return the frames that one is compared with, rising.

    Parameters
    ----------
    frame : looked at. first, last : of the plate.
    """
    partners = {frame + k for k in OFFSETS}
    partners |= {frame + BESIDE} if frame - NEAREST < first else set()
    partners |= {frame - BESIDE} if frame + NEAREST > last else set()
    return sorted(other for other in partners if first <= other <= last)


class Leads:
    """Where the spots of a plate's frames lie on the frames about them, by flow; found when asked, or ahead of it."""

    def __init__(self, flows: FlowReader):
        self.flows, self.spots = flows, spots_of(flows)
        self._kept: OrderedDict[int, tuple[list[int], np.ndarray, np.ndarray]] = OrderedDict()

    def partners(self, frame: int) -> list[int]:
        """Return the plate's frames that one is compared with, rising."""
        return partners_of(frame, *self.flows.plate.frames[[0, -1]].tolist())

    def begin(self) -> None:
        """Find those of a short plate beside other work, once its flow is there."""
        self.flows.begin(lambda: [self.of(frame) for frame in self.flows.plate.frames.tolist()])

    def of(self, frame: int) -> tuple[list[int], np.ndarray, np.ndarray]:
        """Return the plate's frames that one is compared with, in order, where flow leads the spots on them (N, K, 2),
        and to which it does (N, K).
        """
        if frame not in self._kept:
            self._kept[frame] = self._led(frame)
            while len(self._kept) > self.flows.keep:
                self._kept.popitem(last=False)
        return self._kept[frame]

    def _led(self, frame: int) -> tuple[list[int], np.ndarray, np.ndarray]:
        partners = self.partners(frame)
        first, last = min([frame, *partners]), max([frame, *partners])
        self.flows.prepare(list(range(first, last + 1)))
        out = np.zeros((len(self.spots), len(partners), 2))
        alive = np.zeros(out.shape[:2], bool)
        for way, end in ((1, last), (-1, first)):
            xy, on = self.spots.copy(), np.ones(len(self.spots), bool)
            for at in range(frame, end, way):
                ahead, back = self.flows.flow(at, at + way), self.flows.flow(at + way, at)
                lead(ahead, back, xy, on, SLACK_PX, SLACK_SHARE)
                if at + way in partners:
                    k = partners.index(at + way)
                    out[:, k], alive[:, k] = xy, on
        return partners, out, alive
