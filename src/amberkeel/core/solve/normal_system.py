"""The normal equations of a bundle: banded in the cameras, with a border for what they share (Triggs et al. 1999)."""

import numpy as np
from scipy.sparse import csr_matrix

from amberkeel.core.solve.arrays import CHUNKS, Kept, Structure, Sums
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.reduce import eliminate_points
from amberkeel.core.solve.tiles import DEGREES, Factor, camera_order, factor, tile_pattern
from amberkeel.core.solve.unknowns import POINT_BLOCK, Layout, LensUnknowns, Unknown

LONE_WORK = 8.0
"""Work of an observation by itself, in pairs of observations: what shares points out among threads."""


class NormalSystem:
    """The normal equations of a bundle: their structure, found once, and their sums, filled anew for each step."""

    def __init__(self, bundle: Bundle):
        unknowns = [LensUnknowns(lens.free, lens.zoom_basis) for lens in bundle.lenses]
        self.layout = Layout(bundle.free, bundle.lens_of, unknowns, len(bundle.rhos))
        mentioned = {u.key for term in bundle.terms for u in term.unknowns() if u.block == POINT_BLOCK}
        self.layout.keep_points(sorted(mentioned))
        pairs = self._pairs(bundle)
        order = camera_order(pairs)
        self.layout.order(order)
        self.pattern = tile_pattern(pairs, order)
        self.structure = self._structure(bundle)
        self.sums, self.kept = self._arrays(bundle)

    def _pairs(self, bundle: Bundle) -> csr_matrix:
        """Return which free cameras share a point or a term, by their slots (F, F) sparse."""
        slot, count = self.layout.slot, self.layout.cameras // DEGREES
        seen = slot[bundle.camera]
        live = (seen >= 0) & (bundle.weight > 0.0)
        table = csr_matrix(
            (np.ones(live.sum(), np.float32), (bundle.point[live], seen[live])), shape=(len(bundle.rhos), count)
        )
        pairs = table.T @ table
        for term in bundle.terms:
            frames = {u.key for u in term.unknowns() if u.block in ("rotation", "position") and slot[u.key] >= 0}
            own = np.array(sorted(slot[f] for f in frames), np.int64)
            if len(own) > 1:
                both = np.repeat(own, len(own)), np.tile(own, len(own))
                pairs = pairs + csr_matrix((np.ones(len(both[0])), both), shape=pairs.shape)
        return pairs

    def _structure(self, bundle: Bundle) -> Structure:
        layout, lengths = self.layout, np.diff(bundle.first).astype(float)
        first, shared = _shared_by_point(bundle, layout)
        order = _by_first_camera(bundle, layout)
        work = np.cumsum((lengths * (lengths + LONE_WORK))[order])
        cuts = np.searchsorted(work, np.linspace(0.0, work[-1] if len(work) else 0.0, CHUNKS + 1)[1:-1])
        chunks = np.concatenate([[0], cuts, [len(lengths)]]).astype(np.int64)
        return Structure(
            layout.slot, layout.free, layout.columns, layout.chain, layout.kept,
            self.pattern.at, *np.divmod(np.maximum(layout.slot, 0), self.pattern.per_tile),
            first, shared, order, chunks,
        )  # fmt: skip

    def _arrays(self, bundle: Bundle) -> tuple[Sums, Kept]:
        tile, full = self.pattern.side, self.pattern.side * len(self.pattern.below)
        shared, points = self.layout.shared, len(bundle.rhos)
        self._padding = np.arange(self.layout.cameras, full)
        sums = Sums(
            np.empty((CHUNKS, self.pattern.stored, tile, tile)), np.empty((CHUNKS, shared, full)),
            np.empty((CHUNKS, shared, shared)), np.empty((CHUNKS, full + shared)), np.empty((CHUNKS, full + shared)),
        )  # fmt: skip
        kept = Kept(
            np.empty((len(bundle.camera), 3, DEGREES)), np.empty((len(self.structure.shared), 3)),
            np.zeros((points, 3, 3)), np.empty((points, 3)),
        )  # fmt: skip
        return sums, kept

    @property
    def full(self) -> int:
        """Rows of the cameras with those that fill the last tile."""
        return self.sums.border.shape[2]

    def whole_rows(self, unknown: Unknown) -> np.ndarray:
        """Return a block's rows among cameras, filling and border; -1 where held."""
        rows = self.layout.rows(unknown)
        return np.where(rows >= self.layout.cameras, rows + self.full - self.layout.cameras, rows)

    def fill(self, bundle: Bundle, damping: float, information: np.ndarray | None = None) -> None:
        """Sum the normal equations at a bundle of this structure, points eliminated.

        Parameters
        ----------
        damping : of the points' own matrices. information : (P,) factor on each point's weight, or None for 1.
        """
        each = np.ones(len(bundle.rhos)) if information is None else information
        eliminate_points(
            bundle.scene(),
            bundle.observations(),
            bundle.loss_scale**2,
            each,
            damping,
            self.structure,
            self.sums,
            self.kept,
        )
        for array in self.sums:
            for chunk in range(1, CHUNKS):
                array[0] += array[chunk]
        for term in bundle.terms:
            self._add_term(*term.evaluate(bundle))

    def _add_term(self, residual: np.ndarray, derivatives) -> None:
        """Add a term's rows of least squares to the sums."""
        rows = [(self.whole_rows(unknown), j) for unknown, j in derivatives.items()]
        for at, j in rows:
            live = at >= 0
            self.sums.side[0][at[live]] -= j[:, live].T @ residual
            for other, k in rows:
                self._add_block(at, other, j.T @ k)

    def _add_block(self, rows: np.ndarray, columns: np.ndarray, block: np.ndarray) -> None:
        """Add the lower part of a block at the given rows and columns, those of -1 left out."""
        full, side, at = self.full, self.pattern.side, self.pattern.at
        for a, r in enumerate(rows):
            for b, c in enumerate(columns):
                if c < 0 or r < c:
                    continue
                if c >= full:
                    self.sums.corner[0][r - full, c - full] += block[a, b]
                elif r >= full:
                    self.sums.border[0][r - full, c] += block[a, b]
                else:
                    self.sums.tiles[0][at[r // side, c // side], r % side, c % side] += block[a, b]

    def side(self) -> np.ndarray:
        """Return the right side (n + C,)."""
        return self.sums.side[0]

    def diagonal(self) -> np.ndarray:
        """Return the diagonal before elimination (n + C,), 1 in rows that nothing moves."""
        own = self.own_diagonal() + self.sums.taken[0]
        return np.where(own > 0.0, own, 1.0)

    def own_diagonal(self) -> np.ndarray:
        """Return the diagonal as it stands (n + C,)."""
        tiles = self.sums.tiles[0][np.diagonal(self.pattern.at)]
        return np.concatenate([np.diagonal(tiles, axis1=1, axis2=2).ravel(), np.diagonal(self.sums.corner[0])])

    def factored(self, added: np.ndarray) -> Factor:
        """Factor the system with `added` (n + C,) on its diagonal; the sums are used up.

        Raises
        ------
        numpy.linalg.LinAlgError : the system is not positive definite.
        """
        tiles, corner = self.sums.tiles[0], self.sums.corner[0]
        added = added + np.where(self.own_diagonal() + self.sums.taken[0] > 0.0, 0.0, 1.0)
        for j, stored in enumerate(np.diagonal(self.pattern.at)):
            np.einsum("ii->i", tiles[stored])[:] += added[self.pattern.column(j)]
        np.einsum("ii->i", corner)[:] += added[self.full :]
        return factor(self.pattern, tiles, self.sums.border[0], corner)

    def camera_rows(self, values: np.ndarray) -> np.ndarray:
        """Return values of the system's rows (n + C,) by frame, (F, 6); 0 where held."""
        return self.layout.camera_values(values)


def _by_first_camera(bundle: Bundle, layout: Layout) -> np.ndarray:
    """Return the points (P,) in the order of the first camera, by elimination, that sees each."""
    rank = np.where(layout.slot < 0, len(layout.slot), layout.slot)[bundle.camera]
    first = np.full(len(bundle.rhos), len(layout.slot))
    np.minimum.at(first, bundle.point, rank)
    return np.argsort(first, kind="stable")


def _shared_by_point(bundle: Bundle, layout: Layout) -> tuple[np.ndarray, np.ndarray]:
    """Return the border rows that each point's observations depend on: first (P + 1,), rows (H,), rising for each
    point.
    """
    count, most = len(bundle.rhos), layout.columns.shape[1]
    live = bundle.weight > 0.0
    if not most or not live.any():
        return np.zeros(count + 1, np.int64), np.zeros(0, np.int32)
    columns = layout.columns[bundle.camera[live]]
    owner = np.repeat(bundle.point[live], most)[columns.ravel() >= 0]
    keys = np.unique(owner * np.int64(layout.shared) + columns.ravel()[columns.ravel() >= 0])
    first = np.searchsorted(keys, np.arange(count + 1) * np.int64(layout.shared))
    return first.astype(np.int64), (keys % layout.shared).astype(np.int32)
