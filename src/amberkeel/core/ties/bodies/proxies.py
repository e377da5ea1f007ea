"""What stands for a body: a sheet or a box through some of its points, in its own coordinates."""

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.world.planes import fit_plane
from amberkeel.core.world.solids import Solid, box, sheet

KINDS = {"sheet": 3, "box": 4}
"""Kinds of a body's proxies, with the points that each needs at the least."""

CELLS = 4
"""Cells along a side of a sheet: a body is small in the picture."""

THIN = 1e-3
"""Least side of a box over its longest."""


def body_proxy(kind: str, points: np.ndarray) -> Solid:
    """Return a proxy through points of a body.

    Parameters
    ----------
    kind : "sheet", the plane through the points as far as they reach; or "box", along their principal axes, as far as
        they reach. points : (P, 3) in the body's coordinates, its unit.

    Raises
    ------
    TieError : another kind, or too few points. WorldError : the points of a sheet lie on a line.
    """
    if kind not in KINDS:
        raise TieError(f"A body has no proxy “{kind}”.", "Choose a sheet or a box.")
    if len(points) < KINDS[kind]:
        raise TieError(
            f"A {kind} takes {KINDS[kind]} points of the body, here are {len(points)}.",
            "Click them on the plate with Shift held, or drag a box about them.",
        )
    return _sheet(points) if kind == "sheet" else _box(points)


def _sheet(points: np.ndarray) -> Solid:
    plane = fit_plane(points)
    _, _, axes = np.linalg.svd(points[plane.on] - plane.centre, full_matrices=False)
    along = axes[0] - (axes[0] @ plane.normal) * plane.normal
    along /= np.linalg.norm(along)
    up = np.cross(plane.normal, along)
    flat = (points[plane.on] - plane.centre) @ np.stack([along, up], 1)
    low, high = flat.min(0), flat.max(0)
    corner = plane.centre + low[0] * along + low[1] * up
    return sheet(corner, (high[0] - low[0]) * along, (high[1] - low[1]) * up, CELLS)


def _box(points: np.ndarray) -> Solid:
    middle = points.mean(0)
    _, _, axes = np.linalg.svd(points - middle, full_matrices=False)
    axes[2] = np.cross(axes[0], axes[1])
    own = (points - middle) @ axes.T
    low, high = own.min(0), own.max(0)
    size = np.maximum(high - low, THIN * (high - low).max())
    foot = 0.5 * (low + high) - np.array([0.0, 0.5 * size[1], 0.0])
    return box(*size.tolist()).moved(axes.T, middle + foot @ axes)
