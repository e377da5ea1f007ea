"""Uneven ground: a mesh through chosen points, as seen from above or along a view."""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.sparse.linalg import spsolve
from scipy.spatial import Delaunay, QhullError

from amberkeel.core.errors import WorldError
from amberkeel.core.world.solids import Solid, of_mesh

STICKS_OUT = 4.0
"""Robust sigmas off what its neighbours make from which a point is said to stick out."""

USUAL_LONGEST = 4.0
"""Longest edge where none is stated, over the usual one."""

LEAST_NEIGHBOURS = 4
FLATTEST = 0.02
"""Least height over longest side of a triangle: flatter ones at the rim only join what lies in a row."""

SEARCHED = 40
"""Steps by which the smoothing is found that moves points by what they may be wrong."""


@dataclass(frozen=True)
class Relief:
    """A mesh through points.

    Attributes
    ----------
    solid : the mesh; its first vertices are those of the points `rows` (M,), then those that extend its edge.
    off : (N,) how far each given point lies above the mesh, NaN where it is not over it. sticks_out : (N,) bool, points
    that lie off what their neighbours make. longest : the longest edge that was kept. rms : of `off`.
    """

    solid: Solid
    rows: np.ndarray
    off: np.ndarray
    sticks_out: np.ndarray
    longest: float
    rms: float


def relief(
    xyz: np.ndarray,
    sigma: np.ndarray | None = None,
    longest: float | None = None,
    smooth: bool = False,
    extend: float = 0.0,
    frame: np.ndarray | None = None,
) -> Relief:
    """Return a mesh through points (Delaunay's triangulation as seen along the frame's Y).

    Parameters
    ----------
    xyz : (N, 3) in the world. sigma : (N,) one sigma of each point's height, or None. longest : edges longer than that
        are dropped; found from the usual edge when None. smooth : whether heights are smoothed as far as the sigmas
        allow (the discrepancy principle, Morozov 1966). extend : by how much the edge is carried on outwards. frame :
        (3, 3) world_from_own, Y the direction that is looked along; the world's when None.

    Raises
    ------
    WorldError : fewer than three points, all in a line, or no triangle is left.
    """
    turn = np.eye(3) if frame is None else frame
    own = xyz @ turn
    triangles = _triangulated(own)
    sides = _sides(own[:, [0, 2]], triangles)
    limit = longest or USUAL_LONGEST * float(np.median(sides))
    triangles = triangles[(sides.max(1) <= limit) & _not_flat(own[:, [0, 2]], triangles)]
    if not len(triangles):
        raise WorldError("No triangle is left.", "Allow longer edges, or choose points nearer to each other.")
    rows, faces = np.unique(triangles, return_inverse=True)
    faces = faces.reshape(-1, 3)
    spread = own[rows].copy()
    sticks = np.zeros(len(xyz), bool)
    sticks[rows] = _stick_out(spread, faces, None if sigma is None else sigma[rows])
    if smooth:
        spread[:, 1] = _smoothed(spread, faces, _weights(sigma, rows, spread, faces))
    vertices = spread
    if extend > 0.0:
        vertices, faces = _extended(spread, faces, extend)
    off = _over(own, vertices, faces)
    faces = _upright(vertices, faces)
    made = of_mesh(vertices @ turn.T, faces)
    known = off[np.isfinite(off)]
    return Relief(made, rows, off, sticks, limit, float(np.sqrt((known**2).mean())) if len(known) else float("nan"))


def frame_along(along: np.ndarray | None) -> np.ndarray:
    """Return the frame (3, 3), world_from_own, whose Y is a direction (3,); the world's own for None."""
    if along is None:
        return np.eye(3)
    up = np.asarray(along, float) / np.linalg.norm(along)
    beside = np.cross(np.eye(3)[int(np.abs(up).argmin())], up)
    x = beside / np.linalg.norm(beside)
    return np.stack([x, up, np.cross(x, up)], 1)


def _triangulated(own: np.ndarray) -> np.ndarray:
    if len(own) < 3:
        raise WorldError("A mesh needs three points.", "Select more tracks.")
    try:
        return Delaunay(own[:, [0, 2]]).simplices
    except QhullError as error:
        raise WorldError(
            "These points lie on a line as they are looked at.", "Choose points spread over the surface."
        ) from error


def _sides(flat: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Return the sides (F, 3) of triangles."""
    corners = flat[triangles]
    return np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)


def _not_flat(flat: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    a, b, c = (flat[triangles[:, k]] for k in range(3))
    area = np.abs((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])
    return area > FLATTEST * _sides(flat, triangles).max(1) ** 2


def _neighbours(faces: np.ndarray, count: int) -> csr_matrix:
    """Return which vertices share an edge, (V, V) of ones."""
    a = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    rows, columns = np.concatenate([a[:, 0], a[:, 1]]), np.concatenate([a[:, 1], a[:, 0]])
    made = coo_matrix((np.ones(len(rows)), (rows, columns)), (count, count)).tocsr()
    made.data[:] = 1.0
    return made


def _bend(spread: np.ndarray, faces: np.ndarray) -> tuple[csr_matrix, np.ndarray]:
    """Return what takes heights (V,) to how far each vertex lies above the plane through its neighbours, near ones
    counting more, (B, V), and which vertices (B,) those are: others have too few. A slope gives nothing.
    """
    beside = _neighbours(faces, len(spread))
    rows: list[int] = []
    columns: list[int] = []
    values: list[float] = []
    own_rows: list[int] = []
    for v in range(len(spread)):
        own = beside.indices[beside.indptr[v] : beside.indptr[v + 1]]
        if len(own) < LEAST_NEIGHBOURS:
            continue
        away = spread[own][:, [0, 2]] - spread[v][[0, 2]]
        weights = 1.0 / np.maximum(np.linalg.norm(away, axis=1), 1e-9)
        design = np.column_stack([away, np.ones(len(own))]) * weights[:, None]
        shares = np.linalg.pinv(design)[2] * weights
        rows += [len(own_rows)] * (len(own) + 1)
        columns += [v, *own.tolist()]
        values += [1.0, *(-shares).tolist()]
        own_rows.append(v)
    made = coo_matrix((values, (rows, columns)), (len(own_rows), len(spread))).tocsr()
    return made, np.array(own_rows, int)


def _apart(spread: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Return how far each vertex lies above the plane through its neighbours (V,), NaN with too few."""
    bend, rows = _bend(spread, faces)
    out = np.full(len(spread), np.nan)
    out[rows] = bend @ spread[:, 1]
    return out


def _stick_out(spread: np.ndarray, faces: np.ndarray, sigma: np.ndarray | None) -> np.ndarray:
    """Return which vertices lie off what their neighbours make; of two that are beside each other, the worse one."""
    apart = _apart(spread, faces)
    known = np.isfinite(apart)
    if known.sum() < LEAST_NEIGHBOURS:
        return np.zeros(len(spread), bool)
    usual = 1.4826 * float(np.median(np.abs(apart[known])))
    limit = STICKS_OUT * np.hypot(usual, 0.0 if sigma is None else np.nan_to_num(sigma, nan=0.0))
    out = known & (np.abs(np.nan_to_num(apart)) > np.maximum(limit, 1e-12))
    beside = _neighbours(faces, len(spread))
    size = np.where(out, np.abs(np.nan_to_num(apart)), 0.0)
    for v in np.nonzero(out)[0]:
        own = beside.indices[beside.indptr[v] : beside.indptr[v + 1]]
        out[v] = size[v] >= size[own].max(initial=0.0)
    return out


def _weights(sigma: np.ndarray | None, rows: np.ndarray, spread: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Return one over the variance of each vertex's height."""
    if sigma is None or not np.isfinite(sigma[rows]).any():
        apart = _apart(spread, faces)
        usual = 1.4826 * float(np.nanmedian(np.abs(apart))) if np.isfinite(apart).any() else 1.0
        return np.full(len(rows), 1.0 / max(usual, 1e-9) ** 2)
    own = sigma[rows]
    return 1.0 / np.where(np.isfinite(own), np.maximum(own, 1e-9), np.nanmax(own)) ** 2


def _smoothed(spread: np.ndarray, faces: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """Return the smoothest heights that lie, RMS, one sigma from those given."""
    bend, _ = _bend(spread, faces)
    stiff = (bend.T @ bend).tocsc()
    low, high, heights = -12.0, 12.0, spread[:, 1]
    scale = float(np.median(weights))
    for _ in range(SEARCHED):
        middle = 0.5 * (low + high)
        heights = spsolve((diags(weights) + 10.0**middle * scale * stiff).tocsc(), weights * spread[:, 1])
        moved = float((weights * (heights - spread[:, 1]) ** 2).mean())
        low, high = (middle, high) if moved < 1.0 else (low, middle)
    return heights


def _extended(spread: np.ndarray, faces: np.ndarray, by: float) -> tuple[np.ndarray, np.ndarray]:
    """Return a mesh whose rim is carried on outwards, at the height of the plane about each of its vertices."""
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    single, counts = np.unique(np.sort(edges, axis=1), axis=0, return_counts=True)
    lone = {tuple(edge) for edge, n in zip(single.tolist(), counts) if n == 1}
    rim = np.array([edge for edge in edges.tolist() if tuple(sorted(edge)) in lone])
    out = np.zeros((len(spread), 2))
    for a, b in rim:
        way = spread[b][[0, 2]] - spread[a][[0, 2]]
        third = faces[((faces == a) | (faces == b)).sum(1) == 2]
        inner = spread[np.setdiff1d(third[0], [a, b])[0]][[0, 2]] - spread[a][[0, 2]]
        normal = np.array([way[1], -way[0]]) / max(float(np.linalg.norm(way)), 1e-12)
        normal = -normal if normal @ inner > 0.0 else normal
        out[a] += normal
        out[b] += normal
    on = np.nonzero(np.linalg.norm(out, axis=1) > 1e-9)[0]
    place = np.full(len(spread), -1)
    place[on] = len(spread) + np.arange(len(on))
    beside, added = _neighbours(faces, len(spread)), []
    for v in on:
        own = np.append(beside.indices[beside.indptr[v] : beside.indptr[v + 1]], v)
        away = spread[own] - spread[v]
        fit = np.linalg.lstsq(np.column_stack([away[:, [0, 2]], np.ones(len(own))]), away[:, 1], rcond=None)[0]
        step = by * out[v] / np.linalg.norm(out[v])
        added.append(spread[v] + [step[0], fit[:2] @ step, step[1]])
    more = [f for a, b in rim if place[a] >= 0 and place[b] >= 0 for f in ((a, b, place[b]), (a, place[b], place[a]))]
    return np.concatenate([spread, np.array(added).reshape(-1, 3)]), np.concatenate(
        [faces, np.array(more, int).reshape(-1, 3)]
    )


def _over(own: np.ndarray, vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Return how far points (N, 3) lie above a mesh (N,), NaN where they are not over it."""
    out, flat = np.full(len(own), np.nan), vertices[:, [0, 2]]
    a, b, c = (flat[faces[:, k]] for k in range(3))
    area = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
    for n, p in enumerate(own[:, [0, 2]]):
        u = ((p - a)[:, 0] * (c - a)[:, 1] - (p - a)[:, 1] * (c - a)[:, 0]) / area
        v = ((b - a)[:, 0] * (p - a)[:, 1] - (b - a)[:, 1] * (p - a)[:, 0]) / area
        inside = np.nonzero((u >= -1e-9) & (v >= -1e-9) & (u + v <= 1.0 + 1e-9))[0]
        if len(inside):
            f = inside[0]
            heights = vertices[faces[f], 1]
            out[n] = own[n, 1] - (heights[0] + u[f] * (heights[1] - heights[0]) + v[f] * (heights[2] - heights[0]))
    return out


def _upright(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Return triangles wound so that they face up."""
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    down = np.cross(b - a, c - a)[:, 1] < 0.0
    return np.where(down[:, None], faces[:, ::-1], faces)
