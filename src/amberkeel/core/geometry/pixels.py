"""Pixel centres: ours lie at +0.5, OpenCV counts from centres at 0; these functions are the border between them."""

import numpy as np

CENTRE = 0.5
"""Where a pixel's centre lies from its corner, pixels."""


def to_opencv(xy: np.ndarray) -> np.ndarray:
    """Return pixels (..., 2) as OpenCV counts them, float32."""
    return (np.asarray(xy) - CENTRE).astype(np.float32)


def from_opencv(xy: np.ndarray) -> np.ndarray:
    """Return pixels (..., 2) that OpenCV counted as ours, float."""
    return np.asarray(xy).astype(float) + CENTRE


def opencv_point(x: float, y: float) -> tuple[float, float]:
    """Return one pixel as OpenCV counts it."""
    return float(x) - CENTRE, float(y) - CENTRE


def pixel_grid(width: int, height: int) -> np.ndarray:
    """Return the centres of all pixels of a picture (height, width, 2)."""
    x, y = np.meshgrid(np.arange(width) + CENTRE, np.arange(height) + CENTRE)
    return np.stack([x, y], -1)
