"""What a subject and all else look like: histograms of colours."""

import numpy as np
from scipy import ndimage

BINS = 12
"""Bins of each colour."""

MOST_COLOUR = 2.5
"""The most log odds that a colour gives."""


class Looks:
    """What the subject and all else look like: histograms of colours, smoothed."""

    def __init__(self) -> None:
        self._counts = np.full((2, BINS**3), 0.02)
        self._odds: np.ndarray | None = None

    def learn(self, bins: np.ndarray, subject: np.ndarray, others: np.ndarray, weight: float = 1.0) -> None:
        """Learn from the colours of a frame's spots (gh, gw): those of the subject, and of what is not."""
        for k, where in enumerate((subject, others)):
            if where.any():
                self._counts[k] += weight * np.bincount(bins[where], minlength=BINS**3) / where.sum()
        self._odds = None

    def odds(self, bins: np.ndarray) -> np.ndarray:
        """Return the log odds (gh, gw) of each spot's colour being the subject's."""
        if self._odds is None:
            shape = (BINS, BINS, BINS)
            yes, no = (ndimage.gaussian_filter(c.reshape(shape), 0.7, mode="nearest").ravel() for c in self._counts)
            floor = 1e-4
            odds = np.log((yes / yes.sum() + floor) / (no / no.sum() + floor))
            self._odds = np.clip(odds, -MOST_COLOUR, MOST_COLOUR)
        return self._odds[bins]
