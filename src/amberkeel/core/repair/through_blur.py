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

from amberkeel.core.follow.bank import Bank, as_float, fit_variance, scale_and_distortion, states_at
from amberkeel.core.follow.detect import grain_sigma, soften_px
from amberkeel.core.follow.follow import FollowSettings
from amberkeel.core.follow.follower import MODEL_NOISE_PX
from amberkeel.core.follow.register import OK, register_patches
from amberkeel.core.plate.plate import GrayFrames, Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.repair.drawn import BORDER, draw_along
from amberkeel.core.repair.exposure import EVEN, SMOOTH, STILL, Motion
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED, TrackSet, from_pieces

SHUTTERS = np.array([0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0])
"""Open shares of the frame interval that are tried."""

TRIED_FRAMES = 6
"""The most blurred frames on which they are."""

LEAST_STREAK_PX = 2.0
"""Length of a streak from which a frame is measured anew, pixels, at the middle of the tracks."""

LEAST_SHIFT_PX = 0.08
"""The same for how far the mean over the exposure lies from mid-shutter."""

REACH = 12
"""Frames to each side from which a sharp reference may come."""

STRAYED_PX = 3.0
"""How far from where the camera expects it a patch may be found."""

LEAST_SCORE = 0.7
"""Correlation that a blurred patch must reach."""

CLEARER = 0.03
"""By how much a motion must match better than another one, or than none, to be preferred."""

KERNEL_NOISE = 0.01
"""What the synthesised blur errs by, as a share of the streak's length."""


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


@dataclass(frozen=True)
class _Patches:
    """Points seen on one frame, by their tracks' rows, with the frame that lends each its sharp reference."""

    tracks: np.ndarray
    expected: np.ndarray
    source: np.ndarray
    place: np.ndarray
    sigma: np.ndarray


@dataclass(frozen=True)
class _Fits:
    """Patches as they were found: fits (M, 8), results (M, 3), and which hold (M,) bool."""

    patches: _Patches
    states: np.ndarray
    results: np.ndarray
    good: np.ndarray


class _Lender:
    """Which sharp frame lends each track its reference, and where."""

    def __init__(self, solution: Solution, blurred: np.ndarray):
        tracks = solution.tracks
        row = solution.path.rows_of(tracks.frames)
        self.rows = np.nonzero(~solution.outlier & (row >= 0) & ~blurred[row])[0]
        self.owner, self.frame = tracks.track_of_sample[self.rows], tracks.frames[self.rows]
        self.xy, self.sigma = tracks.xy[self.rows], tracks.sigma[self.rows]

    def nearest(self, frame: int, known: np.ndarray) -> np.ndarray:
        """Return rows (M,) of this lender, one for each track of `known` (T,) bool that has a sharp sample near."""
        far = np.abs(self.frame - frame)
        order = np.lexsort((far, self.owner))
        first = np.concatenate([[True], np.diff(self.owner[order]) > 0])
        best = order[first]
        return best[(far[best] <= REACH) & known[self.owner[best]]]


def through_blur(
    plate: Plate,
    solution: Solution,
    masked: Callable[[int], np.ndarray] | None = None,
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
    grain = grain_sigma(plate.gray(int(plate.frames[len(plate.frames) // 2])))
    work = _Work(plate, solution, grain)
    try:
        worst = np.argsort(-work.length)[:TRIED_FRAMES]
        worst = worst[0.5 * work.length[worst] > LEAST_STREAK_PX]
        if not len(worst):
            return None
        scores = np.array([work.match(worst, s) for s in (1e-3, *SHUTTERS)])
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
        found = work.measured(chosen, shutter, masked, span(progress, 0.8, 1.0))
        return ThroughBlur(_with(solution.tracks, found), shutter, gain, chosen)
    finally:
        work.grays.close()


def _peak(x: np.ndarray, y: np.ndarray) -> float:
    """Return where values y (N,) at evenly spaced x (N,) are largest, by a parabola through the three about it."""
    k = int(np.clip(y.argmax(), 1, len(x) - 2))
    bend = y[k - 1] - 2.0 * y[k] + y[k + 1]
    shift = 0.5 * (y[k - 1] - y[k + 1]) / bend if bend < 0.0 else 0.0
    return float(np.clip(x[k] + np.clip(shift, -1.0, 1.0) * (x[1] - x[0]), x[0], x[-1]))


class _Work:
    """A plate and its solved camera, while blurred frames are measured."""

    def __init__(self, plate: Plate, solution: Solution, grain: float):
        settings, soften = FollowSettings(), soften_px(grain)
        self.solution, self.path, self.motion = solution, solution.path, Motion(solution.path)
        self.grays = GrayFrames(plate, soften=soften)
        self.half, self.inflation = (
            settings.half_px(plate.width, soften),
            settings.limits(plate.width, soften).inflation,
        )
        self.prior = (grain / 0.04) ** 2
        self.size = np.array([plate.width, plate.height])
        self.xyz = solution.points.positions(solution.path.positions[0])
        self.known = solution.points.known & (np.array(solution.tracks.states) != EXCLUDED)
        extent = np.array([self._extent(k) for k in range(len(self.path.frames))])
        self.length, self.shift = extent.T
        self.lender = _Lender(solution, self.blurred(0.5))

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

    def _patches(self, row: int, most: int | None) -> _Patches:
        """Return the points that a frame sees and a sharp frame near it lends a reference for, at the most so many."""
        lent = self.lender.nearest(int(self.path.frames[row]), self.known)
        tracks = self.lender.owner[lent]
        expected = self.path.project(self.xyz[tracks], row)
        inside = (self.path.to_camera(self.xyz[tracks], row)[:, 2] > 0) & np.isfinite(expected).all(1)
        inside[inside] = ((expected[inside] > self.half) & (expected[inside] < self.size - self.half)).all(1)
        chosen = np.nonzero(inside)[0]
        if most is not None and len(chosen) > most:
            chosen = chosen[np.linspace(0, len(chosen) - 1, most).astype(int)]
        lent, tracks = lent[chosen], tracks[chosen]
        return _Patches(
            tracks, expected[chosen], self.lender.frame[lent], self.lender.xy[lent], self.lender.sigma[lent]
        )

    def _warps(self, patches: _Patches, row: int) -> np.ndarray:
        """Return (M, 2, 2), from pixels of a row's picture to those of each patch's source."""
        rows, xyz = self.path.rows_of(patches.source), self.xyz[patches.tracks]
        grown = self.path.to_camera(xyz, row)[:, 2] / self.path.to_camera(xyz, rows)[:, 2]
        turned = np.einsum("mji,jk->mik", self.path.world_from_camera[rows], self.path.world_from_camera[row])
        return turned[:, :2, :2] * np.clip(grown, 0.5, 2.0)[:, None, None]

    def fitted(self, row: int, shutter: float, most: int | None = None) -> _Fits:
        """Return the patches of a frame as they were found on it."""
        patches = self._patches(row, most)
        way, count = self.motion.streaks(self.xyz[patches.tracks], row, shutter), len(patches.tracks)
        reach = float(np.percentile(np.abs(way).max((1, 2)), 90)) if count else 0.0
        bank = Bank(self.half + min(int(np.ceil(0.3 * reach)), self.half), self.prior)
        cell = bank.half + BORDER
        side = 2 * cell + 1
        sheet, warps = np.zeros((max(count, 1) * side, side), np.float32), self._warps(patches, row)
        for source in np.unique(patches.source):
            own = np.nonzero(patches.source == source)[0]
            part = np.zeros((len(own) * side, side), np.float32)
            draw_along(as_float(self.grays.get(int(source))), patches.place[own], way[own], warps[own], cell, part)
            sheet.reshape(-1, side, side)[own] = part.reshape(-1, side, side)
        middles = np.stack([np.full(count, cell + 0.5), np.arange(count) * side + cell + 0.5], 1)
        bank.patches, bank.gradients, bank.inverses, made = bank.cut(sheet, middles)
        states = states_at(sheet, middles)
        states[:, :2] = patches.expected
        results, status = np.zeros((count, 3)), np.zeros(count, np.int64)
        gray = as_float(self.grays.get(int(self.path.frames[row])))
        register_patches(gray, bank.patches, bank.gradients, bank.inverses, bank.half, states, 15, results, status)
        _, spread = scale_and_distortion(states)
        strayed = np.hypot(*(states[:, :2] - patches.expected).T)
        good = made & (status == OK) & (spread < 1.6) & (strayed < STRAYED_PX)
        return _Fits(patches, states, results, good)

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

    def measured(self, frames: np.ndarray, shutter: float, masked, progress: Progress) -> list[tuple]:
        """Return for each frame its number, the tracks' rows (M,), positions (M, 2), sigmas (M,) and scores (M,)."""
        out = []
        for k, frame in enumerate(frames.tolist()):
            progress(k / len(frames), f"Measuring frame {frame} through its blur")
            row = self.path.index_of(frame)
            fit = self.fitted(row, shutter)
            good = fit.good & (fit.results[:, 0] > LEAST_SCORE)
            if masked is not None:
                x, y = np.clip(fit.states[:, :2].astype(int), 0, self.size - 1).T
                good &= ~masked(frame)[y, x]
            variance = self.inflation * fit_variance(fit.states, fit.results) + MODEL_NOISE_PX**2
            sigma = np.sqrt(variance + fit.patches.sigma**2 + (KERNEL_NOISE * shutter * self.length[row]) ** 2)
            out.append((frame, fit.patches.tracks[good], fit.states[good, :2], sigma[good], fit.results[good, 0]))
        return out


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


def _with(tracks: TrackSet, found: list[tuple]) -> TrackSet:
    """Return tracks with what was measured anew on some frames instead of what they had there."""
    anew = np.array([f for f, *_ in found])
    kept = ~np.isin(tracks.frames, anew)
    owner = np.concatenate([tracks.track_of_sample[kept], *(rows for _, rows, *_ in found)])
    frames = np.concatenate([tracks.frames[kept], *(np.full(len(rows), f) for f, rows, *_ in found)])
    xy = np.concatenate([tracks.xy[kept], *(part[2] for part in found)])
    sigma = np.concatenate([tracks.sigma[kept], *(part[3] for part in found)])
    score = np.concatenate([tracks.score[kept], *(part[4] for part in found)])
    order = np.lexsort((frames, owner))
    counts = np.bincount(owner, minlength=len(tracks))
    pieces = np.split(order, np.cumsum(counts)[:-1])
    return replace(
        from_pieces(
            tracks.names,
            [(frames[p], xy[p], sigma[p], score[p]) for p in pieces],
            tracks.kinds,
            tracks.states,
            tracks.ids,
        )
    )
