"""What moves here: regions that go another way than the dominant rigid motion, over time, with their evidence.

Tracks give the background's motion; `cues` say for every pixel how far it departs from it, and whether it looks like
the background at all. Pixels that do the one and not the other are joined over space and time into proposals.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from scipy import ndimage

from amberkeel.core.errors import MaskError
from amberkeel.core.geometry.background import RigidMotion, fit_background, separate_rotation
from amberkeel.core.geometry.neighbours import median_motion
from amberkeel.core.masks.cues import CueReader
from amberkeel.core.masks.proposal import MOVING, Proposal, packed
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

TRACK_GAP = 3
"""Frames between the two at which tracks are compared with the background."""

WEAK_PX, STRONG_PX = 0.8, 1.5
"""Departure in analysis pixels of a region's outskirts and of its heart, at least."""

UNLIKE = 3.0
"""Difference to the background in Lab units, at least."""

OVER_NOISE = 3.0
"""Times the picture's own median that departure and unlikeness must reach too."""

MIN_FRAMES = 4
LONG_FRAMES = 10
"""Frames that a region must last when no track in it departs."""

HEART_SHARE = 1.2e-4
"""Share of a frame's pixels that a region's heart must fill."""


@dataclass(frozen=True)
class Moving:
    """What was found: regions that move by themselves, the largest first, and how the background moved for the most
    part.
    """

    proposals: list[Proposal]
    background: str


@dataclass(frozen=True)
class Departures:
    """How tracks depart from the background.

    Attributes
    ----------
    moving : (N,) bool by sample: most of the frame pairs over it say that the track goes another way.
    motions : the background by pair of frames. predicted : (N, 2) where the background beside the track would have
        taken it from its position `gap` frames before; NaN where that cannot be said.
    """

    moving: np.ndarray
    motions: dict[tuple[int, int], RigidMotion]
    predicted: np.ndarray


def track_departures(tracks: TrackSet, frames: np.ndarray, size: tuple[int, int], gap: int = TRACK_GAP) -> Departures:
    """Compare every track with the dominant motion between frames `gap` apart; `size` is (width, height).

    Parameters
    ----------
    tracks : of the plate. frames : (F,) all of its frame numbers. size : picture width and height, pixels. gap :
        frames between the two that are compared.
    """
    first = int(frames[0])
    grid = tracks.grid(frames)
    votes, seen = np.zeros(grid.shape[:2]), np.zeros(grid.shape[:2])
    predicted = np.full(grid.shape, np.nan)
    motions: dict[tuple[int, int], RigidMotion] = {}
    positions: dict[tuple[int, int], tuple[np.ndarray, np.ndarray]] = {}
    for k in range(len(frames) - gap):
        rows = np.nonzero(np.isfinite(grid[k, :, 0]) & np.isfinite(grid[k + gap, :, 0]))[0]
        x, y = grid[k, rows], grid[k + gap, rows]
        motion = fit_background(x, y)
        if motion is None:
            continue
        motions[first + k, first + k + gap] = motion
        positions[first + k, first + k + gap] = x, y
        residual = motion.residuals(x, y)
        departs = (residual > 5.0 * motion.noise) & (residual > 1.0)
        votes[k : k + gap + 1, rows] += departs
        seen[k : k + gap + 1, rows] += 1.0
        predicted[k + gap, rows] = _carried_by_neighbours(x, y, departs)
    moving = votes > 0.5 * np.maximum(seen, 1.0)
    at = tracks.frames - first, tracks.track_of_sample
    return Departures(moving[at], separate_rotation(motions, positions, *size), predicted[at])


def _carried_by_neighbours(x: np.ndarray, y: np.ndarray, departs: np.ndarray, count: int = 7) -> np.ndarray:
    """Return where the still tracks nearest to each would have taken it (N, 2): their median displacement."""
    still = np.nonzero(~departs)[0]
    if len(still) < count:
        return np.full(x.shape, np.nan)
    return x + median_motion(x[still], (y - x)[still], x, count)


def what_moves(
    plate: Plate,
    tracks: TrackSet,
    masked: Callable[[int], np.ndarray] | None = None,
    progress: Progress = silent,
) -> Moving:
    """Propose regions of a plate that move otherwise than the background.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it with nothing or little masked.
    masked : from frame to bool (H, W); what is masked already is not proposed again.

    Raises
    ------
    MaskError : too few tracks to tell how the background moves.
    """
    departures = track_departures(tracks, plate.frames, (plate.width, plate.height))
    if not departures.motions:
        raise MaskError("Too few tracks to tell how the background moves.", "Follow features first, with more of them.")
    reader = CueReader(plate, tracks)
    volume = np.zeros((len(plate.frames), reader.size[1], reader.size[0]), np.uint8)
    for k, frame in enumerate(plate.frames.tolist()):
        hidden = None
        if masked is not None:
            hidden = cv2.resize(masked(frame).astype(np.uint8), reader.size, interpolation=cv2.INTER_NEAREST) > 0
        volume[k] = _regions(reader, frame, hidden)
        progress(0.95 * (k + 1) / len(plate.frames), f"Comparing with the background, frame {frame}")
    labels, count = ndimage.label(volume, structure=np.ones((3, 3, 3)))
    boxes = ndimage.find_objects(labels, count)
    found = [_proposal(plate, tracks, departures, labels, n, box) for n, box in enumerate(boxes, start=1)]
    progress(1.0, "Joining regions")
    kept = sorted((p for p in found if p is not None), key=lambda p: -p.share * len(p.frames))
    return Moving(kept, commonest(departures.motions, plate.frames))


def commonest(motions: dict[tuple[int, int], RigidMotion], frames: np.ndarray) -> str:
    """Return the kind of background motion that most pairs starting within `frames` show."""
    kinds = [m.kind for (a, _), m in motions.items() if frames[0] <= a <= frames[-1]]
    return max(set(kinds), key=kinds.count) if kinds else "unknown"


def _ellipse(radius: int) -> np.ndarray:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))


def _regions(reader: CueReader, frame: int, hidden: np.ndarray | None) -> np.ndarray:
    """Return where one frame departs from the background and looks unlike it, (h, w) uint8; nothing where it cannot be
    judged.
    """
    try:
        cues = reader.read(frame)
    except MaskError:
        return np.zeros(reader.size[::-1], np.uint8)
    departure, unlike = cues.departure, cv2.GaussianBlur(cues.unlike, (0, 0), 2.0)
    if hidden is not None:
        departure, unlike = (np.where(hidden, 0.0, part) for part in (departure, unlike))
    noise = float(np.median(departure)), float(np.median(unlike))
    weak_px, odd = max(WEAK_PX, OVER_NOISE * noise[0]), unlike > max(UNLIKE, OVER_NOISE * noise[1])
    weak = departure > weak_px
    reach, close, widen = (max(2, reader.size[0] // n) for n in (80, 96, 160))
    near = cv2.dilate(weak.astype(np.uint8), _ellipse(reach)) > 0
    count, parts = cv2.connectedComponents((weak | (odd & near)).astype(np.uint8))
    hearts = np.bincount(parts[odd & (departure > max(STRONG_PX, 2.0 * weak_px))], minlength=count)
    hearts[0] = 0
    mask = (hearts > HEART_SHARE * odd.size)[parts].astype(np.uint8)
    mask &= cv2.dilate(odd.astype(np.uint8), _ellipse(reach // 2))
    framed = cv2.copyMakeBorder(mask, close, close, close, close, cv2.BORDER_CONSTANT)
    mask = cv2.morphologyEx(framed, cv2.MORPH_CLOSE, _ellipse(close))[close:-close, close:-close]
    return cv2.dilate(mask, _ellipse(widen))


def _proposal(plate, tracks, departures, labels, number, box) -> Proposal | None:
    """Return one region as a proposal, or None where it is too short to mean anything."""
    rows = np.nonzero((labels[box[0]] == number).any((1, 2)))[0] + box[0].start
    if len(rows) < MIN_FRAMES:
        return None
    frames, size = plate.frames[rows], (plate.width, plate.height)
    masks = [
        cv2.resize((labels[k] == number).astype(np.float32), size, interpolation=cv2.INTER_LINEAR) > 0.5 for k in rows
    ]
    own, apart = set(), []
    for mask, frame in zip(masks, frames):
        on = np.nonzero((tracks.frames == frame) & departures.moving)[0]
        x, y = np.clip(tracks.xy[on].astype(int), 0, np.array(size) - 1).T
        on = on[mask[y, x]]
        own.update(tracks.track_of_sample[on].tolist())
        apart.extend(np.linalg.norm(tracks.xy[on] - departures.predicted[on], axis=1).tolist())
    speed = float(np.nanmedian(apart)) / TRACK_GAP if np.isfinite(apart).any() else float("nan")
    if not own and len(rows) < LONG_FRAMES:
        return None
    tails = [_tail(tracks, departures, t) for t in sorted(own)]
    return packed(MOVING, frames, masks, sorted(own), tails, speed, commonest(departures.motions, frames))


def _tail(tracks: TrackSet, departures: Departures, track: int) -> tuple[int, np.ndarray, np.ndarray]:
    """Return a track, the frames on which it departs, and where the background would have taken it there."""
    rows = tracks.rows(track)
    known = np.isfinite(departures.predicted[rows, 0]) & departures.moving[rows]
    return track, tracks.frames[rows][known], departures.predicted[rows][known]
