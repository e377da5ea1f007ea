"""Proof of a straightened plate on its own picture: straightened and bent back, a frame must be what it was."""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.handoff.scene import Camera
from amberkeel.core.lens import Lens
from amberkeel.core.lens.picture import Canvas, Resampler, redistort_map, undistort_map
from amberkeel.core.plate.plate import Plate

MOST_PX, MOST_CODES = 0.05, 1.5
"""Difference of places, and RMS difference of 8-bit code values, up to which a plate and its inverse are one."""

BORDER_PX = 8
"""Border that is left out: a kernel reaches beyond it into nothing."""


@dataclass(frozen=True)
class PlateProof:
    """What bending a straightened frame back showed: largest difference of places, pixels; RMS of code values of 8 bit;
    on which frame.
    """

    frame: int
    px: float
    codes: float

    @property
    def holds(self) -> bool:
        """Whether the plate and its inverse are one."""
        return self.px <= MOST_PX and self.codes <= MOST_CODES


def prove_plate(plate: Plate, filmed: Camera, canvas: Canvas, kernel: str = "cubic") -> PlateProof:
    """Return what bending the middle frame of a straightened plate back shows.

    Parameters
    ----------
    plate : as it was filmed. filmed : its camera, with the lens that bends it. canvas : of the straightened pictures.
        kernel : by which they are resampled.
    """
    lens, frame = filmed.path.lens, int(plate.frames[len(plate.frames) // 2])
    picture = plate.read(frame)
    there = Resampler(undistort_map(lens, canvas), kernel)(picture)
    again = Resampler(redistort_map(lens, canvas), kernel)(there)
    whole = 65535.0 if picture.dtype == np.uint16 else 255.0 if picture.dtype == np.uint8 else 1.0
    inside = slice(BORDER_PX, -BORDER_PX)
    off = 255.0 / whole * (again.astype(float) - picture.astype(float))[inside, inside]
    return PlateProof(frame, _places_off(lens, canvas), float(np.sqrt((off**2).mean())))


def _places_off(lens: Lens, canvas: Canvas) -> float:
    """Return by how many pixels a place lies off after both maps, at the most inside the picture."""
    forth, back = undistort_map(lens, canvas), redistort_map(lens, canvas)
    x, y = np.moveaxis(back - 0.5, -1, 0).astype(np.float32)
    there = cv2.remap(forth.astype(np.float32), x, y, cv2.INTER_LINEAR)
    v, u = np.mgrid[: lens.height, : lens.width] + 0.5
    off = np.hypot(there[..., 0] - u, there[..., 1] - v)[BORDER_PX:-BORDER_PX, BORDER_PX:-BORDER_PX]
    return float(np.nanmax(off))
