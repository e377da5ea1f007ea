"""Errors that measurements share, by the delete-a-group jackknife.

The inverse of the normal matrix knows independent noise only. Following errs alike along a track, among neighbours (one
slope, one edge, one texture) and over a stretch of frames. So the adjustment is repeated without all tracks of one cell
of the picture, and without each stretch of frames, as one Gauss-Newton step from the solution, and the spread of what
comes out is taken: ``(G - 1) / G · Σ d dᵀ`` (Künsch 1989 for blocks; Cameron and Miller 2015 for clusters, whose
variances in two ways of grouping add, but for what both know). Unlike the sum of the clusters' scores it counts in
full what one cell decides almost alone.
"""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.linalg import LinAlgError

from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.normal_system import NormalSystem

CELLS = 4
"""Columns and rows of the cells of the picture."""

STRETCHES = 8
"""Stretches of frames."""

FAINT = 1e-4
"""Weight that is left to what is deleted, so that frames without other measurements stay where they are."""

REGULAR, MOST_REGULAR = 1e-12, 1e-4
"""Share of the largest diagonal added to all of it before factoring, at first and at the most."""


def cells(bundle: Bundle) -> np.ndarray:
    """Return the cell of the picture in which each point is seen on the average, (P,) int."""
    count = np.maximum(np.diff(bundle.first), 1)
    size = 2.0 * np.array([bundle.lens.cx, bundle.lens.cy])
    mean = np.stack([np.bincount(bundle.point, bundle.xy[:, k], len(count)) / count for k in (0, 1)], 1)
    at = np.clip((mean / size * CELLS).astype(np.int64), 0, CELLS - 1)
    return at[:, 0] * CELLS + at[:, 1]


def stretches(bundle: Bundle) -> np.ndarray:
    """Return the stretch of frames of each measurement, (N,) int."""
    return bundle.camera * STRETCHES // max(len(bundle.centres), 1)


def shifts(bundle: Bundle, system: NormalSystem, labels: np.ndarray) -> Iterator[np.ndarray]:
    """Yield by how much the system's unknowns (n + C,) move when each group of measurements is left out.

    Parameters
    ----------
    bundle : adjusted, its gauge held. system : of that bundle; its sums are used up. labels : (N,) int.
    """
    for label in np.unique(labels[bundle.weight > 0.0]):
        without = replace(bundle, weight=np.where(labels == label, FAINT * bundle.weight, bundle.weight))
        step = _step(system, without)
        if step is not None:
            yield step


def _step(system: NormalSystem, bundle: Bundle) -> np.ndarray | None:
    """Return the Gauss-Newton step of a bundle of the system's structure, or None where nothing determines it."""
    share = REGULAR
    while share <= MOST_REGULAR:
        system.fill(bundle, 0.0)
        side, diagonal = system.side().copy(), system.diagonal()
        try:
            factor = system.factored(np.full(len(diagonal), share * diagonal.max(initial=1.0)))
        except LinAlgError:
            share *= 100.0
            continue
        return np.concatenate(factor.solve(side[: system.full], side[system.full :]))
    return None
