"""Voronoi cells that tile: the two nearest of many seeds, for every texel."""

import numpy as np
from numba import njit


def nearest_two(seeds: np.ndarray, squash: float, size: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the nearest seed of each texel, how far it is, and how far the second is, (size, size) each.

    The texture repeats every 1 along both axes, and its seeds with it. Seeds lie in a grid of about one to a cell, and
    rings of cells are searched about a texel until no nearer seed can follow (Bentley, Weide and Yao 1980).

    Parameters
    ----------
    seeds : (N, 2) x and y, 0 to 1. squash : distances along y count so many times. size : texels a side; texel k lies
        at k / size.
    """
    across = max(int(np.sqrt(len(seeds) / squash)), 1)
    down = max(int(np.sqrt(len(seeds) * squash)), 1)
    cell = np.minimum((seeds * [across, down]).astype(np.int64), [across - 1, down - 1])
    number = cell[:, 1] * across + cell[:, 0]
    order = np.argsort(number, kind="stable")
    first = np.searchsorted(number[order], np.arange(across * down + 1))
    index, near, far = np.empty((size, size), np.int64), np.empty((size, size)), np.empty((size, size))
    _search(seeds, order, first, across, down, squash, index, near, far)
    return index, near, far


@njit(cache=True, nogil=True)
def _search(seeds, order, first, across, down, squash, index, near, far):
    """Fill what `nearest_two` returns; `order` (N,) has the seeds by cell, `first` where each cell begins in it."""
    size = len(index)
    reach = min(1.0 / across, squash / down)
    for j in range(size):
        for i in range(size):
            x, y = i / size, j / size
            ci, cj = min(int(x * across), across - 1), min(int(y * down), down - 1)
            best, second, which, ring = np.inf, np.inf, 0, 0
            while second == np.inf or second > (ring - 1) * reach * (ring - 1) * reach:
                for b in range(cj - ring, cj + ring + 1):
                    step = 1 if abs(b - cj) == ring else max(2 * ring, 1)
                    wb = b // down if b < 0 or b >= down else 0
                    for a in range(ci - ring, ci + ring + 1, step):
                        wa = a // across if a < 0 or a >= across else 0
                        c = (b - wb * down) * across + a - wa * across
                        for k in range(first[c], first[c + 1]):
                            dx = x - (seeds[order[k], 0] + wa)
                            dy = y * squash - (seeds[order[k], 1] + wb) * squash
                            d = dx * dx + dy * dy
                            if d < best:
                                best, second, which = d, best, order[k]
                            elif d < second:
                                second = d
                ring += 1
            index[j, i], near[j, i], far[j, i] = which, np.sqrt(best), np.sqrt(second)
