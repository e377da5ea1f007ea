"""What is known of the set, and of where the camera may be: coordinates, distances, planes, lines, spots."""

from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.solve.evidence.piece import MemberPiece, Members, Piece, Placed
from amberkeel.core.solve.radial_lens import ARM_NAMES, ROW_NAMES
from amberkeel.core.solve.terms import Figure, Rows, Unknowns
from amberkeel.core.solve.unknowns import WORLD
from amberkeel.core.solve.world_frame import Line, Plane, Spot, tangents


@dataclass(frozen=True)
class Known(MemberPiece):
    """Members at known coordinates: anchored points, or a camera path that is given.

    Attributes
    ----------
    xyz : (G, 3) world units, NaN for an axis that is not known. sigma : (G, 3).
    """

    xyz: np.ndarray = field(kw_only=True)
    by_member = ("xyz",)

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The members and the world."""
        return self.members.unknowns()

    def measured(self, bundle: Placed) -> Rows:
        """Return the differences (G, 3), 0 on axes that are not known."""
        xyz, own, world = self.members.in_world(bundle)
        known = np.isfinite(self.xyz)
        off = np.where(known, xyz - np.nan_to_num(self.xyz), 0.0)
        return Rows(off, (own * known[..., None], world * known[..., None]))


@dataclass(frozen=True)
class Distance(Piece):
    """A known distance between two tracks, world units.

    Attributes
    ----------
    ends : both. length : between them.
    """

    ends: Members = field(kw_only=True)
    length: float = field(kw_only=True)

    def unknowns(self) -> tuple[Unknowns, ...]:
        """Both points and the world."""
        one, other = (Unknowns(self.ends.block, self.ends.rows[k : k + 1]) for k in (0, 1))
        return one, other, Unknowns(WORLD, np.zeros(1, np.int64))

    def measured(self, bundle: Placed) -> Rows:
        """Return the difference (1, 1)."""
        xyz, own = self.ends.in_solve(bundle)
        scale, between = bundle.world.scale, xyz[0] - xyz[1]
        apart = float(np.linalg.norm(between))
        way = scale * between / max(apart, 1e-12)
        of_world = np.zeros((1, 1, 7))
        of_world[0, 0, 6] = scale * apart
        by_ends = (way @ own[0])[None, None], (-way @ own[1])[None, None]
        return Rows(np.array([[scale * apart - self.length]]), (*by_ends, of_world))

    def figures(self, bundle: Placed) -> list[Figure]:
        """Return the distance beside what it was said to be."""
        off = float(self.measured(bundle).residual[0, 0])
        return [Figure(self.name, self.length, self.length + off, off / float(self.sigma), self.unit, self.kind)]

    def within(self, cameras: np.ndarray, points: np.ndarray) -> "Distance | None":
        """Return the distance where both ends are in a part of the problem; see `Term.within`."""
        ends, kept = self.ends.within(cameras, points)
        return replace(self, ends=ends) if kept.all() else None


@dataclass(frozen=True)
class PivotRadius(Piece):
    """How far the entrance pupil is from the point about which the camera turns, world units.

    Attributes
    ----------
    length : as it is known.
    """

    length: float = field(kw_only=True)

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The arm and the world."""
        return *(Unknowns(name, np.zeros(1, np.int64)) for name in ARM_NAMES), Unknowns(WORLD, np.zeros(1, np.int64))

    def measured(self, bundle: Placed) -> Rows:
        """Return the difference (1, 1)."""
        scale = bundle.world.scale
        arm = bundle.lens_rows()[0, [ROW_NAMES.index(name) for name in ARM_NAMES]]
        reach = float(np.linalg.norm(arm))
        of_world = np.zeros((1, 1, 7))
        of_world[0, 0, 6] = scale * reach
        of_arm = (np.array([[[scale * a / max(reach, 1e-12)]]]) for a in arm)
        return Rows(np.array([[scale * reach - self.length]]), (*of_arm, of_world))

    def figures(self, bundle: Placed) -> list[Figure]:
        """Return the radius beside what it was said to be."""
        off = float(self.measured(bundle).residual[0, 0])
        return [Figure(self.name, self.length, self.length + off, off / float(self.sigma), self.unit, self.kind)]

    def within(self, cameras: np.ndarray, points: np.ndarray) -> "PivotRadius":
        """Return the piece as it is."""
        return self


@dataclass(frozen=True)
class OnShape(MemberPiece):
    """Members on a plane, on a line or at a spot of the world, which is one of the bundle's shapes.

    Attributes
    ----------
    shape : its number.
    """

    shape: int = field(kw_only=True)

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The members, the world and the shape."""
        raise NotImplementedError

    def _with(self, block: str) -> tuple[Unknowns, ...]:
        return *self.members.unknowns(), Unknowns(block, np.full(len(self.members.rows), self.shape))


@dataclass(frozen=True)
class OnPlane(OnShape):
    """Members on one plane."""

    least = 3

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The members, the world and the plane."""
        return self._with(Plane.block)

    def measured(self, bundle: Placed) -> Rows:
        """Return the distances from the plane (G, 1)."""
        plane = bundle.shapes[self.shape]
        assert isinstance(plane, Plane)
        xyz, own, world = self.members.in_world(bundle)
        of_plane = np.concatenate([xyz @ tangents(plane.normal), np.full((len(xyz), 1), -1.0)], 1)
        return Rows(
            (xyz @ plane.normal - plane.offset)[:, None],
            ((plane.normal @ own)[:, None], (plane.normal @ world)[:, None], of_plane[:, None]),
        )


@dataclass(frozen=True)
class OnLine(OnShape):
    """Members on one line."""

    least = 3

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The members, the world and the line."""
        return self._with(Line.block)

    def measured(self, bundle: Placed) -> Rows:
        """Return the distances from the line along both directions square to it (G, 2)."""
        line = bundle.shapes[self.shape]
        assert isinstance(line, Line)
        xyz, own, world = self.members.in_world(bundle)
        across, along = line.frame[:, :2].T, (xyz - line.point) @ line.frame[:, 2]
        of_line = np.zeros((len(xyz), 2, 5))
        of_line[:, :, :3] = -across
        of_line[:, 0, 3] = of_line[:, 1, 4] = -along
        return Rows((xyz - line.point) @ across.T, (across @ own, across @ world, of_line))


@dataclass(frozen=True)
class AtSpot(OnShape):
    """Members at one spot: a camera that stands still for a while."""

    least = 2

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The members, the world and the spot."""
        return self._with(Spot.block)

    def measured(self, bundle: Placed) -> Rows:
        """Return the differences (G, 3)."""
        spot = bundle.shapes[self.shape]
        assert isinstance(spot, Spot)
        xyz, own, world = self.members.in_world(bundle)
        return Rows(xyz - spot.point, (own, world, np.tile(-np.eye(3), (len(xyz), 1, 1))))


@dataclass(frozen=True)
class PlanesAt(Piece):
    """Two planes that are parallel or square; sigma is in radians.

    Attributes
    ----------
    one, other : numbers of the shapes. square : or else parallel.
    """

    one: int = field(kw_only=True)
    other: int = field(kw_only=True)
    square: bool = field(kw_only=True)

    def unknowns(self) -> tuple[Unknowns, ...]:
        """Both planes."""
        return Unknowns(Plane.block, np.array([self.one])), Unknowns(Plane.block, np.array([self.other]))

    def measured(self, bundle: Placed) -> Rows:
        """Return the cosine between square normals (1, 1), or both sines between parallel ones (1, 3)."""
        a, b = (bundle.shapes[k] for k in (self.one, self.other))
        assert isinstance(a, Plane) and isinstance(b, Plane)
        of_a, of_b, nothing = tangents(a.normal), tangents(b.normal), np.zeros((3, 1))
        if self.square:
            rows = [np.append(b.normal @ of_a, 0.0), np.append(a.normal @ of_b, 0.0)]
            return Rows(np.array([[a.normal @ b.normal]]), tuple(row[None, None] for row in rows))
        by_a = np.hstack([-np.cross(b.normal, of_a, axisb=0).T, nothing])
        by_b = np.hstack([np.cross(a.normal, of_b, axisb=0).T, nothing])
        return Rows(np.cross(a.normal, b.normal)[None], (by_a[None], by_b[None]))

    def figures(self, bundle: Placed) -> list[Figure]:
        """Return the angle beside what it was said to be, degrees."""
        a, b = (bundle.shapes[k] for k in (self.one, self.other))
        assert isinstance(a, Plane) and isinstance(b, Plane)
        cosine = abs(float(a.normal @ b.normal))
        found = np.degrees(np.arctan2(np.linalg.norm(np.cross(a.normal, b.normal)), cosine))
        sigmas = float(self.whitened(bundle)[0])
        return [Figure(self.name, 90.0 if self.square else 0.0, float(found), sigmas, "°", self.kind)]

    def within(self, cameras: np.ndarray, points: np.ndarray) -> "PlanesAt":
        """Return the piece as it is."""
        return self
