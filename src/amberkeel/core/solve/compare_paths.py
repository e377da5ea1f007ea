"""Two cameras of one shot held against each other: after the best alignment, since each solve floats."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import nearest_rotation

LEAST_FRAMES = 3

SHOWN_SHARE = 0.08
"""Share of the path's reach that an enlarged departure takes, about."""


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
    ours, theirs = laid_over(first, second)
    apart = Rotation.from_matrix(np.swapaxes(ours.world_from_camera, 1, 2) @ theirs.world_from_camera).magnitude()
    length = float(np.linalg.norm(np.diff(ours.positions, axis=0), axis=1).sum())
    rows = range(len(ours.frames))
    focal = float(np.median([theirs.lens_at(k).focal_px[0] for k in rows]))
    focal /= float(np.median([ours.lens_at(k).focal_px[0] for k in rows]))
    off = np.linalg.norm(ours.positions - theirs.positions, axis=1)
    return PathDifference(ours.frames, off, apart, length, focal - 1.0)


def laid_over(first: CameraPath, second: CameraPath) -> tuple[CameraPath, CameraPath]:
    """Return two paths on the frames that both have, the second one moved by the best similarity onto the first.

    Raises
    ------
    SolveError : fewer than three frames in common.
    """
    frames = np.intersect1d(first.frames, second.frames)
    if len(frames) < LEAST_FRAMES:
        raise SolveError("The two attempts have no frames in common.", "Compare attempts of the same frames.")
    ours, theirs = (one.taken(np.searchsorted(one.frames, frames)) for one in (first, second))
    turn = nearest_rotation(np.einsum("fij,fkj->ik", ours.world_from_camera, theirs.world_from_camera))
    p, q = ours.positions, theirs.positions @ turn.T
    p0, q0 = p - p.mean(0), q - q.mean(0)
    scale = float((p0 * q0).sum() / max((q0**2).sum(), 1e-300))
    return ours, theirs.moved(scale, turn, p.mean(0) - scale * q.mean(0))


@dataclass(frozen=True)
class Departure:
    """Where a path goes otherwise than another one, enlarged so that it can be seen.

    Attributes
    ----------
    frames : (F,) that both have. before : (F, 3) positions of the first path. after : (F, 3) those of the second, laid
        over the first, its distance from it times `factor`.
    """

    frames: np.ndarray
    before: np.ndarray
    after: np.ndarray
    factor: float


def _round(value: float) -> float:
    """Return the largest of 1, 2 and 5 times a power of ten that is not above a value."""
    power = 10.0 ** np.floor(np.log10(value))
    return float(power * max(step for step in (1.0, 2.0, 5.0) if step * power <= value * (1.0 + 1e-9)))


def departure(first: CameraPath, second: CameraPath) -> Departure:
    """Return where a second path goes otherwise than a first one; raises SolveError like `laid_over`."""
    ours, theirs = laid_over(first, second)
    off = theirs.positions - ours.positions
    usual = float(np.percentile(np.linalg.norm(off, axis=1), 90))
    reach = float(np.linalg.norm(np.ptp(ours.positions, axis=0)))
    factor = 1.0 if usual < 1e-9 * max(reach, 1e-9) else max(1.0, _round(SHOWN_SHARE * reach / usual))
    return Departure(ours.frames, ours.positions, ours.positions + factor * off, factor)
