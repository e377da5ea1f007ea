"""The flat arrays that the inner loops of an adjustment read and fill."""

from typing import NamedTuple

import numpy as np

CHUNKS = 2
"""Accumulators filled side by side, one a thread."""

FEW = 8000
"""Observations up to which one thread does all: on cores that others use too, waiting for a second one takes longer
than it saves.
"""


class Scene(NamedTuple):
    """Cameras, lens rows and points: (F, 3, 3), (F, 3), (F, 11), (P, 3), (P, 3), (P,)."""

    rotations: np.ndarray
    centres: np.ndarray
    lenses: np.ndarray
    anchors: np.ndarray
    directions: np.ndarray
    rhos: np.ndarray


class Observations(NamedTuple):
    """Measurements by point: first (P + 1,), camera (N,), xy (N, 2) pixels, weight (N,) one over sigma, 0 to leave
    out, and drift (N, 2), by how much a row's own time moves the pixel for a readout of one.
    """

    first: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    weight: np.ndarray
    drift: np.ndarray


class Structure(NamedTuple):
    """Where unknowns stand in the arrays that are filled.

    Attributes
    ----------
    slot (F,), free (F, 6), columns (F, M), chain (F, M, 16), kept (P,) : as in `Layout`.
    at (K, K) : as in `TilePattern`. tile (F,), within (F,) : a camera's tile, and its position in it.
    shared_first (P + 1,), shared (H,) : the border rows that each point's observations depend on, rising.
    order (P,) : points by the first camera that sees them, so that neighbours write to the same tiles.
    chunks (CHUNKS + 1,) : where in that order each accumulator's points begin.
    """

    slot: np.ndarray
    free: np.ndarray
    columns: np.ndarray
    chain: np.ndarray
    kept: np.ndarray
    at: np.ndarray
    tile: np.ndarray
    within: np.ndarray
    shared_first: np.ndarray
    shared: np.ndarray
    order: np.ndarray
    chunks: np.ndarray


class Sums(NamedTuple):
    """What elimination fills, an accumulator each: tiles (CHUNKS, T, S, S), border (CHUNKS, C, n), corner (CHUNKS, C,
    C), side (CHUNKS, n + C) and the diagonal that elimination takes away (CHUNKS, n + C).
    """

    tiles: np.ndarray
    border: np.ndarray
    corner: np.ndarray
    side: np.ndarray
    taken: np.ndarray


class Kept(NamedTuple):
    """What stepping the points needs: blocks (N, 3, 6) of a point against its camera, shared (H, 3) of border rows
    against their point, inverses (P, 3, 3) of the points' matrices, and gradients (P, 3).
    """

    blocks: np.ndarray
    shared: np.ndarray
    inverses: np.ndarray
    gradients: np.ndarray
