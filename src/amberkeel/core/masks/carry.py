"""Carry a shape along with its subject: motion inside it, robustly, from frame to frame.

Pyramidal flow (OpenCV) of a grid of spots inside the shape is fitted by a motion model under Tukey's biweight. Spots
that go with the surroundings are left out where the subject goes another way, since a rough shape holds some
background. What adds up from frame to frame is taken back by registering against the keyed frame, carried along.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.geometry.homography import carried
from amberkeel.core.geometry.pixels import from_opencv, to_opencv
from amberkeel.core.masks.bend import LEAST_OVERLAP, Bender
from amberkeel.core.masks.cues import CueReader
from amberkeel.core.masks.raster import fill, grow
from amberkeel.core.masks.shape import FOLLOWED, HAND, Key, Shape, flatten, points_at
from amberkeel.core.plate.plate import GrayFrames, Plate
from amberkeel.core.progress import AtFrame, Progress, silent
from amberkeel.core.tracks import TrackSet

TRANSLATION, SIMILARITY, AFFINE, PERSPECTIVE = "translation", "rotation and scale", "affine", "perspective"
BENDING = "bending to the subject"
"""Rotation and scale, and then the outline is bent to the subject (`bend`)."""

SUBJECT = "the subject in it"
"""Whatever moves by itself inside the outline, which is drawn roughly (`wrap`)."""

MODELS = (TRANSLATION, SIMILARITY, AFFINE, PERSPECTIVE, BENDING)
WAYS = (SUBJECT, *MODELS)
"""How a shape may follow: what moves in it, or as one piece by a model of its motion."""

WORK_SIDE = 420.0
"""Longest side of the subject in working pixels; larger ones are followed on a smaller picture."""

GUESS_SIDE, GUESS_REACH = 64.0, 14.0
"""Size at which the whole subject is looked for first, and how far, in pixels of that size."""

SPOTS = 260
LOST = 0.2
"""Share of the spots inside that must agree on one motion."""

LOST_BENDING = 0.05
"""That share where the outline then bends: little of a walking figure moves as one."""

MISSED = 4
"""Frames in a row on which a bending outline may find nothing to bend to."""

LEAST_SPOTS = 8
PRIOR = {TRANSLATION: 0.0, SIMILARITY: 0.03, AFFINE: 0.03, PERSPECTIVE: 0.03}
"""Expected change of shape from one frame to the next, as a share of the subject's size."""


@dataclass(frozen=True)
class Carried:
    """What following gave.

    Attributes
    ----------
    keys : the shape's keys, those set by hand as they were. reached : last frame followed.
    lost : why it stopped early, or "".
    """

    keys: dict[int, Key]
    reached: int
    lost: str = ""


def carry(
    plate: Plate,
    shape: Shape,
    start: int,
    stop: int,
    model: str = SIMILARITY,
    progress: Progress = silent,
    tracks: TrackSet | None = None,
) -> Carried:
    """Follow a shape from its position at `start` to the frame `stop`, later or earlier.

    Keys set by hand on the way are kept: what was followed up to them is bent so that it arrives there. A bending
    outline learns from them too. `tracks` tell it how the background moves; without any, dense flow does.

    Parameters
    ----------
    plate : whose pictures are looked at. shape : with its keys. start, stop : frame numbers. model : one of
        MODELS. progress : called with the share done. tracks : of the plate, or None.

    Raises
    ------
    MaskError : an unknown model, frames outside the plate, or a shape with nothing inside to follow.
    """
    if model not in MODELS:
        raise MaskError(f"There is no motion “{model}”.", f"Choose {', '.join(MODELS)}.")
    first, last = int(plate.frames[0]), int(plate.frames[-1])
    if not (first <= start <= last and first <= stop <= last):
        raise MaskError(f"The plate runs from {first} to {last}.", "Choose frames within it.")
    if start == stop:
        raise MaskError("There is nothing to follow to.", "Choose another frame to follow to.")
    step = 1 if stop > start else -1
    grays = GrayFrames(plate, ahead=2)
    hand = {f: k for f, k in shape.keys.items() if k.by == HAND}
    done = {f: k for f, k in shape.keys.items() if k.by == HAND or not min(start, stop) <= f <= max(start, stop)}
    try:
        points = points_at(shape, start)
        bender = Bender(CueReader(plate, tracks), points, start) if model == BENDING else None
        run = _Run(lambda f: grays.get(f, step), points, start, model)
        missed = 0
        done[start] = hand.get(start, replace(shape.keys.get(start, Key(run.points)), points=run.points))
        way: dict[int, Key] = {}
        for n, frame in enumerate(range(start + step, stop + step, step)):
            lost = run.step(frame)
            if lost:
                return Carried(_sorted(done | way), frame - step, lost)
            if frame in hand:
                done |= _bent(way, run.points, hand[frame].points, start, frame)
                way = {}
                start = frame
                run.anchor(hand[frame].points, frame)
                if bender:
                    bender.learn(hand[frame].points, frame)
            else:
                if bender:
                    run.points, run.confidence = bender.bend(run.points, frame)
                    missed = missed + 1 if run.confidence < LEAST_OVERLAP else 0
                    if missed == MISSED:
                        return Carried(
                            _sorted(done | way),
                            frame - step,
                            f"Lost on frame {frame}: the outline finds nothing to bend to.",
                        )
                way[frame] = Key(run.points, FOLLOWED, run.confidence)
            progress((n + 1) / abs(stop - start + step), AtFrame("Following the shape", int(frame)))
    finally:
        grays.close()
    return Carried(_sorted(done | way), stop)


def _sorted(keys: dict[int, Key]) -> dict[int, Key]:
    return dict(sorted(keys.items()))


def _bent(way: dict[int, Key], arrived: np.ndarray, wanted: np.ndarray, start: int, end: int) -> dict[int, Key]:
    """Return followed keys with the miss at `end` spread evenly back to `start`."""
    return {f: replace(k, points=k.points + (wanted - arrived) * (f - start) / (end - start)) for f, k in way.items()}


class _Run:
    """The shape on its way: the points now, and the frame they were keyed on."""

    def __init__(self, gray: Callable[[int], np.ndarray], points: np.ndarray, frame: int, model: str):
        self.gray, self.model = gray, SIMILARITY if model == BENDING else model
        self.least = LOST_BENDING if model == BENDING else LOST
        self.confidence, self.velocity = 1.0, np.zeros(2)
        self.anchor(points, frame)

    def anchor(self, points: np.ndarray, frame: int) -> None:
        """Start afresh from points known at a frame."""
        self.points, self.frame = points.copy(), frame
        self.key_points, self.key_picture = points.copy(), self.gray(frame)
        self.key_from_here = np.eye(3)

    def step(self, frame: int) -> str:
        """Go to a neighbouring frame; return why that failed, or ""."""
        before, after = self.gray(self.frame), self.gray(frame)
        height, width = after.shape
        outline = flatten(self.points)
        scale = min(1.0, WORK_SIDE / max(np.ptp(outline, axis=0).max(), 1.0))
        spots, ring = _spots(outline, before.shape, scale)
        if len(spots) < LEAST_SPOTS:
            return f"Too little of the shape is left in the picture on frame {frame}."
        guess = _guess(before, after, outline, self.velocity)
        motion, share = _motion(before, after, spots, ring, guess, self.model, scale)
        if motion is None or share < self.least:
            return (
                f"Lost on frame {frame}: only {100 * share:.0f} % of what is inside moves as one. "
                "It may be hidden, blurred or changing."
            )
        moved = _apply(motion, self.points)
        moved, total = self._take_back_drift(after, moved, motion, scale)
        spread = flatten(moved)
        if (spread.max(0) < 2).any() or (spread.min(0) > [width - 2, height - 2]).any():
            return f"The shape leaves the picture on frame {frame}."
        self.velocity = moved[:, :2].mean(0) - self.points[:, :2].mean(0)
        self.points, self.frame, self.key_from_here, self.confidence = moved, frame, total, share
        return ""

    def _take_back_drift(self, after: np.ndarray, moved: np.ndarray, motion: np.ndarray, scale: float):
        """Register the keyed picture, carried here, with the one here; return points and the motion since the key."""
        total = motion @ self.key_from_here
        height, width = after.shape
        carried = cv2.warpPerspective(self.key_picture, _centred(total), (width, height), flags=cv2.INTER_LINEAR)
        spots, _ = _spots(flatten(moved), after.shape, scale)
        if len(spots) < LEAST_SPOTS:
            return moved, total
        position, good = _flow(carried, after, spots, np.zeros_like(spots), scale, levels=1)
        if good.sum() < LEAST_SPOTS:
            return moved, total
        small, share = _fit(
            spots[good], position[good], TRANSLATION if self.model == TRANSLATION else SIMILARITY, scale
        )
        size = np.linalg.norm(small[:2, 2] + small[:2, :2] @ spots.mean(0) - spots.mean(0))
        if share * good.mean() < 0.35 or size > 3.0 / scale:
            return moved, total
        return _apply(small, moved), small @ total


def _centred(h: np.ndarray) -> np.ndarray:
    """Return a motion of pixels with centres at +0.5 for OpenCV, which counts from 0."""
    shift = np.array([[1.0, 0.0, -0.5], [0.0, 1.0, -0.5], [0.0, 0.0, 1.0]])
    return shift @ h @ np.linalg.inv(shift)


def _spots(outline: np.ndarray, shape: tuple[int, int], scale: float) -> tuple[np.ndarray, np.ndarray]:
    """Return grid positions inside the outline (N, 2), and positions in a ring around it."""
    height, width = shape
    size = np.sqrt(max(np.prod(np.ptp(outline, axis=0)), 1.0))
    reach = max(8.0, 0.25 * size)
    low = np.maximum(np.floor(outline.min(0) - reach), 3).astype(int)
    high = np.minimum(np.ceil(outline.max(0) + reach), [width - 3, height - 3]).astype(int)
    if (high - low < 4).any():
        return np.zeros((0, 2)), np.zeros((0, 2))
    inside = fill(outline - low, *(high - low)[::-1])
    pitch = max(2.0 / scale, np.sqrt(max(inside.sum(), 1) / SPOTS))
    x, y = np.meshgrid(np.arange(low[0], high[0], pitch), np.arange(low[1], high[1], pitch))
    positions = np.stack([x.ravel(), y.ravel()], 1)
    cells = (positions - low).astype(int)
    within = inside[cells[:, 1], cells[:, 0]]
    near = grow(inside, 3.0)[cells[:, 1], cells[:, 0]]
    ring = positions[~near]
    return positions[within] + 0.5, ring[:: max(1, len(ring) // 150)] + 0.5


def _guess(before, after, outline, velocity) -> np.ndarray:
    """Return how far the inside of the outline has moved as a whole (2,): the best fit near where it was heading."""
    low = np.maximum(np.floor(outline.min(0)), 0).astype(int)
    high = np.minimum(np.ceil(outline.max(0)), before.shape[::-1]).astype(int)
    if (high - low < 4).any():
        return velocity
    scale = min(1.0, GUESS_SIDE / float((high - low).max()))
    reach = int(np.ceil(GUESS_REACH / scale + np.abs(velocity).max()))
    inside = fill(outline - low, *(high - low)[::-1]).astype(np.float32)
    around = cv2.copyMakeBorder(after, reach, reach, reach, reach, cv2.BORDER_REPLICATE)
    around = around[low[1] : high[1] + 2 * reach, low[0] : high[0] + 2 * reach]
    patch = before[low[1] : high[1], low[0] : high[0]]
    patch, around, inside = (
        np.asarray(cv2.resize(p.astype(np.float32), None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA), np.float32)
        for p in (patch, around, inside)
    )
    score = cv2.matchTemplate(around, patch, cv2.TM_SQDIFF, mask=(inside > 0.5).astype(np.float32))
    row, column = np.unravel_index(int(np.argmin(score)), score.shape)
    return np.array([column, row]) / scale - reach


def _flow(before, after, positions, guess, scale, levels=4) -> tuple[np.ndarray, np.ndarray]:
    """Return where positions (N, 2) go, looked for from `guess` (N, 2) on, and which survive the way back (N,)."""
    ends = np.concatenate([positions, positions + guess])
    low = np.maximum(ends.min(0) - 40.0 / scale, 0).astype(int)
    high = np.minimum(ends.max(0) + 40.0 / scale, before.shape[::-1]).astype(int)
    a, b = (p[low[1] : high[1], low[0] : high[0]] for p in (before, after))
    if scale < 1.0:
        a, b = (cv2.resize(p, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) for p in (a, b))
    start = to_opencv((positions - low) * scale).reshape(-1, 1, 2)
    options = dict(
        winSize=(13, 13), maxLevel=levels, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 12, 0.02)
    )
    options["flags"] = cv2.OPTFLOW_USE_INITIAL_FLOW
    first = start + (guess * scale).astype(np.float32).reshape(-1, 1, 2)
    there, found, _ = cv2.calcOpticalFlowPyrLK(a, b, start, first, **options)
    back, returned, _ = cv2.calcOpticalFlowPyrLK(b, a, there, there - (first - start), **options)
    miss = np.linalg.norm((back - start).reshape(-1, 2), axis=1)
    good = (found.ravel() == 1) & (returned.ravel() == 1) & (miss < 1.0)
    return from_opencv(there.reshape(-1, 2)) / scale + low, good


def _motion(before, after, spots, ring, guess, model, scale) -> tuple[np.ndarray | None, float]:
    """Return the subject's motion (3, 3) between two pictures and the share of spots that agree with it."""
    side = np.ptp(spots, axis=0).max() * scale
    inside, within = _flow(
        before, after, spots, np.tile(guess, (len(spots), 1)), scale, levels=1 if side < 60 else 2 if side < 150 else 3
    )
    outside, beyond = _flow(before, after, ring, np.zeros_like(ring), scale) if len(ring) else (ring, np.zeros(0, bool))
    position, good = np.concatenate([inside, outside]), np.concatenate([within, beyond])
    inner = good[: len(spots)]
    x, y = spots[inner], position[: len(spots)][inner]
    if len(x) < LEAST_SPOTS:
        return None, len(x) / len(spots)
    outer = good[len(spots) :]
    if outer.sum() >= LEAST_SPOTS:
        around, agreed = _fit(ring[outer], position[len(spots) :][outer], SIMILARITY, scale)
        apart = np.linalg.norm(carried(around, x) - y, axis=1) * scale > 0.8
        if agreed > 0.4 and 0.3 < apart.mean() < 1.0 and apart.sum() >= LEAST_SPOTS:
            x, y = x[apart], y[apart]
    motion, share = _fit(x, y, model, scale)
    return motion, share * inner.mean() ** 0.5


def _fit(x: np.ndarray, y: np.ndarray, model: str, scale: float) -> tuple[np.ndarray, float]:
    """Fit a motion (3, 3) that takes x (N, 2) to y, under Tukey's biweight; return it with the share that agrees.

    The change of shape is held near none within `PRIOR`, so that limbs do not turn the whole.
    """
    centre = x.mean(0)
    size = max(np.sqrt(((x - centre) ** 2).sum(1).mean()), 1.0)
    q = (x - centre) / size
    start = np.median(y - x, axis=0)
    motion = np.array([[1.0, 0.0, start[0] / size], [0.0, 1.0, start[1] / size], [0.0, 0.0, 1.0]])
    target = (y - centre) / size
    unit = 0.35 / scale / size
    for k in range(12):
        residual = target - carried(motion, q)
        length = np.linalg.norm(residual, axis=1)
        bound = max(
            4.0 * unit, 3.0 * 1.4826 * float(np.median(length)) if k < 4 else 4.0 * unit * (2.5 if k < 8 else 1.5)
        )
        weight = np.where(length < bound, (1.0 - (length / bound) ** 2) ** 2, 0.0)
        if weight.sum() < 3.0:
            break
        motion = _solve(q, residual, weight, model, unit) @ motion
    agree = float(np.mean(np.linalg.norm(target - carried(motion, q), axis=1) < 6.0 * unit))
    out = np.diag([size, size, 1.0])
    out[:2, 2] = centre
    total = out @ motion @ np.linalg.inv(out)
    return total / total[2, 2], agree


def _solve(q: np.ndarray, residual: np.ndarray, weight: np.ndarray, model: str, unit: float) -> np.ndarray:
    """One weighted Gauss-Newton step about no motion; returns (3, 3) in normalised coordinates."""
    n = len(q)
    x, y, one, zero = q[:, 0], q[:, 1], np.ones(n), np.zeros(n)
    columns = [np.stack([one, zero], 1), np.stack([zero, one], 1)]
    if model == SIMILARITY:
        columns += [np.stack([x, y], 1), np.stack([-y, x], 1)]
    elif model in (AFFINE, PERSPECTIVE):
        columns += [np.stack([x, zero], 1), np.stack([y, zero], 1), np.stack([zero, x], 1), np.stack([zero, y], 1)]
    if model == PERSPECTIVE:
        columns += [np.stack([-x * x, -x * y], 1), np.stack([-x * y, -y * y], 1)]
    a = np.stack(columns, -1) * weight[:, None, None]
    normal = np.einsum("nij,nik->jk", a, np.stack(columns, -1))
    right = np.einsum("nij,ni->j", a, residual)
    held = np.zeros(len(columns))
    held[2:] = (unit / max(PRIOR[model], 1e-3)) ** 2
    p = np.linalg.solve(normal + np.diag(held + 1e-9), right)
    motion = np.eye(3)
    motion[:2, 2] = p[:2]
    if model == SIMILARITY:
        motion[:2, :2] += [[p[2], -p[3]], [p[3], p[2]]]
    elif model in (AFFINE, PERSPECTIVE):
        motion[:2, :2] += p[2:6].reshape(2, 2)
    if model == PERSPECTIVE:
        motion[2, :2] = p[6:8]
    return motion


def _apply(motion: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Move control points (N, 6): positions and, as differences, the ends of their tangents."""
    position = carried(motion, points[:, :2])
    ends = [carried(motion, points[:, :2] + points[:, k : k + 2]) - position for k in (2, 4)]
    return np.concatenate([position, *ends], 1)
