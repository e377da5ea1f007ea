"""Solving with a lens whose distortion is held: measurements are straightened first and residuals bent back.

The map from pixels to straightened pixels ``principal + focal * x_u`` stays what it was measured to be, whatever focal
length the solve then finds: coefficients of degree n grow with the n-th power of the focal length.
"""

from dataclasses import replace

import numpy as np

from amberkeel.core.lens import Lens
from amberkeel.core.tracks import TrackSet

_DEGREES = np.array([2, 4, 6, 1, 1, 2, 0, 2, 2, 4, 4, 4, 2, 2, 4, 4, 4])
"""Degree of each coefficient in focal length, in the order of `lens.kernels`."""


def with_focal(lens: Lens, focal_px: float) -> Lens:
    """Return a lens with another focal length along x and the same map of pixels to straightened pixels."""
    share = focal_px / lens.focal_px[0]
    moved = lens.with_coefficients(lens.coefficients * share**_DEGREES)
    return replace(moved, focal_px=(lens.focal_px[0] * share, lens.focal_px[1] * share))


def straight_px(lens: Lens, px: np.ndarray) -> np.ndarray:
    """Take pixels (N, 2) to straightened pixels (N, 2)."""
    return lens.normalise(px) * np.array(lens.focal_px) + np.array(lens.principal_px)


def bent_px(lens: Lens, straight: np.ndarray) -> np.ndarray:
    """Take straightened pixels (N, 2) to pixels (N, 2)."""
    focal, principal = np.array(lens.focal_px), np.array(lens.principal_px)
    return lens.distort((straight - principal) / focal) * focal + principal


def straightened(tracks: TrackSet, lens: Lens) -> TrackSet:
    """Return tracks in straightened pixels, their noise grown as the picture is stretched there."""
    straight = straight_px(lens, tracks.xy)
    step = 0.5
    along = [
        straight_px(lens, tracks.xy + d) - straight_px(lens, tracks.xy - d)
        for d in (np.array([step, 0.0]), np.array([0.0, step]))
    ]
    stretch = np.sqrt(np.abs(along[0][:, 0] * along[1][:, 1] - along[0][:, 1] * along[1][:, 0])) / (2.0 * step)
    return replace(tracks, xy=straight, sigma=tracks.sigma * stretch)
