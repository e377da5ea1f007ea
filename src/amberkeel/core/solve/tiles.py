"""Sparse symmetric systems of cameras, stored and factored in square tiles, with a dense border of shared unknowns.

The reduced camera system of a long plate is banded, since a track is short against the plate; a track that returns or
ties between shots add entries far from the diagonal (Triggs et al. 1999, section 6). Cameras are grouped in tiles;
only tiles with entries, and those that fill in while factoring, are stored. Each tile is a dense matrix that LAPACK
factors, so cost and memory grow linearly with the number of frames.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy.linalg.blas import dtrsm
from scipy.linalg.lapack import dtrtrs
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import reverse_cuthill_mckee

from amberkeel.core.solve.arrays import CHUNKS

DEGREES = 6
"""Rows of a camera in the system."""

TILE_CAMERAS = 12
"""Cameras of a tile: 72 rows, which BLAS multiplies near its full speed and which still follow a band closely."""

DENSE_CAMERAS = 32
"""Cameras up to which the whole system is one tile."""

MOST_IN_ONE, NEARLY_FULL = 160, 0.9
"""Cameras up to which the same holds where so large a share of their pairs touch: of a shot whose tracks last."""

REORDER_FILL = 1.3
"""Tiles after factoring over tiles before, from which another order of the cameras is tried."""


@dataclass(frozen=True)
class TilePattern:
    """Which tiles of a symmetric matrix are stored: the lower triangle, by columns, each from its diagonal tile down.

    Attributes
    ----------
    cameras : number of cameras in the system; `per_tile` of them stand in each tile.
    at : (K, K) int, index of the stored tile of row i and column j, i >= j, or -1.
    below : for each column the rows of its stored tiles under the diagonal, rising.
    """

    cameras: int
    per_tile: int
    at: np.ndarray
    below: tuple[np.ndarray, ...]

    @property
    def side(self) -> int:
        """Rows of a tile."""
        return DEGREES * self.per_tile

    @property
    def stored(self) -> int:
        """Number of stored tiles."""
        return int(self.at.max(initial=-1)) + 1

    def column(self, j: int) -> slice:
        """Return the rows of a full-height array that belong to tile column `j`."""
        return slice(j * self.side, (j + 1) * self.side)


def _solved(root: np.ndarray, right: np.ndarray, transposed: bool = False) -> np.ndarray:
    """Return ``L⁻¹ b``, or ``L⁻ᵀ b``, for a lower triangle in C order; LAPACK, without what scipy checks first, which
    takes longer than the solution of a small system.

    Raises
    ------
    numpy.linalg.LinAlgError : a 0 stands on the diagonal.
    """
    found, info = dtrtrs(root.T, right, lower=0, trans=0 if transposed else 1)
    if info:
        raise np.linalg.LinAlgError("A triangular system is singular.")
    return found


def camera_order(pairs: np.ndarray) -> np.ndarray:
    """Return the order (F,) in which to eliminate cameras so that little fills in: as they are, or by their graph.

    Parameters
    ----------
    pairs : (F, F) sparse, nonzero where two cameras share a point or a term.

    A loop that closes late makes the natural order fill in; the reverse Cuthill-McKee order folds the loop into a band
    of twice the width (George and Liu 1981, chapter 4).
    """
    count = pairs.shape[0]
    natural = np.arange(count)
    if _per_tile(pairs) == max(count, 1):
        return natural
    before = tile_pattern(pairs, natural)
    if before.stored <= REORDER_FILL * _occupied(pairs, natural).sum():
        return natural
    folded = np.asarray(reverse_cuthill_mckee(csr_matrix(pairs), symmetric_mode=True), np.int64)
    return folded if tile_pattern(pairs, folded).stored < before.stored else natural


def tile_pattern(pairs: np.ndarray, order: np.ndarray) -> TilePattern:
    """Return the pattern of a system whose cameras (F, F) sparse `pairs` touch, eliminated in `order` (F,)."""
    count = len(order)
    per_tile = _per_tile(pairs)
    filled = _occupied(pairs, order)
    below, at, stored = [], np.full(filled.shape, -1, np.int64), 0
    for j in range(len(filled)):
        rows = j + 1 + np.nonzero(filled[j + 1 :, j])[0]
        filled[np.ix_(rows, rows)] = True
        at[j, j] = stored
        at[rows, j] = stored + 1 + np.arange(len(rows))
        stored += 1 + len(rows)
        below.append(rows)
    return TilePattern(count, per_tile, at, tuple(below))


def _per_tile(pairs: np.ndarray) -> int:
    """Return how many cameras stand in each tile: all of them where they are few, or nearly all touch each other."""
    count = max(pairs.shape[0], 1)
    whole = count <= DENSE_CAMERAS or count <= MOST_IN_ONE and len(pairs.nonzero()[0]) >= NEARLY_FULL * count * count
    return count if whole else TILE_CAMERAS


def _occupied(pairs: np.ndarray, order: np.ndarray) -> np.ndarray:
    """Return which tiles of the ordered system have entries, (K, K) bool, symmetric."""
    count = len(order)
    per_tile = _per_tile(pairs)
    tiles = -(-max(count, 1) // per_tile)
    rank = np.empty(count, np.int64)
    rank[order] = np.arange(count)
    rows, columns = pairs.nonzero()
    out = np.eye(tiles, dtype=bool)
    out[rank[rows] // per_tile, rank[columns] // per_tile] = True
    return out | out.T


@dataclass(frozen=True)
class Factor:
    """The Cholesky factor of a tiled system with its border, ``A = L Lᵀ``.

    Attributes
    ----------
    pattern : of the tiles. tiles : (T, S, S) of L. border : (C, n) rows of L that belong to the shared unknowns.
    corner : (C, C) lower triangle of L for the shared unknowns.
    """

    pattern: TilePattern
    tiles: np.ndarray
    border: np.ndarray
    corner: np.ndarray

    def forward(self, cameras: np.ndarray, shared: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return ``L⁻¹ b`` for right sides given as rows: of the cameras (R, n), of the shared unknowns (R, C)."""
        y, p = cameras.copy(), self.pattern
        for j, rows in enumerate(p.below):
            d, own = p.at[j, j], p.column(j)
            y[:, own] = _solved(self.tiles[d], y[:, own].T).T
            for k, i in enumerate(rows):
                y[:, p.column(i)] -= y[:, own] @ self.tiles[d + 1 + k].T
        rest = shared - y @ self.border.T
        return y, _solved(self.corner, rest.T).T if rest.size else rest

    def backward(self, cameras: np.ndarray, shared: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return ``L⁻ᵀ y`` for rows as `forward` returns them."""
        s = shared
        if shared.size:
            s = _solved(self.corner, shared.T, True).T
        return self._backward_cameras(cameras - s @ self.border), s

    def _backward_cameras(self, y: np.ndarray) -> np.ndarray:
        """Return the cameras' part of ``L⁻ᵀ y`` (R, n), the shared unknowns being 0."""
        x, p = y.copy(), self.pattern
        for j in range(len(p.below) - 1, -1, -1):
            d, own = p.at[j, j], p.column(j)
            for k, i in enumerate(p.below[j]):
                x[:, own] -= x[:, p.column(i)] @ self.tiles[d + 1 + k]
            x[:, own] = _solved(self.tiles[d], x[:, own].T, True).T
        return x

    def solve(self, cameras: np.ndarray, shared: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the solution (n,), (C,) for a right side (n,), (C,)."""
        x, s = self.backward(*self.forward(cameras[None], shared[None]))
        return x[0], s[0]

    def camera_variances(self) -> np.ndarray:
        """Return the diagonal of the inverse for the rows of the cameras (n,).

        The inverse is computed on the stored tiles only, from the last column to the first (Takahashi et al. 1973);
        the shared unknowns add the diagonal of ``W S⁻¹ Wᵀ``.
        """
        p = self.pattern
        inverse, out = np.empty_like(self.tiles), np.empty(self.border.shape[1])
        for j in range(len(p.below) - 1, -1, -1):
            d, rows, own = p.at[j, j], p.below[j], p.column(j)
            root = _solved(self.tiles[d], np.eye(p.side))
            inverse[d] = root.T @ root
            if len(rows):
                gain = self.tiles[d + 1 : d + 1 + len(rows)] @ root
                for k, i in enumerate(rows):
                    block = np.zeros((p.side, p.side))
                    for m, o in enumerate(rows):
                        tile = inverse[p.at[i, o]] if i >= o else inverse[p.at[o, i]].T
                        block -= tile @ gain[m]
                    inverse[d + 1 + k] = block
                inverse[d] -= np.einsum("kab,kac->bc", gain, inverse[d + 1 : d + 1 + len(rows)])
            out[own] = np.diagonal(inverse[d])
        if len(self.corner):
            shared = _solved(self.corner, np.eye(len(self.corner)))
            out += (self._backward_cameras(shared @ self.border) ** 2).sum(0)
        return out


def factor(
    pattern: TilePattern, tiles: np.ndarray, border: np.ndarray, corner: np.ndarray, alone: bool = True
) -> Factor:
    """Factor a system; the arrays given are overwritten.

    Parameters
    ----------
    pattern : of the tiles. tiles : (T, S, S), each diagonal tile by its lower triangle. border : (C, n), shared rows
        against cameras. corner : (C, C), lower triangle. alone : whether no other system is factored at the same time.

    Raises
    ------
    numpy.linalg.LinAlgError : the system is not positive definite.
    """
    side = pattern.side
    for j, rows in enumerate(pattern.below):
        d, own = pattern.at[j, j], pattern.column(j)
        tiles[d] = np.linalg.cholesky(tiles[d])
        if len(border):
            border[:, own] = _solved(tiles[d], border[:, own].T).T
        if not len(rows):
            continue
        panel = tiles[d + 1 : d + 1 + len(rows)].reshape(-1, side)
        panel[:] = dtrsm(1.0, tiles[d].T, panel.T, trans_a=1).T
        (_update_parallel if alone and len(rows) > 1 else _update)(tiles, d, rows, pattern.at)
        if len(border):
            for k, i in enumerate(rows):
                border[:, pattern.column(i)] -= border[:, own] @ panel[k * side : (k + 1) * side].T
    if len(corner):
        corner = np.linalg.cholesky(np.tril(corner) - np.tril(border @ border.T))
    return Factor(pattern, tiles, border, corner)


@njit(cache=True, nogil=True)
def _update_rows(tiles, d, rows, at, chunk, step):
    """Take a column's products from every `step`-th of the columns to its right, from column `chunk` on."""
    for k in range(chunk, len(rows), step):
        right = tiles[d + 1 + k].T
        for m in range(k, len(rows)):
            tiles[at[rows[m], rows[k]]] -= np.dot(tiles[d + 1 + m], right)


@njit(cache=True, nogil=True)
def _update(tiles, d, rows, at):
    _update_rows(tiles, d, rows, at, 0, 1)


@njit(cache=True, nogil=True, parallel=True)
def _update_parallel(tiles, d, rows, at):
    """Take from the tiles right of a column (`rows` below its diagonal tile `d`) what its elimination takes."""
    for chunk in prange(CHUNKS):
        _update_rows(tiles, d, rows, at, chunk, CHUNKS)
