"""From tracks to a solved camera."""

from copy import copy
from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.lens import Lens
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve.bundle import Bundle, adjust
from amberkeel.core.solve.checks import choose_checks
from amberkeel.core.solve.grow import fill_between, grow, settle
from amberkeel.core.solve.held_lens import bent_px, straightened, with_focal
from amberkeel.core.solve.lens_report import LensReport, lens_report
from amberkeel.core.solve.lens_terms import FIXED, ZOOM_BEND, LensPlan, LensPriors, LensTerm, lens_plan, zoom_basis
from amberkeel.core.solve.problem import SIGMA_FLOOR_PX, Problem, make_problem
from amberkeel.core.solve.start import FIELDS_OF_VIEW, find_pairs, sweep
from amberkeel.core.solve.uncertainty import covariance, noise_factor
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED, TrackSet

FINAL_SCALE = 2.5
"""Cauchy scale of the last adjustment, in sigmas of the residuals themselves."""

OUTLIER = 4.0
"""Whitened residual, in robust scales, beyond which a measurement is set aside."""

TRACK_SHARE = 0.5
"""Share of a track's measurements that must agree, or the track is set aside whole."""

ZOOM_FIELDS = np.radians(np.geomspace(80.0, 12.0, 6))
"""Horizontal fields of view from which a zoom is begun, radians."""

CLEARLY = 4.0
"""Sigmas by which a further coefficient must differ from 0 to be taken up."""


@dataclass(frozen=True)
class Recipe:
    """What a solve is asked to do.

    Attributes
    ----------
    motion : "auto", "free" or "nodal". distortion : "estimate" (k1, and k2 and k3 where the shot tells them) or "none".
    focal_px : known focal length along x in pixels, or None. pixel_aspect : width of a pixel over its height.
    terms : by name (focal, k1, k2, k3, cx, cy) what is free, soft or fixed, beyond the above.
    held_lens : a lens whose distortion is held as a map of pixels; its focal length counts only by `terms`.
    zoom : whether the focal length changes over frames, smoothly.
    check_share : share of tracks withheld. seed : of every random choice.
    """

    motion: str = "auto"
    distortion: str = "estimate"
    focal_px: float | None = None
    pixel_aspect: float = 1.0
    check_share: float = 0.06
    seed: int = 0
    terms: dict[str, LensTerm] = field(default_factory=dict)
    held_lens: Lens | None = None
    zoom: bool = False

    def plan(self, width: int, height: int) -> LensPlan:
        """Return what the solve may do with the lens."""
        terms = dict(self.terms)
        if self.focal_px:
            terms.setdefault("focal", LensTerm(FIXED, self.focal_px))
        if self.held_lens:
            cx, cy = self.held_lens.principal_px
            terms |= {"cx": LensTerm(FIXED, cx), "cy": LensTerm(FIXED, cy)}
        return lens_plan(terms, width, height, self.pixel_aspect, self.distortion == "estimate" and not self.held_lens)


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
    measured = _inside(tracks, frames)
    tracks = straightened(measured, recipe.held_lens) if recipe.held_lens else measured
    states = list(tracks.states)
    if CHECK not in states:
        checks = choose_checks(measured, width, height, recipe.check_share, np.random.default_rng(recipe.seed))
        states = [CHECK if c else s for c, s in zip(checks, states)]
    used = np.array([s == ACTIVE for s in states], bool)
    if used.sum() < 8:
        raise SolveError(f"Only {int(used.sum())} tracks are active.", "A solve needs eight at the least, better fifty.")
    plan = recipe.plan(width, height)
    problem = make_problem(tracks, frames, plan.start, used)
    options = {"priors": plan.priors}
    if recipe.zoom:
        problem, free_lens = _zooming(problem, plan, width, options, span(progress, 0.0, 0.7))
    else:
        problem, free_lens = _best_start(problem, plan, width, options, span(progress, 0.0, 0.4)), plan.free
        grow(problem, free_lens, options, span(progress, 0.4, 0.7))
    dropped, free_lens = _finish(problem, free_lens, plan.later, options, span(progress, 0.7, 0.95))
    return _report(problem, measured, states, dropped, free_lens, options, recipe, (width, height))


def _zooming(problem: Problem, plan: LensPlan, width: int, options, progress: Progress) -> tuple[Problem, tuple[int, ...]]:
    """Return the best of several zooming solves, each begun at a focal length of its own, and what of the lens is free.

    A start of constant focal length misleads where it changes, so the choice is made once the whole shot is grown.
    """
    priors = plan.priors
    basis = zoom_basis(len(problem.frames))
    priors.zoom, priors.bend = basis.shape[1], 1.0 / ZOOM_BEND
    free = plan.free + tuple(6 + k for k in range(priors.zoom))
    tried, best, least, failure = 0.5 * width / np.tan(ZOOM_FIELDS / 2.0) if plan.search else plan.start[:1], None, np.inf, None
    for k, focal in enumerate(tried):
        own = span(progress, k / len(tried), (k + 1) / len(tried))
        start = replace(plan, start=np.array([focal, *plan.start[1:]]), free=tuple(q for q in plan.free if q), search=False)
        try:
            trial = _best_start(copy(problem), start, width, {"priors": LensPriors()}, span(own, 0.0, 0.5))
            trial.basis, trial.zoom = basis, np.zeros(priors.zoom)
            grow(trial, free, options, span(own, 0.5, 1.0))
        except SolveError as error:
            failure = error
            continue
        settle(trial, free, options, 25)
        cost = _merit(trial)
        if cost < least:
            best, least = trial, cost
    if best is None:
        raise failure
    return best, free


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


def _best_start(problem: Problem, plan: LensPlan, width: int, options, progress: Progress) -> Problem:
    """Return the best of several starts, each extended over the frames of its pair with the lens free."""
    focals = 0.5 * width / np.tan(FIELDS_OF_VIEW / 2.0) if plan.search else plan.start[:1]
    candidates = []
    pairs = find_pairs(problem)
    for k, pair in enumerate(pairs):
        progress(k / len(pairs), f"Trying frames {problem.frames[pair.a]} and {problem.frames[pair.b]} as a start")
        found = sweep(problem, pair, focals, plan.search)
        candidates += [(start, pair) for start in _distinct(found)]
    if not candidates:
        raise SolveError("No two frames give a start.", "More tracks that last longer would help, or a known focal length.")
    candidates.sort(key=lambda c: c[0].cost)
    best, best_cost = None, np.inf
    for start, pair in candidates[:3]:
        trial = start.problem
        fill_between(trial, pair.a, pair.b)
        settle(trial, plan.free, options, 10)
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


def _finish(problem: Problem, free_lens, later, options, progress: Progress) -> tuple[np.ndarray, tuple[int, ...]]:
    """Adjust all with measurements and tracks set aside by their residuals; return the dropped tracks (P,) bool and what
    of the lens was free in the end."""
    dropped = np.zeros(len(problem.rhos), bool)
    everyone = problem.used.copy()
    for cycle, scale in enumerate((4.0, 3.0, 2.5, 2.5)):
        progress(cycle / 4, "Adjusting cameras, points and lens")
        problem.used = everyone & ~dropped
        settle(problem, free_lens, options, 30 if cycle else 20, scale)
        if cycle == 1:
            free_lens = _more_lens(problem, free_lens, later, options, scale)
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
    return dropped, free_lens


def _more_lens(problem: Problem, free_lens, later, options, scale: float) -> tuple[int, ...]:
    """Free further coefficients where the shot tells them clearly; return what is free then."""
    for q in later:
        kept = problem.lens.copy()
        trial = tuple(sorted((*free_lens, q)))
        settle(problem, trial, options, 20, scale)
        spread, _, _ = _spread(problem, trial, options)
        sigma = np.sqrt(np.diagonal(spread))[len(spread) - len(trial) + trial.index(q)]
        if abs(problem.lens[3 + q]) < CLEARLY * sigma:
            problem.lens = kept
            settle(problem, free_lens, options, 10, scale)
            break
        free_lens = trial
    return free_lens


def _spread(problem: Problem, free_lens, options) -> tuple[np.ndarray, Bundle, float]:
    """Return the covariance of cameras and lens, the bundle it was taken from, and the noise factor in it."""
    final, rows = problem.bundle(
        problem.solved, problem.used, problem.solved.copy(), free_lens=free_lens, loss_scale=FINAL_SCALE, **options
    )
    factor = noise_factor(final.residuals(), final.weight, final.first, int(problem.solved.sum()), len(free_lens))
    return covariance(final, factor), (final, rows), factor


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


def _report(problem: Problem, tracks, states, dropped, free_lens, options, recipe, size) -> Solution:
    """Judge every track with the finished camera and put the figures together."""
    spread, (final, rows), factor = _spread(problem, free_lens, options)
    chosen = rows[2]
    report = lens_report(final, spread, free_lens, recipe.held_lens)
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
    if recipe.held_lens:
        residuals = bent_px(recipe.held_lens, problem.xy + residuals) - tracks.xy
    out_states = [EXCLUDED if d else s for d, s in zip(dropped, states)]
    reasons = ["disagrees with the camera" if d else "" for d in dropped]
    checks = np.array([s == CHECK for s in out_states])
    astray = _astray_checks(tracks, residuals, checks, np.hypot(tracks.sigma, SIGMA_FLOOR_PX), factor)
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
        report.sigma("focal"), report.sigma("k1"), factor, place / unit, "free", recipe, report,
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


def _solved_lens(problem: Problem, recipe: Recipe, size: tuple[int, int]) -> Lens:
    flat = [float(v) for v in problem.lens]
    if recipe.held_lens:
        return with_focal(recipe.held_lens, flat[0])
    return Lens(*size, (flat[0], flat[0] * flat[1]), (flat[2], flat[3]), tuple(flat[4:7]), (0.0, 0.0), flat[1])


def _level(problem: Problem, points: np.ndarray, lens: Lens) -> tuple[CameraPath, np.ndarray, float]:
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
    path = CameraPath(
        problem.frames, (problem.centres - centre) @ new_from_old.T / unit, new_from_old @ problem.rotations, lens,
        np.exp(problem.basis @ problem.zoom) if len(problem.zoom) else None,
    )  # fmt: skip
    return path, (points - centre) @ new_from_old.T / unit, unit


__all__ = ["Bundle", "LensTerm", "Recipe", "Solution", "solve_tracks"]
