"""Figures that tell which tracks lie: jumps, restlessness, edges, highlights, doubles, and motion that is not the
set's.

Everything works on flat arrays for all tracks at once. Pictures are read on a few frames only; a track is looked at on
the nearest of them that it lives on.
"""

import warnings
from dataclasses import dataclass

import cv2
import numpy as np
from scipy.spatial import cKDTree

from amberkeel.core.geometry.background import fit_background
from amberkeel.core.geometry.neighbours import median_motion
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet

NEIGHBOURS = 8
GUIDES = 6
"""Tracks through a gap that say where one that ended would be after it."""

LOOKS = 10
"""Frames whose pictures are read."""

PAIR_STEP = 6
"""Frames between the two of a pair by which motion is held against the set's."""

CLIPPED = 248
"""Code value from which a pixel counts as blown out."""

PATCH_PX = 7
MASK_REACH_PX = 40.0
"""Distance from a mask beyond which it does not matter."""


@dataclass(frozen=True)
class Judgement:
    """What is known of each track (T,) and sample (N,).

    Attributes
    ----------
    length : samples. score : its median match. jump : of each sample, how far it is off the local motion of its
        neighbours,
    pixels. worst_jump : the largest of a track. restless : its own shaking over that of its neighbours, 1 is ordinary.
    edge : how much stronger its patch is across than along (1 a corner, high an edge). highlight : share of its
        patch that is
    blown out. stray : how far it goes another way than the set, pixels. mask_distance : least distance to a mask,
        pixels.
    twin : number of the longer track that follows the same spot, or -1.
    """

    length: np.ndarray
    score: np.ndarray
    jump: np.ndarray
    worst_jump: np.ndarray
    restless: np.ndarray
    edge: np.ndarray
    highlight: np.ndarray
    stray: np.ndarray
    mask_distance: np.ndarray
    twin: np.ndarray


def judge(tracks: TrackSet, plate: Plate, masked=None, progress: Progress = silent) -> Judgement:
    """Return the figures of all tracks of a plate; `masked` is from frame number to a bool picture (H, W), or None.

    Parameters
    ----------
    tracks : of the plate. plate : whose pictures are looked at. masked : from frame number to (H, W) bool, or
        None. progress : called with the share done.
    """
    grid = tracks.grid(plate.frames)
    jump, shake = _jumps(grid)
    progress(0.3, "Looking for jumps")
    sample = (tracks.frames - int(plate.frames[0]), tracks.track_of_sample)
    per_sample = np.nan_to_num(jump[sample])
    worst = np.zeros(len(tracks))
    np.maximum.at(worst, sample[1], per_sample)
    stray = _stray(grid)
    progress(0.55, "Holding tracks against the set's motion")
    edge, highlight, distance = _looks(tracks, plate, masked, progress)
    score = np.array([np.median(tracks.score[tracks.rows(t)]) for t in range(len(tracks))])
    return Judgement(
        tracks.lengths, score, per_sample, worst, _restless(shake, grid), edge, highlight, stray, distance, twins(grid)
    )


def _jumps(grid: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return how far each sample is off what its neighbours' motion expects of it, (F, T) pixels, and the motion left
    over from frame to frame (F - 1, T, 2).

    A jump of one frame shows in the step to it and, the other way, in the step from it; one to another spot in the step
    to it.
    """
    count, tracks, _ = grid.shape
    left = np.full((count - 1, tracks, 2), np.nan)
    for k in range(count - 1):
        both = np.nonzero(np.isfinite(grid[k, :, 0]) & np.isfinite(grid[k + 1, :, 0]))[0]
        if len(both) < NEIGHBOURS + 1:
            continue
        step = grid[k + 1, both] - grid[k, both]
        _, near = cKDTree(grid[k, both]).query(grid[k, both], k=NEIGHBOURS + 1)
        left[k, both] = step - np.median(step[near[:, 1:]], axis=1)
    # What parallax makes of the neighbours is slow; a jump is not.
    quick = left - _middle(np.stack([_moved(left, by) for by in (-2, -1, 0, 1, 2)]))
    arrive, leave = np.zeros((count, tracks, 2)), np.zeros((count, tracks, 2))
    arrive[1:], leave[:-1] = np.nan_to_num(quick), np.nan_to_num(quick)
    size_in, size_out = np.linalg.norm(arrive, axis=-1), np.linalg.norm(leave, axis=-1)
    there_and_back = np.where((arrive * leave).sum(-1) < 0.0, np.minimum(size_in, size_out), 0.0)
    before = np.zeros_like(there_and_back)
    before[1:] = there_and_back[:-1]
    for_good = np.maximum(size_in - np.maximum(there_and_back, before), 0.0)
    return np.maximum(there_and_back, for_good), quick


def _moved(values: np.ndarray, by: int) -> np.ndarray:
    out = np.full_like(values, np.nan)
    if by >= 0:
        out[by:] = values[: len(values) - by]
    else:
        out[:by] = values[-by:]
    return out


def _middle(values: np.ndarray) -> np.ndarray:
    """Return the median over the first axis of what is there, NaN where nothing is."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        return np.nanmedian(values, axis=0)


def _restless(shake: np.ndarray, grid: np.ndarray) -> np.ndarray:
    """Return the shaking of each track (T,) over the median of all tracks; 1 where there is too little to tell."""
    size = np.linalg.norm(shake, axis=-1)
    common = _middle(size.T)[:, None]
    own = _middle(size / np.maximum(common, 0.02))
    return np.where(np.isfinite(grid[..., 0]).sum(0) >= 5, np.nan_to_num(own, nan=1.0), 1.0)


def _stray(grid: np.ndarray) -> np.ndarray:
    """Return how far each track goes another way than the set between frames PAIR_STEP apart, its median (T,) in
    pixels.
    """
    seen: list[np.ndarray] = []
    for k in range(0, len(grid) - PAIR_STEP, max(1, PAIR_STEP // 2)):
        row = np.full(grid.shape[1], np.nan)
        both = np.nonzero(np.isfinite(grid[k, :, 0]) & np.isfinite(grid[k + PAIR_STEP, :, 0]))[0]
        motion = fit_background(grid[k, both], grid[k + PAIR_STEP, both])
        if motion is not None:
            row[both] = motion.residuals(grid[k, both], grid[k + PAIR_STEP, both])
        seen.append(row)
    if not seen:
        return np.zeros(grid.shape[1])
    stack = np.array(seen)
    out = np.zeros(grid.shape[1])
    some = np.isfinite(stack).any(0)
    out[some] = np.nanmedian(stack[:, some], axis=0)
    return out


def _looks(tracks: TrackSet, plate: Plate, masked, progress: Progress):
    """Return edge strength, blown-out share and least distance to a mask, (T,) each."""
    edge, highlight, distance = np.ones(len(tracks)), np.zeros(len(tracks)), np.full(len(tracks), np.inf)
    looks = np.unique(np.linspace(0, len(plate.frames) - 1, min(LOOKS, len(plate.frames))).astype(int))
    owner = tracks.track_of_sample
    for n, k in enumerate(looks):
        frame = int(plate.frames[k])
        on = np.nonzero(tracks.frames == frame)[0]
        if len(on):
            gray = plate.gray(frame)
            x, y = np.clip(tracks.xy[on].astype(int), 0, [plate.width - 1, plate.height - 1]).T
            along, across = _eigenvalues(gray)
            ratio = np.sqrt(across[y, x] / np.maximum(along[y, x], 1e-9))
            edge[owner[on]] = np.maximum(edge[owner[on]], ratio)
            clipped = cv2.blur((gray >= CLIPPED).astype(np.float32), (2 * PATCH_PX + 1, 2 * PATCH_PX + 1))
            highlight[owner[on]] = np.maximum(highlight[owner[on]], clipped[y, x])
        progress(0.6 + 0.4 * (n + 1) / len(looks), f"Looking at frame {frame}")
    if masked is not None:
        for frame in np.unique(tracks.frames).tolist():
            on = np.nonzero(tracks.frames == frame)[0]
            away = cv2.distanceTransform((~masked(frame)).astype(np.uint8), cv2.DIST_L2, 3)
            x, y = np.clip(tracks.xy[on].astype(int), 0, [plate.width - 1, plate.height - 1]).T
            np.minimum.at(distance, owner[on], np.where(away[y, x] < MASK_REACH_PX, away[y, x], np.inf))
    return edge, highlight, distance


def _eigenvalues(gray: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the smaller and larger eigenvalue (H, W) of the structure tensor."""
    both = cv2.cornerEigenValsAndVecs(gray, 2 * PATCH_PX + 1, 3)
    return np.minimum(both[..., 0], both[..., 1]), np.maximum(both[..., 0], both[..., 1])


def twins(grid: np.ndarray, near_px: float = 2.5, least: int = 4) -> np.ndarray:
    """Return for each track (T,) the longer one that follows the same spot on all frames they share, or -1.

    Parameters
    ----------
    grid : (F, T, 2) pixels, NaN where a track is not seen. near_px : distance up to which two follow one spot.
        least : frames that they must share.
    """
    together: dict[tuple[int, int], int] = {}
    length = np.isfinite(grid[..., 0]).sum(0)
    for positions in grid:
        live = np.nonzero(np.isfinite(positions[:, 0]))[0]
        if len(live) < 2:
            continue
        for i, j in cKDTree(positions[live]).query_pairs(near_px):
            pair = (int(live[i]), int(live[j]))
            together[pair] = together.get(pair, 0) + 1
    out = np.full(grid.shape[1], -1)
    for (i, j), count in together.items():
        shared = int((np.isfinite(grid[:, i, 0]) & np.isfinite(grid[:, j, 0])).sum())
        if count < least or count < 0.9 * shared:
            continue
        shorter, longer = (i, j) if (length[i], -i) < (length[j], -j) else (j, i)
        out[shorter] = longer
    return out


def returns(
    tracks: TrackSet, frames: np.ndarray, reach_px: float = 4.0, most_gap: int = 60
) -> list[tuple[int, int, float]]:
    """Return pairs of tracks (earlier, later, distance in pixels) that seem to be one spot which came back.

    `frames` (F,) are the plate's. Where the earlier track would be when the later one begins is predicted from the
    tracks around it that live through the gap. Each track is in one pair at most on each side, the closest first.

    Parameters
    ----------
    tracks : of the plate. frames : (F,) all of its frame numbers. reach_px : farthest that a piece may begin from
        where it is expected. most_gap : most frames between two pieces.
    """
    grid, base = tracks.grid(frames), int(frames[0])
    starts, ends = tracks.frames[tracks.first[:-1]] - base, tracks.frames[tracks.first[1:] - 1] - base
    live, found = np.isfinite(grid[..., 0]), []
    for t in range(len(tracks)):
        a = ends[t]
        later = np.nonzero((starts > a) & (starts - a <= most_gap))[0]
        for b in np.unique(starts[later]):
            both = np.nonzero(live[a] & live[b])[0]
            if len(both) < GUIDES:
                continue
            was = grid[a, both]
            expected = grid[a, t] + median_motion(was, grid[b, both] - was, grid[a, t][None], GUIDES)[0]
            born = later[starts[later] == b]
            apart = np.hypot(*(grid[b, born] - expected).T)
            found += [(t, int(u), float(d)) for u, d in zip(born, apart) if d < reach_px]
    chosen, before, after = [], set(), set()
    for t, u, apart in sorted(found, key=lambda f: f[2]):
        if t not in before and u not in after:
            chosen.append((t, u, apart))
            before.add(t)
            after.add(u)
    return chosen
