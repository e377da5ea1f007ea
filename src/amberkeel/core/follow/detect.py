"""Find spots worth following: corners with even spread over the picture.

The corner response is the smaller eigenvalue of the structure tensor (Shi and Tomasi 1994), from OpenCV.
"""

from dataclasses import dataclass

import cv2
import numpy as np

BLOCK = 9
"""Side of the structure tensor's window in pixels."""


@dataclass(frozen=True)
class DetectSettings:
    """How features are found.

    Attributes
    ----------
    count : features wanted on a frame.
    spacing : least distance between features in pixels; 0 derives it from the picture and the count.
    threshold : largest expected noise of a feature's position in pixels, from its gradients and the grain.
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


def position_noise(gray: np.ndarray, grain: float) -> np.ndarray:
    """Return the expected noise (H, W), pixels, of a feature at each pixel: grain over the root of its weaker gradient."""
    response = cv2.cornerMinEigenVal(gray, BLOCK, ksize=3)
    energy = response * (BLOCK * BLOCK * 255.0**2 / 4.0)
    return grain / np.sqrt(np.maximum(energy, 1e-6))


def find_features(
    gray: np.ndarray, settings: DetectSettings, taken: np.ndarray | None = None, masked: np.ndarray | None = None
) -> np.ndarray:
    """Return new features on a frame as (N, 2) pixels, strongest first within each region.

    Parameters
    ----------
    gray : (H, W) uint8. taken : (M, 2) features that exist already; they keep their surroundings free and count.
    masked : (H, W) bool, True where no feature may lie.
    """
    height, width = gray.shape
    spacing = settings.spacing_px(width, height)
    noise = position_noise(gray, grain_sigma(gray))
    reach = 2 * int(round(spacing / 3)) + 1
    peak = (noise <= cv2.erode(noise, np.ones((reach, reach), np.uint8))) & (noise < settings.threshold)
    free = np.zeros((height, width), bool)
    m = settings.margin
    free[m : height - m, m : width - m] = True
    if masked is not None:
        free &= ~masked
    y, x = np.nonzero(peak & free)
    order = np.argsort(noise[y, x], kind="stable")
    candidates = np.stack([x[order], y[order]], 1) + 0.5
    taken = np.zeros((0, 2)) if taken is None else taken
    wanted = settings.count - len(taken)
    return _spread(candidates, taken, wanted, spacing, width, height)


def _spread(candidates: np.ndarray, taken: np.ndarray, wanted: int, spacing: float, width: int, height: int) -> np.ndarray:
    """Choose candidates (strongest first) so that regions fill evenly and none come closer than `spacing`."""
    cell = 2.0 * spacing
    columns = int(np.ceil(width / cell))
    region = (candidates[:, 1] // cell).astype(int) * columns + (candidates[:, 0] // cell).astype(int)
    held = np.zeros(columns * int(np.ceil(height / cell)) + columns, int)
    for x, y in taken:
        held[int(y // cell) * columns + int(x // cell)] += 1
    near = _NearSet(spacing, taken)
    chosen: list[np.ndarray] = []
    for quota in (1, 2, 3, 5):
        for k in range(len(candidates)):
            if len(chosen) >= wanted:
                return np.array(chosen).reshape(-1, 2)
            if held[region[k]] < quota and near.add(candidates[k]):
                held[region[k]] += 1
                chosen.append(candidates[k])
    return np.array(chosen).reshape(-1, 2)


class _NearSet:
    """Points with a least distance, looked up in a grid."""

    def __init__(self, spacing: float, points: np.ndarray):
        self.spacing2, self.cell = spacing * spacing, spacing
        self.grid: dict[tuple[int, int], list] = {}
        for p in points:
            self.grid.setdefault(self._key(p), []).append((p[0], p[1]))

    def _key(self, p) -> tuple[int, int]:
        return int(p[0] // self.cell), int(p[1] // self.cell)

    def add(self, p) -> bool:
        """Add a point unless another lies closer than the spacing; tell whether it was added."""
        i, j = self._key(p)
        for a in (i - 1, i, i + 1):
            for b in (j - 1, j, j + 1):
                for x, y in self.grid.get((a, b), ()):
                    if (p[0] - x) ** 2 + (p[1] - y) ** 2 < self.spacing2:
                        return False
        self.grid.setdefault((i, j), []).append((p[0], p[1]))
        return True
