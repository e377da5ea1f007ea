"""Follow features through a plate, forwards and then backwards from where each was found.

Pyramidal flow (OpenCV) only predicts; each position is then registered against the track's reference patch, so
that errors do not add up from frame to frame. The reference changes when scale or view has really changed.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np

from amberkeel.core.errors import FollowError
from amberkeel.core.follow.detect import DetectSettings, find_features, grain_sigma
from amberkeel.core.follow.gaps import part_wrong_resumes
from amberkeel.core.follow.register import OK, make_references, register_patches
from amberkeel.core.masks.raster import covered, grow
from amberkeel.core.plate.plate import GrayFrames, Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.tracks import TrackSet

MODEL_NOISE_PX = 0.02
"""What registration cannot see: sampling and shading, pixels; added in quadrature to the computed noise."""

MIN_FEATURES = 12
NEIGHBOURS = 5
"""Followed features that say where one behind a mask goes."""

SEARCH_PX = 6
"""How far from there it is looked for when it comes out."""

SURE_PX, DRIFT_PX = 1.5, 0.25
"""How far off it may be: at once, and more for each frame it waited."""

ALONE = 0.08
"""By how much its match must be better than any other place's there."""

RESUME_SCORE = 0.08
"""By how much its match must be better than one that was never lost."""


@dataclass(frozen=True)
class FollowSettings:
    """How features are followed.

    Attributes
    ----------
    detect : how they are found.
    half : half side of the patch in pixels; 0 chooses by picture width.
    min_score : correlation with the reference below which a track ends.
    round_trip_px : how far flow forwards and back may miss its start.
    patience : frames for which a track waits behind a mask; 0 ends it there.
    min_length : samples below which a track is dropped.
    refill_every : frames between refills; coverage below `refill_below` of the count refills at once.
    """

    detect: DetectSettings = field(default_factory=DetectSettings)
    half: int = 0
    min_score: float = 0.82
    round_trip_px: float = 1.0
    patience: int = 16
    min_length: int = 6
    refill_every: int = 6
    refill_below: float = 0.85

    def half_px(self, width: int) -> int:
        """Return the patch's half side in force for a picture width."""
        return self.half or (7 if width <= 1280 else 9)


_COLUMNS = ("ids", "states", "patches", "gradients", "inverses", "drift2")


class _Bank:
    """Reference patches and fits of features."""

    def __init__(self, half: int, warp_prior: float):
        self.half, self.warp_prior = half, warp_prior
        size = 2 * half + 1
        self.ids = np.zeros(0, np.int64)
        self.states = np.zeros((0, 8))
        self.patches = np.zeros((0, size, size), np.float32)
        self.gradients = np.zeros((0, size, size, 2), np.float32)
        self.inverses = np.zeros((0, 8, 8))
        self.drift2 = np.zeros(0)

    def cut(self, gray: np.ndarray, xy: np.ndarray):
        """Return references cut at `xy` as (patches, gradients, inverses, made)."""
        n, size = len(xy), 2 * self.half + 1
        patches = np.zeros((n, size, size), np.float32)
        gradients = np.zeros((n, size, size, 2), np.float32)
        inverses = np.zeros((n, 8, 8))
        made = np.zeros(n, np.bool_)
        make_references(gray, xy, self.half, self.warp_prior, patches, gradients, inverses, made)
        return patches, gradients, inverses, made

    def add(self, gray: np.ndarray, ids: np.ndarray, xy: np.ndarray) -> np.ndarray:
        """Take up features; return which could be taken (N,) bool."""
        patches, gradients, inverses, made = self.cut(gray, xy)
        states = np.tile([0.0, 0.0, 1.0, 0.0, 0.0, 1.0, 1.0, 0.0], (len(xy), 1))
        states[:, :2] = xy
        states[:, 7] = [gray[int(y), int(x)] for x, y in xy]
        self._append(ids[made], states[made], patches[made], gradients[made], inverses[made], np.zeros(made.sum()))
        return made

    def _append(self, *parts: np.ndarray) -> None:
        for name, part in zip(_COLUMNS, parts):
            setattr(self, name, np.concatenate([getattr(self, name), part]))

    def take_from(self, other: "_Bank", which: np.ndarray) -> None:
        """Take features over from another bank, which lets go of them."""
        self._append(*(getattr(other, name)[which] for name in _COLUMNS))
        other.keep(~which)

    def keep(self, mask: np.ndarray) -> None:
        """Let go of the features not in `mask`."""
        for name in _COLUMNS:
            setattr(self, name, getattr(self, name)[mask])

    def renew(self, gray: np.ndarray, which: np.ndarray, variance: np.ndarray) -> None:
        """Cut new references where the view has changed; the fit's own noise stays with the track as drift."""
        rows = np.nonzero(which)[0]
        if not len(rows):
            return
        patches, gradients, inverses, made = self.cut(gray, self.states[rows, :2])
        rows, good = rows[made], np.nonzero(made)[0]
        self.patches[rows], self.gradients[rows], self.inverses[rows] = patches[good], gradients[good], inverses[good]
        x, y = self.states[rows, 0], self.states[rows, 1]
        self.states[rows, 2:] = [1.0, 0.0, 0.0, 1.0, 1.0, 0.0]
        self.states[rows, 7] = gray[y.astype(int), x.astype(int)]
        self.drift2[rows] += variance[rows]


class _Follower:
    """Steps a bank of features from frame to frame and records what it measured.

    Features that run under a mask wait in a second bank, carried along by their neighbours, and go on where they come out
    if their patch is found again.
    """

    def __init__(self, settings: FollowSettings, width: int, grain: float):
        half = settings.half_px(width)
        self.settings = settings
        self.bank = _Bank(half, (grain / 0.04) ** 2)
        self.waiting = _Bank(half, (grain / 0.04) ** 2)
        self.waited = np.zeros(0, np.int64)
        self.records: list[tuple] = []
        self.window = 2 * half + 1

    def step(self, before: np.ndarray, gray: np.ndarray, frame: int, masked: np.ndarray | None) -> None:
        """Follow every feature from the picture `before` into `gray`, which is `frame`."""
        bank = self.bank
        if len(bank.ids):
            was = bank.states[:, :2].copy()
            predicted, alive = self._predict(before, gray)
            keep, states, results = self._register(bank, gray, predicted, alive)
            if masked is not None:
                hidden = covered(masked, np.where(keep[:, None], states[:, :2], predicted))
                keep &= ~hidden
                self._carry_waiting(was, states, keep)
                if self.settings.patience:
                    shown = self._set_waiting(was, states, keep, hidden)
                    keep, states, results = keep[shown], states[shown], results[shown]
            bank.states = states
            self._record(frame, keep, results)
            bank.keep(keep)
            self._renew(gray, results[keep])
        if masked is not None and len(self.waiting.ids):
            self._resume(gray, frame, masked)

    def _register(self, bank: _Bank, gray: np.ndarray, predicted: np.ndarray, alive: np.ndarray):
        """Register a bank's patches near `predicted`; return which hold (N,), their states and results."""
        s = self.settings
        states = bank.states.copy()
        states[:, :2] = np.where(alive[:, None], predicted, states[:, :2])
        results, status = np.zeros((len(states), 3)), np.zeros(len(states), np.int64)
        register_patches(gray, bank.patches, bank.gradients, bank.inverses, bank.half, states, 12, results, status)
        _, spread = _scale_and_spread(states)
        strayed = np.hypot(*(states[:, :2] - predicted).T)
        return alive & (status == OK) & (results[:, 0] > s.min_score) & (spread < 1.6) & (strayed < 3.0), states, results

    def _record(self, frame: int, keep: np.ndarray, results: np.ndarray) -> None:
        """Record the features of the bank that hold on a frame."""
        bank = self.bank
        sigma = np.sqrt(_variance(bank.states, results) + bank.drift2 + MODEL_NOISE_PX**2)
        self.records.append((bank.ids[keep], np.full(keep.sum(), frame), bank.states[keep, :2], sigma[keep], results[keep, 0]))

    def _renew(self, gray: np.ndarray, results: np.ndarray) -> None:
        """Cut new references where scale or view has changed since they were cut."""
        det, spread = _scale_and_spread(self.bank.states)
        self.bank.renew(gray, (det > 1.7) | (det < 0.55) | (spread > 1.25), _variance(self.bank.states, results))

    def _carry_waiting(self, was: np.ndarray, states: np.ndarray, keep: np.ndarray) -> None:
        """Move the waiting features as their followed neighbours moved; let go of those that waited too long."""
        waiting = self.waiting
        if not len(waiting.ids):
            return
        waiting.states[:, :2] += _neighbours_move(was[keep], states[keep, :2] - was[keep], waiting.states[:, :2])
        self.waited += 1
        stay = self.waited <= self.settings.patience
        waiting.keep(stay)
        self.waited = self.waited[stay]

    def _set_waiting(self, was: np.ndarray, states: np.ndarray, keep: np.ndarray, hidden: np.ndarray) -> np.ndarray:
        """Let newly hidden features wait; return which of the bank are left (N,) bool."""
        if keep.sum() < NEIGHBOURS:
            return np.ones(len(hidden), bool)
        move = _neighbours_move(was[keep], states[keep, :2] - was[keep], was[hidden])
        self.bank.states[hidden, :2] = was[hidden] + move
        self.waiting.take_from(self.bank, hidden)
        self.waited = np.concatenate([self.waited, np.zeros(hidden.sum(), np.int64)])
        return ~hidden

    def _resume(self, gray: np.ndarray, frame: int, masked: np.ndarray) -> None:
        """Look for the waiting features that have come out of the mask, and follow on those whose patch is found."""
        waiting, (height, width) = self.waiting, gray.shape
        reach = waiting.half + SEARCH_PX + 2
        place = waiting.states[:, :2]
        inside = ((place > reach) & (place < [width - reach, height - reach])).all(1)
        out = inside & ~covered(masked, np.where(inside[:, None], place, 0.0))
        predicted = place.copy()
        for n in np.nonzero(out)[0]:
            predicted[n], alone = _search(gray, waiting.patches[n], place[n], waiting.half)
            out[n] = alone and np.hypot(*(predicted[n] - place[n])) < SURE_PX + DRIFT_PX * self.waited[n]
        found, states, results = self._register(waiting, gray, predicted, out)
        found &= results[:, 0] > self.settings.min_score + RESUME_SCORE
        found &= ~covered(masked, np.where(found[:, None], states[:, :2], 0.0)) | ~out
        if not found.any():
            return
        waiting.states[found] = states[found]
        known = len(self.bank.ids)
        self.bank.take_from(waiting, found)
        self.waited = self.waited[~found]
        results = np.concatenate([np.zeros((known, 3)), results[found]])
        self._record(frame, np.arange(len(self.bank.ids)) >= known, results)

    def _predict(self, before: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return predicted positions (N, 2) and which survive the round trip (N,) bool."""
        start = (self.bank.states[:, :2] - 0.5).astype(np.float32).reshape(-1, 1, 2)
        options = dict(
            winSize=(self.window, self.window),
            maxLevel=3,
            criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 10, 0.03),
        )
        there, found, _ = cv2.calcOpticalFlowPyrLK(before, after, start, None, **options)
        back, returned, _ = cv2.calcOpticalFlowPyrLK(after, before, there, None, **options)
        miss = np.linalg.norm((back - start).reshape(-1, 2), axis=1)
        alive = (found.ravel() == 1) & (returned.ravel() == 1) & (miss < self.settings.round_trip_px)
        return there.reshape(-1, 2).astype(float) + 0.5, alive


def _scale_and_spread(states: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the area scale of each fit's warp (N,), and how unlike a similarity it is (1 and up)."""
    a, b, c, d = states[:, 2:6].T
    det = np.abs(a * d - b * c)
    return det, (a * a + b * b + c * c + d * d) / np.maximum(2.0 * det, 1e-6)


def _variance(states: np.ndarray, results: np.ndarray) -> np.ndarray:
    """Return the variance of each fitted position (N,), square pixels."""
    return np.maximum(results[:, 1] * np.maximum(_scale_and_spread(states)[0], 0.05), 1e-8)


def _neighbours_move(was: np.ndarray, moves: np.ndarray, where: np.ndarray) -> np.ndarray:
    """Return the median displacement (M, 2) of the nearest of the features at `was` (N, 2) to each of `where` (M, 2)."""
    if len(was) < NEIGHBOURS or not len(where):
        return np.zeros((len(where), 2))
    distance = ((where[:, None] - was[None]) ** 2).sum(-1)
    near = np.argpartition(distance, NEIGHBOURS - 1, axis=1)[:, :NEIGHBOURS]
    return np.median(moves[near], axis=1)


def _search(gray: np.ndarray, patch: np.ndarray, place: np.ndarray, half: int) -> tuple[np.ndarray, bool]:
    """Return where within SEARCH_PX of `place` a patch fits best, to a pixel, and whether nothing else there fits as well."""
    x, y = np.floor(place).astype(int)
    reach = half + SEARCH_PX
    window = gray[y - reach : y + reach + 1, x - reach : x + reach + 1].astype(np.float32)
    score = cv2.matchTemplate(window, patch, cv2.TM_CCOEFF_NORMED)
    row, column = np.unravel_index(int(score.argmax()), score.shape)
    best = score[row, column]
    score[max(row - 2, 0) : row + 3, max(column - 2, 0) : column + 3] = -1.0
    return np.array([x + column - SEARCH_PX + 0.5, y + row - SEARCH_PX + 0.5]), bool(score.max() < best - ALONE)


def follow_plate(
    plate: Plate,
    settings: FollowSettings = FollowSettings(),
    mattes: Callable[[int], np.ndarray] | None = None,
    progress: Progress = silent,
) -> TrackSet:
    """Find and follow features over a whole plate.

    Parameters
    ----------
    plate : the pictures. settings : how. progress : told the share done.
    mattes : from frame number to a bool mask (H, W), True where nothing may be followed.

    Returns
    -------
    TrackSet with tracks named a0001 on, each sample with its estimated noise.

    Raises
    ------
    FollowError : no texture to hold on to, or pictures that change too much from frame to frame.
    """
    grays = GrayFrames(plate)
    try:
        births, forwards = _forwards(plate, grays, settings, mattes, span(progress, 0.0, 0.55))
        backwards = _backwards(plate, grays, settings, mattes, births, span(progress, 0.55, 1.0))
    finally:
        grays.close()
    tracks = part_wrong_resumes(_collect(births, forwards + backwards, settings.min_length), settings.min_length)
    _judge(tracks, births, len(plate.frames))
    return tracks


def _forwards(plate, grays, settings, mattes, progress):
    """Follow forwards, finding new features where coverage thins; return births and records."""
    follower = _Follower(settings, plate.width, grain_sigma(grays.get(int(plate.frames[0]))))
    births: list[tuple[int, np.ndarray, np.ndarray]] = []
    count, since, before = 0, settings.refill_every, None
    for k, frame in enumerate(plate.frames.tolist()):
        gray = grays.get(frame)
        masked = grow(mattes(frame), follower.bank.half) if mattes else None
        if before is not None:
            follower.step(before, gray, frame, masked)
        since += 1
        thin = len(follower.bank.ids) < settings.refill_below * settings.detect.count
        if since >= settings.refill_every or (thin and since >= 2):
            xy = find_features(gray, settings.detect, follower.bank.states[:, :2], masked)
            ids = np.arange(count, count + len(xy))
            made = follower.bank.add(gray, ids, xy) if len(xy) else np.zeros(0, bool)
            follower.records.append(_born(ids[made], frame, xy[made]))
            births.append((frame, ids[made], xy[made]))
            count, since = count + len(xy), 0
        before = gray
        progress((k + 1) / len(plate.frames), f"Following, frame {frame}")
    return births, follower.records


def _born(ids: np.ndarray, frame: int, xy: np.ndarray) -> tuple:
    n = len(ids)
    return ids, np.full(n, frame), xy, np.full(n, np.hypot(MODEL_NOISE_PX, 0.02)), np.ones(n)


def _backwards(plate, grays, settings, mattes, births, progress):
    """Follow each feature backwards from where it was found; return records."""
    first = int(plate.frames[0])
    born = {frame: (ids, xy) for frame, ids, xy in births if frame > first and len(ids)}
    follower = _Follower(settings, plate.width, grain_sigma(grays.get(int(plate.frames[-1]))))
    frames = plate.frames[::-1].tolist()
    gray = None
    for k, frame in enumerate(frames):
        if len(follower.bank.ids) or frame in born:
            if gray is None:
                gray = grays.get(frame, -1)
            if frame in born:
                follower.bank.add(gray, *born[frame])
            if k + 1 < len(frames):
                earlier = frames[k + 1]
                before, gray = gray, grays.get(earlier, -1)
                follower.step(before, gray, earlier, grow(mattes(earlier), follower.bank.half) if mattes else None)
        progress((k + 1) / len(frames), f"Following back, frame {frame}")
    return follower.records


def _collect(births, records, min_length: int) -> TrackSet:
    """Sort records by track and frame and drop short tracks."""
    parts = [np.concatenate(column) for column in zip(*records)] if records else [np.zeros(0)] * 5
    ids, frames, xy, sigma, score = parts
    order = np.lexsort((frames, ids))
    ids, frames, xy, sigma, score = ids[order], frames[order], xy[order], sigma[order], score[order]
    numbers, counts = np.unique(ids, return_counts=True)
    kept = np.repeat(counts >= min_length, counts)
    lengths = counts[counts >= min_length]
    first = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    names = [f"a{n + 1:04d}" for n in range(len(lengths))]
    return TrackSet(names, first, frames[kept].astype(np.int64), xy[kept].reshape(-1, 2), sigma[kept], score[kept])


def _judge(tracks: TrackSet, births, frame_count: int) -> None:
    """Raise when there is nothing usable."""
    most = max((len(ids) for _, ids, _ in births), default=0)
    if most < MIN_FEATURES:
        raise FollowError(
            f"The plate has hardly any texture: at most {most} features on a frame.",
            "Lower the threshold, prepare a copy with more contrast, or place tracks by hand.",
        )
    needed = min(MIN_FEATURES, 8)
    if len(tracks) < needed:
        raise FollowError(
            "The pictures change too much from frame to frame to follow anything.",
            "Check that the frames are in order and none are missing; a shorter range may work.",
        )
