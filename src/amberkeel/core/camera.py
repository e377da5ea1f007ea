"""A solved or simulated camera: one pose a frame and one lens."""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.lens import Lens

ROW_PASSES = 4
"""Passes of finding the row in which a point is seen; each gains two digits at the speeds of a hand-held camera."""


@dataclass(frozen=True)
class CameraPath:
    """Poses of a camera over frames.

    Attributes
    ----------
    frames : (F,) int, the plate's own frame numbers, rising.
    positions : (F, 3) camera centres in the world, metres (or the solve's own unit).
    world_from_camera : (F, 3, 3) rotations; columns are the camera's axes in the world.
    lens : the lens, the same on all frames but for a zoom.
    zoom : (F,) what the lens's focal length is multiplied by on each frame, or None where it stays.
    readout : share of the frame interval that passes between the first and the last row; a pose is its middle row's.
    """

    frames: np.ndarray
    positions: np.ndarray
    world_from_camera: np.ndarray
    lens: Lens
    zoom: np.ndarray | None = None
    readout: float = 0.0

    def lens_at(self, row: int) -> Lens:
        """Return the lens of a row."""
        return self.lens if self.zoom is None else self.lens.with_focal(self.lens.focal_px[0] * float(self.zoom[row]))

    def normalise(self, px: np.ndarray, row: int | np.ndarray) -> np.ndarray:
        """Take pixels (N, 2) of `row` (one row, or (N,) rows) to undistorted normalised coordinates (N, 2)."""
        return self.lens.normalise(self._scaled(px, row, -1.0))

    def _scaled(self, px: np.ndarray, row: int | np.ndarray, power: float) -> np.ndarray:
        """Return pixels moved about the optical centre by the zoom (`power` 1) or against it (-1)."""
        if self.zoom is None:
            return px
        centre = np.array(self.lens.principal_px)
        return centre + (px - centre) * (np.asarray(self.zoom)[row] ** power)[..., None]

    def taken(self, rows: np.ndarray) -> "CameraPath":
        """Return the path of some rows (K,) alone, rising."""
        zoom = None if self.zoom is None else self.zoom[rows]
        return replace(
            self,
            frames=self.frames[rows],
            positions=self.positions[rows],
            world_from_camera=self.world_from_camera[rows],
            zoom=zoom,
        )

    def index_of(self, frame: int) -> int:
        """Return the row of a frame number; raises KeyError when the path has no such frame."""
        at = int(np.searchsorted(self.frames, frame))
        if at == len(self.frames) or self.frames[at] != frame:
            raise KeyError(frame)
        return at

    def rows_of(self, frames: np.ndarray) -> np.ndarray:
        """Return the rows (N,) of frame numbers (N,), -1 where the path has no such frame."""
        at = np.minimum(np.searchsorted(self.frames, frames), len(self.frames) - 1)
        return np.where(self.frames[at] == frames, at, -1)

    def to_camera(self, xyz: np.ndarray, row: int | np.ndarray) -> np.ndarray:
        """Take world points (N, 3) to the camera frame of `row` (one row, or (N,) rows) as (N, 3)."""
        offset = xyz - self.positions[row]
        if np.ndim(row) == 0:
            return offset @ self.world_from_camera[row]
        return np.einsum("nji,nj->ni", self.world_from_camera[row], offset)

    def project(self, xyz: np.ndarray, row: int | np.ndarray) -> np.ndarray:
        """Project world points (N, 3) into `row` (one row, or (N,) rows) as pixels (N, 2)."""
        return self._scaled(self.lens.project(self.to_camera(xyz, row)), row, 1.0)

    def project_read(self, xyz: np.ndarray, row: int | np.ndarray) -> np.ndarray:
        """Project world points (N, 3) into `row` (one row, or (N,) rows) as pixels (N, 2), each seen when its own row
        is read.
        """
        px = self.project(xyz, row)
        if not self.readout:
            return px
        rows, points = np.broadcast_to(row, len(xyz)), np.concatenate([xyz, np.ones((len(xyz), 1))], 1)
        for _ in range(ROW_PASSES):
            px = self.project_homogeneous(points, rows, px[:, 1])
        return px

    def seen(self, xyz: np.ndarray, row: int | np.ndarray, edge: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
        """Return where world points (N, 3) are seen in `row` (one row, or (N,) rows), pixels (N, 2), each when its own
        row is read, and which lie before the camera and in the picture, (N,) bool.

        Parameters
        ----------
        xyz : (N, 3). row : of the path. edge : how far from the picture's edge they must lie, pixels.
        """
        with np.errstate(all="ignore"):
            px, ahead = self.project_read(xyz, row), self.to_camera(xyz, row)[:, 2] > 0.0
        return px, ahead & self.lens.holds(px, edge)

    def project_homogeneous(self, points: np.ndarray, row: np.ndarray, y: np.ndarray | None = None) -> np.ndarray:
        """Project points (N, 4), at infinity where the fourth is 0, into rows (N,) as pixels (N, 2); NaN behind.

        Parameters
        ----------
        points : (N, 4). row : (N,) rows of the path. y : (N,) pixels, where each is seen, for a rolling shutter; the
            middle of the picture when None.
        """
        positions, rotations = self.positions[row], self.world_from_camera[row]
        if self.readout and y is not None and len(self.frames) > 1:
            times = row_times(y, self.lens.height, self.readout)
            rotations, positions = poses_at(self.world_from_camera, self.positions, row, times)
        away = points[:, :3] - points[:, 3:] * positions
        camera = np.einsum("nji,nj->ni", rotations, away)
        return self._scaled(self.lens.project(camera), row, 1.0)

    def moved(self, scale: float, rotation: np.ndarray, translation: np.ndarray) -> "CameraPath":
        """Return the path in another world: ``x_new = scale * rotation @ x + translation``.

        Parameters
        ----------
        scale : metres, or new units, a unit. rotation : (3, 3), new_from_old. translation : (3,) in new units.
        """
        return replace(
            self,
            positions=scale * self.positions @ rotation.T + translation,
            world_from_camera=rotation @ self.world_from_camera,
        )


def row_times(y: np.ndarray, height: float, readout: float) -> np.ndarray:
    """Return when rows are read, (N,) frames after their frame's middle row, -1 to 1.

    Parameters
    ----------
    y : (N,) pixels. height : of the picture, pixels. readout : share of the frame interval from first to last row.
    """
    return np.clip(readout * (y / height - 0.5), -1.0, 1.0)


def poses_at(
    rotations: np.ndarray, positions: np.ndarray, rows: np.ndarray, times: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return poses between frames, rotations (N, 3, 3) and positions (N, 3).

    Parameters
    ----------
    rotations : (F, 3, 3) world_from_camera. positions : (F, 3). rows : (N,) int, frames. times : (N,) offsets from
        those frames, in frames, -1 to 1; before the first and after the last frame the motion goes on as it was.
    """
    last = len(positions) - 1
    step = np.where(times >= 0.0, 1, -1)
    step = np.where((rows + step < 0) | (rows + step > last), -step, step)
    share = times * step
    turn = Rotation.from_matrix(np.swapaxes(rotations[rows], 1, 2) @ rotations[rows + step]).as_rotvec()
    turned = rotations[rows] @ Rotation.from_rotvec(share[:, None] * turn).as_matrix()
    return turned, positions[rows] + share[:, None] * (positions[rows + step] - positions[rows])
