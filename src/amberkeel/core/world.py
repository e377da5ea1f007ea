"""The datum: what fixes the scene's coordinates. Ground, origin and scale from solved points."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError

METRES = {"mm": 0.001, "cm": 0.01, "m": 1.0, "in": 0.0254, "ft": 0.3048}
"""Metres in each unit a distance may be typed in."""


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

    def camera(self, path: CameraPath) -> CameraPath:
        """Return the camera path in the world."""
        return path.moved(self.scale, self.rotation, self.translation)


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
) -> Datum:
    """Make the datum from chosen points in the solve's coordinates.

    Parameters
    ----------
    ground : (N, 3) points that become Y = 0, N >= 3, or None for the solve's own level.
    origin : (3,) the point that becomes (0, 0, 0); on a ground it gives X and Z only.
    scale : two points (3,) and the distance between them in metres, or None for the solve's own scale.

    The heading keeps the first camera looking along -Z.
    """
    rotation, factor, rms = np.eye(3), 1.0, None
    if scale is not None:
        a, b, metres = scale
        apart = float(np.linalg.norm(a - b))
        if not metres > 0.0:
            raise WorldError("The distance must be more than zero.", "Type the distance as measured on set.")
        if apart < 1e-9:
            raise WorldError("The two points for the scale are one and the same.", "Choose two points well apart.")
        factor = metres / apart
    anchor = path.positions[0] if origin is None else origin
    if ground is not None:
        if len(ground) < 3:
            raise WorldError("A ground needs three points.", "Select three or more tracks on the ground.")
        centre, up, rms = fit_plane(ground)
        if ((path.positions - centre) @ up).mean() < 0.0:
            up = -up
        rotation = _upright(up, path.world_from_camera[0][:, 2])
        anchor = anchor - ((anchor - centre) @ up) * up
    elif origin is None:
        anchor = np.zeros(3)
    return Datum(factor, rotation, -factor * rotation @ anchor, None if rms is None else rms * factor)


def _upright(up: np.ndarray, forward: np.ndarray) -> np.ndarray:
    """Return the rotation that makes `up` Y and looks along -Z where `forward` points."""
    back = -(forward - (forward @ up) * up)
    if np.linalg.norm(back) < 1e-6:
        back = np.cross(up, [1.0, 0.0, 0.0])
    back = back / np.linalg.norm(back)
    return np.stack([np.cross(up, back), up, back])


def card_outlines(path: CameraPath, centre: np.ndarray, side: float, squares: int = 8, pieces: int = 3) -> list:
    """Return a checker card on the ground as it falls on each frame.

    Parameters
    ----------
    path : the camera in the world. centre : (3,) the card's middle, metres, on Y = its own height.
    side : the card's side in world units. squares : along a side. pieces : of each square's edge, to follow the lens.

    Returns
    -------
    For each frame a list of (M, 2) pixel outlines of the dark squares that lie wholly in front of the camera.
    """
    step = side / squares
    edge = np.arange(pieces) / pieces
    ring = np.concatenate(
        [
            np.stack([edge, 0 * edge], 1), np.stack([1 + 0 * edge, edge], 1),
            np.stack([1 - edge, 1 + 0 * edge], 1), np.stack([0 * edge, 1 - edge], 1),
        ]
    )  # fmt: skip
    dark = [(i, j) for i in range(squares) for j in range(squares) if (i + j) % 2 == 0]
    corners = np.array([[(ring + ij) * step - side / 2] for ij in np.array(dark, float)])[:, 0]
    xyz = np.zeros((*corners.shape[:2], 3))
    xyz[..., 0], xyz[..., 2] = corners[..., 0], corners[..., 1]
    xyz += centre
    frames = []
    for row in range(len(path.frames)):
        camera = path.to_camera(xyz.reshape(-1, 3), row)
        px = path.lens.project(camera).reshape(*corners.shape)
        ahead = (camera[:, 2].reshape(corners.shape[:2]) > 0.05 * side).all(1)
        near = (np.abs(px - np.array(path.lens.principal_px)) < 1.6 * path.lens.width).all((1, 2))
        frames.append([p for p, ok in zip(px, ahead & near) if ok])
    return frames
