"""Follow a track that was placed by hand, from its keys, with the patch, reference and search that the artist chose."""

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np

from amberkeel.core.errors import FollowError
from amberkeel.core.follow.blur import SHARP, MotionBlur, blurred_by
from amberkeel.core.follow.motion import plate_motion
from amberkeel.core.follow.patch import MODELS, SIMILARITY, Fit, Patch, shifted
from amberkeel.core.geometry.homography import carried
from amberkeel.core.geometry.neighbours import median_motion
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

FIRST, LAST, ADAPTING = "first key", "last key", "adapting"
REFERENCES = (FIRST, LAST, ADAPTING)

MODEL_NOISE_PX = 0.02
KEY_SIGMA_PX = 0.15
"""One-sigma noise of a position set by hand, pixels."""

BLUR_NOISE = 0.02
"""Noise of a position in a blurred frame, as a share of the blur's length."""

RENEW_SCORE = 0.93
"""Match below which an adapting reference is cut anew."""

GUARD_PX = 0.5
"""How far an adapting reference may wander from the keyed one, pixels, before the keyed one takes it back."""

NEAR_PX, WORSE = 2.0, 0.06
"""A spot found further than this from where it was expected (and a quarter of the pattern) may match only so much
worse than usual.
"""

NEIGHBOURS = 6
ALONE = 0.05
"""By how much a patch found again after a gap must match better than anything else in its search area."""


@dataclass(frozen=True)
class HandSettings:
    """How a track placed by hand is followed.

    Attributes
    ----------
    pattern, search : half width and half height in pixels; the search area is counted from where the pattern is
        expected.
    model : how the patch may change, one of `patch.MODELS`. reference : FIRST, LAST or ADAPTING.
    min_score : correlation below which it is lost. patience : frames it may stay lost and be found again.
    offset : from the track to the middle of the pattern, pixels: a good spot near a bad one.
    """

    pattern: tuple[int, int] = (10, 10)
    search: tuple[int, int] = (24, 24)
    model: str = SIMILARITY
    reference: str = ADAPTING
    min_score: float = 0.8
    patience: int = 6
    offset: tuple[float, float] = (0.0, 0.0)

    def check(self) -> None:
        """Raise FollowError for settings that cannot be followed with."""
        if min(self.pattern) < 3 or max(self.pattern) > 200:
            raise FollowError("The pattern must be 7 to 401 pixels wide and high.")
        if self.search[0] < self.pattern[0] or self.search[1] < self.pattern[1]:
            raise FollowError("The search area is smaller than the pattern.", "Drag its corner outwards.")
        if max(self.search) > 400:
            raise FollowError(
                "The search area reaches further than 400 pixels.", "Make it smaller; the prediction does the rest."
            )
        if self.model not in MODELS:
            raise FollowError(f"There is no patch motion “{self.model}”.", f"Choose {', '.join(MODELS)}.")
        if self.reference not in REFERENCES:
            raise FollowError(f"There is no reference “{self.reference}”.", f"Choose {', '.join(REFERENCES)}.")
        if not 0.2 <= self.min_score <= 0.99:
            raise FollowError("The least match must lie between 0.2 and 0.99.")
        if not 0 <= self.patience <= 100:
            raise FollowError("A track can wait for up to 100 frames.")


@dataclass
class HandRun:
    """What following gave: samples by frame as (x, y, sigma, score), the last frame reached, and why it ended there."""

    samples: dict[int, tuple[float, float, float, float]] = field(default_factory=dict)
    reached: int = 0
    lost: str = ""


class Neighbours:
    """Predicts how a position moves from the tracks around it, or the plate as a whole where there are too few."""

    def __init__(self, gray: Callable[[int], np.ndarray], tracks: TrackSet | None = None):
        self.gray = gray
        self.by_frame: dict[int, tuple[np.ndarray, np.ndarray]] = {}
        self.moves: dict[tuple[int, int], np.ndarray] = {}
        if tracks is not None:
            for frame in np.unique(tracks.frames):
                on = np.nonzero(tracks.frames == frame)[0]
                self.by_frame[int(frame)] = (tracks.track_of_sample[on], tracks.xy[on])

    def __call__(self, before: int, after: int, position: np.ndarray) -> np.ndarray:
        """Return where (2,) a position on the frame `before` should lie on the frame `after`."""
        a, b = self.by_frame.get(before), self.by_frame.get(after)
        if a is not None and b is not None:
            _, i, j = np.intersect1d(a[0], b[0], return_indices=True)
            if len(i) >= NEIGHBOURS:
                was = a[1][i]
                return position + median_motion(was, b[1][j] - was, position[None], NEIGHBOURS)[0]
        if (before, after) not in self.moves:
            self.moves[before, after] = plate_motion(self.gray(before), self.gray(after))
        return carried(self.moves[before, after], position[None])[0]


def match_score(
    reference: np.ndarray,
    here: np.ndarray,
    position: tuple[float, float],
    at: tuple[float, float],
    settings: HandSettings,
) -> Fit:
    """Return how the pattern cut at `position` of one picture fits at and near `at` of another, for the loupe.

    Parameters
    ----------
    reference, here : (H, W) uint8 pictures. position : pixels in the first, at : in the second. settings : the
        pattern's size, offset and motion.
    """
    settings.check()
    patch = Patch(
        reference, position[0] + settings.offset[0], position[1] + settings.offset[1], settings.pattern, settings.model
    )
    return patch.fit(here, shifted(at[0] + settings.offset[0], at[1] + settings.offset[1]))


def follow_hand(
    gray: Callable[[int], np.ndarray],
    keys: dict[int, tuple[float, float]],
    start: int,
    stop: int,
    settings: HandSettings,
    predict: Callable[[int, int, np.ndarray], np.ndarray],
    blur: Callable[[int], MotionBlur] = lambda frame: SHARP,
    masked: Callable[[int], np.ndarray] | None = None,
    progress: Progress = silent,
    begin: tuple[float, float] | None = None,
) -> HandRun:
    """Follow a track from the frame `start` to `stop`, later or earlier; keys on the way are kept and gone through.

    Parameters
    ----------
    gray : from frame number to the picture (H, W) uint8. keys : positions (x, y) set by hand, by frame.
    predict : from two frames and a position on the first to the position expected on the second. blur : from frame to
        its motion_blur.
    masked : from frame to where nothing may be followed, (H, W) bool. begin : the position at `start` where that is no
        key.

    Raises
    ------
    FollowError : no key to start from, settings that do not fit, or a pattern with nothing in it.
    """
    settings.check()
    if start not in keys and begin is None:
        raise FollowError(f"There is no key on frame {start} to follow from.", "Place the track there first.")
    if not keys:
        raise FollowError("The track has no key.", "Place it on a frame first.")
    run = _Hand(gray, keys, settings, predict, blur, masked, 1 if stop > start else -1)
    return run.go(start, stop, np.array(keys.get(start, begin), float), progress)


class _Hand:
    """One run of following."""

    def __init__(self, gray, keys, settings, predict, blur, masked, way):
        self.gray, self.keys, self.settings, self.predict, self.blur, self.masked, self.way = (
            gray,
            keys,
            settings,
            predict,
            blur,
            masked,
            way,
        )
        self.offset = np.array(settings.offset, float)
        self.drift2, self.usual = 0.0, 1.0

    def go(self, start: int, stop: int, position: np.ndarray, progress: Progress) -> HandRun:
        s, out = self.settings, HandRun(reached=start)
        self._hold(start, position, keyed=True)
        self.guard, self.guard_position = self.patch, (start, position)
        waited, last, count = 0, start, abs(stop - start)
        for n, frame in enumerate(range(start + self.way, stop + self.way, self.way)):
            expected = self.predict(frame - self.way, frame, position)
            if frame in self.keys:
                position = np.array(self.keys[frame], float)
                out.samples[frame] = (*position, KEY_SIGMA_PX, 1.0)
                if s.reference != FIRST:
                    self._hold(frame, position, keyed=True)
                waited, last, out.reached = 0, frame, frame
                continue
            found = self._look(frame, expected, waited)
            if found is None:
                waited, position = waited + 1, expected
                if waited > s.patience or not self._inside(expected):
                    out.lost = f"Lost after frame {last}: {self.why}."
                    break
                continue
            fit, position, sigma = found
            out.samples[frame] = (float(position[0]), float(position[1]), sigma, float(np.clip(fit.score, 0.0, 1.0)))
            waited, last, out.reached = 0, frame, frame
            if s.reference == ADAPTING and fit.score < RENEW_SCORE and not self.blur(frame).length:
                position = self._adapt(frame, position, sigma, out)
            progress((n + 1) / max(count, 1), f"Following the track, frame {frame}")
        return out

    def _inside(self, position: np.ndarray) -> bool:
        height, width = self.gray(self.guard_position[0]).shape
        return bool(((position > -20) & (position < [width + 20, height + 20])).all())

    def _hold(self, frame: int, position: np.ndarray, keyed: bool) -> None:
        """Cut the reference at a position on a frame."""
        self.source, self.at = self.gray(frame), position + self.offset
        self.patch = Patch(
            self.source, float(self.at[0]), float(self.at[1]), self.settings.pattern, self.settings.model
        )
        self.warp = shifted(*self.at)
        self.drift2 = 0.0 if keyed else self.drift2
        self.patches: dict[tuple, Patch] = {}

    def _look(self, frame: int, expected: np.ndarray, waited: int):
        """Return the fit, the track's position and its noise on a frame, or None, with the reason in `why`."""
        s, image, motion_blur = self.settings, self.gray(frame), self.blur(frame)
        patch = self._blurred(motion_blur)
        start = self._coarse(image, patch, expected + self.offset, waited > 0)
        if start is None:
            self.why = "nothing there looks like the pattern" if self.settled else "it left the picture"
            return None
        fit = patch.fit(image, start)
        position = fit.position(-self.offset)
        away = np.abs(position - expected)
        if not fit.ok or fit.score < s.min_score:
            self.why = f"its match fell to {max(fit.score, 0):.2f}"
            return None
        far = waited > 0 or np.hypot(*away) > NEAR_PX + 0.25 * min(s.pattern)
        if far and fit.score < self.usual - WORSE:
            self.why = "only something like it was found, away from where it should be"
            return None
        if (away > np.array(s.search) + 1.0).any():
            self.why = "it left its search area"
            return None
        if self.masked is not None and self._covered(frame, position):
            self.why = "it ran into a mask"
            return None
        self.warp = fit.warp
        if not motion_blur.length:
            self.usual += 0.3 * (fit.score - self.usual)
        sigma = np.sqrt(
            0.5 * (fit.covariance[0, 0] + fit.covariance[1, 1]) * _growth(fit.warp)
            + self.drift2
            + MODEL_NOISE_PX**2
            + (BLUR_NOISE * motion_blur.length) ** 2
        )
        return fit, position, float(sigma)

    def _covered(self, frame: int, position: np.ndarray) -> bool:
        mask = self.masked(frame)
        x, y = position.astype(int)
        return 0 <= x < mask.shape[1] and 0 <= y < mask.shape[0] and bool(mask[y, x])

    def _blurred(self, motion_blur: MotionBlur) -> Patch:
        """Return the reference blurred as a frame is."""
        if not motion_blur.length:
            return self.patch
        key = (round(motion_blur.length), round(motion_blur.angle, 1))
        if key not in self.patches:
            extra = int(np.ceil(0.3 * motion_blur.length))
            half = (self.settings.pattern[0] + extra, self.settings.pattern[1] + extra)
            try:
                x, y = (float(v) for v in self.at)
                self.patches[key] = Patch(blurred_by(self.source, motion_blur), x, y, half, self.settings.model)
            except FollowError:
                self.patches[key] = self.patch
        return self.patches[key]

    def _coarse(self, image: np.ndarray, patch: Patch, middle: np.ndarray, again: bool) -> np.ndarray | None:
        """Return a start for the fit: the best match to a pixel in the search area, as the patch last looked."""
        linear = self.warp.copy()
        linear[:2, 2] = 0.0
        linear[2, :2] = 0.0
        inverse = np.linalg.inv(linear[:2, :2])
        v, u = np.mgrid[-patch.half[1] : patch.half[1] + 1, -patch.half[0] : patch.half[0] + 1].astype(np.float32)
        x, y = (
            inverse[0, 0] * u + inverse[0, 1] * v + patch.half[0],
            inverse[1, 0] * u + inverse[1, 1] * v + patch.half[1],
        )
        shown = cv2.remap(
            patch.pixels.astype(np.float32),
            x.astype(np.float32),
            y.astype(np.float32),
            cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE,
        )
        cx, cy = np.floor(middle).astype(int)
        (sx, sy), (px, py), (height, width) = self.settings.search, patch.half, image.shape
        left, right = max(cx - sx - px, 0), min(cx + sx + px + 1, width)
        top, bottom = max(cy - sy - py, 0), min(cy + sy + py + 1, height)
        self.settled = right - left > 2 * px + 1 and bottom - top > 2 * py + 1
        if not self.settled:
            return None
        score = cv2.matchTemplate(image[top:bottom, left:right].astype(np.float32), shown, cv2.TM_CCOEFF_NORMED)
        row, column = np.unravel_index(int(np.nan_to_num(score, nan=-1.0).argmax()), score.shape)
        best = score[row, column]
        if again:
            rest = score.copy()
            rest[max(row - py, 0) : row + py + 1, max(column - px, 0) : column + px + 1] = -1.0
            if rest.max() > best - ALONE:
                return None
        if best < self.settings.min_score - 0.35:
            return None
        warp = linear
        warp[:2, 2] = left + column + px + 0.5, top + row + py + 0.5
        return warp

    def _adapt(self, frame: int, position: np.ndarray, sigma: float, out: HandRun) -> np.ndarray:
        """Cut the reference anew; the keyed one takes the place back where the two have come apart."""
        guard = self.guard.fit(self.gray(frame), self.warp)
        back = guard.position(-self.offset)
        apart = float(np.hypot(*(back - position)))
        if guard.ok and guard.score > self.settings.min_score and apart > 0.02:
            if apart > GUARD_PX:
                position = back
                x, y = back
                out.samples[frame] = (float(x), float(y), float(np.hypot(sigma, apart)), guard.score)
        try:
            self._hold(frame, position, keyed=False)
            self.drift2 = sigma**2
        except FollowError:
            pass
        return position


def _growth(warp: np.ndarray) -> float:
    return float(abs(np.linalg.det(warp[:2, :2])))
