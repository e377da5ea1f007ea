"""Positions measured anew where the picture is blurred by motion, led by the solved camera.

A blurred patch is the sharp one drawn along the way that its point goes while the shutter is open. A solved camera
tells that way, so the reference is blurred as the frame is, whatever its course: bent, uneven, turning back. What is
measured then is the position at mid-shutter and not the streak's middle. Registration as in `follow.register` (Baker
and Matthews 2004); synthesised blur for following through it after Jin, Favaro and Cipolla (2005). The open share of
the shutter is the one with which the patches match best.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.repair.exposure import EVEN, SMOOTH, STILL
from amberkeel.core.repair.led import NOT_OPEN, Led, Masked
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import TrackSet

SHUTTERS = np.array([0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0])
"""Open shares of the frame interval that are tried."""

TRIED_FRAMES = 6
"""The most blurred frames on which they are."""

LEAST_STREAK_PX = 2.0
"""Length of a streak from which a frame is measured anew, pixels, at the middle of the tracks."""

LEAST_SHIFT_PX = 0.08
"""The same for how far the mean over the exposure lies from mid-shutter."""

CLEARER = 0.03
"""By how much a motion must match better than another one, or than none, to be preferred."""


MATCHED = 64
"""Patches of a frame by which a motion is judged."""

RATE_STEPS_PX, LATER_STEPS_PX = (6.0, 3.0, 1.2), (2.0, 0.8)
"""Steps in which a frame's speed is sought, pixels a frame: at first, and once it is known about."""

MOST_CLIMBS = 3
"""Times that a step is taken at the most."""

FAR_BELOW = 0.4
"""By how much worse a match is from which it is not climbed from."""

STIFFNESS = 1e-4
"""What the match must gain for each square pixel a frame by which a speed departs from the splines'."""

CHANCE = 3.0
"""Standard errors over patches by which it must be."""

LITTLE_CLEARER = 0.01
"""The same for a way that has nothing to be fitted."""

BESIDE = 0.1
"""The same for a smooth motion beside a frame on which the camera is still."""

ROUNDS = 2
"""Rounds of finding the speeds and then the shutter."""

_Course = tuple[float, np.ndarray, np.ndarray]

_ASIDE = np.array([[1.0, 0.0], [-1.0, 0.0], [0.0, 1.0], [0.0, -1.0]])


@dataclass(frozen=True)
class ThroughBlur:
    """What measuring anew gave.

    Attributes
    ----------
    tracks : the tracks, their positions on `frames` measured anew, and found where they had none.
    shutter : open share of the frame interval. gain : by how much patches match better than unblurred ones would.
    frames : (K,) numbers of the frames measured anew.
    """

    tracks: TrackSet
    shutter: float
    gain: float
    frames: np.ndarray


def through_blur(
    plate: Plate,
    solution: Solution,
    masked: Masked = None,
    progress: Progress = silent,
) -> ThroughBlur | None:
    """Measure tracks anew on blurred frames, against references that are blurred as the solved camera says.

    Parameters
    ----------
    plate : the pictures. solution : solved from them, of a camera with all rows read at once or nearly so.
    masked : from a frame number to (H, W) bool, True where nothing may be followed. progress : the share done.

    Returns
    -------
    The tracks measured anew, or None where no frame is blurred by motion or no shutter explains the pictures better.
    """
    work = _Work(plate, solution)
    try:
        worst = np.argsort(-work.length)[:TRIED_FRAMES]
        worst = worst[0.5 * work.length[worst] > LEAST_STREAK_PX]
        if not len(worst):
            return None
        scores = np.array([work.match(worst, s) for s in (NOT_OPEN, *SHUTTERS)])
        progress(0.1, "Measuring the shutter from blur")
        gain = float(scores[1:].max() - scores[0])
        if gain < CLEARER:
            return None
        shutter = _peak(SHUTTERS, scores[1:])
        blurred = work.blurred(shutter)
        rows = np.nonzero(blurred | np.roll(blurred, 1) | np.roll(blurred, -1))[0]
        for k in range(ROUNDS):
            work.take_rates(rows, shutter, span(progress, 0.1 + 0.35 * k, 0.45 + 0.35 * k))
            before, shutter = shutter, work.shutter_by_rates(rows, shutter)
            work.rescale(before, shutter)
        chosen = solution.path.frames[blurred]
        tracks = work.measured(chosen, shutter, masked, span(progress, 0.8, 1.0))
        return ThroughBlur(tracks, shutter, gain, chosen)
    finally:
        work.grays.close()


def _peak(x: np.ndarray, y: np.ndarray) -> float:
    """Return where values y (N,) at evenly spaced x (N,) are largest, by a parabola through the three about it."""
    k = int(np.clip(y.argmax(), 1, len(x) - 2))
    bend = y[k - 1] - 2.0 * y[k] + y[k + 1]
    shift = 0.5 * (y[k - 1] - y[k + 1]) / bend if bend < 0.0 else 0.0
    return float(np.clip(x[k] + np.clip(shift, -1.0, 1.0) * (x[1] - x[0]), x[0], x[-1]))


class _Work(Led):
    """A plate and its solved camera, while blurred frames are measured."""

    def __init__(self, plate: Plate, solution: Solution):
        super().__init__(plate, solution)
        extent = np.array([self._extent(k) for k in range(len(self.path.frames))])
        self.length, self.shift = extent.T
        self.barred = self.blurred(0.5)

    def _extent(self, row: int) -> tuple[float, float]:
        """Return the middle length of the streaks on a frame were the shutter always open, and how far their mean would
        lie from mid-shutter, pixels.
        """
        on = self.solution.counted & (self.solution.tracks.frames == self.path.frames[row])
        tracks = self.solution.tracks.track_of_sample[on]
        tracks = tracks[self.known[tracks]][:: max(1, len(tracks) // 40)]
        if not len(tracks):
            return 0.0, 0.0
        return self.motion.extent(self.xyz[tracks], row, 1.0)

    def blurred(self, shutter: float) -> np.ndarray:
        """Return the frames (F,) bool whose streaks are long against the usual ones, or that turn back."""
        length = shutter * self.length
        long = length > max(LEAST_STREAK_PX, 2.0 * float(np.median(length)))
        return long | (shutter**2 * self.shift > LEAST_SHIFT_PX)

    def match(self, rows: np.ndarray, shutter: float) -> float:
        """Return how well the patches on some frames match: the mean of ``-log(1 - c²) / 2`` over their correlations c,
        by which the likelihood of independent noise rises for each pixel; those that are lost count as 0.
        """
        each = np.concatenate([self.matches(row, shutter) for row in rows.tolist()])
        return float(each.mean()) if len(each) else 0.0

    def matches(self, row: int, shutter: float) -> np.ndarray:
        """Return the same for each patch of a frame (M,), always the same patches."""
        fit = self.fitted(row, shutter, MATCHED)
        score = np.where(fit.good, np.clip(fit.results[:, 0], 0.0, 0.9995), 0.0)
        return -0.5 * np.log(1.0 - score**2)

    def take_rates(self, rows: np.ndarray, shutter: float, progress: Progress) -> None:
        """Find how the camera turns within some frames by how their pictures are drawn; changes the motion.

        Each frame is tried in a smooth motion, as one on which the camera is still while the shutter is open, and as
        one on which it moves evenly from pose to pose. Beside a frame that is clearly still the splines mean nothing,
        and their word alone does not count.
        """
        count, focal = len(self.path.frames), self.path.lens.focal_px[0]
        rates = np.zeros((count, 3)) if self.motion.rates is None else self.motion.rates.copy()
        ways = np.full(count, SMOOTH) if self.motion.ways is None else self.motion.ways.copy()
        found, ahead = {}, np.full(count, np.nan)
        for k, row in enumerate(rows.tolist()):
            progress(k / len(rows), f"Measuring how fast frame {self.path.frames[row]} was drawn")
            found[row] = self._courses(row, shutter, rates, ways)
            ahead[row] = _clearly(found[row][STILL][2] - found[row][SMOOTH][2])
        still = ahead > CLEARER
        still |= (np.roll(still, 1) | np.roll(still, -1)) & (ahead > -BESIDE)
        for row, courses in found.items():
            ways[row] = STILL if still[row] else SMOOTH
            if _clearly(courses[EVEN][2] - courses[ways[row]][2]) > LITTLE_CLEARER:
                ways[row] = EVEN
            rates[row, :2] = courses[ways[row]][1] / focal
        self.motion = replace(self.motion, rates=rates, ways=ways)

    def _courses(self, row: int, shutter: float, rates: np.ndarray, ways: np.ndarray) -> tuple[_Course, ...]:
        """Return for each way of moving how well a frame's patches match at best, and with which turn (2,) beyond the
        splines', pixels a frame.
        """
        focal = self.path.lens.focal_px[0]

        def each(px: np.ndarray, way: int) -> np.ndarray:
            trial, own = rates.copy(), ways.copy()
            trial[row, :2], own[row] = px / focal, way
            self.motion = replace(self.motion, rates=trial, ways=own)
            return self.matches(row, shutter)

        def worth(px: np.ndarray, way: int) -> float:
            own = each(px, way)
            return (float(own.mean()) if len(own) else 0.0) - STIFFNESS * float(px @ px)

        self.motion = replace(self.motion, rates=rates, ways=ways)
        known, still = rates[row, :2] * focal, (rates[row] - self.motion.turn_rate(row))[:2] * focal
        steps = RATE_STEPS_PX if self.motion.rates is None or not rates[row].any() else LATER_STEPS_PX
        value, px = self._climb(worth, known, SMOOTH, steps)
        begun, at = worth(still, STILL), still
        # A camera that was still is seen at once; climbing from far below leads nowhere.
        if begun > value - FAR_BELOW:
            begun, at = self._climb(worth, still, STILL, steps)
        return (
            (value, px, each(px, SMOOTH)), (begun, at, each(at, STILL)), (0.0, known, each(0.0 * known, EVEN)),
        )  # fmt: skip

    @staticmethod
    def _climb(
        worth: Callable[[np.ndarray, int], float], start: np.ndarray, way: int, steps: tuple[float, ...]
    ) -> tuple[float, np.ndarray]:
        """Return the best worth near a start (2,), pixels a frame, and where it is: for each step the tops of parabolas
        through what lies beside, along both axes.
        """
        best, value = start, worth(start, way)
        for step in steps:
            for _ in range(MOST_CLIMBS):
                beside = np.array([worth(best + step * aside, way) for aside in _ASIDE])
                ahead = step * _tops(value, beside)
                at = best + ahead
                top = worth(at, way) if ahead.any() else value
                if beside.max() > top:
                    top, at = float(beside.max()), best + step * _ASIDE[int(beside.argmax())]
                if top <= value:
                    break
                far = float(np.abs(at - best).max())
                value, best = top, at
                if far < 0.7 * step:
                    break
        return value, best

    def shutter_by_rates(self, rows: np.ndarray, shutter: float) -> float:
        """Return the open share with which the rates agree with the turns from frame to frame (Simpson's rule): what
        blur tells is their product.
        """
        own = rows[np.isin(rows - 1, rows) & np.isin(rows + 1, rows)]
        there, rate = [], []
        for row in own.tolist():
            there.append(self.motion.turn_across(row)[:2])
            near = [self.motion.turn_rate(k)[:2] for k in (row - 1, row, row + 1)]
            rate.append((near[0] + 4.0 * near[1] + near[2]) / 3.0)
        if len(own) < 2:
            return shutter
        x, y = np.array(there).ravel(), np.array(rate).ravel()
        return float(np.clip(shutter * (x @ y) / max(float(x @ x), 1e-12), SHUTTERS[0], SHUTTERS[-1]))

    def rescale(self, before: float, after: float) -> None:
        """Keep the products of rates and shutter while the shutter is changed; changes the motion."""
        if self.motion.rates is None:
            return
        rates = self.motion.rates.copy()
        for row in np.nonzero(rates.any(1))[0]:
            whole = self.motion.turn_rate(int(row))
            rates[row, :2] += (whole * (before / after - 1.0))[:2]
        self.motion = replace(self.motion, rates=rates)


def _clearly(ahead: np.ndarray) -> float:
    """Return the mean of how far patches (M,) are ahead in one way of moving, 0 where that may be chance."""
    if len(ahead) < 2:
        return 0.0
    mean, error = float(ahead.mean()), float(ahead.std()) / np.sqrt(len(ahead))
    return mean if mean < 0.0 or mean > CHANCE * error else 0.0


def _tops(middle: float, beside: np.ndarray) -> np.ndarray:
    """Return where parabolas have their tops, in steps from the middle, at the most one (2,), from values one step to
    each side of it along two axes, (4,) as `_ASIDE` has them.
    """
    out = np.zeros(2)
    for axis in (0, 1):
        low, high = beside[2 * axis + 1], beside[2 * axis]
        bend = low + high - 2.0 * middle
        out[axis] = np.clip(0.5 * (low - high) / bend, -1.0, 1.0) if bend < 0.0 else np.sign(high - low)
    return out
