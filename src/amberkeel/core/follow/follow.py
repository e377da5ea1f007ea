"""Follow features through a plate, forwards and then backwards from where each was found.

How one frame follows from another is `follower`'s; here is the order: find, follow forwards, find more where coverage
thins, and follow each feature back from where it was found.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.errors import FollowError
from amberkeel.core.follow.blur import SHARP, MotionBlur
from amberkeel.core.follow.detect import DetectSettings, find_features, grain_sigma, soften_px
from amberkeel.core.follow.follower import MODEL_NOISE_PX, BlurWatch, Follower, Limits
from amberkeel.core.follow.gaps import part_wrong_resumes
from amberkeel.core.masks.raster import grow
from amberkeel.core.plate.plate import GrayFrames, Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.tracks import TrackSet

MIN_FEATURES = 12

HALF_BY_BLUR = 9.0
"""Pixels that a patch is larger on each side for each pixel of blur against grain."""


@dataclass(frozen=True)
class FollowSettings:
    """How features are followed.

    Attributes
    ----------
    detect : how they are found.
    half : half side of the patch in pixels; 0 chooses by picture width, times `wider`.
    min_score : correlation with the reference below which a track ends.
    round_trip_px : how far flow forwards and back may miss its start.
    patience : frames for which a track waits behind a mask; 0 ends it there.
    bridge : frames of motion blur in which it may be lost and taken up again; 0 ends it there.
    min_length : samples below which a track is dropped.
    refill_every : frames between refills; coverage below `refill_below` of the count refills at once.
    """

    detect: DetectSettings = field(default_factory=DetectSettings)
    half: int = 0
    wider: float = 1.0
    min_score: float = 0.82
    round_trip_px: float = 1.0
    patience: int = 16
    bridge: int = 8
    min_length: int = 6
    refill_every: int = 6
    refill_below: float = 0.85

    def half_px(self, width: int, soften: float = 0.0) -> int:
        """Return the patch's half side in force for a picture width and the blur against grain."""
        by_width = round(self.wider * (8 if width <= 1280 else 9))
        return self.half or by_width + int(round(HALF_BY_BLUR * soften))

    def limits(self, width: int, soften: float = 0.0) -> Limits:
        """Return what a follower holds features to at a picture width, softened against grain by `soften` pixels."""
        return Limits(
            self.half_px(width, soften), self.min_score, self.round_trip_px, self.patience, self.bridge, soften
        )


def follow_plate(
    plate: Plate,
    settings: FollowSettings = FollowSettings(),
    mattes: Callable[[int], np.ndarray] | None = None,
    progress: Progress = silent,
) -> TrackSet:
    """Find and follow features over a whole plate.

    Parameters
    ----------
    plate : the pictures. settings : how. progress : called with the share done.
    mattes : from frame number to a bool mask (H, W), True where nothing may be followed.

    Returns
    -------
    TrackSet with tracks named a0001 on, each sample with its estimated noise.

    Raises
    ------
    FollowError : one frame only, no texture to hold on to, or pictures that change too much from frame to frame.
    """
    if len(plate.frames) < 2:
        raise FollowError(
            "On one frame there is nothing to follow.",
            "Place tracks by hand and give their coordinates: four with the focal length known, six without.",
        )
    grain = grain_sigma(plate.gray(int(plate.frames[len(plate.frames) // 2])))
    grays = GrayFrames(plate, soften=soften_px(grain))
    try:
        births, forwards, blur = _forwards(plate, grays, settings, mattes, grain, span(progress, 0.0, 0.55))
        backwards = _backwards(plate, grays, settings, mattes, births, blur, grain, span(progress, 0.55, 1.0))
    finally:
        grays.close()
    tracks = part_wrong_resumes(_collect(births, forwards + backwards, settings.min_length), settings.min_length)
    _judge(tracks, births, len(plate.frames))
    return tracks


def _forwards(plate, grays, settings, mattes, grain, progress):
    """Follow forwards, finding new features where coverage thins; return births, records and the blur of each frame."""
    watch = BlurWatch(settings.bridge)
    follower = Follower(settings.limits(plate.width, grays.soften), grain, watch)
    births: list[tuple[int, np.ndarray, np.ndarray]] = []
    count, since, full = 0, settings.refill_every, 0
    for k, frame in enumerate(plate.frames.tolist()):
        gray = grays.get(frame)
        masked = grow(mattes(frame), follower.bank.half) if mattes else None
        follower.step(gray, frame, masked)
        since += 1
        thin = len(follower.bank.ids) < settings.refill_below * full
        if (since >= settings.refill_every or (thin and since >= 3)) and not follower.motion_blur.length:
            xy = find_features(
                gray,
                settings.detect,
                follower.bank.states[:, :2],
                masked,
                grain,
                grays.soften,
                int(1.2 * follower.bank.half) | 1,
            )
            ids = np.arange(count, count + len(xy))
            made = follower.bank.add(gray, ids, xy) if len(xy) else np.zeros(0, bool)
            follower.records.append(_born(ids[made], frame, xy[made]))
            births.append((frame, ids[made], xy[made]))
            count, since, full = count + len(xy), 0, len(follower.bank.ids)
        progress((k + 1) / len(plate.frames), f"Following, frame {frame}")
    return births, follower.records, watch.seen


def _born(ids: np.ndarray, frame: int, xy: np.ndarray) -> tuple:
    n = len(ids)
    return ids, np.full(n, frame), xy, np.full(n, np.hypot(MODEL_NOISE_PX, 0.02)), np.ones(n)


def _backwards(plate, grays, settings, mattes, births, blur: dict[int, MotionBlur], grain, progress):
    """Follow each feature backwards from where it was found; return records."""
    first = int(plate.frames[0])
    born = {frame: (ids, xy) for frame, ids, xy in births if frame > first and len(ids)}
    follower = Follower(settings.limits(plate.width, grays.soften), grain, lambda frame, _gray: blur.get(frame, SHARP))
    frames = plate.frames[::-1].tolist()
    for k, frame in enumerate(frames):
        if len(follower.bank.ids) + len(follower.waiting.ids) or frame in born:
            gray = grays.get(frame, -1)
            follower.step(gray, frame, grow(mattes(frame), follower.bank.half) if mattes else None)
            if frame in born:
                follower.bank.add(gray, *born[frame])
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
