"""A camera's path as curves: position, pan, tilt, roll and focal length over frames, each with its sigma."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.shifts import Shifts

NAMES = ("x", "y", "z", "pan", "tilt", "roll", "along", "across", "up")
"""Curves: position along the world's axes in its unit; degrees: pan right, tilt up, roll clockwise; then position along
and across the direction of travel over the ground, and up.
"""


@dataclass(frozen=True)
class CameraCurve:
    """One curve: `values` and one `sigma` of each (F,), the first camera held; sigma is None where it is unknown."""

    name: str
    values: np.ndarray
    sigma: np.ndarray | None


def camera_curves(path: CameraPath, shifts: Shifts | None) -> list[CameraCurve]:
    """Return the curves of a path.

    Parameters
    ----------
    path : in a world whose Y is up. shifts : how it moves when part of the tracks is left out, in the same world.
    """
    ahead = _travel(path)
    own = _values(path, ahead)
    if shifts is None or not len(shifts):
        return [CameraCurve(name, own[k], None) for k, name in enumerate(NAMES)]
    moved = np.array([_values(shifts.camera(path, k), ahead) for k in range(len(shifts))]) - own
    moved[:, 3:6] = (moved[:, 3:6] + 180.0) % 360.0 - 180.0
    sigma = np.sqrt(shifts.variance(moved**2))
    return [CameraCurve(name, own[k], sigma[k]) for k, name in enumerate(NAMES)]


def _travel(path: CameraPath) -> np.ndarray:
    """Return the direction of travel over the ground, (3,): the longest extent of the path, from its start on."""
    ground = path.positions[:, [0, 2]] - path.positions[:, [0, 2]].mean(0)
    way = np.linalg.svd(ground, full_matrices=False)[2][0] if len(ground) > 1 else np.array([0.0, -1.0])
    way = way if way @ (ground[-1] - ground[0]) >= 0.0 else -way
    return np.array([way[0], 0.0, way[1]])


def _values(path: CameraPath, travel: np.ndarray) -> np.ndarray:
    """Return the curves (9, F) of a path, angles in degrees without jumps.

    Parameters
    ----------
    path : in a world whose Y is up. travel : (3,) its direction over the ground.
    """
    right, down, ahead = (path.world_from_camera[:, :, k] for k in range(3))
    pan = np.unwrap(np.arctan2(ahead[:, 0], -ahead[:, 2]))
    tilt = np.arcsin(np.clip(ahead[:, 1], -1.0, 1.0))
    roll = np.unwrap(np.arctan2(-right[:, 1], -down[:, 1]))
    side = np.cross(travel, [0.0, 1.0, 0.0])
    moved = path.positions - path.positions[0]
    way = np.stack([moved @ travel, moved @ side, moved[:, 1]])
    return np.concatenate([path.positions.T, np.degrees([pan, tilt, roll]), way])
