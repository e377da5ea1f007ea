"""Two cameras of one shot held against each other: after the best alignment, since each solve floats."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import nearest_rotation

LEAST_FRAMES = 3


@dataclass(frozen=True)
class PathDifference:
    """By how much two cameras differ.

    Attributes
    ----------
    frames (F,) : that both have. position (F,) : distances after the best similarity, in units of the first path.
    turn (F,) : angles after it, radians. length : of the first path, its unit. focal : ratio of the focal lengths
        (second over first), minus 1.
    """

    frames: np.ndarray
    position: np.ndarray
    turn: np.ndarray
    length: float
    focal: float

    @property
    def position_rms(self) -> float:
        """RMS distance, in units of the first path."""
        return float(np.sqrt((self.position**2).mean()))

    @property
    def position_share(self) -> float:
        """RMS distance over the length of the first path; 0 for a camera that stays."""
        return self.position_rms / self.length if self.length > 0.0 else 0.0

    @property
    def turn_rms(self) -> float:
        """RMS angle, radians."""
        return float(np.sqrt((self.turn**2).mean()))


def path_difference(first: CameraPath, second: CameraPath) -> PathDifference:
    """Return by how much two camera paths differ after the best similarity between them (Umeyama 1991).

    The rotation of that similarity is taken from the cameras' orientations, which fix it where positions lie on a
    line; scale and shift from the positions.

    Raises
    ------
    SolveError : fewer than three frames in common.
    """
    frames = np.intersect1d(first.frames, second.frames)
    if len(frames) < LEAST_FRAMES:
        raise SolveError("The two attempts have no frames in common.", "Compare attempts of the same frames.")
    a, b = np.searchsorted(first.frames, frames), np.searchsorted(second.frames, frames)
    ours, theirs = first.world_from_camera[a], second.world_from_camera[b]
    turn = nearest_rotation(np.einsum("fij,fkj->ik", ours, theirs))
    p, q = first.positions[a], second.positions[b] @ turn.T
    p0, q0 = p - p.mean(0), q - q.mean(0)
    scale = float((p0 * q0).sum() / max((q0**2).sum(), 1e-300))
    apart = Rotation.from_matrix(np.swapaxes(ours, 1, 2) @ (turn @ theirs)).magnitude()
    length = float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum())
    focal = float(np.median([second.lens_at(int(k)).focal_px[0] for k in b]))
    focal /= float(np.median([first.lens_at(int(k)).focal_px[0] for k in a]))
    return PathDifference(frames, np.linalg.norm(p0 - scale * q0, axis=1), apart, length, focal - 1.0)
