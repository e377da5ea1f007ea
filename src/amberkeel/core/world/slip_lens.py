"""What places measured for slip say of the focal length: a camera adjusted to them alone, begun from the solve's.

A wrong focal length that was held hides from slip itself: cameras and points shift until hardly anything slides. Where
the places' own paths determine it, though, they want another one, and they served nowhere in the solve.
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import KeelError
from amberkeel.core.solve.recipe import NO_ROWS, Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet, from_pieces
from amberkeel.core.world.slip import REFERENCE_PX, MeasuredSlip

LEAST_PLACES = 20
"""Places without which nothing is said."""

CLEAR_SIGMAS, CLEAR_SHARE = 4.0, 0.005
"""By how many sigmas, and by which share, the focal length must differ to be called wrong."""


@dataclass(frozen=True)
class FocalSaid:
    """A focal length by measured places alone, pixels, its sigma, and the solve's."""

    focal_px: float
    sigma: float
    solved: float

    @property
    def share(self) -> float:
        """By which share it is more than the solve's."""
        return self.focal_px / self.solved - 1.0

    @property
    def sigmas(self) -> float:
        """By how many sigmas it is more than the solve's."""
        return (self.focal_px - self.solved) / self.sigma

    @property
    def contradicts(self) -> bool:
        """Whether it says that the solve's is wrong."""
        return abs(self.sigmas) > CLEAR_SIGMAS and abs(self.share) > CLEAR_SHARE


def focal_by_slip(path: CameraPath, measured: MeasuredSlip) -> FocalSaid | None:
    """Return the focal length that measured places want, None where they are too few or do not determine it.

    Parameters
    ----------
    path : the solve's camera, in the world of the places. measured : their slip against it.
    """
    if len(measured.spots) < LEAST_PLACES or path.zoom is not None:
        return None
    lens = path.lens
    recipe = Recipe(begin=path, check_share=0.0, rows=NO_ROWS, pixel_aspect=lens.focal_px[0] / lens.focal_px[1])
    try:
        found = solve_tracks(_tracks(path, measured), path.frames, lens.width, lens.height, recipe)
    except KeelError:
        return None
    value = next((v for v in found.lens_report.values if v.name == "focal"), None)
    if value is None or not value.sigma or not np.isfinite(value.sigma):
        return None
    return FocalSaid(float(value.value), float(value.sigma), float(lens.focal_px[0]))


def _tracks(path: CameraPath, measured: MeasuredSlip) -> TrackSet:
    """Return the places as they were found on the plate, as tracks."""
    pieces, rows = [], np.arange(len(path.frames))
    for spot, px, sigma in zip(measured.spots, measured.px, measured.sigma):
        on = rows[np.isfinite(px[:, 0])]
        at = path.project(np.repeat(spot.xyz[None], len(on), 0), on) + px[on]
        pieces.append((path.frames[on], at, np.maximum(sigma[on], REFERENCE_PX), np.ones(len(on))))
    return from_pieces([f"place {k + 1}" for k in range(len(pieces))], pieces)
