"""Charts as SVG text, without any script: they print, and open anywhere."""

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

import numpy as np

WIDTH, LEFT, RIGHT, BOTTOM, TOP = 760, 46, 20, 22, 22

RAMP = ((0.0, (79, 179, 165)), (1.5, (205, 196, 178)), (3.0, (242, 163, 58)), (5.0, (213, 85, 154)))
"""Residuals in units of expected noise, from fine to what needs attention."""


HEAT = 0.1
"""Value of a cell that is one step of the ramp: half a pixel of slip is its end."""


@dataclass(frozen=True)
class Line:
    """A curve: its name, values (F,), a class of the page's style, and one sigma (F,) to each side, if known."""

    name: str
    values: np.ndarray
    look: str
    sigma: np.ndarray | None = None


def ramp(value: float) -> str:
    """Return the colour of a residual in units of expected noise."""
    for (a, low), (b, high) in zip(RAMP, RAMP[1:]):
        if value <= b:
            share = min(max((value - a) / (b - a), 0.0), 1.0)
            return "#" + "".join(f"{round(x + share * (y - x)):02x}" for x, y in zip(low, high))
    return "#d5559a"


def lines(frames: np.ndarray, curves: Sequence[Line], unit: str, height: int = 150, from_zero: bool = True) -> str:
    """Return curves over frames.

    Parameters
    ----------
    frames : (F,) numbers. curves : drawn in their order. unit : of the values. height : pixels. from_zero : whether
        the axis begins at 0.
    """
    every = np.concatenate(
        [c.values if c.sigma is None else np.r_[c.values - c.sigma, c.values + c.sigma] for c in curves]
    )
    every = every[np.isfinite(every)]
    if not len(every) or len(frames) < 2:
        return "<p>There is nothing to draw.</p>"
    low, high = (0.0 if from_zero else float(every.min())), float(every.max())
    high = high if high > low else low + 1.0

    def x(f: np.ndarray) -> np.ndarray:
        return LEFT + (f - frames[0]) / (frames[-1] - frames[0]) * (WIDTH - LEFT - RIGHT)

    def y(v: np.ndarray) -> np.ndarray:
        return TOP + (1.0 - (v - low) / (high - low)) * (height - TOP - BOTTOM)

    parts = [_axes(frames, low, high, x, y, height, unit)]
    for curve in curves:
        ok = np.isfinite(curve.values)
        if curve.sigma is not None:
            up, down = curve.values + curve.sigma, curve.values - curve.sigma
            ring = np.r_[np.c_[x(frames[ok]), y(up[ok])], np.c_[x(frames[ok]), y(down[ok])][::-1]]
            parts.append(f'<polygon class="band {curve.look}" points="{_points(ring)}"/>')
        parts.append(f'<polyline class="{curve.look}" points="{_points(np.c_[x(frames[ok]), y(curve.values[ok])])}"/>')
    parts += [
        f'<text class="key {c.look}" x="{LEFT + 8 + 150 * k}" y="11">{escape(c.name)}</text>'
        for k, c in enumerate(curves)
    ]
    return _svg(WIDTH, height, parts)


def _points(xy: np.ndarray) -> str:
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in xy)


def _axes(frames, low, high, x, y, height: int, unit: str) -> str:
    out = []
    for v in _ticks(low, high, 4):
        at = float(y(np.array(v)))
        out.append(f'<line class="grid" x1="{LEFT}" x2="{WIDTH - RIGHT}" y1="{at:.1f}" y2="{at:.1f}"/>')
        out.append(f'<text class="tick" x="{LEFT - 5}" y="{at + 4:.1f}" text-anchor="end">{v:g}</text>')
    for f in _ticks(float(frames[0]), float(frames[-1]), 8):
        at = float(x(np.array(f)))
        out.append(f'<text class="tick" x="{at:.1f}" y="{height - 6}" text-anchor="middle">{f:g}</text>')
    out.append(f'<text class="tick" x="{WIDTH - RIGHT}" y="11" text-anchor="end">{escape(unit)}</text>')
    return "".join(out)


def _ticks(low: float, high: float, count: int) -> list[float]:
    step = 10.0 ** np.floor(np.log10(max((high - low) / count, 1e-12)))
    step *= next(m for m in (1, 2, 5, 10) if (high - low) / (m * step) <= count + 0.5)
    return [round(float(v), 10) for v in np.arange(np.ceil(low / step), np.floor(high / step) + 1) * step]


def field(size: tuple[int, int], centres: np.ndarray, vectors: np.ndarray, noise: np.ndarray, width: int = 372) -> str:
    """Return mean residuals over the picture as arrows, each lengthened alike, coloured by RMS over expected noise.

    Parameters
    ----------
    size : of the picture, pixels. centres : (M, 2) pixels. vectors : (M, 2) mean residuals, pixels. noise : (M,) RMS
        residual of each cell over its expected noise. width : of the chart, pixels.
    """
    scale = width / size[0]
    height = int(size[1] * scale)
    longest = float(np.percentile(np.linalg.norm(vectors, axis=1), 95)) if len(vectors) else 0.0
    gain = 10.0 ** np.floor(np.log10(0.07 * size[0] / longest)) if longest > 0.0 else 1.0
    parts = [f'<rect class="frame" width="{width}" height="{height}"/>']
    for (cx, cy), (dx, dy), n in zip(centres * scale, vectors * scale * gain, noise):
        parts.append(
            f'<circle r="2.4" cx="{cx:.1f}" cy="{cy:.1f}" fill="{ramp(n)}"/>'
            f'<line x1="{cx:.1f}" y1="{cy:.1f}" x2="{cx + dx:.1f}" y2="{cy + dy:.1f}" stroke="{ramp(n)}" '
            'stroke-width="2"/>'
        )
    parts.append(f'<text class="tick" x="6" y="{height - 6}">arrows ×{gain:g}; colour: over expected noise</text>')
    return _svg(width, height, parts)


def heat(values: np.ndarray, unit: str, shape: float, width: int = 372) -> str:
    """Return values over the picture as cells; those that are unknown stay empty.

    Parameters
    ----------
    values : (rows, columns), NaN for unknown. unit : of them. shape : height of the picture over its width. width : of
        the chart, pixels.
    """
    rows, columns = values.shape
    height = int(width * shape)
    known = values[np.isfinite(values)]
    if not len(known):
        return "<p>The slip of this attempt is not known.</p>"
    top = float(np.percentile(known, 97))
    parts = [f'<rect class="frame" width="{width}" height="{height}"/>']
    for j in range(rows):
        for i in range(columns):
            if np.isfinite(values[j, i]):
                parts.append(
                    f'<rect x="{i * width / columns:.1f}" y="{j * height / rows:.1f}" '
                    f'width="{width / columns + 0.3:.1f}" '
                    f'height="{height / rows + 0.3:.1f}" fill="{ramp(float(values[j, i]) / HEAT)}"/>'
                )
    parts.append(
        f'<text class="tick over" x="6" y="{height - 6}">0 to {top:.3f} {escape(unit)}, '
        f"middle {np.median(known):.3f}</text>"
    )
    return _svg(width, height, parts)


def above(positions: np.ndarray, sigma: np.ndarray, points: np.ndarray, width: int = 372, height: int = 210) -> str:
    """Return a path seen from above with the points of the set: x to the right, -z upwards, world units.

    Parameters
    ----------
    positions : (F, 3). sigma : (F,) one sigma of each, drawn as a ring where it is seen. points : (P, 3). width,
        height : of the chart, pixels.
    """
    plane, ground = positions[:, [0, 2]], points[:, [0, 2]]
    low, high = plane.min(0), plane.max(0)
    if len(ground):
        a, z = np.percentile(ground, [15, 85], axis=0)
        low, high = np.minimum(low, a), np.maximum(high, z)
    span = float(max((high - low).max(), 1e-9)) * 1.12
    middle, scale = (low + high) / 2.0, min(width, height) / span

    def at(xz: np.ndarray) -> np.ndarray:
        return np.array([width, height]) / 2.0 + (xz - middle) * scale

    parts = [f'<rect class="frame" width="{width}" height="{height}"/>']
    inside = at(ground)
    inside = inside[((inside > 0) & (inside < [width, height])).all(1)][:900] if len(ground) else inside
    parts += [f'<circle class="dot" r="1" cx="{x:.1f}" cy="{y:.1f}"/>' for x, y in inside]
    parts += [
        f'<circle class="ring" r="{s * scale:.1f}" cx="{x:.1f}" cy="{y:.1f}"/>'
        for (x, y), s in zip(at(plane)[::6], sigma[::6])
        if np.isfinite(s) and 0.7 < s * scale < 60
    ]
    parts.append(f'<polyline class="path" points="{_points(at(plane))}"/>')
    x, y = at(plane)[0]
    parts.append(f'<circle class="start" r="3.5" cx="{x:.1f}" cy="{y:.1f}"/>')
    parts.append(f'<text class="tick" x="6" y="{height - 6}">from above; the ring is the first frame</text>')
    return _svg(width, height, parts)


def _svg(width: int, height: int, parts: Sequence[str]) -> str:
    return f'<svg viewBox="0 0 {width} {height}" width="{width}" height="{height}" role="img">{"".join(parts)}</svg>'
