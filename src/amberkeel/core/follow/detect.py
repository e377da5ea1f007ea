"""Find spots worth following: corners with even spread over the picture.

The corner response is the smaller eigenvalue of the structure tensor (Shi and Tomasi 1994), from OpenCV.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit

from amberkeel.core.geometry.pixels import from_opencv

GRAINY = 2.5
"""Grain in code values from which a plate is softened before it is followed."""

BLOCK = 9
"""Side of the structure tensor's window in pixels."""


@dataclass(frozen=True)
class DetectSettings:
    """How features are found.

    Attributes
    ----------
    count : features wanted on a frame.
    spacing : least distance between features in pixels; 0 derives it from the picture and the count.
    threshold : largest expected noise of a feature's position in pixels, from its gradients and the grain; on a plate
        grainier than most (above GRAINY) it is raised in proportion.
    margin : pixels along the border left free.
    """

    count: int = 400
    spacing: float = 0.0
    threshold: float = 0.08
    margin: int = 12

    def spacing_px(self, width: int, height: int) -> float:
        """Return the spacing in force for a picture size."""
        return self.spacing or max(7.0, 0.55 * np.sqrt(width * height / self.count))


def grain_sigma(gray: np.ndarray) -> float:
    """Return the standard deviation of grain in 8-bit code values (Immerkaer 1996, with a median for robustness)."""
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    response = np.abs(cv2.filter2D(gray[::2], cv2.CV_32F, kernel))
    return float(max(0.4, np.median(response[:, ::3]) / 0.6745 / 6.0))


def soften_px(grain: float) -> float:
    """Return the blur (one sigma, pixels) that a plate of such grain is followed with; 0 where there is little grain.

    White grain drowns gradients, which rise with frequency, long before it drowns what causes them.
    """
    return 0.0 if grain < GRAINY else float(np.clip(0.15 * grain, 0.7, 2.0))


def position_noise(gray: np.ndarray, grain: float, soften: float = 0.0, block: int = BLOCK) -> np.ndarray:
    """Return the expected noise (H, W), pixels, of a feature at each pixel: grain over the root of its weaker gradient.

    `grain` is that of the plate, before it was softened by `soften`; the gradients that grain makes are taken off.
    Gradients are summed over `block` pixels a side.

    Parameters
    ----------
    gray : (H, W) uint8. grain : one sigma of the plate's grain, code values. soften : sigma of the softening,
        pixels. block : side of the patch that gradients are summed over, pixels.
    """
    own = 0.5 * grain**2 if not soften else grain**2 / (8.0 * np.pi * soften**4)
    energy = (cv2.cornerMinEigenVal(gray, block, ksize=3) * (255.0**2 / 4.0) - own) * (block * block)
    return grain / np.sqrt(np.maximum(energy, 1e-6))


def find_features(
    gray: np.ndarray,
    settings: DetectSettings,
    taken: np.ndarray | None = None,
    masked: np.ndarray | None = None,
    grain: float | None = None,
    soften: float = 0.0,
    block: int = BLOCK,
) -> np.ndarray:
    """Return new features on a frame as (N, 2) pixels, strongest first within each region.

    Parameters
    ----------
    gray : (H, W) uint8. taken : (M, 2) features that exist already; they keep their surroundings free and count.
    masked : (H, W) bool, True where no feature may lie. grain, soften : of the plate, and the blur it was softened by.
    block : side of the patch, in pixels, that a feature's noise is computed from.
    """
    height, width = gray.shape
    spacing = settings.spacing_px(width, height)
    grain = grain_sigma(gray) if grain is None else grain
    noise = position_noise(gray, grain, soften, block)
    threshold = settings.threshold * max(1.0, grain / GRAINY)
    reach = 2 * int(round(spacing / 3)) + 1
    peak = (noise <= cv2.erode(noise, np.ones((reach, reach), np.uint8))) & (noise < threshold)
    free = np.zeros((height, width), bool)
    m = settings.margin
    free[m : height - m, m : width - m] = True
    if masked is not None:
        free &= ~masked
    y, x = np.nonzero(peak & free)
    order = np.argsort(noise[y, x], kind="stable")
    candidates = from_opencv(np.stack([x[order], y[order]], 1))
    taken = np.zeros((0, 2)) if taken is None else taken
    wanted = settings.count - len(taken)
    return _evenly(candidates, taken, wanted, spacing, width, height)


def _evenly(
    candidates: np.ndarray, taken: np.ndarray, wanted: int, spacing: float, width: int, height: int
) -> np.ndarray:
    """Choose candidates (strongest first) so that regions fill evenly and none come closer than `spacing`."""
    known = np.ascontiguousarray(taken, float).reshape(-1, 2)
    chosen = _choose(candidates, known, wanted, float(spacing), width, height)
    return candidates[chosen]


@njit(cache=True, nogil=True)
def _choose(candidates, taken, wanted, spacing, width, height):
    """Return the rows chosen, round by round: each round lets regions two spacings wide hold some more."""
    cell = 2.0 * spacing
    columns, rows = int(width / cell) + 2, int(height / cell) + 2
    held = np.zeros((rows, columns), np.int64)
    side, up = int(width / spacing) + 3, int(height / spacing) + 3
    head = np.full((up, side), -1, np.int64)
    points = np.empty((len(taken) + max(wanted, 0), 2))
    after = np.empty(len(points), np.int64)
    chosen = np.empty(max(wanted, 0), np.int64)
    known, count = 0, 0
    for n in range(len(taken)):
        x = min(max(taken[n, 0], 0.0), width - 1.0)
        y = min(max(taken[n, 1], 0.0), height - 1.0)
        held[int(y / cell), int(x / cell)] += 1
        points[known, 0], points[known, 1] = x, y
        i, j = int(y / spacing) + 1, int(x / spacing) + 1
        after[known], head[i, j] = head[i, j], known
        known += 1
    for quota in (1, 2, 3, 5):
        for n in range(len(candidates)):
            if count >= wanted:
                return chosen[:count]
            x, y = candidates[n, 0], candidates[n, 1]
            if held[int(y / cell), int(x / cell)] >= quota:
                continue
            i, j = int(y / spacing) + 1, int(x / spacing) + 1
            near = False
            for a in range(i - 1, i + 2):
                for b in range(j - 1, j + 2):
                    k = head[a, b]
                    while k >= 0 and not near:
                        near = (points[k, 0] - x) ** 2 + (points[k, 1] - y) ** 2 < spacing * spacing
                        k = after[k]
            if near:
                continue
            held[int(y / cell), int(x / cell)] += 1
            points[known, 0], points[known, 1] = x, y
            after[known], head[i, j] = head[i, j], known
            known += 1
            chosen[count] = n
            count += 1
    return chosen[:count]
