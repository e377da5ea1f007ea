"""Patches found on a frame where a solved camera expects them, against references drawn as that frame shows them.

The reference comes from the nearest frame that lends one, warped by what the camera says of view and distance, and
blurred along the way that the point goes while the shutter is open. Registration as in `follow.register` (Baker and
Matthews 2004).
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from amberkeel.core.follow.bank import Bank, as_float, fit_variance, scale_and_distortion, states_at
from amberkeel.core.follow.detect import grain_sigma, soften_px
from amberkeel.core.follow.follow import FollowSettings
from amberkeel.core.follow.follower import MODEL_NOISE_PX
from amberkeel.core.follow.register import OK, register_patches
from amberkeel.core.plate.plate import GrayFrames, Plate
from amberkeel.core.progress import Progress
from amberkeel.core.repair.drawn import BORDER, draw_along
from amberkeel.core.repair.exposure import Motion
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED, TrackSet, from_pieces

REACH = 12
"""Frames to each side from which a reference may come."""

STRAYED_PX = 3.0
"""How far from where the camera expects it a patch may be found."""

LEAST_SCORE = 0.7
"""Correlation that a patch must reach."""

KERNEL_NOISE = 0.01
"""What the synthesised blur errs by, as a share of the streak's length."""

Masked = Callable[[int], np.ndarray] | None

NOT_OPEN = 1e-3
"""Share of the frame interval that stands for a shutter that blurs nothing."""


@dataclass(frozen=True)
class _Patches:
    """Points seen on one frame, by their tracks' rows, with the frame that lends each its reference."""

    tracks: np.ndarray
    expected: np.ndarray
    source: np.ndarray
    place: np.ndarray
    sigma: np.ndarray


@dataclass(frozen=True)
class Fits:
    """Patches as they were found: fits (M, 8), results (M, 3), which hold (M,) bool, and the middle length of their
    streaks, pixels.
    """

    patches: _Patches
    states: np.ndarray
    results: np.ndarray
    good: np.ndarray
    streak_px: float


class _Lender:
    """Which frame lends each track its reference, and where."""

    def __init__(self, solution: Solution, barred: np.ndarray):
        tracks = solution.tracks
        row = solution.path.rows_of(tracks.frames)
        self.rows = np.nonzero(~solution.outlier & (row >= 0) & ~barred[row])[0]
        self.owner, self.frame = tracks.track_of_sample[self.rows], tracks.frames[self.rows]
        self.xy, self.sigma = tracks.xy[self.rows], tracks.sigma[self.rows]

    def nearest(self, frame: int, known: np.ndarray) -> np.ndarray:
        """Return rows (M,) of this lender, one for each track of `known` (T,) bool that has a sample near."""
        far = np.abs(self.frame - frame)
        order = np.lexsort((far, self.owner))
        first = np.concatenate([[True], np.diff(self.owner[order]) > 0])
        best = order[first]
        return best[(far[best] <= REACH) & known[self.owner[best]]]


class Led:
    """A plate and its solved camera, by which patches are found.

    Attributes
    ----------
    solution : solved from the plate. path, motion : its camera, and how it moves within a frame. barred : (F,) bool,
        frames of the path that lend no references.
    """

    def __init__(self, plate: Plate, solution: Solution, barred: np.ndarray | None = None):
        grain = grain_sigma(plate.gray(int(plate.frames[len(plate.frames) // 2])))
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
        self.barred = np.zeros(len(self.path.frames), bool) if barred is None else barred
        self._given: dict[tuple[int, int | None], tuple[_Patches, np.ndarray]] = {}

    @cached_property
    def lender(self) -> _Lender:
        """Which frames lend references: all but the barred ones."""
        return _Lender(self.solution, self.barred)

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

    def _lent(self, row: int, most: int | None) -> tuple[_Patches, np.ndarray]:
        """Return the patches of a frame and their warps, which stay the same however the camera moves within it."""
        if (row, most) not in self._given:
            patches = self._patches(row, most)
            self._given[row, most] = patches, self._warps(patches, row)
        return self._given[row, most]

    def fitted(self, row: int, shutter: float, most: int | None = None) -> Fits:
        """Return the patches of a frame as they were found on it."""
        patches, warps = self._lent(row, most)
        way, count = self.motion.streaks(self.xyz[patches.tracks], row, shutter), len(patches.tracks)
        reach = float(np.percentile(np.abs(way).max((1, 2)), 90)) if count else 0.0
        bank = Bank(self.half + min(int(np.ceil(0.3 * reach)), self.half), self.prior)
        cell = bank.half + BORDER
        side = 2 * cell + 1
        sheet = np.zeros((max(count, 1) * side, side), np.float32)
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
        streak = float(np.median(np.linalg.norm(np.diff(way, axis=1), axis=2).sum(1))) if count else 0.0
        return Fits(patches, states, results, good, streak)

    def measured(self, frames: np.ndarray, shutter: float, masked: Masked, progress: Progress) -> TrackSet:
        """Return the solution's tracks with what is found on some frames instead of what they had there.

        Parameters
        ----------
        frames : (K,) numbers. shutter : open share of the frame interval. masked : from a frame number to (H, W) bool,
            True where nothing may be followed, or None. progress : called with the share done.
        """
        out = []
        for k, frame in enumerate(frames.tolist()):
            progress(k / len(frames), f"Measuring frame {frame}")
            row = self.path.index_of(frame)
            fit = self.fitted(row, shutter)
            good = fit.good & (fit.results[:, 0] > LEAST_SCORE)
            if masked is not None:
                x, y = np.clip(fit.states[:, :2].astype(int), 0, self.size - 1).T
                good &= ~masked(frame)[y, x]
            variance = self.inflation * fit_variance(fit.states, fit.results) + MODEL_NOISE_PX**2
            sigma = np.sqrt(variance + fit.patches.sigma**2 + (KERNEL_NOISE * fit.streak_px) ** 2)
            out.append((frame, fit.patches.tracks[good], fit.states[good, :2], sigma[good], fit.results[good, 0]))
        return with_measured(self.solution.tracks, out)


def with_measured(tracks: TrackSet, found: list[tuple]) -> TrackSet:
    """Return tracks with what was measured anew on some frames instead of what they had there.

    Parameters
    ----------
    tracks : as they were. found : for each frame its number, the tracks' rows (M,), positions (M, 2), sigmas (M,) and
        scores (M,).
    """
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
    samples = [(frames[p], xy[p], sigma[p], score[p]) for p in pieces]
    return from_pieces(tracks.names, samples, tracks.kinds, tracks.states, tracks.ids)
