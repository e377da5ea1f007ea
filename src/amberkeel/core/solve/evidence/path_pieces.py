"""What is known of the camera's path: how hard it can accelerate, and orientations that are given."""

from dataclasses import dataclass, field, replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.geometry.rotations import cross_matrices
from amberkeel.core.solve.evidence.piece import MemberPiece, Piece, Placed
from amberkeel.core.solve.terms import Figure, Rows, Unknowns
from amberkeel.core.solve.unknowns import POSITION, ROTATION, WORLD


@dataclass(frozen=True)
class Turned(MemberPiece):
    """Cameras whose orientation is known; sigma (G, 3) is in radians about the camera's own axes.

    Attributes
    ----------
    world_from_camera : (G, 3, 3).
    """

    world_from_camera: np.ndarray = field(kw_only=True)
    by_member = ("world_from_camera",)
    unit = "°"

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The cameras' turns and the world's."""
        return Unknowns(ROTATION, self.members.rows), Unknowns(WORLD, np.zeros(len(self.members.rows), np.int64))

    def measured(self, bundle: Placed) -> Rows:
        """Return the rotation vectors (G, 3) from what is known to what is solved, in the camera's frame."""
        now = bundle.world.world_from_solve @ bundle.rotations[self.members.rows]
        off = rotation_vectors(np.swapaxes(self.world_from_camera, 1, 2) @ now)
        inverse = inverse_right_jacobians(off)
        by_world = np.zeros((len(off), 3, 7))
        by_world[:, :, :3] = inverse @ np.swapaxes(now, 1, 2)
        return Rows(off, (inverse, by_world))

    def figures(self, bundle: Placed) -> list[Figure]:
        """Return the usual figure, in degrees."""
        return [replace(f, found=float(np.degrees(f.found))) for f in super().figures(bundle)]


@dataclass(frozen=True)
class SmoothPath(Piece):
    """A camera that accelerates little: second differences over three neighbouring frames.

    Attributes
    ----------
    rows : (G, 3) rows of cameras on neighbouring frames. per_second2 : frames a second, squared.
    """

    rows: np.ndarray = field(kw_only=True)
    per_second2: float = field(kw_only=True)

    def within(self, cameras: np.ndarray, points: np.ndarray) -> "SmoothPath | None":
        """Return the piece for those frames that are in a part of the problem; see `Term.within`."""
        rows = cameras[self.rows]
        kept = (rows >= 0).all(1)
        shift = self.shift[kept] if isinstance(self.shift, np.ndarray) else self.shift
        return replace(self, rows=rows[kept], shift=shift) if kept.any() else None

    def _unknowns(self, block: str) -> tuple[Unknowns, ...]:
        return tuple(Unknowns(block, self.rows[:, k]) for k in range(3))


@dataclass(frozen=True)
class SmoothPosition(SmoothPath):
    """Accelerations of the camera, world units a second squared."""

    unit = "m/s²"

    def unknowns(self) -> tuple[Unknowns, ...]:
        """Three positions and the world's scale."""
        return *self._unknowns(POSITION), Unknowns(WORLD, np.zeros(len(self.rows), np.int64))

    def measured(self, bundle: Placed) -> Rows:
        """Return the accelerations (G, 3), in the solve's axes."""
        a, b, c = (bundle.centres[self.rows[:, k]] for k in range(3))
        gain = self.per_second2 * bundle.world.scale
        off = gain * (a - 2.0 * b + c)
        each = np.tile(gain * np.eye(3), (len(off), 1, 1))
        by_world = np.zeros((len(off), 3, 7))
        by_world[:, :, 6] = off
        return Rows(off, (each, -2.0 * each, each, by_world))


@dataclass(frozen=True)
class SmoothRotation(SmoothPath):
    """Angular accelerations of the camera, radians a second squared."""

    unit = "°/s²"

    def unknowns(self) -> tuple[Unknowns, ...]:
        """Three turns."""
        return self._unknowns(ROTATION)

    def measured(self, bundle: Placed) -> Rows:
        """Return the differences (G, 3) of two neighbouring turns, each in the camera's frame."""
        a, b, c = (bundle.rotations[self.rows[:, k]] for k in range(3))
        early = rotation_vectors(np.swapaxes(a, 1, 2) @ b)
        late = rotation_vectors(np.swapaxes(b, 1, 2) @ c)
        right_early, right_late = inverse_right_jacobians(early), inverse_right_jacobians(late)
        left_early, left_late = inverse_right_jacobians(-early), inverse_right_jacobians(-late)
        gain = self.per_second2
        return Rows(gain * (late - early), (gain * left_early, -gain * (left_late + right_early), gain * right_late))

    def figures(self, bundle: Placed) -> list[Figure]:
        """Return the usual figure, in degrees."""
        return [replace(f, found=float(np.degrees(f.found))) for f in super().figures(bundle)]


def rotation_vectors(rotations: np.ndarray) -> np.ndarray:
    """Return the rotation vectors (G, 3) of rotations (G, 3, 3), radians."""
    return Rotation.from_matrix(rotations).as_rotvec()


def inverse_right_jacobians(vectors: np.ndarray) -> np.ndarray:
    """Return the inverses (G, 3, 3) of the right Jacobians of SO(3) at rotation vectors (G, 3) (Chirikjian 2012)."""
    angle = np.linalg.norm(vectors, axis=1)[:, None, None]
    cross = cross_matrices(vectors)
    small = angle < 1e-4
    safe = np.where(small, 1.0, angle)
    curl = np.where(small, 1.0 / 12.0, 1.0 / safe**2 - (1.0 + np.cos(safe)) / (2.0 * safe * np.sin(safe)))
    return np.eye(3) + 0.5 * cross + curl * (cross @ cross)
