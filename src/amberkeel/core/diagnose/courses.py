"""The courses of single tracks' residuals, track by track in one pass: steps, ends gone astray, and drifts."""

import numpy as np
from numba import njit, prange

WINDOW = 8
"""Measurements on each side of a step that are compared."""

LEAST_SAMPLES = 8
"""Measurements from which a track's own course is judged."""

AT_ONCE = 0.6
"""Share of a step that must happen from one frame to the next."""

STAYS = 0.25
"""Spread after a step, over its size, up to which the track stays where it stepped to; one that wanders is lost."""

END_SHARE = 0.4
"""Longest bad end, as a share of the track."""

END_UNITS = 3.5
"""Length of residuals, in units of expected noise, that makes an end bad."""

SOUND_UNITS = 1.9
"""Middle length up to which the rest of the track is sound."""

LEAST_NOISE = 0.7
"""Least noise of a track, in units of its expected one."""

MAD = 1.4826
"""Standard deviation of normal values over their median absolute deviation."""

STEP_SIZE, STEP_OVER, STEP_AT, END_SIZE, END_FROM, END_TO, DRIFT_SIZE, DRIFT_OVER, DRIFT_SHARE, NOISE = range(10)
"""Columns of what `courses` fills."""

COLUMNS = 10


@njit(cache=True, nogil=True)
def _medians(w, a, z):
    return np.median(w[a:z, 0]), np.median(w[a:z, 1])


@njit(cache=True, nogil=True)
def _own_noise(w):
    """Return the noise of residuals (n, 2) by their differences from frame to frame (von Neumann et al. 1941)."""
    n = len(w)
    d = np.empty(2 * (n - 1))
    for k in range(n - 1):
        d[2 * k], d[2 * k + 1] = abs(w[k + 1, 0] - w[k, 0]), abs(w[k + 1, 1] - w[k, 1])
    return max(MAD * np.median(d) / np.sqrt(2.0), LEAST_NOISE)


@njit(cache=True, nogil=True)
def _step(w, noise, out):
    n = len(w)
    for k in range(3, n - 2):
        a, z = max(0, k - WINDOW), min(n, k + WINDOW)
        bx, by = _medians(w, a, k)
        ax, ay = _medians(w, k, z)
        sx, sy = ax - bx, ay - by
        size = np.hypot(sx, sy)
        if size < 1.0:
            continue
        over = size / (1.25 * noise * np.sqrt(1.0 / (k - a) + 1.0 / (z - k)))
        if over <= out[STEP_OVER]:
            continue
        if ((w[k, 0] - w[k - 1, 0]) * sx + (w[k, 1] - w[k - 1, 1]) * sy) / (size * size) < AT_ONCE:
            continue
        spread = 0.0
        for j in range(k, z):
            spread += (w[j, 0] - ax) ** 2 + (w[j, 1] - ay) ** 2
        if np.sqrt(spread / (z - k)) < max(STAYS * size, 2.0 * noise):
            out[STEP_SIZE], out[STEP_OVER], out[STEP_AT] = size, over, k


@njit(cache=True, nogil=True)
def _end(length, out):
    n = len(length)
    for turned in range(2):
        own = length[::-1] if turned else length
        for k in range(max(int((1.0 - END_SHARE) * n), 3), n - 1):
            if own[k] < 2.5 or np.median(own[k:]) < END_UNITS or (own[k:] > 2.5).mean() < 0.75:
                continue
            if np.percentile(own[:k], 90) < END_UNITS and np.median(own[:k]) < SOUND_UNITS:
                out[END_SIZE] = np.median(own[k:])
                out[END_FROM], out[END_TO] = (0.0, n - 1.0 - k) if turned else (k, n - 1.0)
                return


@njit(cache=True, nogil=True)
def _drift(w, t, noise, out):
    n = len(w)
    mt, mx, my = t.mean(), w[:, 0].mean(), w[:, 1].mean()
    tt, tx, ty = 0.0, 0.0, 0.0
    for k in range(n):
        tt += (t[k] - mt) ** 2
        tx += (t[k] - mt) * (w[k, 0] - mx)
        ty += (t[k] - mt) * (w[k, 1] - my)
    sx, sy = tx / max(tt, 1e-12), ty / max(tt, 1e-12)
    left, whole = 0.0, 0.0
    for k in range(n):
        ex, ey = w[k, 0] - mx, w[k, 1] - my
        whole += ex * ex + ey * ey
        left += (ex - sx * (t[k] - mt)) ** 2 + (ey - sy * (t[k] - mt)) ** 2
    out[DRIFT_SIZE] = np.hypot(sx, sy) * (t[n - 1] - t[0])
    out[DRIFT_OVER] = np.hypot(sx, sy) * np.sqrt(tt) / (1.5 * noise)
    out[DRIFT_SHARE] = 1.0 - left / max(whole, 1e-12)


@njit(cache=True, nogil=True, parallel=True)
def courses(first, w, t, out):
    """Judge the course of each track's residuals.

    Parameters
    ----------
    first : (T + 1,) int, where each track's measurements begin. w : (N, 2) residuals over their expected noise. t :
        (N,) rows of the path. out : (T, COLUMNS), filled: sizes in units of expected noise, and over their own error;
        0 for a track with too few measurements.
    """
    for k in prange(len(first) - 1):
        out[k] = 0.0
        n = first[k + 1] - first[k]
        if n < LEAST_SAMPLES:
            continue
        own, times = w[first[k] : first[k + 1]], t[first[k] : first[k + 1]].astype(np.float64)
        length = np.sqrt(own[:, 0] ** 2 + own[:, 1] ** 2)
        noise = _own_noise(own)
        out[k, NOISE] = noise
        _step(own, noise, out[k])
        _end(length, out[k])
        _drift(own, times, noise, out[k])
