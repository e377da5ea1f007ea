"""A solved camera: path, points and residuals, with figures and their sigmas. It can be kept, and judged again."""

from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.points import PointSet
from amberkeel.core.solve.check_tracks import over_used
from amberkeel.core.solve.folds import Folds
from amberkeel.core.solve.lens_report import LensReport
from amberkeel.core.solve.motions import Rival
from amberkeel.core.solve.problem import SIGMA_FLOOR_PX
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.residuals import residuals, rms, rms_by
from amberkeel.core.solve.shifts import Shifts
from amberkeel.core.solve.start import Begun
from amberkeel.core.solve.terms import Figure
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED, TrackSet


@dataclass(frozen=True)
class Solution:
    """A solved camera with its points and its errors.

    Attributes
    ----------
    path : the camera, in a world whose scale and datum are arbitrary until set: the first camera level and at the
        origin, the median point ten units away from it.
    tracks : as given, with the states the solve used (active, check, excluded).
    points : in the path's world, one for each track, by the tracks' ids.
    outlier : (N,) bool, measurements that did not count. reasons : by track id, why a track did not count.
    residuals : (N, 2) projected minus measured, pixels, NaN where there is none.
    lens_report : each value of the lens with its sigma, what goes together, and what the shot does not determine.
    noise_factor : by how much the stated noise of the tracks understates their error.
    position_sigma : (F,) one sigma of the camera's position in world units, the first camera held.
    terms : what each piece of further knowledge says after the solve. motion : one of `MOTIONS` but "auto".
    rivals : the explanations of the tracks that were compared; where one was asked for none, but for a camera
        that moves, which is held against one that only turns.
    point_covariance : (T, 3, 3) world units squared, the first camera held; NaN where a depth is unknown.
    standing : stretches in which the camera stands still and is held at one spot, first and last frame of each.
    rotation_sigma : (F,) one sigma of the camera's turn, radians, the first camera held; None where unknown.
    shifts : how the camera moves when part of the tracks is left out; None where unknown.
    begun : the frames from which a moving camera was found; None for one that does not move, or was refined.
    stopped : whether the solve was cancelled, and this is what stood then.
    folds : residuals of all tracks, each withheld once; None where that was not asked for.
    """

    path: CameraPath
    tracks: TrackSet
    points: PointSet
    outlier: np.ndarray
    reasons: dict[int, Reason]
    residuals: np.ndarray
    lens_report: LensReport
    noise_factor: float
    position_sigma: np.ndarray
    motion: str = "free"
    recipe: Recipe = field(default_factory=Recipe)
    terms: tuple[Figure, ...] = ()
    rivals: tuple[Rival, ...] = ()
    point_covariance: np.ndarray | None = None
    standing: tuple[tuple[int, int], ...] = ()
    folds: Folds | None = None
    rotation_sigma: np.ndarray | None = None
    shifts: Shifts | None = None
    stopped: bool = False
    begun: Begun | None = None

    @property
    def counted(self) -> np.ndarray:
        """Measurements (N,) bool of used tracks that counted."""
        return ~self.outlier & self.tracks.in_state(ACTIVE)[self.tracks.track_of_sample]

    @property
    def counted_check(self) -> np.ndarray:
        """Measurements (N,) bool of check tracks that are judged."""
        return ~self.outlier & self.tracks.in_state(CHECK)[self.tracks.track_of_sample]

    @property
    def stated_sigma(self) -> np.ndarray:
        """Stated noise (N,) of each measurement along an axis, with the least that any is given, pixels."""
        return np.hypot(self.tracks.sigma, SIGMA_FLOOR_PX)

    @property
    def missing_frames(self) -> np.ndarray:
        """Frames (M,) with tracks that have no camera: the solve does not reach them."""
        return np.setdiff1d(self.tracks.frames, self.path.frames)

    @property
    def rms_px(self) -> float:
        """RMS residual over what counted, pixels."""
        return rms(self.residuals[self.counted])

    @property
    def check_rms_px(self) -> float | None:
        """What `rms_px` would be were the used tracks withheld, pixels: by the check tracks' word, else by what came
        when each was left out; None where neither was done.
        """
        if not self.counted_check.any():
            return self.folds.rms_px if self.folds else None
        whitened = np.linalg.norm(self.residuals, axis=1) / self.stated_sigma
        live = np.isfinite(whitened)
        own, used, check = self.tracks.track_of_sample, self.counted & live, self.counted_check & live
        return self.rms_px * over_used(whitened, own, used, check)

    @property
    def track_rms(self) -> np.ndarray:
        """Each track's RMS (T,): over what counted where any did, else over all of its measurements."""
        own, counted = self.tracks.track_of_sample, self.counted
        served = np.bincount(own, counted, len(self.tracks)) > 0
        return rms_by(np.where((counted | ~served[own])[:, None], self.residuals, np.nan), own, len(self.tracks))

    def point_sigmas(self) -> tuple[np.ndarray, np.ndarray]:
        """Return one sigma of each point along its ray from the first camera, and across it (T,); NaN for unknown."""
        if self.point_covariance is None:
            return np.full(len(self.tracks), np.nan), np.full(len(self.tracks), np.nan)
        away = self.points.positions(self.path.positions[0]) - self.path.positions[0]
        ray = away / np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-12)
        along = np.einsum("ta,tab,tb->t", ray, self.point_covariance, ray)
        across = (np.einsum("taa->t", self.point_covariance) - along) / 2.0
        return np.sqrt(along), np.sqrt(np.maximum(across, 0.0))

    @property
    def frame_rms(self) -> np.ndarray:
        """Each frame's RMS (F,) over what counted; NaN without any."""
        row = self.path.rows_of(self.tracks.frames)
        on = self.counted & (row >= 0)
        return rms_by(self.residuals[on], row[on], len(self.path.frames))

    @property
    def focal_sigma_px(self) -> float:
        """One sigma of the focal length, pixels."""
        return self.lens_report.sigma("focal")

    @property
    def k1_sigma(self) -> float:
        """One sigma of k1."""
        return self.lens_report.sigma("k1")

    @property
    def counts(self) -> dict[str, int]:
        """Tracks used, excluded and withheld, and measurements used."""
        states = self.tracks.states
        return {
            "tracks_used": states.count(ACTIVE),
            "tracks_excluded": states.count(EXCLUDED),
            "tracks_check": states.count(CHECK),
            "observations": int(self.counted.sum()),
        }

    def judged(self, path: CameraPath, points: PointSet | None = None) -> "Solution":
        """Return the solution with its tracks judged by another camera path, and other points where they are given."""
        points = self.points if points is None else points
        return replace(self, path=path, points=points, residuals=residuals(path, points, self.tracks))
