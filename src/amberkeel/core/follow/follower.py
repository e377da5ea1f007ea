"""Steps features from frame to frame and records what it measures.

Pyramidal flow (OpenCV) only predicts; each position is registered against the feature's reference patch. On frames
blurred by motion the last sharp frame stands in, blurred the same way: the middle of a symmetric blur is the position
at mid-shutter. Features that run under a mask, or are lost in blur, wait: carried along by what moves around them, and
looked for again.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from amberkeel.core.follow.bank import Bank, as_float, fit_variance, scale_and_distortion, states_at
from amberkeel.core.follow.blur import SHARP, Glance, MotionBlur, blurred_by, glance, motion_blur_against
from amberkeel.core.follow.motion import plate_motion
from amberkeel.core.follow.register import OK, register_patches
from amberkeel.core.geometry.homography import carried
from amberkeel.core.geometry.neighbours import median_motion
from amberkeel.core.geometry.pixels import from_opencv, to_opencv
from amberkeel.core.masks.raster import covered

MODEL_NOISE_PX = 0.02
"""What registration cannot see: sampling and shading, pixels; added in quadrature to the computed noise."""

BLUR_NOISE = 0.02
"""The same in a blurred frame, as a share of the blur's length: its kernel is not quite the same everywhere."""

NEIGHBOURS = 5
"""Followed features that say where one that waits goes."""

SEARCH_PX = 6
"""How far from there it is looked for when it comes out."""

SURE_PX, DRIFT_PX = 1.5, 0.25
"""How far off it may be: at once, and more for each frame it waited."""

ALONE = 0.08
"""By how much its match must be better than any other position's there."""

RESUME_SCORE = 0.08
"""By how much its match must be better than one that was never lost."""

SURE_SCORE, SURE_STEP_PX = 0.9, 0.7
"""A match this good, this close to where flow saw it, needs no check backwards."""

MANY_LOST = 0.4
"""Share of features whose flow fails from which the plate's motion as a whole is asked first."""


class BlurWatch:
    """Measures the blur of frames as they come, each against the last sharp one."""

    def __init__(self, patience: int):
        self.patience, self.since = patience, 0
        self.sharp: Glance | None = None
        self.seen: dict[int, MotionBlur] = {}

    def __call__(self, frame: int, gray: np.ndarray) -> MotionBlur:
        """Return a frame's blur beyond the last sharp one's; after `patience` blurred frames it counts as sharp."""
        look = glance(gray)
        motion_blur = motion_blur_against(self.sharp, look) if self.sharp else SHARP
        self.since = self.since + 1 if motion_blur.length else 0
        if self.since > self.patience:
            motion_blur, self.since = SHARP, 0
        if not motion_blur.length:
            self.sharp = look
        self.seen[frame] = motion_blur
        return motion_blur


@dataclass(frozen=True)
class Limits:
    """What a follower holds a feature to: see `FollowSettings`; `soften` is the blur against grain that the plate was
    given.
    """

    half: int
    min_score: float
    round_trip_px: float
    patience: int
    bridge: int
    soften: float = 0.0

    @property
    def inflation(self) -> float:
        """By how much neighbouring pixels' common grain raises a fit's variance over that of independent pixels."""
        return max(1.0, 4.0 * np.pi * self.soften**2)


class Follower:
    """A bank of features on the newest frame, a second one of those that wait, and the records of what was measured."""

    def __init__(self, limits: Limits, grain: float, blur_of: Callable[[int, np.ndarray], MotionBlur]):
        prior = (grain / 0.04) ** 2
        self.limits, self.blur_of = limits, blur_of
        self.bank, self.waiting = Bank(limits.half, prior), Bank(limits.half, prior)
        self.waited, self.allowed = np.zeros(0, np.int64), np.zeros(0, np.int64)
        self.records: list[tuple] = []
        self.window = 2 * limits.half + 1
        self.sharp: np.ndarray | None = None
        self.motion_blur = SHARP
        self._from_sharp = np.eye(3)

    def step(self, gray: np.ndarray, frame: int, masked: np.ndarray | None) -> None:
        """Follow every feature into the picture `gray` (H, W) uint8 of `frame`.

        Parameters
        ----------
        gray : (H, W) uint8. frame : its number. masked : (H, W) bool, True where nothing is followed, or None.
        """
        was_blurred, self.motion_blur = self.motion_blur.length > 0, self.blur_of(frame, gray)
        if self.sharp is not None and len(self.bank.ids) + len(self.waiting.ids):
            self._follow(gray, self.sharp, frame, masked, was_blurred)
        if not self.motion_blur.length:
            self.sharp, self._from_sharp = gray, np.eye(3)

    def _follow(
        self, gray: np.ndarray, sharp: np.ndarray, frame: int, masked: np.ndarray | None, was_blurred: bool
    ) -> None:
        bank, blurred = self.bank, self.motion_blur.length > 0
        source = blurred_by(sharp, self.motion_blur)
        was = bank.states[:, :2].copy()
        far = blurred or was_blurred
        move = plate_motion(source, gray) if far else None
        predicted, alive = self._predict(source, gray, move)
        if move is None and len(alive) and alive.mean() < 1.0 - MANY_LOST:
            move = plate_motion(source, gray)
            predicted, alive = self._predict(source, gray, move)
        keep, states, results = (
            self._register_blurred(source, gray, predicted, alive)
            if blurred
            else self._register(bank, gray, predicted, alive)
        )
        keep &= self._checked(source, gray, states, results, predicted, keep, far)
        hidden = (
            covered(masked, np.where(keep[:, None], states[:, :2], predicted))
            if masked is not None
            else np.zeros(len(keep), bool)
        )
        keep &= ~hidden
        step = self._step_of(was, states, keep, move)
        self._carry_waiting(step)
        left = self._set_waiting(was, step, hidden, ~keep & far)
        keep, states, results = keep[left], states[left], results[left]
        bank.states = states
        self._record(frame, keep, results)
        bank.keep(keep)
        results = results[keep]
        if not blurred:
            self._renew(gray, results)
            bank.held = np.c_[bank.states[:, :2], fit_variance(bank.states, results)]
            if len(self.waiting.ids):
                self._resume(gray, frame, masked)
        elif move is not None:
            self._from_sharp = move

    def _predict(self, source: np.ndarray, gray: np.ndarray, move: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
        """Return predicted positions (N, 2) and which were found (N,) bool, by flow that starts from the plate's
        motion.
        """
        start = self.bank.held[:, :2]
        if not len(start):
            return start, np.zeros(0, bool)
        guess = None if move is None else carried(move, start)
        there, found = self._flow(source, gray, start, guess)
        height, width = gray.shape
        return there, found & (there > 0).all(1) & (there < [width, height]).all(1)

    def _flow(self, before: np.ndarray, after: np.ndarray, start: np.ndarray, guess: np.ndarray | None):
        # OpenCV counts pixel centres from 0.
        side = self.window + 2 * int(0.25 * self.motion_blur.length)
        options: dict[str, Any] = dict(
            winSize=(side, side), maxLevel=3, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 10, 0.03)
        )
        p = to_opencv(start).reshape(-1, 1, 2)
        q = p.copy() if guess is None else to_opencv(guess).reshape(-1, 1, 2)
        options["flags"] = 0 if guess is None else cv2.OPTFLOW_USE_INITIAL_FLOW
        there, found, _ = cv2.calcOpticalFlowPyrLK(before, after, p, q, **options)
        there, found = np.asarray(there), np.asarray(found)
        return from_opencv(there.reshape(-1, 2)), found.ravel() == 1

    def _checked(self, source, gray, states, results, predicted, keep, far: bool) -> np.ndarray:
        """Return which features (N,) bool are sure, or come back to their start when followed backwards."""
        good = keep.copy()
        strayed = np.hypot(*(states[:, :2] - predicted).T) if len(states) else np.zeros(0)
        doubt = np.nonzero(keep & (far | (results[:, 0] < SURE_SCORE) | (strayed > SURE_STEP_PX)))[0]
        if len(doubt):
            start = self.bank.held[doubt, :2]
            back, found = self._back(source, gray, states[doubt, :2], start)
            good[doubt] = found & (np.hypot(*(back - start).T) < self.limits.round_trip_px * (2.0 if far else 1.0))
        return good

    def _back(self, source: np.ndarray, gray: np.ndarray, positions: np.ndarray, start: np.ndarray):
        """Return where patches cut at `positions` (M, 2) of a picture lie in the one before, looked for from `start`,
        and which were found.
        """
        other = Bank(self.bank.half + int(np.ceil(0.3 * self.motion_blur.length)), self.bank.warp_prior)
        other.patches, other.gradients, other.inverses, made = other.cut(gray, positions)
        other.states = states_at(gray, positions)
        keep, states, _ = self._register(other, source, start, made)
        return states[:, :2], keep

    def _register(self, bank: Bank, gray: np.ndarray, predicted: np.ndarray, alive: np.ndarray):
        """Register a bank's patches near `predicted`; return which hold (N,), their states and results."""
        states = bank.states.copy()
        states[:, :2] = np.where(alive[:, None], predicted, states[:, :2])
        results, status = np.zeros((len(states), 3)), np.zeros(len(states), np.int64)
        register_patches(
            as_float(gray), bank.patches, bank.gradients, bank.inverses, bank.half, states, 12, results, status
        )
        results[:, 1] *= self.limits.inflation
        _, spread = scale_and_distortion(states)
        strayed = np.hypot(*(states[:, :2] - predicted).T)
        good = (status == OK) & (results[:, 0] > self.limits.min_score) & (spread < 1.6) & (strayed < 3.0)
        return alive & good, states, results

    def _register_blurred(self, source: np.ndarray, gray: np.ndarray, predicted: np.ndarray, alive: np.ndarray):
        """The same on a blurred frame, against the last sharp frame blurred alike; states keep their warp to the
        reference.
        """
        bank = self.bank
        wide = Bank(bank.half + int(np.ceil(0.3 * self.motion_blur.length)), bank.warp_prior)
        wide.patches, wide.gradients, wide.inverses, made = wide.cut(source, bank.held[:, :2])
        wide.states = states_at(source, bank.held[:, :2])
        keep, fits, results = self._register(wide, gray, predicted, alive & made)
        states = bank.states.copy()
        states[:, :2] = fits[:, :2]
        results[:, 1] = fit_variance(fits, results) + bank.held[:, 2] + (BLUR_NOISE * self.motion_blur.length) ** 2
        return keep, states, results

    def _record(self, frame: int, keep: np.ndarray, results: np.ndarray) -> None:
        """Record the features of the bank that hold on a frame."""
        bank = self.bank
        own = results[:, 1] if self.motion_blur.length else fit_variance(bank.states, results)
        sigma = np.sqrt(own + bank.drift2 + MODEL_NOISE_PX**2)
        self.records.append(
            (bank.ids[keep], np.full(keep.sum(), frame), bank.states[keep, :2], sigma[keep], results[keep, 0])
        )

    def _renew(self, gray: np.ndarray, results: np.ndarray) -> None:
        """Cut new references where scale or view has changed since they were cut."""
        det, spread = scale_and_distortion(self.bank.states)
        self.bank.renew(gray, (det > 1.7) | (det < 0.55) | (spread > 1.25), fit_variance(self.bank.states, results))

    def _step_of(self, was: np.ndarray, states: np.ndarray, keep: np.ndarray, move: np.ndarray | None) -> Callable:
        """Return a function from positions (M, 2) on the last frame to how far they moved: as followed features nearby
        did, or the whole plate where too few are left.
        """
        if keep.sum() >= NEIGHBOURS or move is None:
            return lambda where: _neighbours_move(was[keep], states[keep, :2] - was[keep], where)
        since = move @ np.linalg.inv(self._from_sharp)
        return lambda where: carried(since, where) - where

    def _carry_waiting(self, step: Callable) -> None:
        """Move the waiting features along; let go of those that waited too long."""
        waiting = self.waiting
        if not len(waiting.ids):
            return
        waiting.states[:, :2] += step(waiting.states[:, :2])
        self.waited += 1
        stay = self.waited <= self.allowed
        waiting.keep(stay)
        self.waited, self.allowed = self.waited[stay], self.allowed[stay]

    def _set_waiting(self, was: np.ndarray, step: Callable, hidden: np.ndarray, lost: np.ndarray) -> np.ndarray:
        """Let features wait that are newly hidden, or lost in blur; return which of the bank are left (N,) bool."""
        allowed = np.where(hidden, self.limits.patience, np.where(lost, self.limits.bridge, 0))
        out = allowed > 0
        if not out.any():
            return np.ones(len(out), bool)
        self.bank.states[out, :2] = was[out] + step(was[out])
        self.waiting.take_from(self.bank, out)
        self.waited = np.concatenate([self.waited, np.zeros(out.sum(), np.int64)])
        self.allowed = np.concatenate([self.allowed, allowed[out]])
        return ~out

    def _resume(self, gray: np.ndarray, frame: int, masked: np.ndarray | None) -> None:
        """Look for the waiting features that are in sight, and follow on those whose patch is found."""
        waiting, (height, width) = self.waiting, gray.shape
        reach = waiting.half + SEARCH_PX + 2
        position = waiting.states[:, :2]
        inside = np.all((position > reach) & (position < np.array([width - reach, height - reach])), axis=1)
        out = inside.copy()
        if masked is not None:
            out &= ~covered(masked, np.where(inside[:, None], position, 0.0))
        predicted = position.copy()
        for n in np.nonzero(out)[0]:
            predicted[n], alone = _search(gray, waiting.patches[n], position[n], waiting.half)
            out[n] = alone and np.hypot(*(predicted[n] - position[n])) < SURE_PX + DRIFT_PX * self.waited[n]
        found, states, results = self._register(waiting, gray, predicted, out)
        found &= results[:, 0] > self.limits.min_score + RESUME_SCORE
        if masked is not None:
            found &= ~covered(masked, np.where(found[:, None], states[:, :2], 0.0)) | ~out
        if not found.any():
            return
        waiting.states[found] = states[found]
        waiting.held[found] = np.c_[states[found, :2], fit_variance(states[found], results[found])]
        known = len(self.bank.ids)
        self.bank.take_from(waiting, found)
        self.waited, self.allowed = self.waited[~found], self.allowed[~found]
        results = np.concatenate([np.zeros((known, 3)), results[found]])
        self._record(frame, np.arange(len(self.bank.ids)) >= known, results)


def _neighbours_move(was: np.ndarray, moves: np.ndarray, where: np.ndarray) -> np.ndarray:
    """Return the median displacement (M, 2) of the nearest features at `was` (N, 2) to each of `where` (M, 2)."""
    if len(was) < NEIGHBOURS or not len(where):
        return np.zeros((len(where), 2))
    return median_motion(was, moves, where, NEIGHBOURS)


def _search(gray: np.ndarray, patch: np.ndarray, position: np.ndarray, half: int) -> tuple[np.ndarray, bool]:
    """Return where within SEARCH_PX of `position` a patch fits best, to a pixel, and whether nothing else there fits as
    well.
    """
    x, y = np.floor(position).astype(int)
    reach = half + SEARCH_PX
    window = gray[y - reach : y + reach + 1, x - reach : x + reach + 1].astype(np.float32)
    score = cv2.matchTemplate(window, patch, cv2.TM_CCOEFF_NORMED)
    row, column = np.unravel_index(int(score.argmax()), score.shape)
    best = score[row, column]
    score[max(row - 2, 0) : row + 3, max(column - 2, 0) : column + 3] = -1.0
    return np.array([x + column - SEARCH_PX + 0.5, y + row - SEARCH_PX + 0.5]), bool(score.max() < best - ALONE)
