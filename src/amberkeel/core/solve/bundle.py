"""Bundle adjustment: cameras, points and lenses together.

Levenberg-Marquardt with a gain ratio; points eliminated by the Schur complement in one numba pass over observations
sorted by point; the reduced system factored in tiles (Triggs et al. 1999). Cauchy loss on whitened residuals.
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.linalg import LinAlgError
from scipy.sparse import csr_matrix

from amberkeel.core.solve import terms as known
from amberkeel.core.solve.radial_lens import LENS_NAMES, MOST_RADIAL, RadialLens
from amberkeel.core.solve.reduce import (
    CHUNKS,
    Kept,
    Observations,
    Scene,
    Structure,
    Sums,
    eliminate_points,
    fill_residuals,
    move_points,
    point_steps,
    robust_cost,
    turn_cameras,
)
from amberkeel.core.solve.terms import Term
from amberkeel.core.solve.tiles import DEGREES, Factor, camera_order, factor, tile_pattern
from amberkeel.core.solve.unknowns import POINT_BLOCK, ZOOM, Layout, LensUnknowns, Unknown

SETTLED = 1e-6
"""Damping at or below which a small gain means convergence; above it, a step may only be short along a valley."""

LEAST_DAMPING, MOST_DAMPING = 1e-9, 1e8
"""Bounds of the damping: below, it does nothing; above, no step is long enough to matter."""

LONE_WORK = 8.0
"""Work of an observation by itself, in pairs of observations: what shares points out among threads."""

PIVOT_FLOOR = 1e-12
"""Share of the largest diagonal added to all of it before factoring."""


@dataclass(frozen=True)
class LensBlock:
    """One lens of an adjustment.

    Attributes
    ----------
    values : the lens. free : names of `LENS_NAMES` that may change.
    zoom : (K,) coefficients of the log focal length over frames, on the basis (F, K); K is 0 where nothing zooms.
    """

    values: RadialLens
    free: tuple[str, ...]
    zoom: np.ndarray
    zoom_basis: np.ndarray

    @property
    def zooms(self) -> bool:
        """Whether the focal length changes over frames."""
        return len(self.zoom) > 0


def fixed_focal(values: RadialLens, free: tuple[str, ...], frames: int) -> LensBlock:
    """Return a lens whose focal length is the same on all of `frames` cameras.

    Parameters
    ----------
    values : the lens. free : names of what may change. frames : number of cameras.
    """
    return LensBlock(values, free, np.zeros(0), np.zeros((frames, 0)))


@dataclass(frozen=True)
class Bundle:
    """The unknowns and the measurements of an adjustment.

    Attributes
    ----------
    rotations (F, 3, 3) world_from_camera, centres (F, 3) : cameras. free (F, 6) bool : degrees that may move, the turn
        in the camera's own frame, then the position in the world.
    lenses : one or more; lens_of (F,) int, each camera's.
    anchors (P, 3), directions (P, 3), rhos (P,) : points, ``X = anchor + direction / rho``.
    first (P + 1,) : observations of point p are rows ``first[p]:first[p + 1]``, each camera once.
    camera (N,) int, xy (N, 2) pixels, weight (N,) one over sigma in pixels; weight 0 leaves an observation out.
    terms : what else is known. loss_scale : whitened residual at which the Cauchy loss bends.
    """

    rotations: np.ndarray
    centres: np.ndarray
    free: np.ndarray
    lenses: tuple[LensBlock, ...]
    lens_of: np.ndarray
    anchors: np.ndarray
    directions: np.ndarray
    rhos: np.ndarray
    first: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    weight: np.ndarray
    terms: tuple[Term, ...] = ()
    loss_scale: float = 2.5

    @property
    def lens(self) -> RadialLens:
        """The first lens."""
        return self.lenses[0].values

    @property
    def point(self) -> np.ndarray:
        """Each observation's point (N,)."""
        return np.repeat(np.arange(len(self.rhos)), np.diff(self.first))

    def lens_rows(self) -> np.ndarray:
        """Return each camera's lens row (F, 7), the zoom in it."""
        return lens_rows(self.lenses, self.lens_of)

    def scene(self) -> Scene:
        """Return cameras, lens rows and points for the kernels."""
        return Scene(self.rotations, self.centres, self.lens_rows(), self.anchors, self.directions, self.rhos)

    def observations(self) -> Observations:
        """Return the measurements for the kernels."""
        return Observations(self.first, self.camera, self.xy, self.weight)

    def residuals(self) -> np.ndarray:
        """Return projected minus measured (N, 2) in pixels; 1e3 where a point is behind the camera."""
        out = np.empty_like(self.xy)
        fill_residuals(self.scene(), self.observations(), self.point, out)
        return out

    def points(self, far: float = 1e4) -> np.ndarray:
        """Return point positions (P, 3); points beyond `far` or at infinity are put at that distance."""
        return self.anchors + self.directions / np.maximum(self.rhos, 1.0 / far)[:, None]

    def figures(self) -> list[known.Figure]:
        """Return what each term says."""
        return [figure for term in self.terms for figure in term.figures(self)]


@dataclass(frozen=True)
class Adjusted:
    """An adjusted bundle and its robust cost."""

    bundle: Bundle
    cost: float


def lens_rows(lenses: tuple[LensBlock, ...], lens_of: np.ndarray) -> np.ndarray:
    """Return each camera's lens row (F, 7) from the lenses and their numbers (F,)."""
    out = np.stack([lens.values.row for lens in lenses])[lens_of]
    for number, lens in enumerate(lenses):
        if lens.zooms:
            own = lens_of == number
            out[own, LENS_NAMES.index("focal")] *= np.exp(lens.zoom_basis[own] @ lens.zoom)
    return out


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


def total_cost(bundle: Bundle) -> float:
    """Return the robust cost of a bundle with its terms."""
    soft = known.cost(bundle.terms, bundle)
    return soft + float(robust_cost(bundle.scene(), bundle.observations(), bundle.loss_scale**2))


def adjust(bundle: Bundle, iterations: int = 20, tolerance: float = 1e-5, damping: float = 1e-5) -> Adjusted:
    """Adjust a bundle; return the new one and its cost.

    Parameters
    ----------
    iterations : steps at the most. tolerance : share of the cost below which an accepted step's gain ends the work.
    damping : of the first step.
    """
    system = NormalSystem(bundle)
    cost, rise = total_cost(bundle), 2.0
    for _ in range(iterations):
        system.fill(bundle, damping)
        side, diagonal = system.side().copy(), system.diagonal()
        try:
            factored = system.factored(damping * diagonal + PIVOT_FLOOR * diagonal.max(initial=1.0))
        except LinAlgError:
            damping *= 10.0
            continue
        step = np.concatenate(factored.solve(side[: system.full], side[system.full :]))
        trial, moved = _stepped(bundle, system, step)
        new_cost = total_cost(trial)
        expected = 0.5 * (step @ (damping * diagonal * step + side) + float((moved * system.kept.gradients).sum()))
        ratio = (cost - new_cost) / max(expected, 1e-300)
        if new_cost < cost:
            gone = (cost - new_cost) / max(cost, 1e-300)
            bundle, cost, rise = trial, new_cost, 2.0
            damping = max(damping * max(1.0 / 3.0, 1.0 - (2.0 * min(ratio, 1.0) - 1.0) ** 3), LEAST_DAMPING)
            if gone < tolerance and damping <= SETTLED:
                break
            if gone < tolerance:
                damping *= 0.1
        else:
            damping, rise = damping * rise, rise * 2.0
            if damping > MOST_DAMPING:
                break
    return Adjusted(bundle, cost)


def _stepped(bundle: Bundle, system: NormalSystem, step: np.ndarray) -> tuple[Bundle, np.ndarray]:
    """Return the bundle after a step of cameras and lenses, with the points following, and the points' step."""
    moved = np.empty((len(bundle.rhos), 3))
    point_steps(bundle.observations(), system.structure, system.full, system.kept, step, moved)
    cameras = system.camera_rows(step)
    rotations = np.empty_like(bundle.rotations)
    turn_cameras(bundle.rotations, np.ascontiguousarray(cameras[:, :3]), rotations)
    directions, rhos = np.empty_like(bundle.directions), np.empty_like(bundle.rhos)
    move_points(bundle.directions, bundle.rhos, moved, directions, rhos)
    lenses = tuple(_stepped_lens(lens, number, system, step) for number, lens in enumerate(bundle.lenses))
    trial = replace(
        bundle, rotations=rotations, centres=bundle.centres + cameras[:, 3:], lenses=lenses,
        directions=directions, rhos=rhos,
    )  # fmt: skip
    return trial, moved


def _stepped_lens(lens: LensBlock, number: int, system: NormalSystem, step: np.ndarray) -> LensBlock:
    values = lens.values
    for name in lens.free:
        values = values.stepped(name, float(step[system.whole_rows(Unknown(name, number))[0]]))
    if not lens.zooms:
        return replace(lens, values=values)
    bends = step[system.whole_rows(Unknown(ZOOM, number))]
    return replace(lens, values=values, zoom=lens.zoom + np.clip(bends, -MOST_RADIAL, MOST_RADIAL))
