"""A solved camera put together and judged: the path in a level world, residuals of every track, figures with their sigmas."""

from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.lens import Lens
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.held_lens import bent_px, with_focal
from amberkeel.core.solve.judge import FINAL_SCALE, astray_checks
from amberkeel.core.solve.lens_report import LensReport, lens_report
from amberkeel.core.solve.problem import SIGMA_FLOOR_PX, Problem
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED, TrackSet


@dataclass(frozen=True)
class Solution:
    """A solved camera with its points and its errors.

    Attributes
    ----------
    path : the camera, in a world whose scale and datum are arbitrary until set: the first camera level and at the
        origin, one unit the median distance of points from the path's start.
    tracks : as given, with the states the solve used (active, check, excluded).
    points : (T, 3) positions, NaN where a track has none.
    residuals : (N, 2) projected minus measured, pixels, NaN where there is none. set_aside : (N,) bool measurements
        that did not count. reasons : (T,) why a track was set aside, or "".
    track_rms : (T,) over what counted of a used track, over all of another; frame_rms : (F,) pixels.
    rms_px, check_rms_px, focal_sigma_px, k1_sigma, noise_factor : figures; sigmas are one-sigma.
    position_sigma : (F,) one-sigma of the camera's place in world units, first camera held.
    lens_report : each value of the lens with its sigma, what goes together, and what the shot does not tell.
    """

    path: CameraPath
    tracks: TrackSet
    points: np.ndarray
    residuals: np.ndarray
    set_aside: np.ndarray
    reasons: list[str]
    track_rms: np.ndarray
    frame_rms: np.ndarray
    rms_px: float
    check_rms_px: float
    focal_sigma_px: float
    k1_sigma: float
    noise_factor: float
    position_sigma: np.ndarray
    motion: str = "free"
    recipe: Recipe = field(default_factory=Recipe)
    lens_report: LensReport = field(default_factory=LensReport)

    @property
    def counts(self) -> dict[str, int]:
        """Tracks used, set aside and withheld, and measurements used."""
        states = self.tracks.states
        used = np.array([s == ACTIVE for s in states])[self.tracks.track_of_sample]
        return {
            "tracks_used": sum(s == ACTIVE for s in states),
            "tracks_excluded": sum(s == EXCLUDED for s in states),
            "tracks_check": sum(s == CHECK for s in states),
            "observations": int((used & ~self.set_aside).sum()),
        }


@dataclass(frozen=True)
class Spread:
    """How sure an adjusted problem is: covariance of all its cameras and the lens (6 F + L, 6 F + L), the bundle it was taken
    from, the problem's rows in that (cameras, points, measurements), what of the lens is free, and the noise factor in it."""

    covariance: np.ndarray
    bundle: Bundle
    rows: tuple
    free_lens: tuple[int, ...]
    factor: float


def make_solution(problem: Problem, tracks: TrackSet, states: list[str], dropped: np.ndarray, spread: Spread, recipe: Recipe, size: tuple[int, int]) -> Solution:
    """Judge every track with the finished camera and put the figures together.

    Parameters
    ----------
    problem : adjusted. tracks : as measured; states : of its tracks, (T,) names. dropped : (T,) bool, set aside whole.
    """
    report = lens_report(spread.bundle, spread.covariance, spread.free_lens, recipe.held_lens)
    place = np.sqrt(np.diagonal(spread.covariance)[: 6 * len(problem.frames)].reshape(-1, 6)[:, 3:].sum(1))

    counted = np.zeros(len(tracks.frames), bool)
    counted[spread.rows[2]] = True
    everyone = np.ones(len(tracks), bool)
    problem.usable[:] = True
    others = everyone & ~problem.used
    problem.place(others, FINAL_SCALE)
    whole, at = problem.whole(everyone)
    residuals = np.full((len(tracks.frames), 2), np.nan)
    residuals[at] = whole.residuals()
    residuals[np.abs(residuals).max(1) > 900.0] = np.nan
    if recipe.held_lens:
        residuals = bent_px(recipe.held_lens, problem.xy + residuals) - tracks.xy
    out_states = [EXCLUDED if d else s for d, s in zip(dropped, states)]
    reasons = ["disagrees with the camera" if d else "" for d in dropped]
    checks = np.array([s == CHECK for s in out_states])
    astray = astray_checks(tracks, residuals, checks, np.hypot(tracks.sigma, SIGMA_FLOOR_PX), spread.factor)
    reasons = ["check track, moves on its own" if a else r for a, r in zip(astray, reasons)]
    counted_check = (checks & ~astray)[tracks.track_of_sample]
    points = np.where(problem.placed[:, None], _positions(problem), np.nan)
    path, points, unit = _level(problem, points, _solved_lens(problem, recipe, size))
    return Solution(
        path, TrackSet(tracks.names, tracks.first, tracks.frames, tracks.xy, tracks.sigma, tracks.score, tracks.kinds, out_states),
        points, residuals, ~(counted | counted_check), reasons,
        _track_rms(residuals, counted, tracks),
        _rms_by(residuals[counted], problem.camera[counted], len(problem.frames)),
        _rms(residuals[counted]), _rms(residuals[counted_check]),
        report.sigma("focal"), report.sigma("k1"), spread.factor, place / unit, "free", recipe, report,
    )  # fmt: skip


def _rms(residuals: np.ndarray) -> float:
    """Return the root mean square distance in pixels, 0 for none."""
    d2 = (residuals**2).sum(1)
    d2 = d2[np.isfinite(d2)]
    return float(np.sqrt(d2.mean())) if len(d2) else 0.0


def _rms_by(residuals: np.ndarray, group: np.ndarray, count: int) -> np.ndarray:
    d2 = (residuals**2).sum(1)
    ok = np.isfinite(d2)
    total, n = np.bincount(group[ok], d2[ok], count), np.bincount(group[ok], minlength=count)
    return np.where(n > 0, np.sqrt(total / np.maximum(n, 1)), np.nan)


def _track_rms(residuals: np.ndarray, counted: np.ndarray, tracks: TrackSet) -> np.ndarray:
    """Return each track's RMS (T,): over what counted where any did, else over all of its measurements."""
    own = tracks.track_of_sample
    served = np.bincount(own, counted, len(tracks)) > 0
    return _rms_by(np.where((counted | ~served[own])[:, None], residuals, np.nan), own, len(tracks))


def _positions(problem: Problem, far: float = 1e3) -> np.ndarray:
    """Return points (P, 3); those near infinity at `far` times the median depth."""
    usual = np.median(1.0 / np.maximum(problem.rhos[problem.used & problem.placed], 1e-9))
    return problem.anchors + problem.directions / np.maximum(problem.rhos, 1.0 / (far * usual))[:, None]


def _solved_lens(problem: Problem, recipe: Recipe, size: tuple[int, int]) -> Lens:
    flat = [float(v) for v in problem.lens]
    if recipe.held_lens:
        return with_focal(recipe.held_lens, flat[0])
    return Lens(*size, (flat[0], flat[0] * flat[1]), (flat[2], flat[3]), tuple(flat[4:7]), (0.0, 0.0), flat[1])


def _level(problem: Problem, points: np.ndarray, lens: Lens) -> tuple[CameraPath, np.ndarray, float]:
    """Put the first camera at the origin, its horizon level, and the median point one unit away ten times over."""
    centre = problem.centres[0]
    right = problem.rotations[0][:, 0]
    up = -problem.rotations[:, :, 1].mean(0)
    up = up - (up @ right) * right
    up = up / np.linalg.norm(up)
    back = np.cross(right, up)
    new_from_old = np.stack([right, up, back])
    distance = np.nanmedian(np.linalg.norm(points - centre, axis=1))
    unit = distance / 10.0
    path = CameraPath(
        problem.frames, (problem.centres - centre) @ new_from_old.T / unit, new_from_old @ problem.rotations, lens,
        np.exp(problem.basis @ problem.zoom) if len(problem.zoom) else None,
    )  # fmt: skip
    return path, (points - centre) @ new_from_old.T / unit, unit
