"""What an adjustment estimates: named blocks, and where each stands in the reduced system.

A block has a name, a size and a scope: one for every frame, one for every lens, or one for a point that a term speaks
of. Rows of cameras come first, six a camera in the order of elimination; rows of shared blocks follow as the system's
border. No other module computes a row number.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from amberkeel.core.solve.projection import LOCAL, POSE
from amberkeel.core.solve.radial_lens import ROW_NAMES
from amberkeel.core.solve.tiles import DEGREES

FRAME, LENS, POINT, SCENE = "frame", "lens", "point", "scene"
"""Scopes: a block of each frame, of each lens, of each point that terms speak of, of what only terms speak of."""


@dataclass(frozen=True)
class Block:
    """A kind of unknown: its name, its scope, and how many numbers it has (0: as many as its owner says)."""

    name: str
    scope: str
    size: int


ROTATION, POSITION, ZOOM, POINT_BLOCK, WORLD = "rotation", "position", "zoom", "point", "world"

BLOCKS = {
    block.name: block
    for block in (
        Block(ROTATION, FRAME, 3),
        Block(POSITION, FRAME, 3),
        *(Block(name, LENS, 1) for name in ROW_NAMES),
        Block(ZOOM, LENS, 0),
        Block(POINT_BLOCK, POINT, 3),
        Block(WORLD, SCENE, 7),
        Block("plane", SCENE, 3),
        Block("line", SCENE, 5),
        Block("spot", SCENE, 3),
    )
}
"""Every kind of unknown. A new kind is a line here, and its derivatives in `projection`."""


class Unknown(NamedTuple):
    """One block: its kind's name, and the row of its frame, or the number of its lens, its point or its shape."""

    block: str
    key: int


@dataclass(frozen=True)
class LensUnknowns:
    """What is estimated of one lens: names of `ROW_NAMES` that are free, and the basis (F, K) of its zoom over
    frames.
    """

    free: tuple[str, ...]
    zoom_basis: np.ndarray


class Layout:
    """Where each unknown of an adjustment stands.

    Attributes
    ----------
    slot : (F,) int, a camera's position in the order of elimination, or -1 where all of it is held.
    free : (F, 6) bool, a camera's degrees that may move: turn, then position.
    cameras : rows of the cameras, 6 a slot. shared : rows of the border.
    columns : (F, M) int32, border rows that a camera's observations depend on, -1 for none.
    chain : (F, M, 16), derivative of the camera's own pose and lens parameters by those rows.
    kept : (P,) int32, first border row of a point that is not eliminated, or -1.
    """

    def __init__(self, free: np.ndarray, lens_of: np.ndarray, lenses: Sequence[LensUnknowns], points: int):
        self.free = np.ascontiguousarray(free, bool)
        moving = self.free.any(1)
        self.slot = np.where(moving, np.cumsum(moving) - 1, -1).astype(np.int64)
        self.cameras = DEGREES * int(moving.sum())
        self.shared = 0
        self._rows: dict[Unknown, np.ndarray] = {}
        self.kept = np.full(points, -1, np.int32)
        links: list[tuple[np.ndarray, int, int, np.ndarray]] = []
        for number, lens in enumerate(lenses):
            own = np.nonzero(lens_of == number)[0]
            for name in ROW_NAMES:
                if name in lens.free:
                    row = self._add(Unknown(name, number), 1)
                    links.append((own, row, POSE + ROW_NAMES.index(name), np.ones(len(own))))
            size = lens.zoom_basis.shape[1]
            first = self._add(Unknown(ZOOM, number), size) if size else 0
            for k in range(size):
                bends = own[lens.zoom_basis[own, k] != 0.0]
                links.append((bends, first + k, POSE + ROW_NAMES.index("focal"), lens.zoom_basis[bends, k]))
        self.columns, self.chain = _linked(links, len(self.free))

    def _add(self, unknown: Unknown, size: int) -> int:
        """Give a shared block its rows in the border; return the first."""
        first = self.shared
        self._rows[unknown] = first + np.arange(size)
        self.shared += size
        return first

    def keep_points(self, points: Iterable[int]) -> None:
        """Give points rows in the border, so that terms can speak of them."""
        for p in points:
            self.kept[p] = self._add(Unknown(POINT_BLOCK, p), 3)

    def add_scene(self, unknown: Unknown, free: np.ndarray) -> None:
        """Give a block of the scene rows in the border, for those of its numbers that are free (size,) bool."""
        first = self._add(unknown, int(free.sum()))
        self._rows[unknown] = np.where(free, first + np.cumsum(free) - 1, -1)

    def order(self, order: np.ndarray) -> None:
        """Eliminate the cameras in another order: `order` lists their present slots."""
        rank = np.empty(len(order), np.int64)
        rank[order] = np.arange(len(order))
        moving = self.slot >= 0
        self.slot[moving] = rank[self.slot[moving]]

    @property
    def size(self) -> int:
        """Rows of the whole system."""
        return self.cameras + self.shared

    def rows(self, unknown: Unknown) -> np.ndarray:
        """Return a block's rows in the whole system, -1 for each of its numbers that is held."""
        block = BLOCKS[unknown.block]
        if block.scope != FRAME:
            at = self._rows.get(unknown)
            return np.full(block.size, -1) if at is None else np.where(at >= 0, self.cameras + at, -1)
        degrees = np.arange(3) + (0 if block.name == ROTATION else 3)
        moves = self.free[unknown.key, degrees]
        return np.where(moves, DEGREES * self.slot[unknown.key] + degrees, -1)

    def camera_values(self, values: np.ndarray) -> np.ndarray:
        """Return numbers of the cameras' rows by frame, (F, 6); 0 where a degree is held."""
        out = np.zeros(self.free.shape)
        moving = self.slot >= 0
        out[moving] = values[: self.cameras].reshape(-1, DEGREES)[self.slot[moving]]
        return np.where(self.free, out, 0.0)


def _linked(links: list, frames: int) -> tuple[np.ndarray, np.ndarray]:
    """Return the border rows of each camera (F, M) and their chain (F, M, 16)."""
    count = np.zeros(frames, np.int64)
    for rows, *_ in links:
        count[rows] += 1
    most = int(count.max(initial=0))
    columns, chain = np.full((frames, most), -1, np.int32), np.zeros((frames, most, LOCAL))
    used = np.zeros(frames, np.int64)
    for rows, column, local, gain in links:
        columns[rows, used[rows]] = column
        chain[rows, used[rows], local] = gain
        used[rows] += 1
    return columns, chain
