"""A camera's path as curves: position, pan, tilt, roll and focal length over frames, each with its sigma."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.shifts import Shifts

NAMES = ("x", "y", "z", "pan", "tilt", "roll")
"""Curves: position along the world's axes in its unit, then degrees: pan to the right, tilt up, roll clockwise."""


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
    own = _values(path)
    if shifts is None or not len(shifts):
        return [CameraCurve(name, own[k], None) for k, name in enumerate(NAMES)]
    moved = np.array([_values(shifts.camera(path, k)) for k in range(len(shifts))]) - own
    moved[:, 3:] = (moved[:, 3:] + 180.0) % 360.0 - 180.0
    sigma = np.sqrt(shifts.variance(moved**2))
    return [CameraCurve(name, own[k], sigma[k]) for k, name in enumerate(NAMES)]


def _values(path: CameraPath) -> np.ndarray:
    """Return the curves (6, F) of a path, angles in degrees without jumps."""
    right, down, ahead = (path.world_from_camera[:, :, k] for k in range(3))
    pan = np.unwrap(np.arctan2(ahead[:, 0], -ahead[:, 2]))
    tilt = np.arcsin(np.clip(ahead[:, 1], -1.0, 1.0))
    roll = np.unwrap(np.arctan2(-right[:, 1], -down[:, 1]))
    return np.concatenate([path.positions.T, np.degrees([pan, tilt, roll])])
