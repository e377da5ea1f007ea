"""Solids of a scene as triangles: what stands for the set, and test objects.

A solid's own frame: Y up, its foot at the origin, lengths in world units.
"""

import warnings
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.errors import WorldError

CELLS = 12
"""Cells along a side of a flat face, so that it bends in the picture as the lens does."""

ROUND = 32
"""Sides of what is round."""


@dataclass(frozen=True)
class Solid:
    """Triangles with texture coordinates and the lines that show their shape.

    Attributes
    ----------
    vertices : (V, 3) world units. faces : (F, 3) rows of them, anticlockwise from outside. uv : (V, 2), 0 to 1 over
    all faces of the shape, none of which share a part. lines : (L, 2) rows of vertices that are joined.
    """

    vertices: np.ndarray
    faces: np.ndarray
    uv: np.ndarray
    lines: np.ndarray

    @property
    def triangles(self) -> np.ndarray:
        """Corners (F, 3, 3) of the triangles."""
        return self.vertices[self.faces]

    @property
    def normals(self) -> np.ndarray:
        """Unit normals (F, 3) of the triangles, outwards; 0 where one has no area."""
        corners = self.triangles
        across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        return across / np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-12)

    def moved(self, rotation: np.ndarray, position: np.ndarray) -> "Solid":
        """Return the solid turned by world_from_own (3, 3) and put at a position (3,)."""
        return Solid(self.vertices @ rotation.T + position, self.faces, self.uv, self.lines)

    def within(self, u: float, v: float, wide: float, high: float) -> "Solid":
        """Return the solid with its texture in a part of the whole: from (u, v) on, so wide and high."""
        return Solid(self.vertices, self.faces, self.uv * [wide, high] + [u, v], self.lines)

    def scaled(self, size: np.ndarray) -> "Solid":
        """Return the solid scaled along its own axes by (3,)."""
        return Solid(self.vertices * size, self.faces, self.uv, self.lines)


def joined(solids: list[Solid]) -> Solid:
    """Return several solids as one."""
    starts = np.cumsum([0, *(len(one.vertices) for one in solids)])[:-1]
    return Solid(
        np.concatenate([one.vertices for one in solids]),
        np.concatenate([one.faces + at for one, at in zip(solids, starts)]),
        np.concatenate([one.uv for one in solids]),
        np.concatenate([one.lines + at for one, at in zip(solids, starts)]),
    )


def sheet(corner: np.ndarray, along: np.ndarray, up: np.ndarray, cells: int = CELLS) -> Solid:
    """Return a flat sheet whose front shows to the right-hand side of along, then up.

    Parameters
    ----------
    corner : (3,) where uv is 0. along, up : (3,) its sides. cells : along each side.
    """
    return _grid(lambda u, v: corner + u[:, None] * along + v[:, None] * up, cells, cells)


def _grid(place, across: int, down: int) -> Solid:
    """Return a sheet over u, v from 0 to 1 by `place`, with the lines of its rim."""
    u, v = np.meshgrid(np.linspace(0, 1, across + 1), np.linspace(0, 1, down + 1))
    at = np.arange((across + 1) * (down + 1)).reshape(down + 1, across + 1)
    a, b, c, d = at[:-1, :-1].ravel(), at[:-1, 1:].ravel(), at[1:, 1:].ravel(), at[1:, :-1].ravel()
    faces = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    rims = (at[0], at[-1], at[:, 0], at[:, -1])
    lines = np.concatenate([np.stack([rim[:-1], rim[1:]], 1) for rim in rims])
    return Solid(place(u.ravel(), v.ravel()), faces, np.stack([u.ravel(), v.ravel()], 1), lines)


def floor(width: float, depth: float) -> Solid:
    """Return a level sheet, its middle at the origin; width along X, depth along Z."""
    return sheet(np.array([-width / 2, 0.0, depth / 2]), np.array([width, 0.0, 0.0]), np.array([0.0, 0.0, -depth]))


def wall(width: float, height: float) -> Solid:
    """Return an upright sheet along X that faces Z, the middle of its foot at the origin."""
    return sheet(np.array([-width / 2, 0.0, 0.0]), np.array([width, 0.0, 0.0]), np.array([0.0, height, 0.0]))


def box(width: float, height: float, depth: float) -> Solid:
    """Return a box along X, Y and Z that stands at the origin."""
    x, y, z = np.diag([width, height, depth])
    low = -0.5 * (x + z)
    sides = [(low + z, x, y), (low + x, -x, y), (low, z, y), (low + x + z, -z, y), (low + z + y, x, -z), (low, x, z)]
    made = [sheet(*side, cells=CELLS // 2) for side in sides]
    return joined([one.within(k % 3 / 3, k // 3 / 2, 1 / 3, 1 / 2) for k, one in enumerate(made)])


def cylinder(width: float, height: float, depth: float) -> Solid:
    """Return an upright cylinder that stands at the origin; width and depth are those of its foot."""

    def ring(u: np.ndarray) -> np.ndarray:
        return np.stack([0.5 * width * np.sin(2 * np.pi * u), 0 * u, 0.5 * depth * np.cos(2 * np.pi * u)], 1)

    lift = np.array([0.0, height, 0.0])
    side = _grid(lambda u, v: ring(u) + v[:, None] * lift, ROUND, CELLS // 2)
    ends = [_disc(ring, lift, -1.0), _disc(ring, np.zeros(3), 1.0)]
    return joined([side.within(0, 0, 1, 0.5), *(one.within(k / 2, 0.5, 0.5, 0.5) for k, one in enumerate(ends))])


def _disc(ring, lift: np.ndarray, way: float) -> Solid:
    """Return a round end, its texture as it is seen from outside."""
    made = _grid(lambda u, v: v[:, None] * ring(way * u) + lift, ROUND, 2)
    u, v = made.uv.T
    round_uv = 0.5 + 0.5 * np.stack([v * np.sin(2 * np.pi * u), v * np.cos(2 * np.pi * u)], 1)
    return Solid(made.vertices, made.faces, round_uv, made.lines)


def cone(width: float, height: float, depth: float) -> Solid:
    """Return an upright cone that stands at the origin."""
    made = cylinder(width, height, depth)
    shrink = np.stack(
        [1.0 - made.vertices[:, 1] / height, np.ones(len(made.vertices)), np.zeros(len(made.vertices))], 1
    )
    vertices = made.vertices.copy()
    vertices[:, [0, 2]] *= shrink[:, :1]
    return Solid(vertices, made.faces, made.uv, made.lines)


FIGURE = ((0.0, 0.10), (0.02, 0.11), (0.45, 0.085), (0.62, 0.12), (0.80, 0.125), (0.845, 0.05), (0.86, 0.045))
"""Height and half width of a standing figure's outline up to the neck, over its height."""

HEAD, HEAD_RADIUS = 0.935, 0.065


def person(height: float) -> Solid:
    """Return a standing figure of a height: a turned body and a round head."""
    lift, half = np.array(FIGURE).T * height
    angle = np.linspace(0.0, np.pi, 9)
    head_lift = HEAD * height - HEAD_RADIUS * height * np.cos(angle)
    head_half = HEAD_RADIUS * height * np.sin(angle)
    return joined([_turned(lift, half, 0.62), _turned(head_lift, head_half, 1.0)])


def _turned(lift: np.ndarray, half: np.ndarray, flat: float) -> Solid:
    """Return what a lathe makes of an outline, its depth a share of its width."""
    last = len(lift) - 1

    def place(u: np.ndarray, v: np.ndarray) -> np.ndarray:
        radius, turn = np.interp(v * last, np.arange(last + 1), half), 2 * np.pi * u
        return np.stack(
            [radius * np.sin(turn), np.interp(v * last, np.arange(last + 1), lift), flat * radius * np.cos(turn)], 1
        )

    return _grid(place, 20, last)


def spindle(size: float) -> Solid:
    """Return the small solid that is put on points, its middle at the origin: two cones foot to foot, four-sided."""
    half = 0.5 * size
    tip = np.array([[0.0, half, 0.0], [0.0, -half, 0.0]])
    waist = 0.45 * half * np.array([[1.0, 0, 0], [0, 0, -1.0], [-1.0, 0, 0], [0, 0, 1.0]])
    faces = [(2 + k, 2 + (k + 1) % 4, 0) for k in range(4)] + [(2 + (k + 1) % 4, 2 + k, 1) for k in range(4)]
    lines = [(2 + k, 2 + (k + 1) % 4) for k in range(4)] + [(2 + k, end) for k in range(4) for end in (0, 1)]
    return Solid(np.concatenate([tip, waist]), np.array(faces), np.zeros((6, 2)), np.array(lines))


def lattice(width: float, height: float, depth: float, cells: int = 4) -> Solid:
    """Return a lattice of lines that fills a box standing at the origin; it has no faces."""
    steps = np.linspace(-0.5, 0.5, cells + 1)
    fine = np.linspace(-0.5, 0.5, 4 * cells + 1)
    rods = []
    for axis in range(3):
        for a in steps:
            for b in steps:
                rod = np.empty((len(fine), 3))
                rod[:, axis], rod[:, (axis + 1) % 3], rod[:, (axis + 2) % 3] = fine, a, b
                rods.append(rod)
    count, each = len(rods), len(fine)
    start = (np.arange(count) * each)[:, None] + np.arange(each - 1)
    vertices = (np.concatenate(rods) + [0.0, 0.5, 0.0]) * [width, height, depth]
    lines = np.stack([start.ravel(), start.ravel() + 1], 1)
    return Solid(vertices, np.zeros((0, 3), np.int64), np.zeros((len(vertices), 2)), lines)


def of_mesh(vertices: np.ndarray, faces: np.ndarray, creased: bool = False) -> Solid:
    """Return a solid from a mesh; its lines are the edges of its triangles.

    Parameters
    ----------
    vertices : (V, 3). faces : (F, 3) rows of them. creased : leave out edges within flat faces, where most are such: a
        thing that was made, not ground.

    Raises
    ------
    WorldError : it is no mesh.
    """
    if faces.ndim != 2 or faces.shape[1:] != (3,) or not len(faces) or faces.min() < 0 or faces.max() >= len(vertices):
        raise WorldError("This mesh has no triangles.")
    if not np.isfinite(vertices).all():
        raise WorldError("This mesh has corners that are no numbers.")
    low, size = vertices.min(0), np.maximum(np.ptp(vertices, axis=0), 1e-12)
    flat = (vertices - low) / size
    made = Solid(vertices, faces, flat[:, [0, 2]], np.zeros((0, 2), np.int64))
    return replace(made, lines=_edges(made, creased))


FLAT_DEGREES, MOSTLY_FLAT = 2.0, 0.5
"""Angle between two triangles up to which they are one face, and share of the edges from which such are left out."""


def _edges(solid: Solid, creased: bool) -> np.ndarray:
    """Return a mesh's edges (L, 2), or those that show its shape."""
    faces, normals = solid.faces, solid.normals
    sides = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    edges, which = np.unique(sides, axis=0, return_inverse=True)
    if not creased:
        return edges
    which, own = which.ravel(), np.tile(np.arange(len(faces)), 3)
    order = np.argsort(which, kind="stable")
    first = np.searchsorted(which[order], np.arange(len(edges)))
    last = np.searchsorted(which[order], np.arange(len(edges)), side="right") - 1
    two = last == first + 1
    along = (normals[own[order[first]]] * normals[own[order[last]]]).sum(1)
    level = two & (along > np.cos(np.radians(FLAT_DEGREES)))
    return edges[~level] if level.mean() > MOSTLY_FLAT else edges


def degrees_of(rotation: np.ndarray) -> list[float]:
    """Return the turns about X, then Y, then Z, degrees, that a rotation (3, 3) is; of those that are the same, one."""
    with warnings.catch_warnings():
        # With Y at a right angle only the sum of the others counts.
        warnings.filterwarnings("ignore", message="Gimbal lock")
        return Rotation.from_matrix(rotation).as_euler("xyz", degrees=True).round(9).tolist()


def turned_by(degrees: tuple[float, float, float]) -> np.ndarray:
    """Return the rotation (3, 3) of turns about X, then Y, then Z, degrees."""
    return Rotation.from_euler("xyz", degrees, degrees=True).as_matrix()
