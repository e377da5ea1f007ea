"""Patches of a picture drawn along ways: what a moving camera sees of them while its shutter is open."""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST

STEP_PX = 1.0
"""Longest step along a way between two samples of a drawn patch, pixels."""

MOST_SAMPLES = 96
"""Samples along a way at the most."""

BORDER = 6
"""Pixels that a drawn patch reaches beyond its half side, for registration to cut its reference from."""


@njit(cache=True, fastmath=FAST, nogil=True, inline="always")
def _at(image, x, y):
    """Return the picture at (x, y), pixel centres at +0.5, bilinear, the border repeated."""
    height, width = image.shape
    x, y = min(max(x - 0.5, 0.0), width - 1.001), min(max(y - 0.5, 0.0), height - 1.001)
    i, j = int(x), int(y)
    u, v = np.float32(x - i), np.float32(y - j)
    upper = image[j, i] + u * (image[j, i + 1] - image[j, i])
    lower = image[j + 1, i] + u * (image[j + 1, i + 1] - image[j + 1, i])
    return upper + v * (lower - upper)


@njit(cache=True, fastmath=FAST, nogil=True, parallel=True)
def draw_along(image, places, ways, warps, half, sheet):
    """Fill `sheet` with patches one below the other, each drawn along its own way.

    A point at u shows at u + o for each offset o of its way, so the mean is taken over the picture at u - o. Instants
    are evenly spaced in time and count alike, the two ends half.

    Parameters
    ----------
    image : (H, W) float32. places : (M, 2) pixels, the patches' middles. ways : (M, K, 2) pixels. warps : (M, 2, 2),
        from the drawn patch's pixels to the picture's. half : half side of a cell, pixels. sheet : (M C, C), filled,
        C = 2 half + 1; a patch's middle is at its cell's middle pixel's centre.
    """
    side, last = 2 * half + 1, ways.shape[1] - 1
    for m in prange(len(places)):
        length = 0.0
        for k in range(last):
            length += np.hypot(ways[m, k + 1, 0] - ways[m, k, 0], ways[m, k + 1, 1] - ways[m, k, 1])
        count = min(max(int(length / STEP_PX) + 2, 2), MOST_SAMPLES)
        dx, dy, weight = np.empty(count), np.empty(count), np.empty(count, np.float32)
        for s in range(count):
            t = s * last / (count - 1)
            k = min(int(t), last - 1)
            u = t - k
            dx[s] = ways[m, k, 0] + u * (ways[m, k + 1, 0] - ways[m, k, 0])
            dy[s] = ways[m, k, 1] + u * (ways[m, k + 1, 1] - ways[m, k, 1])
            weight[s] = (0.5 if s == 0 or s == count - 1 else 1.0) / (count - 1)
        a, b, c, d = warps[m, 0, 0], warps[m, 0, 1], warps[m, 1, 0], warps[m, 1, 1]
        for j in range(side):
            for i in range(side):
                total = np.float32(0.0)
                for s in range(count):
                    x, y = i - half - dx[s], j - half - dy[s]
                    total += weight[s] * _at(image, places[m, 0] + a * x + b * y, places[m, 1] + c * x + d * y)
                sheet[m * side + j, i] = total
