"""What all pieces of evidence share: a sigma, a robust or an exact hold, and where their points are in the world."""

from dataclasses import dataclass, field, replace
from typing import Protocol, Self

import numpy as np

from amberkeel.core.solve.terms import Figure, Rows, Unknowns
from amberkeel.core.solve.unknowns import POINT_BLOCK, POSITION, WORLD
from amberkeel.core.solve.world_frame import Shape, World, tangents

BENDS = 4.0
"""Sigmas at which the Cauchy loss of a loose piece bends: what is plainly wrong must not bend the camera."""


class Placed(Protocol):
    """Cameras and points that evidence is held against: a bundle, or a whole problem."""

    @property
    def rotations(self) -> np.ndarray: ...  # noqa: D102
    @property
    def centres(self) -> np.ndarray: ...  # noqa: D102
    @property
    def anchors(self) -> np.ndarray: ...  # noqa: D102
    @property
    def directions(self) -> np.ndarray: ...  # noqa: D102
    @property
    def rhos(self) -> np.ndarray: ...  # noqa: D102
    @property
    def world(self) -> World: ...  # noqa: D102
    @property
    def shapes(self) -> tuple[Shape, ...]: ...  # noqa: D102
    def lens_rows(self) -> np.ndarray: ...  # noqa: D102


@dataclass(frozen=True)
class Members:
    """The tracks or the cameras that a piece speaks of.

    Attributes
    ----------
    block : "point" or "position". rows : (G,) rows of points or of cameras. names : theirs, for people.
    """

    block: str
    rows: np.ndarray
    names: tuple[str, ...]

    def within(self, cameras: np.ndarray, points: np.ndarray) -> tuple["Members", np.ndarray]:
        """Return those that are in a part of the problem, and (G,) bool which they are; see `Term.within`."""
        number = (points if self.block == POINT_BLOCK else cameras)[self.rows]
        kept = number >= 0
        return replace(self, rows=number[kept], names=tuple(np.array(self.names, object)[kept])), kept

    def unknowns(self) -> tuple[Unknowns, ...]:
        """Return the members' own block and the world's."""
        return Unknowns(self.block, self.rows), Unknowns(WORLD, np.zeros(len(self.rows), np.int64))

    def in_solve(self, bundle: Placed) -> tuple[np.ndarray, np.ndarray]:
        """Return the members' positions (G, 3) in the solve, and their derivatives (G, 3, 3) by their own steps."""
        if self.block == POSITION:
            return bundle.centres[self.rows], np.tile(np.eye(3), (len(self.rows), 1, 1))
        m, rho = bundle.directions[self.rows], bundle.rhos[self.rows][:, None]
        out = np.empty((len(self.rows), 3, 3))
        for k, direction in enumerate(m):
            out[k, :, :2] = tangents(direction) / rho[k]
        out[:, :, 2] = -m / rho**2
        return bundle.anchors[self.rows] + m / rho, out

    def in_world(self, bundle: Placed) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return the members' positions (G, 3) in the world, and the derivatives by their own steps (G, 3, 3) and by
        the world's (G, 3, 7).
        """
        xyz, own = self.in_solve(bundle)
        world = bundle.world
        out = world.apply(xyz)
        return out, world.scale * np.einsum("ab,gbc->gac", world.world_from_solve, own), world.derivative(out)


@dataclass(frozen=True)
class Piece:
    """A piece of evidence: `measured` gives what it finds, this makes rows of least squares of it.

    Attributes
    ----------
    name, kind : for people, and the constraint's kind. sigma : one sigma of each row, in the row's unit.
    robust : whether a Cauchy loss bounds each group. exact : whether it is held exactly, by multipliers.
    shift : (G, R) or 0, the multipliers over sigma (the method of multipliers: Hestenes 1969, Powell 1969).
    """

    name: str
    kind: str
    sigma: float | np.ndarray
    robust: bool = False
    exact: bool = False
    shift: np.ndarray | float = field(default=0.0, kw_only=True)

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The blocks it depends on."""
        raise NotImplementedError

    def measured(self, bundle: Placed) -> Rows:
        """Return by how much the solve differs from what is known (G, R), in its own unit, and the derivatives."""
        raise NotImplementedError

    def evaluate(self, bundle: Placed) -> Rows:
        """Return whitened rows, bounded where the piece is robust."""
        off, derivatives = self.measured(bundle)
        inverse = 1.0 / np.broadcast_to(np.asarray(self.sigma, float), off.shape)
        residual = off * inverse + self.shift
        derivatives = tuple(d * inverse[..., None] for d in derivatives)
        if not self.robust:
            return Rows(residual, derivatives)
        return _bounded(residual, derivatives)

    def within(self, cameras: np.ndarray, points: np.ndarray) -> Self | None:
        """Return the piece for a part of the problem, or None where nothing is left of it; see `Term.within`."""
        raise NotImplementedError

    def whitened(self, bundle: Placed) -> np.ndarray:
        """Return by how many sigmas each group is off (G,)."""
        off = self.measured(bundle).residual
        return np.linalg.norm(off / np.broadcast_to(np.asarray(self.sigma, float), off.shape), axis=1)

    def tightened(self, bundle: Placed) -> Self:
        """Return the piece with its multipliers risen by what is still off."""
        if not self.exact:
            return self
        off = self.measured(bundle).residual
        return replace(self, shift=self.shift + off / np.broadcast_to(np.asarray(self.sigma, float), off.shape))

    def figures(self, bundle: Placed) -> list[Figure]:
        """Return the usual figure: the RMS of what it is off by, and who is off most."""
        off = self.measured(bundle).residual
        if not len(off):
            return []
        sigmas = self.whitened(bundle)
        found = float(np.sqrt((off**2).sum(1).mean()))
        return [Figure(self.name, 0.0, found, self.loudest(sigmas), self.unit, self.kind, self.member(sigmas))]

    unit = "m"

    def loudest(self, sigmas: np.ndarray) -> float:
        """Return by how many sigmas the piece as a whole disagrees: the RMS over its groups."""
        return float(np.sqrt((sigmas**2).mean()))

    def member(self, sigmas: np.ndarray) -> str:
        """Return the name of the group that is off most."""
        return ""


@dataclass(frozen=True)
class MemberPiece(Piece):
    """A piece with one group for each of its members."""

    members: Members = field(kw_only=True)

    least = 1
    """Members below which it says nothing."""

    def member(self, sigmas: np.ndarray) -> str:
        """Return the name of the member that is off most."""
        return self.members.names[int(np.argmax(sigmas))] if len(sigmas) > 1 else ""

    def within(self, cameras: np.ndarray, points: np.ndarray) -> Self | None:
        """Return the piece for those members that are in a part of the problem; see `Term.within`."""
        members, kept = self.members.within(cameras, points)
        if len(members.rows) < self.least:
            return None
        changed: dict = {"members": members}
        for own in ("shift", "sigma", *self.by_member):
            value = getattr(self, own)
            if np.ndim(value) == 2 or own in self.by_member:
                changed[own] = value[kept]
        return replace(self, **changed)

    by_member: tuple[str, ...] = field(default=(), init=False, repr=False)
    """Further arrays with a row for each member."""


def _bounded(residual: np.ndarray, derivatives: tuple[np.ndarray, ...]) -> Rows:
    """Return rows whose squared sum is the Cauchy loss of a group's residual (Triggs et al. 1999, section 3)."""
    squared = (residual**2).sum(1, keepdims=True)
    ratio = squared / BENDS**2
    length = np.sqrt(np.maximum(squared, 1e-24))
    bounded = BENDS * np.sqrt(np.log1p(ratio))
    gain = np.where(squared > 1e-20, bounded / length, 1.0)
    # d(bounded) / d(length), along the residual; across it the direction turns and the gain stays.
    along = np.where(squared > 1e-20, length / np.maximum(bounded, 1e-12) / (1.0 + ratio), 1.0)
    unit = residual / length
    out = []
    for d in derivatives:
        forward = np.einsum("gr,grm->gm", unit, d)
        out.append(gain[..., None] * d + ((along - gain) * unit)[..., None] * forward[:, None])
    return Rows(gain * residual, tuple(out))
