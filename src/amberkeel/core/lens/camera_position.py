"""Where the camera stands, from axis lines: one of them of a measured length gives the scale, a pixel gives the origin.

The line's two rays and its direction lie in one triangle, whose third side is measured. An origin that is no end of the
line lies on one floor with the line's lower end.
"""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens.drawn import AXES, DrawnLine
from amberkeel.core.lens.fit import LensFit
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.model import Lens

SAME_PX = 1.0
"""Distance below which an origin is the end of the measured line, pixels."""

FLAT = 0.01
"""Least slope of the origin's ray against the floor: flatter ones meet it too far away to say where."""

STEP_PX, STEP = 0.05, 1e-6
"""Steps of the derivatives: of pixels, and of everything else."""


@dataclass(frozen=True)
class CameraPosition:
    """Where a camera stands: (3,) metres from the origin along the world's axes, one sigma of each, distance and its
    sigma.
    """

    xyz: np.ndarray
    sigma: np.ndarray
    distance: float
    distance_sigma: float


def camera_position(fit: LensFit, line: DrawnLine, metres: float, origin: np.ndarray | None = None) -> CameraPosition:
    """Return where the camera stands on a line's frame.

    Parameters
    ----------
    fit : the lens and the rotation that lines tell. line : an axis line, `metres` long from its first to its last
        point.
    origin : (2,) pixel of the world's origin on that frame; the line's lower end when None, of a level line its
        first point.

    Raises
    ------
    LensError : a line that does not serve, or an origin that cannot lie on the line's floor.
    """
    if line.axis not in AXES or line.frame not in fit.rotations:
        raise LensError(f"{line.name or 'The line'} runs along no axis.", "Measure a line along X, Y or Z.")
    if not fit.focal_known:
        raise LensError("Without a focal length no place can be told.", "Draw lines along a second direction.")
    ends = np.array([line.points[0], line.points[-1]], float)
    apart = np.full(2, np.inf) if origin is None else np.linalg.norm(ends - origin, axis=1)
    at_end = int(apart.argmin()) if apart.min() < SAME_PX else None
    pixels = ends if origin is None or at_end is not None else np.vstack([ends, origin])
    axis = AXES.index(line.axis)

    def position(lens: Lens, rotation: np.ndarray, where: np.ndarray) -> np.ndarray:
        return _position(lens, rotation, where, axis, metres, at_end)

    lens, rotation = fit.lens, fit.rotations[line.frame]
    xyz = position(lens, rotation, pixels)
    slopes, noise = [], np.zeros((0, 0))
    if len(fit.covariance):
        noise = _own_covariance(fit, line.frame)
        for name in fit.free:
            ahead, behind = (_turned_lens(lens, name, s) for s in (STEP, -STEP))
            slopes.append((position(ahead, rotation, pixels) - position(behind, rotation, pixels)) / (2.0 * STEP))
        for turn in np.eye(3):
            ahead, behind = (rotation @ rotation_exp(s * turn) for s in (STEP, -STEP))
            slopes.append((position(lens, ahead, pixels) - position(lens, behind, pixels)) / (2.0 * STEP))
    for step in STEP_PX * np.eye(pixels.size).reshape(-1, *pixels.shape):
        slopes.append(
            (position(lens, rotation, pixels + step) - position(lens, rotation, pixels - step)) / (2.0 * STEP_PX)
        )
    j = np.array(slopes).T
    own = max(line.sigma, fit.noise_px) ** 2
    covariance = j[:, : len(noise)] @ noise @ j[:, : len(noise)].T + own * j[:, len(noise) :] @ j[:, len(noise) :].T
    distance = float(np.linalg.norm(xyz))
    towards = xyz / max(distance, 1e-12)
    return CameraPosition(
        xyz, np.sqrt(np.diagonal(covariance)), distance, float(np.sqrt(towards @ covariance @ towards))
    )


def _position(
    lens: Lens, rotation: np.ndarray, pixels: np.ndarray, axis: int, metres: float, at_end: int | None
) -> np.ndarray:
    """Return the camera's position (3,) in metres from the origin; `at_end` says which end of the line that is."""
    rays = np.column_stack([lens.normalise(pixels), np.ones(len(pixels))]) @ rotation.T
    start, end = rays[0], rays[1]
    # start * a + metres * axis = end * b, by least squares; of the axis's two senses the one before the camera.
    sides = np.stack([start, -end], 1)
    depths = np.linalg.lstsq(sides, -metres * np.eye(3)[axis], rcond=None)[0]
    if depths[0] < 0.0:
        depths = -depths
    if not (depths > 0.0).all():
        raise LensError("The measured line runs past the camera.", "Measure one that lies wholly in front of it.")
    both = rays[:2] * depths[:, None]
    lower = both[np.argmin(both[:, 1])] if axis == 1 else both[0]
    if at_end is not None:
        return -both[at_end]
    if len(rays) < 3:
        return -lower
    down = rays[2] / np.linalg.norm(rays[2])
    if down[1] * np.sign(lower[1]) < FLAT:
        raise LensError(
            "The origin does not lie on the measured line's floor: it is too near the horizon, or beyond it.",
            "Put it lower in the picture, or on the line's end.",
        )
    return -down * lower[1] / down[1]


def _turned_lens(lens: Lens, name: str, step: float) -> Lens:
    """Return the lens with one of its free values a step on; a focal length by its logarithm."""
    if name == "focal":
        return replace(lens, focal_px=(lens.focal_px[0] * np.exp(step), lens.focal_px[1] * np.exp(step)))
    c = lens.coefficients
    c[INDEX[name]] += step
    return lens.with_coefficients(c)


def _own_covariance(fit: LensFit, frame: int) -> np.ndarray:
    """Return the covariance of the free values of the lens and of one frame's turn."""
    count = len(fit.free)
    at = count + 3 * sorted(fit.rotations).index(frame)
    own = np.r_[:count, at : at + 3]
    return fit.covariance[np.ix_(own, own)]
