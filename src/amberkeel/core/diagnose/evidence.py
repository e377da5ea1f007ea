"""What findings are judged by, worked out once from a solution: residuals in units of their expected noise, by track
and by frame.
"""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED

RAYLEIGH_MEDIAN = 1.17741
"""Median length of a vector of two independent standard normal parts."""


def medians(values: np.ndarray, first: np.ndarray) -> np.ndarray:
    """Return the median (T,) of each group of values (N,) that begins at `first` (T + 1,); 0 for an empty one."""
    own = np.repeat(np.arange(len(first) - 1), np.diff(first))
    ordered = values[np.lexsort((values, own))]
    count = np.diff(first)
    low = np.minimum(first[:-1] + np.maximum(count - 1, 0) // 2, max(len(values) - 1, 0))
    high = np.minimum(first[:-1] + count // 2, max(len(values) - 1, 0))
    if not len(values):
        return np.zeros(len(count))
    return np.where(count > 0, 0.5 * (ordered[low] + ordered[high]), 0.0)


@dataclass(frozen=True)
class Measures:
    """What was measured on the plate itself, by frame number; empty where it was not.

    Attributes
    ----------
    blur_px : length of motion blur.
    """

    blur_px: dict[int, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Evidence:
    """A solution with its residuals in units of their expected noise.

    Attributes
    ----------
    solution : what is judged. measures : of its plate.
    """

    solution: Solution
    measures: Measures

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the picture, pixels."""
        lens = self.solution.path.lens
        return lens.width, lens.height

    @cached_property
    def own(self) -> np.ndarray:
        """Row of the track (N,) of each measurement."""
        return self.solution.tracks.track_of_sample

    @cached_property
    def row(self) -> np.ndarray:
        """Row in the path (N,) of each measurement's frame, -1 where the path does not have it."""
        return self.solution.path.rows_of(self.solution.tracks.frames)

    @cached_property
    def unit(self) -> np.ndarray:
        """Expected noise (N,) of each measurement along an axis, pixels: the stated one, scaled so that the middle of
        what counted is as large as expected.
        """
        stated = self.solution.stated_sigma
        counted = self.solution.counted & np.isfinite(self.solution.residuals[:, 0])
        if not counted.any():
            return stated
        length = np.linalg.norm(self.solution.residuals[counted], axis=1) / stated[counted]
        return stated * max(float(np.median(length)) / RAYLEIGH_MEDIAN, 0.2)

    @cached_property
    def whitened(self) -> np.ndarray:
        """Residuals (N, 2) over their expected noise; NaN where there is none."""
        return self.solution.residuals / self.unit[:, None]

    @cached_property
    def length(self) -> np.ndarray:
        """Length (N,) of the whitened residuals."""
        return np.linalg.norm(self.whitened, axis=1)

    @cached_property
    def live(self) -> np.ndarray:
        """Measurements (N,) bool of tracks in use, check tracks included, that have a residual."""
        states = np.array(self.solution.tracks.states)
        return (states != EXCLUDED)[self.own] & np.isfinite(self.length) & (self.row >= 0)

    @cached_property
    def still(self) -> np.ndarray:
        """Measurements (N,) bool that belong to the still set: live, and no outliers."""
        return self.live & ~self.solution.outlier

    @cached_property
    def judged_samples(self) -> tuple[np.ndarray, np.ndarray]:
        """The measurements (M,) that have a residual, by track and frame, and where each track's begin (T + 1,)."""
        at = np.nonzero(np.isfinite(self.length) & (self.row >= 0))[0]
        count = np.bincount(self.own[at], minlength=len(self.solution.tracks))
        return at, np.concatenate([[0], np.cumsum(count)]).astype(np.int64)

    @cached_property
    def judged(self) -> np.ndarray:
        """Tracks (T,) bool that serve, or that the solve itself has set aside: what a person excluded is settled."""
        tracks, reasons = self.solution.tracks, self.solution.reasons
        return np.array([s != EXCLUDED or int(i) in reasons for s, i in zip(tracks.states, tracks.ids)], bool)

    @cached_property
    def usual_unit(self) -> np.ndarray:
        """Mean expected noise (T,) of each track's measurements, pixels."""
        at, first = self.judged_samples
        total = np.bincount(self.own[at], self.unit[at], len(first) - 1)
        return total / np.maximum(np.diff(first), 1)

    @cached_property
    def middle_length(self) -> np.ndarray:
        """Middle length (T,) of each track's whitened residuals; 0 without any."""
        at, first = self.judged_samples
        return medians(self.length[at], first)

    @cached_property
    def middle_place(self) -> np.ndarray:
        """Mean place (T, 2) of each track's measurements, pixels."""
        at, first = self.judged_samples
        own, n = self.own[at], np.maximum(np.diff(first), 1)
        return np.stack([np.bincount(own, self.solution.tracks.xy[at, k], len(n)) / n for k in (0, 1)], 1)

    def samples(self, track: int) -> np.ndarray:
        """Return the measurements (n,) of a track, by its row, that have a residual, in the frames' order."""
        at, first = self.judged_samples
        return at[first[track] : first[track + 1]]

    @cached_property
    def frame_median(self) -> np.ndarray:
        """Middle length (F,) of the whitened residuals of live measurements on each frame, over its expectation; NaN
        where there are fewer than six.
        """
        count = len(self.solution.path.frames)
        out = np.full(count, np.nan)
        order = np.argsort(self.row[self.live], kind="stable")
        rows, lengths = self.row[self.live][order], self.length[self.live][order]
        edges = np.searchsorted(rows, np.arange(count + 1))
        for k in range(count):
            if edges[k + 1] - edges[k] >= 6:
                out[k] = np.median(lengths[edges[k] : edges[k + 1]]) / RAYLEIGH_MEDIAN
        return out

    @cached_property
    def live_counts(self) -> np.ndarray:
        """Live measurements (F,) on each frame."""
        return np.bincount(self.row[self.live], minlength=len(self.solution.path.frames))

    def frames_of(self, rows: np.ndarray) -> tuple[int, ...]:
        """Return frame numbers of rows of the path."""
        return tuple(int(f) for f in self.solution.path.frames[rows])

    def ids_of(self, tracks) -> tuple[int, ...]:
        """Return ids of tracks by their rows."""
        return tuple(int(i) for i in self.solution.tracks.ids[np.asarray(list(tracks), int)])
