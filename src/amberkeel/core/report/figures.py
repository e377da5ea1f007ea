"""What the charts of a verdict are drawn from: residuals by frame and over the picture."""

import numpy as np

from amberkeel.core.solve.residuals import rms_by
from amberkeel.core.solve.solution import Solution

COLUMNS, ROWS = 16, 9
"""Cells of the residual field."""

LEAST = 4
"""Measurements of a cell."""


def check_by_frame(solution: Solution) -> np.ndarray:
    """Return the RMS of check tracks' measurements that are judged on each frame (F,), pixels; NaN without any."""
    row = solution.path.rows_of(solution.tracks.frames)
    on = solution.counted_check & (row >= 0)
    return rms_by(solution.residuals[on], row[on], len(solution.path.frames))


def residual_field(solution: Solution) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the middles (M, 2) of the picture's cells, the mean residual (M, 2) of each, pixels, and its RMS over the
    expected noise (M,).
    """
    lens, tracks = solution.path.lens, solution.tracks
    on = solution.counted & np.isfinite(solution.residuals).all(1)
    xy, error = tracks.xy[on], solution.residuals[on]
    unit = solution.stated_sigma[on] * max(solution.noise_factor, 1e-6)
    i = np.clip((xy[:, 0] / lens.width * COLUMNS).astype(int), 0, COLUMNS - 1)
    j = np.clip((xy[:, 1] / lens.height * ROWS).astype(int), 0, ROWS - 1)
    cell, count = j * COLUMNS + i, COLUMNS * ROWS
    n = np.bincount(cell, minlength=count)
    mean = np.stack([np.bincount(cell, error[:, k], count) for k in (0, 1)], 1) / np.maximum(n, 1)[:, None]
    noise = np.sqrt(np.bincount(cell, ((error / unit[:, None]) ** 2).sum(1) / 2.0, count) / np.maximum(n, 1))
    full = n >= LEAST
    x, y = np.meshgrid((np.arange(COLUMNS) + 0.5) * lens.width / COLUMNS, (np.arange(ROWS) + 0.5) * lens.height / ROWS)
    return np.stack([x.ravel(), y.ravel()], 1)[full], mean[full], noise[full]
