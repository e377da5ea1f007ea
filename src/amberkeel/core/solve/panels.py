"""What eliminated points take from pairs of cameras, by BLAS: dense panels of rows, one for each tile of cameras.

A point with normal matrix V takes ``W V⁻¹ Wᵀ`` from the cameras that see it, W being its blocks against them. With
``V⁻¹ = C Cᵀ`` the rows ``Cᵀ Wᵀ`` of all points that a tile's cameras see, one below the other, are its panel Z; the
tile of rows i and columns j loses ``Z_iᵀ Z_j``. The zeros of cameras that do not see a point are multiplied along: a
matrix product is faster by more than that where tracks are long against a tile.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST
from amberkeel.core.solve.arrays import CHUNKS, FEW, Kept, Structure
from amberkeel.core.solve.tiles import DEGREES, TilePattern


@dataclass(frozen=True)
class Panels:
    """The panels of a system.

    Attributes
    ----------
    camera, point : (N,) of the observations.
    rows : (3 K, S) all panels, one below the other.
    position : (N,) of each observation's point in the panels, -1 where it has no part in them.
    tiles : (B, 2) rows and columns of the tiles that lose something.
    products : (B + 1,) where in `own` and `other` (3 M,) each of those tiles' rows of the two panels begin.
    shares : where in that order each thread's tiles begin (CHUNKS + 1,).
    """

    camera: np.ndarray
    point: np.ndarray
    rows: np.ndarray
    position: np.ndarray
    tiles: np.ndarray
    products: np.ndarray
    own: np.ndarray
    other: np.ndarray
    shares: np.ndarray


def make_panels(structure: Structure, pattern: TilePattern, camera: np.ndarray, point: np.ndarray) -> Panels:
    """Return empty panels for observations of points (N,) by cameras (N,)."""
    live = (structure.slot[camera] >= 0) & (structure.kept[point] < 0)
    tile, points = structure.tile[camera[live]].astype(np.int64), len(structure.kept)
    met, position = np.unique(tile * points + point[live], return_inverse=True)
    count = len(pattern.below)
    first = np.searchsorted(met, np.arange(count + 1) * points)
    of = [met[first[t] : first[t + 1]] - t * points for t in range(count)]
    tiles, own, other = [], [], []
    for j, below in enumerate(pattern.below):
        for i in (j, *below.tolist()):
            _, a, b = np.intersect1d(of[i], of[j], assume_unique=True, return_indices=True)
            if len(a):
                tiles.append((i, j))
                own.append(_rows(first[i] + a))
                other.append(_rows(first[j] + b))
    where = np.full(len(camera), -1)
    where[live] = position
    products = np.concatenate([[0], np.cumsum([len(rows) for rows in own])]).astype(np.int64)
    return Panels(
        camera, point, np.zeros((3 * len(met), pattern.side)), where, np.array(tiles, np.int64).reshape(-1, 2),
        products, _joined(own), _joined(other), np.searchsorted(products, np.linspace(0, products[-1], CHUNKS + 1)),
    )  # fmt: skip


def _joined(rows: list[np.ndarray]) -> np.ndarray:
    return np.concatenate([*rows, np.zeros(0, np.int64)])


def _rows(points: np.ndarray) -> np.ndarray:
    """Return the rows (3 k,) of points (k,) of the panels."""
    return (3 * points[:, None] + np.arange(3)).ravel()


def take_points(panels: Panels, structure: Structure, kept: Kept, tiles: np.ndarray, at: np.ndarray) -> None:
    """Take the eliminated points from the tiles (T, S, S) of a system, in place.

    Parameters
    ----------
    panels : of this structure; they are filled. structure, kept : of the system, with the points' blocks and inverses.
    tiles : (T, S, S). at : (K, K), see `TilePattern`.
    """
    fill_panels(panels.camera, panels.point, structure.within, panels.position, kept.blocks, kept.inverses, panels.rows)
    lost = panels.rows, panels.tiles, panels.products, panels.own, panels.other
    if len(panels.camera) > FEW:
        _take_parallel(*lost, panels.shares, tiles, at)
    else:
        _take(*lost, 0, len(panels.tiles), tiles, at)


@njit(cache=True, nogil=True)
def _take(rows, own_tiles, products, own, other, begin, end, tiles, at):
    """Take the products of panels from tiles `begin` to `end` of those that lose something."""
    for b in range(begin, end):
        i, j = own_tiles[b, 0], own_tiles[b, 1]
        left, right = rows[own[products[b] : products[b + 1]]], rows[other[products[b] : products[b + 1]]]
        tiles[at[i, j]] -= np.dot(left.T, right)


@njit(cache=True, nogil=True, parallel=True)
def _take_parallel(rows, own_tiles, products, own, other, shares, tiles, at):
    for chunk in prange(CHUNKS):
        _take(rows, own_tiles, products, own, other, shares[chunk], shares[chunk + 1], tiles, at)


@njit(cache=True, nogil=True, fastmath=FAST)
def fill_panels(camera, point, within, position, blocks, inverses, rows):
    """Fill the panels from the points' blocks.

    Parameters
    ----------
    camera, point, position : (N,) of the observations. within : (F,) a camera's place in its tile. blocks : (N, 3, 6).
    inverses : (P, 3, 3) of the points' normal matrices. rows : (3 K, S), filled.
    """
    root, last = np.zeros((3, 3)), -1
    for n in range(len(camera)):
        k = position[n]
        if k < 0:
            continue
        p = point[n]
        if p != last:
            _root(inverses[p], root)
            last = p
        column = DEGREES * within[camera[n]]
        w = blocks[n]
        for a in range(DEGREES):
            rows[3 * k, column + a] = root[0, 0] * w[0, a] + root[1, 0] * w[1, a] + root[2, 0] * w[2, a]
            rows[3 * k + 1, column + a] = root[1, 1] * w[1, a] + root[2, 1] * w[2, a]
            rows[3 * k + 2, column + a] = root[2, 2] * w[2, a]


@njit(cache=True, nogil=True, fastmath=FAST)
def _root(v, out):
    """Fill `out` (3, 3) with the lower Cholesky factor of a symmetric positive matrix."""
    out[0, 0] = np.sqrt(max(v[0, 0], 0.0))
    inverse = 1.0 / out[0, 0] if out[0, 0] > 0.0 else 0.0
    out[1, 0], out[2, 0] = v[1, 0] * inverse, v[2, 0] * inverse
    out[1, 1] = np.sqrt(max(v[1, 1] - out[1, 0] * out[1, 0], 0.0))
    inverse = 1.0 / out[1, 1] if out[1, 1] > 0.0 else 0.0
    out[2, 1] = (v[2, 1] - out[2, 0] * out[1, 0]) * inverse
    out[2, 2] = np.sqrt(max(v[2, 2] - out[2, 0] * out[2, 0] - out[2, 1] * out[2, 1], 0.0))
