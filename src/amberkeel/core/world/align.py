"""A mesh brought to solved points: by picked pairs, then by its nearest surface."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from amberkeel.core.errors import WorldError
from amberkeel.core.world.datum import Datum
from amberkeel.core.world.solids import Solid

SAMPLES = 60_000
"""Spots of a mesh's surface that points are brought to."""

TRIMMED = 0.75
"""Share of the points, the nearest ones, that count: not all that was solved is on the mesh."""

ROUNDS, ENOUGH = 60, 1e-7
LEAST_PAIRS = 3


@dataclass(frozen=True)
class Aligned:
    """How a mesh is moved, ``x_new = scale * rotation @ x + translation``, and how far points then lie off it: RMS, and
    each (N,).
    """

    change: Datum
    rms: float
    off: np.ndarray


def by_pairs(mesh: np.ndarray, points: np.ndarray, scaled: bool = True) -> Aligned:
    """Return the similarity that takes spots of a mesh to points best (Umeyama 1991).

    Parameters
    ----------
    mesh, points : (N, 3) in the world, N >= 3. scaled : whether the mesh may change its size.

    Raises
    ------
    WorldError : fewer than three pairs, or all on a line.
    """
    if len(mesh) < LEAST_PAIRS or len(mesh) != len(points):
        raise WorldError("A mesh is aligned by three pairs or more.", "Pick spots of it, and the track at each.")
    a, b = mesh - mesh.mean(0), points - points.mean(0)
    for one in (a, b):
        spread = np.linalg.svd(one, compute_uv=False)
        if spread[1] < 0.02 * spread[0] or spread[0] == 0.0:
            raise WorldError("These pairs lie on a line.", "Pick one beside it.")
    change = similarity(mesh, points, None, scaled)
    off = np.linalg.norm(change.apply(mesh) - points, axis=1)
    return Aligned(change, float(np.sqrt((off**2).mean())), off)


def similarity(own: np.ndarray, fixed: np.ndarray, weights: np.ndarray | None = None, scaled: bool = True) -> Datum:
    """Return the similarity that takes points to others best, never mirrored (Umeyama 1991).

    Parameters
    ----------
    own, fixed : (N, 3). weights : (N,), or None for all alike. scaled : whether the size may change.
    """
    share = np.full(len(own), 1.0 / len(own)) if weights is None else weights / weights.sum()
    middle, target = share @ own, share @ fixed
    a, b = own - middle, fixed - target
    u, s, vt = np.linalg.svd(b.T @ (share[:, None] * a))
    sign = np.array([1.0, 1.0, np.sign(np.linalg.det(u @ vt))])
    rotation = (u * sign) @ vt
    scale = float((s * sign).sum() / max(float(share @ (a * a).sum(1)), 1e-300)) if scaled else 1.0
    return Datum(scale, rotation, target - scale * rotation @ middle)


def to_surface(solid: Solid, points: np.ndarray, scaled: bool = False, seed: int = 0) -> Aligned:
    """Return how a mesh is moved so that its surface lies with points: trimmed iterated closest points, distances taken
    along the surface's normals (Chen and Medioni 1992; Chetverikov et al. 2002).

    Parameters
    ----------
    solid : in the world, near to where it belongs. points : (N, 3) in the world. scaled : whether it may change size.
    seed : of the spots on its surface.

    Raises
    ------
    WorldError : too few points.
    """
    if len(points) < 2 * LEAST_PAIRS:
        raise WorldError("There are too few points to bring a mesh to.", "Select more, or align it by pairs.")
    spots, normals = _sampled(solid, seed)
    tree = cKDTree(spots)
    # The points are brought to the mesh, which stays, so that its tree is made once; the mesh then goes the other way.
    scale, rotation, shift = 1.0, np.eye(3), np.zeros(3)
    for _ in range(ROUNDS):
        own = scale * points @ rotation.T + shift
        distance, nearest = tree.query(own)
        kept = distance <= np.quantile(distance, TRIMMED)
        grown, turn, move = _plane_step(own[kept], spots[nearest[kept]], normals[nearest[kept]], scaled)
        scale, rotation, shift = grown * scale, turn @ rotation, grown * turn @ shift + move
        if np.abs(turn - np.eye(3)).max() + abs(grown - 1.0) < ENOUGH and np.abs(move).max() < ENOUGH:
            break
    own = scale * points @ rotation.T + shift
    distance, nearest = tree.query(own)
    off = np.abs(((own - spots[nearest]) * normals[nearest]).sum(1)) / scale
    kept = distance <= np.quantile(distance, TRIMMED)
    change = Datum(1.0 / scale, rotation.T, -rotation.T @ shift / scale)
    return Aligned(change, float(np.sqrt((off[kept] ** 2).mean())), off)


def _sampled(solid: Solid, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Return spots spread over a solid's triangles and their normals, (S, 3) each."""
    corners = solid.triangles
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(normals, axis=1)
    if not area.sum() > 0.0:
        raise WorldError("This mesh has no surface.")
    rng = np.random.default_rng(seed)
    own = rng.choice(len(corners), SAMPLES, p=area / area.sum())
    u, v = rng.random((2, SAMPLES))
    over = u + v > 1.0
    u[over], v[over] = 1.0 - u[over], 1.0 - v[over]
    a, b, c = (corners[own, k] for k in range(3))
    spots = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    return spots, normals[own] / area[own, None]


def _plane_step(
    points: np.ndarray, spots: np.ndarray, normals: np.ndarray, scaled: bool
) -> tuple[float, np.ndarray, np.ndarray]:
    """Return the small similarity (scale, rotation, move) that takes points nearer to planes at spots."""
    middle = points.mean(0)
    away = points - middle
    columns = [np.cross(away, normals), normals]
    if scaled:
        columns.append((away * normals).sum(1)[:, None])
    design = np.concatenate(columns, 1)
    reach = max(float(np.linalg.norm(away, axis=1).max()), 1e-12)
    # What the surfaces do not determine stays as it is.
    damped = design.T @ design + 1e-6 * len(points) * np.diag([reach**2] * 3 + [1.0] * 3 + [reach**2] * scaled)
    step = np.linalg.solve(damped, design.T @ ((spots - points) * normals).sum(1))
    turn = Rotation.from_rotvec(step[:3]).as_matrix()
    grown = 1.0 + float(step[6]) if scaled else 1.0
    return grown, turn, middle + step[3:6] - grown * turn @ middle
