"""What is known of directions: lines drawn over the plate that run along the world's axes."""

from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.geometry.rotations import cross_matrices
from amberkeel.core.solve.evidence.piece import MemberPiece, Placed
from amberkeel.core.solve.radial_lens import FOCAL, LENS_NAMES, ROW_NAMES, ROW_SIZE, RadialLens
from amberkeel.core.solve.terms import Rows, Unknowns
from amberkeel.core.solve.unknowns import ROTATION, WORLD

STEP = 1e-6
"""Step of a lens value, over its size, by which its derivative is taken."""


@dataclass(frozen=True)
class AlongAxes(MemberPiece):
    """Drawn lines that run along axes of the world; sigma is in pixels.

    A line's end is off by half the line's length times the sine of the angle, in the picture, between the line and the
    direction of its vanishing point from its middle (Förstner and Wrobel 2016, 12.3).

    Attributes
    ----------
    ends : (G, 2, 2) pixels of both ends. axes : (G, 3) unit vectors of the world. The members are the lines' cameras.
    """

    ends: np.ndarray = field(kw_only=True)
    axes: np.ndarray = field(kw_only=True)
    by_member = ("ends", "axes")
    unit = "px"

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The cameras' turns, the world's, and the lens."""
        count = len(self.members.rows)
        lens = (Unknowns(name, np.zeros(count, np.int64)) for name in LENS_NAMES)
        return Unknowns(ROTATION, self.members.rows), Unknowns(WORLD, np.zeros(count, np.int64)), *lens

    def measured(self, bundle: Placed) -> Rows:
        """Return by how many pixels each line's ends are off (G, 1)."""
        rows = bundle.lens_rows()[self.members.rows]
        to_world = bundle.world.world_from_solve @ bundle.rotations[self.members.rows]
        seen = np.einsum("gba,gb->ga", to_world, self.axes)
        off, by_seen = self._off(rows, seen)
        by_turn = np.einsum("ga,gab->gb", by_seen, cross_matrices(seen))
        by_world = np.zeros((len(off), 7))
        by_world[:, :3] = np.einsum("ga,gba,gbc->gc", by_seen, to_world, cross_matrices(self.axes))
        by_lens = [self._by_lens(rows, seen, name) for name in LENS_NAMES]
        return Rows(off[:, None], tuple(d[:, None] for d in (by_turn, by_world, *by_lens)))

    def _off(self, rows: np.ndarray, seen: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return by how many pixels the ends are off (G,) for lens rows (G, 11) and axes in the camera's frame (G, 3),
        and the derivative (G, 3) by those.
        """
        a, b = (_rays(self.ends[:, k], rows) for k in (0, 1))
        normal, middle = _unit(np.cross(a, b)), _unit(a + b)
        along = np.cross(normal, middle)
        half = 0.5 * np.linalg.norm(self.ends[:, 1] - self.ends[:, 0], axis=1)
        u, v = (normal * seen).sum(1), (along * seen).sum(1)
        reach = np.maximum(np.hypot(u, v), 1e-9)
        gain = half * v / reach**3
        return half * u / reach, gain[:, None] * (v[:, None] * normal - u[:, None] * along)

    def _by_lens(self, rows: np.ndarray, seen: np.ndarray, name: str) -> np.ndarray:
        """Return the derivative (G, 1) by one value of the lens, of the focal length by its logarithm."""
        at = ROW_NAMES.index(name)
        size = rows[0, FOCAL] if name in ("focal", "cx", "cy") else 1.0
        both = []
        for way in (STEP, -STEP):
            moved = rows.copy()
            moved[:, at] += way * (rows[:, FOCAL] if name == "focal" else size)
            both.append(self._off(moved, seen)[0])
        step = 2.0 * STEP * (1.0 if name == "focal" else size)
        return ((both[0] - both[1]) / step)[:, None]


def axis_directions(piece: AlongAxes, placed: Placed) -> dict[int, np.ndarray]:
    """Return the direction (3,) in the solve's coordinates of each axis that lines run along, by its number, of either
    sense: square to the planes through the lines, in least squares.
    """
    rows = placed.lens_rows()[piece.members.rows]
    normals = _unit(np.cross(_rays(piece.ends[:, 0], rows), _rays(piece.ends[:, 1], rows)))
    half = np.linalg.norm(piece.ends[:, 1] - piece.ends[:, 0], axis=1)
    normals = np.einsum("gab,gb->ga", placed.rotations[piece.members.rows], normals) * half[:, None]
    out = {}
    for axis in range(3):
        own = piece.axes[:, axis] == 1.0
        if own.sum() > 1:
            out[axis] = np.linalg.svd(normals[own])[2][2]
    return out


def _rays(px: np.ndarray, rows: np.ndarray) -> np.ndarray:
    """Return rays (G, 3) of pixels (G, 2), each through its own lens row (G, 11)."""
    out = np.ones((len(px), 3))
    for row in np.unique(rows, axis=0):
        own = (rows == row).all(1)
        lens = RadialLens(**dict(zip(ROW_NAMES, row[: ROW_SIZE - 1].tolist())), aspect=float(row[-1]))
        out[own, :2] = lens.as_lens(1, 1).normalise(px[own])
    return out


def _unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12)
