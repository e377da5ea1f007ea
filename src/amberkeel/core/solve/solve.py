"""From tracks to a solved camera."""

from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.lens import Lens
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve.bundle import Bundle, adjust
from amberkeel.core.solve.checks import choose_checks
from amberkeel.core.solve.grow import fill_between, grow, settle
from amberkeel.core.solve.problem import Problem, make_problem
from amberkeel.core.solve.start import FIELDS_OF_VIEW, find_pairs, sweep
from amberkeel.core.solve.uncertainty import covariance, noise_factor
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED, TrackSet

FINAL_SCALE = 2.5
"""Cauchy scale of the last adjustment, in sigmas of the residuals themselves."""

OUTLIER = 4.0
"""Whitened residual, in robust scales, beyond which a measurement is set aside."""

TRACK_SHARE = 0.5
"""Share of a track's measurements that must agree, or the track is set aside whole."""

K1_SIGMA = 0.3
"""Soft prior on k1 around 0."""


@dataclass(frozen=True)
class Recipe:
    """What a solve is asked to do.

    Attributes
    ----------
    motion : "auto", "free" or "nodal". distortion : "estimate" (k1) or "none".
    focal_px : known focal length along x in pixels, or None. pixel_aspect : width of a pixel over its height.
    check_share : share of tracks withheld. seed : of every random choice.
    """

    motion: str = "auto"
    distortion: str = "estimate"
    focal_px: float | None = None
    pixel_aspect: float = 1.0
    check_share: float = 0.06
    seed: int = 0


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


def solve_tracks(
    tracks: TrackSet, frames: np.ndarray, width: int, height: int, recipe: Recipe = Recipe(), progress: Progress = silent
) -> Solution:
    """Solve a free camera with one focal length from tracks alone.

    Parameters
    ----------
    tracks : measurements; excluded tracks are left out, check tracks are only judged. If no track is marked as check,
        a share of them is withheld.
    frames : (F,) frame numbers to solve, rising. width, height : plate size in pixels.

    Raises
    ------
    SolveError : a locked-off or nodal camera, too few tracks, or a shot that breaks in the middle.
    """
    if recipe.motion == "nodal":
        raise SolveError("Nodal solves are not available yet.", "Ask for a free or automatic camera.")
    tracks = _inside(tracks, frames)
    states = list(tracks.states)
    if CHECK not in states:
        checks = choose_checks(tracks, width, height, recipe.check_share, np.random.default_rng(recipe.seed))
        states = [CHECK if c else s for c, s in zip(checks, states)]
    used = np.array([s == ACTIVE for s in states], bool)
    if used.sum() < 8:
        raise SolveError(f"Only {int(used.sum())} tracks are active.", "A solve needs eight at the least, better fifty.")
    guess = recipe.focal_px or 1.2 * width
    lens = np.array([guess, recipe.pixel_aspect, width / 2.0, height / 2.0, 0.0, 0.0, 0.0])
    problem = make_problem(tracks, frames, lens, used)
    free_lens, options = _lens_options(recipe)
    problem = _best_start(problem, recipe, free_lens, options, span(progress, 0.0, 0.4))
    grow(problem, free_lens, options, span(progress, 0.4, 0.7))
    dropped = _finish(problem, free_lens, options, span(progress, 0.7, 0.95))
    return _report(problem, tracks, states, dropped, free_lens, options, recipe)


def _inside(tracks: TrackSet, frames: np.ndarray) -> TrackSet:
    """Drop samples outside the frames asked for."""
    keep = np.isin(tracks.frames, frames)
    if keep.all():
        return tracks
    counts = np.bincount(tracks.track_of_sample[keep], minlength=len(tracks))
    first = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return TrackSet(
        tracks.names, first, tracks.frames[keep], tracks.xy[keep], tracks.sigma[keep], tracks.score[keep],
        tracks.kinds, tracks.states,
    )  # fmt: skip


def _lens_options(recipe: Recipe) -> tuple[tuple[int, ...], dict]:
    free = () if recipe.focal_px else (0,)
    free += (1,) if recipe.distortion == "estimate" else ()
    return free, {"prior_weight": np.array([0.0, 1.0 / K1_SIGMA, 0.0, 0.0])}


def _best_start(problem: Problem, recipe: Recipe, free_lens, options, progress: Progress) -> Problem:
    """Return the best of several starts, each extended over the frames of its pair with the lens free."""
    width = 2.0 * problem.lens[2]
    focals = np.array([recipe.focal_px]) if recipe.focal_px else 0.5 * width / np.tan(FIELDS_OF_VIEW / 2.0)
    candidates = []
    pairs = find_pairs(problem)
    for k, pair in enumerate(pairs):
        progress(k / len(pairs), f"Trying frames {problem.frames[pair.a]} and {problem.frames[pair.b]} as a start")
        found = sweep(problem, pair, focals, not recipe.focal_px)
        candidates += [(start, pair) for start in _distinct(found)]
    if not candidates:
        raise SolveError("No two frames give a start.", "More tracks that last longer would help, or a known focal length.")
    candidates.sort(key=lambda c: c[0].cost)
    best, best_cost = None, np.inf
    for start, pair in candidates[:3]:
        trial = start.problem
        fill_between(trial, pair.a, pair.b)
        settle(trial, free_lens, options, 10)
        cost = _merit(trial)
        if cost < best_cost:
            best, best_cost = trial, cost
    return best


def _distinct(starts: list, most: int = 2) -> list:
    """Keep the best starts whose focal lengths differ by more than a tenth."""
    kept: list = []
    for start in starts:
        if all(abs(np.log(start.problem.lens[0] / k.problem.lens[0])) > 0.1 for k in kept):
            kept.append(start)
    return kept[:most]


def _merit(problem: Problem) -> float:
    """Return a bounded mean cost over the tracks of the solved frames; lower is better."""
    bundle, _ = problem.whole(problem.used)
    whitened = np.linalg.norm(bundle.residuals(), axis=1) * bundle.weight
    return float(np.mean(np.minimum(whitened, 20.0) ** 2))


def _finish(problem: Problem, free_lens, options, progress: Progress) -> np.ndarray:
    """Adjust all with measurements and tracks set aside by their residuals; return the dropped tracks (P,) bool."""
    dropped = np.zeros(len(problem.rhos), bool)
    everyone = problem.used.copy()
    for cycle, scale in enumerate((4.0, 3.0, 2.5, 2.5)):
        progress(cycle / 4, "Adjusting cameras, points and lens")
        problem.used = everyone & ~dropped
        settle(problem, free_lens, options, 30 if cycle else 20, scale)
        dropped = _set_aside(problem, everyone)
        if (everyone & ~dropped).sum() < 8:
            raise SolveError("Fewer than eight tracks agree with any one camera.", "Mask what moves, or follow more features.")
    problem.used = everyone & ~dropped
    first = int(np.nonzero(problem.solved)[0][0])
    free = problem.solved.copy()
    free[first] = False
    bundle, rows = problem.bundle(problem.solved, problem.used, free, free_lens=free_lens, loss_scale=FINAL_SCALE, **options)
    adjust(bundle, 40, 1e-8)
    problem.take(bundle, rows)
    return dropped


def _set_aside(problem: Problem, everyone: np.ndarray) -> np.ndarray:
    """Judge each measurement by its residual and each track by the share that agrees; return dropped tracks."""
    problem.usable[:] = True
    problem.place(everyone, FINAL_SCALE)
    bundle, rows = problem.whole(everyone)
    error = np.linalg.norm(bundle.residuals(), axis=1) * bundle.weight
    live = problem.used[problem.track[rows]]
    scale = max(1.0, np.median(error[live]) / 1.1774)
    bad = error > OUTLIER * scale
    problem.usable[rows[bad]] = False
    count = np.bincount(problem.track, minlength=len(everyone))
    agree = np.bincount(problem.track[rows[~bad]], minlength=len(everyone))
    return everyone & ((agree < np.maximum(TRACK_SHARE * count, 3)) | ~problem.placed | (problem.rhos < -1e-3))


def _report(problem: Problem, tracks, states, dropped, free_lens, options, recipe) -> Solution:
    """Judge every track with the finished camera and put the figures together."""
    final, rows = problem.bundle(
        problem.solved, problem.used, problem.solved.copy(), free_lens=free_lens, loss_scale=FINAL_SCALE, **options
    )
    chosen = rows[2]
    used_residuals = final.residuals()
    factor = noise_factor(used_residuals, final.weight, final.first, int(problem.solved.sum()), len(free_lens))
    spread = covariance(final, factor)
    lens_sigma = np.sqrt(np.diagonal(spread)[len(spread) - len(free_lens) :])
    sigma_of = dict(zip(free_lens, lens_sigma))
    place = np.sqrt(np.diagonal(spread)[: 6 * len(problem.frames)].reshape(-1, 6)[:, 3:].sum(1))

    counted = np.zeros(len(tracks.frames), bool)
    counted[chosen] = True
    everyone = np.ones(len(tracks), bool)
    problem.usable[:] = True
    others = everyone & ~problem.used
    problem.place(others, FINAL_SCALE)
    whole, at = problem.whole(everyone)
    residuals = np.full((len(tracks.frames), 2), np.nan)
    residuals[at] = whole.residuals()
    residuals[np.abs(residuals).max(1) > 900.0] = np.nan
    out_states = [EXCLUDED if d else s for d, s in zip(dropped, states)]
    reasons = ["disagrees with the camera" if d else "" for d in dropped]
    checks = np.array([s == CHECK for s in out_states])
    astray = _astray_checks(tracks, residuals, checks, problem.sigma, factor)
    reasons = ["check track, moves on its own" if a else r for a, r in zip(astray, reasons)]
    counted_check = (checks & ~astray)[tracks.track_of_sample]
    points = np.where(problem.placed[:, None], _positions(problem), np.nan)
    path, points, unit = _level(problem, points)
    return Solution(
        path, TrackSet(tracks.names, tracks.first, tracks.frames, tracks.xy, tracks.sigma, tracks.score, tracks.kinds, out_states),
        points, residuals, ~(counted | counted_check), reasons,
        _track_rms(residuals, counted, tracks),
        _rms_by(residuals[counted], problem.camera[counted], len(problem.frames)),
        _rms(residuals[counted]), _rms(residuals[counted_check]),
        float(sigma_of.get(0, 0.0) * problem.lens[0]), float(sigma_of.get(1, 0.0)), factor, place / unit,
        "free", recipe,
    )  # fmt: skip


def _astray_checks(tracks, residuals, checks, sigma, factor) -> np.ndarray:
    """Return check tracks (T,) bool judged not to belong to the still set, by the rule used for all tracks."""
    error = np.linalg.norm(residuals, axis=1) / sigma
    agree = np.nan_to_num(error, nan=1e9) <= OUTLIER * max(1.0, factor)
    share = np.bincount(tracks.track_of_sample, agree, len(tracks)) / np.maximum(tracks.lengths, 1)
    return checks & (share < TRACK_SHARE)


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


def _level(problem: Problem, points: np.ndarray) -> tuple[CameraPath, np.ndarray, float]:
    """Put the first camera at the origin, its horizon level, and the median point one unit away ten times over."""
    centre = problem.centres[0]
    right, forward = problem.rotations[0][:, 0], problem.rotations[0][:, 2]
    up = -problem.rotations[:, :, 1].mean(0)
    up = up - (up @ right) * right
    up = up / np.linalg.norm(up)
    back = np.cross(right, up)
    new_from_old = np.stack([right, up, back])
    distance = np.nanmedian(np.linalg.norm(points - centre, axis=1))
    unit = distance / 10.0
    lens = problem.lens
    width, height = int(round(2 * lens[2])), int(round(2 * lens[3]))
    solved = Lens(
        width, height, (lens[0], lens[0] * lens[1]), (lens[2], lens[3]), tuple(lens[4:7]), (0.0, 0.0), float(lens[1])
    )
    path = CameraPath(
        problem.frames, (problem.centres - centre) @ new_from_old.T / unit, new_from_old @ problem.rotations, solved
    )
    return path, (points - centre) @ new_from_old.T / unit, unit


__all__ = ["Bundle", "Recipe", "Solution", "solve_tracks"]
