"""A plate whose pictures stay in memory once they are read, where they are few and small."""

from dataclasses import dataclass, field, fields
from threading import Lock

import numpy as np

from amberkeel.core.plate.plate import Plate

MOST_BYTES = 256 << 20
"""Memory that a plate's pictures may take; larger plates are read from disk each time."""


@dataclass
class KeptPlate(Plate):
    """A plate of which every picture is decoded once; several threads may ask for one."""

    _pictures: dict[int, np.ndarray] = field(default_factory=dict, repr=False)
    _reading: dict[int, Lock] = field(default_factory=dict, repr=False)

    def read(self, frame: int) -> np.ndarray:
        """Return a frame as (H, W, 3) uint8 sRGB, which must not be changed; raises PlateError as `Plate.read`."""
        with self._reading.setdefault(frame, Lock()):
            if frame not in self._pictures:
                self._pictures[frame] = super().read(frame)
                self._pictures[frame].setflags(write=False)
            return self._pictures[frame]


def kept(plate: Plate) -> Plate:
    """Return a plate that keeps its pictures, or the plate itself where they would take too much memory."""
    if 3 * plate.width * plate.height * len(plate.frames) > MOST_BYTES:
        return plate
    return KeptPlate(**{one.name: getattr(plate, one.name) for one in fields(plate)})
