"""What eliminated points take from pairs of cameras, by BLAS: dense panels of rows, one for each tile of cameras.

A point with normal matrix V takes ``W V⁻¹ Wᵀ`` from the cameras that see it, W being its blocks against them. With
``V⁻¹ = C Cᵀ`` the rows ``Cᵀ Wᵀ`` of all points that a tile's cameras see, one below the other, are its panel Z; the
tile of rows i and columns j loses ``Z_iᵀ Z_j``. The zeros of cameras that do not see a point are multiplied along: a
matrix product is faster by more than that where tracks are long against a tile.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.linalg.blas import dsyrk

from amberkeel.core.solve.arrays import Kept, Structure
from amberkeel.core.solve.tiles import DEGREES, TilePattern


@dataclass(frozen=True)
class Panels:
    """The panels of a system.

    Attributes
    ----------
    camera, point : (N,) of the observations.
    rows : (3 K, S) all panels, one below the other. first : (T + 1,) where each tile's panel begins, in points.
    position : (N,) of each observation's point in the panels, -1 where it has no part in them.
    pairs : tiles i > j with rows in common, and the points in common by their positions in either panel.
    """

    camera: np.ndarray
    point: np.ndarray
    rows: np.ndarray
    first: np.ndarray
    position: np.ndarray
    pairs: tuple[tuple[int, int, np.ndarray, np.ndarray], ...]

    def of(self, tile: int) -> np.ndarray:
        """Return the panel of a tile, (3 k, S)."""
        return self.rows[3 * self.first[tile] : 3 * self.first[tile + 1]]


def make_panels(structure: Structure, pattern: TilePattern, camera: np.ndarray, point: np.ndarray) -> Panels:
    """Return empty panels for observations of points (N,) by cameras (N,)."""
    live = (structure.slot[camera] >= 0) & (structure.kept[point] < 0)
    tile, points = structure.tile[camera[live]].astype(np.int64), len(structure.kept)
    met, position = np.unique(tile * points + point[live], return_inverse=True)
    count = len(pattern.below)
    first = np.searchsorted(met, np.arange(count + 1) * points)
    of = [met[first[t] : first[t + 1]] - t * points for t in range(count)]
    pairs = []
    for j, below in enumerate(pattern.below):
        for i in below.tolist():
            _, a, b = np.intersect1d(of[i], of[j], assume_unique=True, return_indices=True)
            if len(a):
                pairs.append((i, j, _rows(a), _rows(b)))
    where = np.full(len(camera), -1)
    where[live] = position
    return Panels(camera, point, np.zeros((3 * len(met), pattern.side)), first, where, tuple(pairs))


def _rows(points: np.ndarray) -> np.ndarray:
    """Return the rows (3 k,) of points (k,) of a panel."""
    return (3 * points[:, None] + np.arange(3)).ravel()


def take_points(panels: Panels, structure: Structure, kept: Kept, tiles: np.ndarray, at: np.ndarray) -> None:
    """Take the eliminated points from the tiles (T, S, S) of a system, in place; of diagonal tiles the lower triangle.

    Parameters
    ----------
    panels : of this structure; they are filled. structure, kept : of the system, with the points' blocks and inverses.
    tiles : (T, S, S). at : (K, K), see `TilePattern`.
    """
    fill_panels(panels.camera, panels.point, structure.within, panels.position, kept.blocks, kept.inverses, panels.rows)
    for i in range(len(panels.first) - 1):
        panel = panels.of(i)
        if len(panel):
            # Of a C-ordered tile the transpose is what BLAS takes; its upper triangle is our lower one.
            dsyrk(-1.0, panel.T, beta=1.0, c=tiles[at[i, i]].T, lower=0, overwrite_c=1)
    for i, j, own, other in panels.pairs:
        tiles[at[i, j]] -= panels.of(i)[own].T @ panels.of(j)[other]


@njit(cache=True, nogil=True, fastmath=True)
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


@njit(cache=True, nogil=True, fastmath=True)
def _root(v, out):
    """Fill `out` (3, 3) with the lower Cholesky factor of a symmetric positive matrix."""
    out[0, 0] = np.sqrt(max(v[0, 0], 0.0))
    inverse = 1.0 / out[0, 0] if out[0, 0] > 0.0 else 0.0
    out[1, 0], out[2, 0] = v[1, 0] * inverse, v[2, 0] * inverse
    out[1, 1] = np.sqrt(max(v[1, 1] - out[1, 0] * out[1, 0], 0.0))
    inverse = 1.0 / out[1, 1] if out[1, 1] > 0.0 else 0.0
    out[2, 1] = (v[2, 1] - out[2, 0] * out[1, 0]) * inverse
    out[2, 2] = np.sqrt(max(v[2, 2] - out[2, 0] * out[2, 0] - out[2, 1] * out[2, 1], 0.0))
