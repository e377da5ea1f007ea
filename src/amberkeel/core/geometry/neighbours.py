"""How the surroundings of a pixel move: the median of the nearest known motions."""

import numpy as np


def median_motion(was: np.ndarray, moves: np.ndarray, where: np.ndarray, count: int) -> np.ndarray:
    """Return the median displacement (M, 2) of the `count` nearest of known pixels to each of others.

    Parameters
    ----------
    was : (N, 2) pixels whose displacements `moves` (N, 2) are known, N >= count. where : (M, 2) pixels.
    """
    distance = ((where[:, None] - was[None]) ** 2).sum(-1)
    near = np.argpartition(distance, count - 1, axis=1)[:, :count]
    return np.median(moves[near], axis=1)
