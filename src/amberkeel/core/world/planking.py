"""A plane shown in the picture: planks laid on it around a spot, with a mast upright on them."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath

PLANKS = 6
LENGTH_SHARE = 0.3
"""Length of the planks over the distance from the camera, before it is rounded."""

BREADTH = 0.8
"""Of all planks together, over their length."""

MAST = 0.35
"""Height of the mast over the planks' length."""

PIECES = 8
"""Pieces of a plank's long side, so that it bends as the lens does."""

ROUND = (1.0, 2.0, 5.0, 10.0)


@dataclass(frozen=True)
class Planking:
    """Planks in the picture: `planks`, each an outline (M, 2) pixels; `mast` (2, 2), foot and head; `ahead` (3, 2), a
    mark at the end that points where the world's -Z goes; `length` of the planks in world units.
    """

    planks: list[np.ndarray]
    mast: np.ndarray
    ahead: np.ndarray
    length: float


def planking(
    path: CameraPath, row: int, at: np.ndarray, normal: np.ndarray, ahead: np.ndarray, length: float | None = None
) -> Planking:
    """Return planks on a plane as a frame sees them.

    Parameters
    ----------
    path : the camera in the world. row : of it. at : (3,) the middle of the planks. normal : (3,) of the plane, towards
        the camera. ahead : (3,) where the planks point; its part in the plane counts. length : of the planks in world
        units; a round one that looks right from the camera when None.
    """
    if length is None:
        length = _round_below(LENGTH_SHARE * float(np.linalg.norm(at - path.positions[row])))
    along = ahead - (ahead @ normal) * normal
    if np.linalg.norm(along) < 1e-3:
        along = -path.world_from_camera[row][:, 1]
        along = along - (along @ normal) * normal
    along = along / np.linalg.norm(along)
    across = np.cross(along, normal)
    wide, steps = BREADTH * length / PLANKS, np.linspace(-0.5, 0.5, PIECES + 1)
    outlines = []
    for k in range(PLANKS):
        # Every other plank is a little longer: ends that are not flush tell the heading.
        reach = length * (1.0 if k % 2 else 0.94)
        left, right = (k - PLANKS / 2) * wide, (k + 1 - PLANKS / 2) * wide
        sides = [np.stack([reach * s, np.full(len(s), side)], 1) for s, side in ((steps, left), (steps[::-1], right))]
        outlines.append(np.concatenate(sides))
    tip = np.array([[0.54, -0.07], [0.66, 0.0], [0.54, 0.07]]) * length

    def seen(flat: np.ndarray) -> np.ndarray:
        xyz = at + flat[:, :1] * along + flat[:, 1:] * across
        camera = path.to_camera(xyz, row)
        return np.where(camera[:, 2:] > 0.02 * length, path.project(xyz, row), np.nan)

    drawn = [seen(outline) for outline in outlines]
    mast = path.project(np.stack([at, at + MAST * length * normal]), row)
    return Planking([one for one in drawn if np.isfinite(one).all()], mast, seen(tip), length)


def _round_below(length: float) -> float:
    """Return the roundest length not above another: 1, 2 or 5 with zeros."""
    ten = 10.0 ** np.floor(np.log10(max(length, 1e-12)))
    return float(ten * max(step for step in ROUND if step * ten <= length * (1.0 + 1e-9)))
