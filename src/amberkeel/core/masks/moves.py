"""What moves on a plate's frames, as subjects, outlines and spots ask for it."""

from collections.abc import Callable

import cv2
import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.evidence import EvidenceReader, Readers
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.leads import grid_of
from amberkeel.core.masks.looks import BINS
from amberkeel.core.masks.moving import region_of


class Moves:
    """What moves on a plate's frames: known, or found when it is asked for and kept."""

    def __init__(
        self,
        flows: FlowReader,
        known: dict[int, np.ndarray] | None = None,
        reader: Callable[[], EvidenceReader | Readers] | None = None,
    ):
        self.flows, self._make = flows, reader
        self.grid = grid_of(flows)
        # What was found at another size of the pictures is found anew.
        self.bodies = {f: spots for f, spots in (known or {}).items() if spots.shape == self.grid[::-1]}
        self._reader: EvidenceReader | Readers | None = None

    def body(self, frame: int) -> np.ndarray:
        """Return the spots (gh, gw) bool of a frame that do not stand still; raises MaskError where that is not known
        and cannot be found.
        """
        if frame not in self.bodies:
            if self._make is None:
                raise MaskError(f"What moves on frame {frame} is not known yet.", "Ask what moves first.")
            self._reader = self._reader or self._make()
            evidence = self._reader.read(frame)
            self.bodies[frame] = np.zeros(self.grid[::-1], bool) if evidence is None else region_of(evidence)[0]
        return self.bodies[frame]

    def colours(self, frame: int) -> np.ndarray:
        """Return the bin of each spot's colour (gh, gw)."""
        small = cv2.resize(self.flows.picture(frame)[0], self.grid, interpolation=cv2.INTER_AREA)
        cells = (small.astype(np.int64) * BINS) // 256
        return (cells[..., 0] * BINS + cells[..., 1]) * BINS + cells[..., 2]

    def moved(self, frame: int, to: int) -> np.ndarray:
        """Return where each spot of a frame was on a neighbouring one before it, (gh, gw, 2) spots from it."""
        width, height = self.grid
        pitch = self.flows.size[0] / width
        return cv2.resize(self.flows.flow(to, frame), (width, height), interpolation=cv2.INTER_AREA) / pitch

    def carried(self, values: np.ndarray, frame: int, to: int) -> np.ndarray:
        """Return values (gh, gw) of a frame as they lie on a neighbouring one, by flow."""
        back = self.moved(frame, to)
        height, width = back.shape[:2]
        x, y = np.meshgrid(np.arange(width, dtype=np.float32), np.arange(height, dtype=np.float32))
        maps = (x + back[..., 0]).astype(np.float32), (y + back[..., 1]).astype(np.float32)
        return cv2.remap(values.astype(np.float32), *maps, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
