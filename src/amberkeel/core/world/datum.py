"""The datum: what fixes the scene's coordinates. Ground, origin and scale from solved points."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.geometry.rotations import nearest_rotation
from amberkeel.core.points import PointSet


@dataclass(frozen=True)
class Datum:
    """A similarity from the solve's coordinates to the world's: ``x_world = scale * rotation @ x + translation``.

    `ground_rms` is the distance of the ground's points from it in world units, or None without a ground.
    """

    scale: float
    rotation: np.ndarray
    translation: np.ndarray
    ground_rms: float | None = None

    def apply(self, xyz: np.ndarray) -> np.ndarray:
        """Take points (..., 3) from the solve's coordinates to the world's."""
        return self.scale * xyz @ self.rotation.T + self.translation

    def points(self, points: PointSet) -> PointSet:
        """Return points of the solve in the world."""
        return points.moved(self.scale, self.rotation, self.translation)

    def camera(self, path: CameraPath) -> CameraPath:
        """Return the camera path in the world."""
        return path.moved(self.scale, self.rotation, self.translation)


@dataclass(frozen=True)
class DrawnAxes:
    """What drawn axis lines tell of the world.

    `rotations` holds ``world_from_camera`` (3, 3) by frame. `position` is a frame and the camera's position there (3,),
    metres from the origin above the floor, or None where no length was measured.
    """

    rotations: dict[int, np.ndarray]
    position: tuple[int, np.ndarray] | None = None


IDENTITY = Datum(1.0, np.eye(3), np.zeros(3))


def fit_plane(xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Return (centre, unit normal, RMS distance) of the plane through points (N, 3), N >= 3.

    Raises WorldError when the points lie on a line.
    """
    centre = xyz.mean(0)
    _, spread, axes = np.linalg.svd(xyz - centre)
    if len(xyz) < 3 or spread[1] < 0.02 * spread[0]:
        raise WorldError("These points lie on a line.", "Choose three or more points spread over the ground.")
    return centre, axes[2], float(np.sqrt((((xyz - centre) @ axes[2]) ** 2).mean()))


def make_datum(
    path: CameraPath,
    ground: np.ndarray | None = None,
    origin: np.ndarray | None = None,
    scale: tuple[np.ndarray, np.ndarray, float] | None = None,
    axes: DrawnAxes | None = None,
) -> Datum:
    """Make the datum from chosen points in the solve's coordinates and from drawn axis lines.

    Parameters
    ----------
    ground : (N, 3) points that become Y = 0, N >= 3, or None for the level of the axis lines, or else the solve's own.
    origin : (3,) the point that becomes (0, 0, 0); on a ground it gives X and Z only.
    scale : two points (3,) and the distance between them in metres, or None. axes : what axis lines tell, or None.

    The heading is that of the axis lines; without them the first camera looks along -Z. Where the lines tell the
    camera's position, its height over a ground gives a scale that is not given otherwise, and with any scale it gives
    the origin.
    """
    rotation, rms, up, centre = np.eye(3), None, None, None
    drawn = _turned(path, axes) if axes else None
    if drawn is not None:
        rotation = drawn
    if ground is not None:
        centre, up, rms = _ground(path, ground)
        rotation = _upright(up, path.world_from_camera[0][:, 2] if drawn is None else -drawn[2])
    at = _stated_position(path, axes)
    factor = 1.0 if scale is None else _scale(*scale)
    if scale is None and at is not None and up is not None and centre is not None:
        factor = _scale_by_height(at, up, centre)
    if origin is not None:
        anchor = origin
    elif at is not None and (scale is not None or up is not None):
        anchor = at[0] - rotation.T @ at[1] / factor
    else:
        anchor = np.zeros(3) if ground is None else path.positions[0]
    if up is not None:
        anchor = anchor - ((anchor - centre) @ up) * up
    return Datum(factor, rotation, -factor * rotation @ anchor, None if rms is None else rms * factor)


def _scale(a: np.ndarray, b: np.ndarray, metres: float) -> float:
    """Return metres a unit of the solve, from two of its points and their distance."""
    apart = float(np.linalg.norm(a - b))
    if not metres > 0.0:
        raise WorldError("The distance must be more than zero.", "Type the distance as measured on set.")
    if apart < 1e-9:
        raise WorldError("The two points for the scale are one and the same.", "Choose two points well apart.")
    return metres / apart


def _ground(path: CameraPath, points: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Return a ground's centre, its normal towards the camera, and its RMS distance."""
    if len(points) < 3:
        raise WorldError("A ground needs three points.", "Select three or more tracks on the ground.")
    centre, up, rms = fit_plane(points)
    return centre, -up if ((path.positions - centre) @ up).mean() < 0.0 else up, rms


def _turned(path: CameraPath, axes: DrawnAxes) -> np.ndarray | None:
    """Return the rotation from the solve's to the world's axes that agrees best with the lines; None where no frame of
    theirs is solved.
    """
    rows = {int(frame): row for row, frame in enumerate(path.frames)}
    both = [
        rotation @ path.world_from_camera[rows[frame]].T for frame, rotation in axes.rotations.items() if frame in rows
    ]
    return nearest_rotation(np.sum(both, axis=0)) if both else None


def _stated_position(path: CameraPath, axes: DrawnAxes | None) -> tuple[np.ndarray, np.ndarray] | None:
    """Return the solved camera's position and where lines say that it stands, metres, on the same frame; None without
    such.
    """
    if axes is None or axes.position is None:
        return None
    row = np.nonzero(path.frames == axes.position[0])[0]
    return (path.positions[row[0]], axes.position[1]) if len(row) else None


def _scale_by_height(at: tuple[np.ndarray, np.ndarray], up: np.ndarray, centre: np.ndarray) -> float:
    height = float((at[0] - centre) @ up)
    if height < 1e-9 or at[1][1] <= 0.0:
        raise WorldError(
            "The camera does not stand above the floor that the lines tell.",
            "Is the measured line on the ground? Clear the datum, or draw it anew.",
        )
    return float(at[1][1]) / height


def _upright(up: np.ndarray, forward: np.ndarray) -> np.ndarray:
    """Return the rotation that makes `up` Y and looks along -Z where `forward` points."""
    back = -(forward - (forward @ up) * up)
    if np.linalg.norm(back) < 1e-6:
        back = np.cross(up, [1.0, 0.0, 0.0])
    back = back / np.linalg.norm(back)
    return np.stack([np.cross(up, back), up, back])
