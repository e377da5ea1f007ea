"""Animated outlines: closed chains of cubic Bezier segments with keys at frames.

Control points are rows ``[x, y, in dx, in dy, out dx, out dy]`` in plate pixels; tangents are offsets from the point,
zero at a corner. Between two keys the outline is moved by the similarity that best takes one to the other (Umeyama
1991), turned and scaled evenly in time, and only what that leaves over is blended: a turning shape does not shrink.
"""

from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.errors import MaskError

IGNORE, KEEP = "ignore", "keep"
HAND, FOLLOWED = "hand", "followed"
STEPS = 10
"""Straight pieces in which a curved segment is drawn and rasterised."""

MAX_POINTS = 400


@dataclass(frozen=True)
class Key:
    """The outline at one frame: control points (N, 6), who set it, and how sure the following was (0 to 1)."""

    points: np.ndarray
    by: str = HAND
    confidence: float = 1.0


@dataclass(frozen=True)
class Shape:
    """An animated outline.

    Attributes
    ----------
    keys : by frame, all with the same number of points.
    margin : pixels by which the shape is widened where it is used.
    first, last : lifetime in frames, None where it has no end.
    purpose : "ignore" keeps features out of it, "keep" keeps them in.
    """

    keys: dict[int, Key]
    margin: float = 0.0
    first: int | None = None
    last: int | None = None
    purpose: str = IGNORE
    name: str = field(default="mask")

    def alive(self, frame: int) -> bool:
        """Tell whether the frame lies in the shape's lifetime."""
        return (self.first is None or frame >= self.first) and (self.last is None or frame <= self.last)


def polygon(xy) -> np.ndarray:
    """Return corners (N, 2) as control points (N, 6) without tangents."""
    xy = np.asarray(xy, float).reshape(-1, 2)
    return np.concatenate([xy, np.zeros((len(xy), 4))], 1)


def smooth(xy, tension: float = 1.0 / 6.0) -> np.ndarray:
    """Return a smooth closed curve through `xy` (N, 2) as control points (Catmull and Rom 1974)."""
    xy = np.asarray(xy, float).reshape(-1, 2)
    along = tension * (np.roll(xy, -1, 0) - np.roll(xy, 1, 0))
    return np.concatenate([xy, -along, along], 1)


def flatten(points: np.ndarray, steps: int = STEPS) -> np.ndarray:
    """Return the outline (M, 2) of control points (N, 6) as a closed polygon; straight segments stay one piece."""
    after = np.roll(points, -1, 0)
    a, b = points[:, :2], after[:, :2]
    c1, c2 = a + points[:, 4:6], b + after[:, 2:4]
    straight = (np.abs(points[:, 4:6]) + np.abs(after[:, 2:4])).sum(1) < 1e-9
    t = (np.arange(steps) / steps)[None, :, None]
    curve = (
        (1 - t) ** 3 * a[:, None]
        + 3 * (1 - t) ** 2 * t * c1[:, None]
        + 3 * (1 - t) * t**2 * c2[:, None]
        + t**3 * b[:, None]
    )
    keep = np.ones((len(points), steps), bool)
    keep[straight, 1:] = False
    return curve[keep]


def evenly(outline: np.ndarray, count: int) -> np.ndarray:
    """Return `count` positions (count, 2) evenly along a closed outline (M, 2)."""
    closed = np.concatenate([outline, outline[:1]])
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(closed, axis=0), axis=1))])
    at = np.arange(count) * along[-1] / count
    return np.stack([np.interp(at, along, closed[:, k]) for k in (0, 1)], 1)


def similarity(source: np.ndarray, target: np.ndarray) -> tuple[float, float, np.ndarray, np.ndarray]:
    """Return angle (radians), log scale, and both centres of the best similarity between two sets of points (N, 2)."""
    a, b = source.mean(0), target.mean(0)
    p, q = source - a, target - b
    spread = (p * p).sum()
    if spread < 1e-9:
        return 0.0, 0.0, a, b
    dot, cross = (p * q).sum(), (p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0]).sum()
    size = np.hypot(dot, cross) / spread
    if size < 1e-9:
        return 0.0, 0.0, a, b
    return float(np.arctan2(cross, dot)), float(np.log(size)), a, b


def _turned(points: np.ndarray, angle: float, log_scale: float) -> np.ndarray:
    """Turn and scale vectors (..., 2)."""
    s, c = np.exp(log_scale) * np.sin(angle), np.exp(log_scale) * np.cos(angle)
    return points @ np.array([[c, s], [-s, c]])


def blend(a: np.ndarray, b: np.ndarray, share: float) -> np.ndarray:
    """Return the control points (N, 6) at `share` (0 to 1) of the way from key `a` to key `b`.

    Parameters
    ----------
    a, b : keys. share : 0 at `a`, 1 at `b`.
    """
    angle, size, centre_a, centre_b = similarity(a[:, :2], b[:, :2])

    def carried(p, angle, size, origin, centre):
        moved = np.empty_like(p)
        moved[:, :2] = _turned(p[:, :2] - origin, angle, size) + centre
        for k in (2, 4):
            moved[:, k : k + 2] = _turned(p[:, k : k + 2], angle, size)
        return moved

    centre = (1.0 - share) * centre_a + share * centre_b
    there = carried(a, share * angle, share * size, centre_a, centre)
    back = carried(b, (share - 1.0) * angle, (share - 1.0) * size, centre_b, centre)
    return (1.0 - share) * there + share * back


def points_at(shape: Shape, frame: int) -> np.ndarray:
    """Return the control points (N, 6) at a frame; before the first key and after the last they stand still."""
    frames = sorted(shape.keys)
    if frame <= frames[0]:
        return shape.keys[frames[0]].points
    if frame >= frames[-1]:
        return shape.keys[frames[-1]].points
    k = int(np.searchsorted(frames, frame, side="right"))
    low, high = frames[k - 1], frames[k]
    return blend(shape.keys[low].points, shape.keys[high].points, (frame - low) / (high - low))


def outline_at(shape: Shape, frame: int) -> np.ndarray:
    """Return the outline (M, 2) in pixels at a frame."""
    return flatten(points_at(shape, frame))


def area(outline: np.ndarray) -> float:
    """Return the signed area of a closed outline (M, 2) in square pixels."""
    x, y = outline.T
    return 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


def crosses_itself(outline: np.ndarray) -> bool:
    """Tell whether two pieces of a closed outline (M, 2) that are not neighbours cross."""
    n = len(outline)
    a, b = outline, np.roll(outline, -1, 0)

    def side(p, q, r):
        return (q[..., 0] - p[..., 0]) * (r[..., 1] - p[..., 1]) - (q[..., 1] - p[..., 1]) * (r[..., 0] - p[..., 0])

    p, q, r, s = a[:, None], b[:, None], a[None], b[None]
    crossing = (side(p, q, r) * side(p, q, s) < -1e-9) & (side(r, s, p) * side(r, s, q) < -1e-9)
    gap = np.abs(np.arange(n)[:, None] - np.arange(n)[None])
    crossing &= (gap > 1) & (gap < n - 1)
    return bool(crossing.any())


def check_key(points: np.ndarray, width: int, height: int) -> None:
    """Raise MaskError for an outline that cannot mask anything.

    Parameters
    ----------
    points : (N, 6) control points, pixels. width, height : of the picture, pixels.
    """
    if points.ndim != 2 or points.shape[1] != 6 or not np.isfinite(points).all():
        raise MaskError("The shape's points are not numbers.", "Draw it again.")
    if len(points) < 3:
        raise MaskError(
            f"A shape needs three points or more; this one has {len(points)}.",
            "Click at least three before closing it.",
        )
    if len(points) > MAX_POINTS:
        raise MaskError(
            f"A shape may have {MAX_POINTS} points; this one has {len(points)}.", "Draw it more roughly, or as two."
        )
    outline = flatten(points)
    if crosses_itself(outline):
        raise MaskError("The shape crosses itself.", "Move the points so that its outline does not cross.")
    if (outline.max(0) <= 0).any() or (outline.min(0) >= [width, height]).any():
        raise MaskError("The shape lies fully outside the picture.", "Move it over what it is to hide.")
    if abs(area(outline)) < 4.0:
        raise MaskError("The shape has no area.", "Spread its points.")


def shape_from_json(row: dict) -> Shape:
    """Return a shape from its stored form: keys as {frame: {"points": [[6 numbers]], "by": …, "confidence": …}}."""
    keys = {
        int(frame): Key(
            np.asarray(k["points"], float).reshape(-1, 6), k.get("by", HAND), float(k.get("confidence", 1.0))
        )
        for frame, k in row["keys"].items()
    }
    return Shape(
        keys,
        float(row.get("margin", 0.0)),
        row.get("first"),
        row.get("last"),
        row.get("purpose", IGNORE),
        row.get("name", "mask"),
    )


def keys_to_json(keys: dict[int, Key]) -> dict:
    """Return keys as plain data, points rounded to a thousandth of a pixel."""
    return {
        str(f): {"points": np.round(k.points, 3).tolist(), "by": k.by, "confidence": round(k.confidence, 3)}
        for f, k in sorted(keys.items())
    }
