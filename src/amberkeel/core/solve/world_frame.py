"""From the solve's own coordinates to the world's, and shapes of the world: unknowns that only evidence speaks of.

A solve floats in seven degrees. Evidence is stated in a world: coordinates, heights, metres. The similarity between the
two is an unknown like any other, so that evidence which fixes part of it only says just that part and bends nothing.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.projection import tangent

WORLD_SIZE = 7
"""Turn (3), shift (3), and log scale."""


@dataclass(frozen=True)
class World:
    """``x_world = scale * world_from_solve @ x + shift``.

    Attributes
    ----------
    scale : world units a unit of the solve. world_from_solve : (3, 3). shift : (3,) world units.
    free : (7,) bool, which of turn, shift and log scale the evidence fixes. held : the solve's own coordinates are the
    world's, and known points hold its gauge.
    """

    scale: float = 1.0
    world_from_solve: np.ndarray = field(default_factory=lambda: np.eye(3))
    shift: np.ndarray = field(default_factory=lambda: np.zeros(3))
    free: np.ndarray = field(default_factory=lambda: np.zeros(WORLD_SIZE, bool))
    held: bool = False

    @property
    def known(self) -> bool:
        """Whether anything is known of it."""
        return self.held or bool(self.free.any())

    def apply(self, xyz: np.ndarray) -> np.ndarray:
        """Take positions (N, 3) of the solve to the world."""
        return self.scale * xyz @ self.world_from_solve.T + self.shift

    def derivative(self, world_xyz: np.ndarray) -> np.ndarray:
        """Return the derivative (N, 3, 7) of world positions (N, 3) by a step of this similarity."""
        away, out = world_xyz - self.shift, np.zeros((len(world_xyz), 3, WORLD_SIZE))
        out[:, 0, 1], out[:, 0, 2] = away[:, 2], -away[:, 1]
        out[:, 1, 0], out[:, 1, 2] = -away[:, 2], away[:, 0]
        out[:, 2, 0], out[:, 2, 1] = away[:, 1], -away[:, 0]
        out[:, :, 3:6], out[:, :, 6] = np.eye(3), away
        return out

    def stepped(self, step: np.ndarray) -> "World":
        """Return the similarity after a step (7,): turn about its shift, shift, log scale."""
        turned = rotation_exp(np.ascontiguousarray(step[:3])) @ self.world_from_solve
        return replace(
            self, scale=self.scale * float(np.exp(np.clip(step[6], -0.5, 0.5))), world_from_solve=turned,
            shift=self.shift + step[3:6],
        )  # fmt: skip


@dataclass(frozen=True)
class Plane:
    """A plane of the world, ``normal · x = offset``; `free` (3,) bool: both tangents of the normal, and the offset."""

    normal: np.ndarray
    offset: float
    free: np.ndarray = field(default_factory=lambda: np.ones(3, bool))

    block = "plane"

    def stepped(self, step: np.ndarray) -> "Plane":
        """Return the plane after a step (3,) along the tangents of its normal, and of its offset."""
        normal = self.normal + tangents(self.normal) @ step[:2]
        return replace(self, normal=normal / np.linalg.norm(normal), offset=self.offset + float(step[2]))


@dataclass(frozen=True)
class Line:
    """A line of the world through `point` (3,), along the last column of `frame` (3, 3), a rotation."""

    point: np.ndarray
    frame: np.ndarray
    free: np.ndarray = field(default_factory=lambda: np.ones(5, bool))

    block = "line"

    def stepped(self, step: np.ndarray) -> "Line":
        """Return the line after a step (5,): its point, and its direction along both other columns of the frame."""
        turn = rotation_exp(np.array([-step[4], step[3], 0.0]))
        return replace(self, point=self.point + step[:3], frame=self.frame @ turn)


@dataclass(frozen=True)
class Spot:
    """A spot of the world, `point` (3,)."""

    point: np.ndarray
    free: np.ndarray = field(default_factory=lambda: np.ones(3, bool))

    block = "spot"

    def stepped(self, step: np.ndarray) -> "Spot":
        """Return the spot after a step (3,)."""
        return replace(self, point=self.point + step)


Shape = Plane | Line | Spot


def tangents(direction: np.ndarray) -> np.ndarray:
    """Return two unit vectors square to a direction and to each other, (3, 2)."""
    basis = np.zeros((3, 2))
    tangent(np.ascontiguousarray(direction, float), basis)
    return basis
