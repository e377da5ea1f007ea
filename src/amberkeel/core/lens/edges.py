"""Edges in the picture: a long edge near two clicks, and drawn points put onto the edge they lie by.

An edge is followed as the cheapest path of strong gradients of one sign across the way from a to b (dynamic
programming), then each position is refined by the centroid of the gradient across it and averaged along it.
"""

import cv2
import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.pixels import to_opencv

REACH_PX = 12
"""How far to each side of the straight way an edge is looked for, pixels; grows with the way's length."""

BOW = 0.03
"""Share of the way's length by which a lens may bow an edge away from it."""

STEP_PX = 3.0
BEND_COST = 0.35
"""What a step sideways costs, in shares of the usual gradient."""

EVERY_PX = 40.0
"""Distance of the points returned, pixels."""

FAINT = 1.5
"""Code values a pixel that an edge must rise by in the mean."""

SMOOTH_PX = 1.2

WINDOW_PX, WINDOWS = 2.5, 3
"""To each side of an edge over which its position is taken, pixels, and how many times the window is moved onto it."""


def find_edge(gray: np.ndarray, a, b) -> np.ndarray:
    """Return points (N, 2) along the edge that runs from about `a` to about `b` (2,) on a picture (H, W) uint8, pixels.

    Raises LensError where no edge is, or the way is too short.

    Parameters
    ----------
    gray : (H, W) uint8. a, b : (2,) pixels near the edge's ends.
    """
    a, b = np.asarray(a, float), np.asarray(b, float)
    length = float(np.linalg.norm(b - a))
    if length < 12.0:
        raise LensError("The two ends lie too close together.", "Draw along a longer piece of the edge.")
    along = (b - a) / length
    across = np.array([-along[1], along[0]])
    reach = int(np.ceil(max(REACH_PX, BOW * length)))
    steps, offsets = int(length / STEP_PX) + 1, np.arange(-reach, reach + 1e-9, 0.5)
    s = np.linspace(0.0, length, steps)
    profile = _profiles(gray, a + s[:, None] * along, across, offsets)
    rise = np.gradient(profile, 0.5, axis=1)
    best = max((_cheapest(sign * rise) for sign in (1.0, -1.0)), key=lambda found: found[0])
    strength, path, sign_rise = best
    if strength < FAINT:
        raise LensError(
            "There is no clear edge there.", "Draw closer to it, or set the points by hand with snapping off."
        )
    fine = _centroid(sign_rise, path, offsets)
    points = a + s[:, None] * along + fine[:, None] * across
    return _thinned(points, s, length)


def snap(gray: np.ndarray, points: np.ndarray, number: int, reach: float = 6.0) -> np.ndarray:
    """Return point `number` of a line (N, 2) moved across the line onto the strongest edge within `reach` pixels.

    Parameters
    ----------
    gray : (H, W) uint8. points : (N, 2) pixels of a line. number : of the point. reach : pixels to either side.
    """
    points = np.asarray(points, float)
    before, after = points[max(number - 1, 0)], points[min(number + 1, len(points) - 1)]
    along = after - before
    along = along / max(np.linalg.norm(along), 1e-9)
    across, offsets = np.array([-along[1], along[0]]), np.arange(-reach, reach + 1e-9, 0.25)
    positions = points[number] + np.linspace(-3.0, 3.0, 7)[:, None] * along
    rise = np.gradient(_profiles(gray, positions, across, offsets).mean(0), 0.25)
    strong = np.abs(rise) * (1.0 - 0.5 * np.abs(offsets) / reach)
    k = int(strong.argmax())
    if strong[k] < FAINT:
        return points[number]
    return points[number] + _centroid(np.sign(rise[k]) * rise[None], np.array([k]), offsets)[0] * across


def _profiles(gray: np.ndarray, positions: np.ndarray, across: np.ndarray, offsets: np.ndarray) -> np.ndarray:
    """Return the softened picture across each position (S, O)."""
    soft = cv2.GaussianBlur(gray, (0, 0), SMOOTH_PX).astype(np.float32)
    # OpenCV counts pixel centres from 0.
    at = to_opencv(positions[:, None] + offsets[None, :, None] * across)
    return cv2.remap(soft, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def _cheapest(rise: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
    """Return the mean gradient, the columns (S,) of the path that gathers most of it, and the gradients."""
    gain = np.clip(rise, 0.0, np.percentile(np.abs(rise), 98.0) + 1e-6)
    cost = BEND_COST * float(gain.mean() + 1e-6)
    total, choice = gain[0].copy(), np.zeros(gain.shape, np.int64)
    moves = np.arange(-2, 3)
    for row in range(1, len(gain)):
        options = np.stack([np.roll(total, m) - cost * abs(m) for m in moves])
        for m, option in zip(moves, options):
            if m > 0:
                option[:m] = -np.inf
            elif m < 0:
                option[m:] = -np.inf
        best = options.argmax(0)
        choice[row] = moves[best]
        total = options[best, np.arange(len(total))] + gain[row]
    path = np.empty(len(gain), np.int64)
    path[-1] = int(total.argmax())
    for row in range(len(gain) - 1, 0, -1):
        path[row - 1] = path[row] - choice[row, path[row]]
    return float(gain[np.arange(len(gain)), path].mean()), path, rise


def _centroid(rise: np.ndarray, path: np.ndarray, offsets: np.ndarray) -> np.ndarray:
    """Return the gradient's centroid about each path column, in the units of offsets (S,).

    The window is moved onto the centroid and taken again: one that cuts the edge on a side pulls it there.
    """
    step = offsets[1] - offsets[0]
    width = int(round(WINDOW_PX / step))
    for _ in range(WINDOWS):
        columns = np.clip(path[:, None] + np.arange(-width, width + 1), 0, len(offsets) - 1)
        weight = np.clip(np.take_along_axis(rise, columns, 1), 0.0, None) ** 2
        found = (weight * offsets[columns]).sum(1) / np.maximum(weight.sum(1), 1e-9)
        path = np.clip(np.round((found - offsets[0]) / step).astype(np.int64), 0, len(offsets) - 1)
    return found


def _thinned(points: np.ndarray, s: np.ndarray, length: float) -> np.ndarray:
    """Return a point about every `EVERY_PX`, each the value at its position of a line through those around it."""
    count = int(np.clip(round(length / EVERY_PX) + 1, 3, 60))
    half, out = 0.5 * length / (count - 1), []
    for at in np.linspace(0.0, length, count):
        near = np.abs(s - at) <= max(half, 2.5 * STEP_PX)
        fit = np.polynomial.polynomial.polyfit(s[near] - at, points[near], 1)
        for _ in range(2):
            off = np.linalg.norm(points[near] - (fit[0] + (s[near] - at)[:, None] * fit[1]), axis=1)
            good = off <= max(2.0 * np.median(off), 0.2)
            fit = np.polynomial.polynomial.polyfit((s[near] - at)[good], points[near][good], 1)
        out.append(fit[0])
    return np.array(out)
