"""The normal equations of a bundle: banded in the cameras, with a border for what they share (Triggs et al. 1999)."""

from itertools import product

import numpy as np
from scipy.sparse import csr_matrix

from amberkeel.core.solve.arrays import CHUNKS, FEW, Kept, Structure, Sums
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.panels import make_panels, take_points
from amberkeel.core.solve.reduce import eliminate_points
from amberkeel.core.solve.terms import Term
from amberkeel.core.solve.tiles import DEGREES, Factor, camera_order, factor, tile_pattern
from amberkeel.core.solve.unknowns import POINT_BLOCK, POSITION, ROTATION, WORLD, Layout, LensUnknowns, Unknown

LONE_WORK = 8.0
"""Work of an observation by itself, in pairs of observations: what shares points out among threads."""


class NormalSystem:
    """The normal equations of a bundle: their structure, found once, and their sums, filled anew for each step."""

    def __init__(self, bundle: Bundle):
        unknowns = [LensUnknowns(lens.free, lens.zoom_basis) for lens in bundle.lenses]
        self.layout = Layout(bundle.free, bundle.lens_of, unknowns, len(bundle.rhos))
        of_terms = [u for term in bundle.terms for u in term.unknowns()]
        self.layout.keep_points(sorted({int(k) for u in of_terms if u.block == POINT_BLOCK for k in u.keys}))
        if any(u.block == WORLD for u in of_terms):
            self.layout.add_scene(Unknown(WORLD, 0), bundle.world.free)
        for number, shape in enumerate(bundle.shapes):
            self.layout.add_scene(Unknown(shape.block, number), shape.free)
        pairs = self._pairs(bundle)
        order = camera_order(pairs)
        self.layout.order(order)
        self.pattern = tile_pattern(pairs, order)
        self.structure = self._structure(bundle)
        self.sums, self.kept = self._arrays(bundle)
        self.panels = make_panels(self.structure, self.pattern, bundle.camera, bundle.point)
        self._term_rows = [self._rows_of(term) for term in bundle.terms]

    def _rows_of(self, term: Term) -> np.ndarray:
        """Return the rows (G, M) of a term's unknowns among cameras, filling and border; -1 where held."""
        return np.concatenate(
            [np.stack([self.whole_rows(Unknown(u.block, int(k))) for k in u.keys]) for u in term.unknowns()], 1
        )

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
            own = [slot[u.keys] for u in term.unknowns() if u.block in (ROTATION, POSITION)]
            for a, b in product(own, own):
                met = (a >= 0) & (b >= 0) & (a != b)
                if met.any():
                    pairs = pairs + csr_matrix((np.ones(int(met.sum())), (a[met], b[met])), shape=pairs.shape)
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
        take_points(self.panels, self.structure, self.kept, self.sums.tiles[0], self.pattern.at)
        for rows, term in zip(self._term_rows, bundle.terms):
            self._add_term(rows, *term.evaluate(bundle))

    def _add_term(self, rows: np.ndarray, residual: np.ndarray, derivatives: tuple[np.ndarray, ...]) -> None:
        """Add a term's groups of rows of least squares to the sums, at the system's rows (G, M)."""
        j = np.concatenate(derivatives, 2)
        live = rows >= 0
        np.add.at(self.sums.side[0], rows[live], -np.einsum("grm,gr->gm", j, residual)[live])
        blocks = np.einsum("grm,grn->gmn", j, j)
        high, low = np.broadcast_arrays(rows[:, :, None], rows[:, None, :])
        lower = (low >= 0) & (high >= low)
        self._add_entries(high[lower], low[lower], blocks[lower])

    def _add_entries(self, high: np.ndarray, low: np.ndarray, values: np.ndarray) -> None:
        """Add entries (K,) of the lower triangle, at rows `high` and columns `low` (K,)."""
        full, side, at = self.full, self.pattern.side, self.pattern.at
        corner, camera = low >= full, high < full
        border = ~corner & ~camera
        np.add.at(self.sums.corner[0], (high[corner] - full, low[corner] - full), values[corner])
        np.add.at(self.sums.border[0], (high[border] - full, low[border]), values[border])
        h, c = high[camera], low[camera]
        np.add.at(self.sums.tiles[0], (at[h // side, c // side], h % side, c % side), values[camera])

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
        return factor(self.pattern, tiles, self.sums.border[0], corner, len(self.panels.camera) > FEW)

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
