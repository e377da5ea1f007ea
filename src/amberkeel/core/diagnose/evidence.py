"""What findings are judged by, worked out once from a solution: residuals in units of their expected noise, by track
and by frame.
"""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from amberkeel.core.solve.problem import SIGMA_FLOOR_PX
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED

RAYLEIGH_MEDIAN = 1.17741
"""Median length of a vector of two independent standard normal parts."""

MAD = 1.4826
"""Standard deviation of normal values over their median absolute deviation."""

LEAST_SAMPLES = 8
"""Measurements from which a track's own course is judged."""


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
        stated = np.hypot(self.solution.tracks.sigma, SIGMA_FLOOR_PX)
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

    def samples(self, track: int) -> np.ndarray:
        """Return the measurements (n,) of a track, by its row, that have a residual, in the frames' order."""
        rows = self.solution.tracks.rows(track)
        at = np.arange(rows.start, rows.stop)
        return at[np.isfinite(self.length[at]) & (self.row[at] >= 0)]

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
