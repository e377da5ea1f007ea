"""A camera from points whose coordinates are known: surveyed, of a set, or on a proxy.

Each frame's camera is found by itself from the known points that it shows (the perspective n-point problem; Terzakis
and Lourakis 2020), so that no start is needed and one frame is enough. An unknown focal length is swept: at each value
all cameras are found, and what explains the points best is adjusted with everything else (Hartley and Zisserman 2004,
chapter 7).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import combinations

import cv2
import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.adjust_shot import finished
from amberkeel.core.solve.evidence.constrained import bound_to
from amberkeel.core.solve.evidence.scene_pieces import Known
from amberkeel.core.solve.evidence.statement import Anchor, Constraint
from amberkeel.core.solve.grow import Broken, fill_between, grow
from amberkeel.core.solve.lens_plan import FREE, Freedom
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import RADIAL_NAMES, RadialLens
from amberkeel.core.solve.refine import resect_camera
from amberkeel.core.solve.shot import Asked, Solved
from amberkeel.core.solve.terms import Term
from amberkeel.core.solve.unknowns import POINT_BLOCK
from amberkeel.core.solve.world_frame import World
from amberkeel.core.tracks import EXCLUDED, TrackSet

LEAST_KNOWN, LEAST_SEARCHED = 4, 6
"""Known points that a frame's camera is found from where the focal length is known, and where it is not."""

FIELDS_OF_VIEW = np.radians(np.geomspace(120.0, 6.0, 36))
"""Swept horizontal fields of view, radians."""

MOST_SWEPT = 4
"""Frames that the focal length is swept on."""

POSE_SCALE = 4.0
"""Cauchy scale in sigmas where a single camera is found."""

WRONG = 25.0
"""Sigmas beyond which a point does not fit its coordinates, at the least."""

WRONG_SHARE = 0.02
"""Share of the picture's width that it must be off besides."""

MOST_OFF = 100.0
"""Scales beyond which a point that is off counts no more: one behind the camera must not outweigh two others."""

FEW_AT_ONCE, TRIPLES, MOST_ADJUSTED = 5, 4, 3
"""Points up to which a camera is found from three of them too, since what finds it from all may miss it; how many
such triples, and cameras of all these that are adjusted.
"""

MOST_LEFT_OUT = 12
"""Points of a frame up to which each is left out in turn, to find a camera that one wrong point does not bend."""


@dataclass(frozen=True)
class Survey:
    """Known points of a shot.

    Attributes
    ----------
    rows : (K,) rows of their tracks. xyz : (K, 3) coordinates, world units. sigma : (K,) the largest of each point's
    own. names : of the tracks.
    """

    rows: np.ndarray
    xyz: np.ndarray
    sigma: np.ndarray
    names: tuple[str, ...]


def survey_of(constraints: tuple[Constraint, ...], tracks: TrackSet) -> Survey:
    """Return the points that constraints state whole coordinates of.

    Parameters
    ----------
    constraints : those that are on count. tracks : of the shot; excluded ones are left out.
    """
    by = {int(i): k for k, i in enumerate(tracks.ids)} | {n: k for k, n in enumerate(tracks.names)}
    found: dict[int, tuple[tuple, float]] = {}
    for one in constraints:
        if not isinstance(one, Anchor) or not one.on or any(value is None for value in one.xyz):
            continue
        row = by.get(one.track)
        if row is None or tracks.states[row] == EXCLUDED:
            continue
        found[row] = one.xyz, 0.0 if one.exact else float(np.max(one.sigma))
    rows = np.array(sorted(found), np.int64)
    xyz = np.array([found[k][0] for k in rows], float).reshape(-1, 3)
    return Survey(rows, xyz, np.array([found[k][1] for k in rows]), tuple(tracks.names[k] for k in rows))


def least_known(searched: bool) -> int:
    """Return how many known points a frame's camera needs; `searched` says that its focal length is unknown."""
    return LEAST_SEARCHED if searched else LEAST_KNOWN


def points_by_frame(survey: Survey, tracks: TrackSet, frames: np.ndarray) -> np.ndarray:
    """Return how many known points each of the frames (F,) shows."""
    own = np.isin(tracks.track_of_sample, survey.rows) & np.isin(tracks.frames, frames)
    return np.bincount(np.searchsorted(frames, tracks.frames[own]), minlength=len(frames))


def suffices(survey: Survey, tracks: TrackSet, frames: np.ndarray, searched: bool) -> bool:
    """Return whether some frame shows known points enough for a camera of its own.

    Parameters
    ----------
    survey : the known points. tracks : of the shot. frames : (F,) numbers. searched : the focal length is unknown.
    """
    return bool((points_by_frame(survey, tracks, frames) >= least_known(searched)).any())


def surveyed(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved from its known points, and from what else was tracked.

    Raises
    ------
    SolveError : too few known points on any frame, a point that does not fit its coordinates, or too few that agree.
    """
    problem, plan = asked.problem(), asked.plan
    survey = survey_of(asked.recipe.evidence, asked.measured)
    least, count = least_known(plan.search), points_by_frame(survey, asked.measured, asked.frames)
    if not (count >= least).any():
        raise too_few_known(count, asked.frames, plan.search)
    place(problem, survey)
    problem.least = least
    progress(0.1, "Finding each frame's camera from its known points")
    swept = _most_telling(count, least)
    if plan.search:
        problem.lens = _swept(problem, survey, swept, asked.size[0])
    _check_fit(problem, survey, swept, asked.size[0])
    _resect_all(problem, survey, np.nonzero(count >= LEAST_KNOWN)[0])
    anchor_in_cameras(problem, survey)
    free, later = freedom_of(asked)
    bound = bound_to(problem, asked.measured, asked.recipe.evidence, asked.recipe.fps)
    freedom = free.with_terms(bound.terms)
    problem = _carried(problem, freedom, span(progress, 0.3, 0.6))
    return finished(problem, freedom, later, span(progress, 0.6, 1.0))


def too_few_known(count: np.ndarray, frames: np.ndarray, searched: bool) -> SolveError:
    """Return what is said where no frame shows known points enough.

    Parameters
    ----------
    count : (F,) of each frame. frames : (F,) numbers. searched : the focal length is unknown.
    """
    most = int(count.max(initial=0))
    points = "1 known point" if most == 1 else f"{most} known points"
    at = f"Frame {frames[int(np.argmax(count))]} shows {points}" if most else "No frame shows a known point"
    return SolveError(
        f"{at}{', no frame more' if most and len(frames) > 1 else ''}: too few for a camera.",
        f"It needs {LEAST_KNOWN} with the focal length known, {LEAST_SEARCHED} without. Track another one, or "
        + ("give the focal length." if searched else "place more tracks."),
    )


def place(problem: Problem, survey: Survey) -> None:
    """Put the known points where they are, in place; there are no cameras yet to see them from.

    Parameters
    ----------
    problem : with nothing solved; the world's coordinates become its own. survey : the known points.
    """
    problem.surveyed[survey.rows], problem.world = True, World(held=True)
    centre = survey.xyz.mean(0) + np.array([0.0, 0.0, 1.0]) * (1.0 + np.ptp(survey.xyz, axis=0).max())
    _seen_from(problem, survey.rows, survey.xyz, np.broadcast_to(centre, survey.xyz.shape))
    problem.triangulated[survey.rows] = True


def _seen_from(problem: Problem, rows: np.ndarray, xyz: np.ndarray, centres: np.ndarray) -> None:
    """Put points by their rows (K,) at positions (K, 3), stated from centres (K, 3), in place."""
    away = xyz - centres
    reach = np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-9)
    problem.anchors[rows], problem.directions[rows], problem.rhos[rows] = centres, away / reach, 1.0 / reach[:, 0]


def anchor_in_cameras(problem: Problem, survey: Survey) -> None:
    """State each known point from the first solved camera that sees it, as all other points are, in place.

    Parameters
    ----------
    problem : with cameras. survey : the known points, as they were placed.
    """
    centres = problem.anchors[survey.rows].copy()
    for k, row in enumerate(survey.rows):
        seen = problem.camera[problem.first[row] : problem.first[row + 1]]
        seen = seen[problem.solved[seen]]
        if len(seen):
            centres[k] = problem.centres[seen[0]]
    _seen_from(problem, survey.rows, survey.xyz, centres)


def _most_telling(count: np.ndarray, least: int) -> np.ndarray:
    """Return rows of the frames that show most known points, spread over the shot."""
    rows = np.nonzero(count >= max(least, int(count.max()) - 1))[0]
    return rows[np.unique(np.linspace(0, len(rows) - 1, min(MOST_SWEPT, len(rows))).astype(int))]


@dataclass(frozen=True)
class _View:
    """What a frame shows of the known points: its row, the measurements' rows (M,), the points' rows (M,), positions
    (M, 3) and sigmas (M,), and which of the survey's they are (M,).
    """

    row: int
    measured: np.ndarray
    points: np.ndarray
    xyz: np.ndarray
    sigma: np.ndarray
    which: np.ndarray


def _view(problem: Problem, survey: Survey, row: int) -> _View:
    """Return what the frame of a row shows of the known points."""
    track = problem.track
    n = np.nonzero((problem.camera == row) & problem.surveyed[track])[0]
    k = np.searchsorted(survey.rows, track[n])
    return _View(row, n, track[n], survey.xyz[k], survey.sigma[k], k)


def _sigmas(problem: Problem, view: _View, depth: np.ndarray) -> np.ndarray:
    """Return how far measurements may be off (M,), pixels: their own noise, and what their points' sigma makes at
    depths (M,), nothing behind the camera.
    """
    ahead = np.where(depth > 0.0, np.maximum(depth, 1e-6), np.inf)
    return np.hypot(problem.sigma[view.measured], problem.lens.focal * view.sigma / ahead)


@dataclass(frozen=True)
class _Pose:
    """One frame's camera: rotation, centre, robust cost, and by how many sigmas and pixels each point is off."""

    rotation: np.ndarray
    centre: np.ndarray
    cost: float
    sigmas: np.ndarray
    px: np.ndarray


def _pose(problem: Problem, view: _View, near: int | None = None) -> _Pose | None:
    """Return a frame's camera by its known points, that which a single wrong point does not bend; None where there is
    none.

    Parameters
    ----------
    near : row of a solved camera from which it is looked for too, or None.
    """
    rays = problem.lens.as_lens(1, 1).normalise(problem.corrected[view.measured])
    starts = _closed_form(view.xyz, rays)
    if near is not None:
        starts.append((problem.rotations[near], problem.centres[near]))
    best = _best_of(problem, view, starts)
    alone = best is None or best.sigmas.max() > POSE_SCALE
    if alone and LEAST_KNOWN < len(rays) <= MOST_LEFT_OUT:
        sets = ~np.eye(len(rays), dtype=bool)
        starts = [start for own in sets for start in _closed_form(view.xyz[own], rays[own])]
        other = _best_of(problem, view, starts)
        best = min((pose for pose in (best, other) if pose), key=lambda pose: pose.cost, default=None)
    return best


def _best_of(problem: Problem, view: _View, starts: list[tuple[np.ndarray, np.ndarray]]) -> _Pose | None:
    """Return the best of the cameras that those of a frame become when they are adjusted."""
    seen = (_judged(problem, view, *start) for start in starts)
    likely = sorted((pose for pose in seen if pose), key=lambda pose: pose.cost)[:MOST_ADJUSTED]
    found = [_improved(problem, view, pose) for pose in likely]
    return min((pose for pose in found if pose), key=lambda pose: pose.cost, default=None)


def _closed_form(xyz: np.ndarray, rays: np.ndarray) -> list[tuple[np.ndarray, np.ndarray]]:
    """Return cameras, (3, 3) world_from_camera and (3,) centre, that may see points (M, 3) along rays (M, 2): by all of
    them, and where they are few by three that lie wide apart.
    """
    middle = xyz.mean(0)
    size = float(np.abs(xyz - middle).max()) or 1.0
    local, rays = np.ascontiguousarray((xyz - middle) / size), np.ascontiguousarray(rays)
    found = _by(cv2.solvePnPGeneric, local, rays, cv2.SOLVEPNP_SQPNP)
    for three in _wide_triples(rays) if len(rays) <= FEW_AT_ONCE else []:
        found += _by(cv2.solveP3P, local[three], rays[three], cv2.SOLVEPNP_P3P)
    out = []
    for turn, shift in found:
        rotation = cv2.Rodrigues(turn)[0].T
        centre = middle - size * rotation @ shift.ravel()
        if np.isfinite(centre).all() and np.isfinite(rotation).all():
            out.append((rotation, centre))
    return out


def _by(solver: Callable, xyz: np.ndarray, rays: np.ndarray, how: int) -> list[tuple[np.ndarray, np.ndarray]]:
    try:
        found = solver(xyz, rays, np.eye(3), None, flags=how)
    except cv2.error:
        return []
    return list(zip(found[1], found[2]))


def _wide_triples(rays: np.ndarray) -> list[list[int]]:
    """Return those of the triples of rays (M, 2) that span most of the picture, most first, at most `TRIPLES`."""
    some = range(min(len(rays), MOST_LEFT_OUT))
    area = {}
    for three in combinations(some, 3):
        a, b, c = rays[list(three)]
        area[three] = abs(float((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])))
    return [list(three) for three in sorted(area, key=lambda t: -area[t])[:TRIPLES]]


def _improved(problem: Problem, view: _View, pose: _Pose) -> _Pose | None:
    """Return a camera adjusted to its known points under a robust loss; None where it looks away from all of them."""
    row, n = view.row, view.measured
    kept = problem.rotations[row].copy(), problem.centres[row].copy()
    problem.rotations[row], problem.centres[row] = pose.rotation, pose.centre
    sigma = _sigmas(problem, view, ((view.xyz - pose.centre) @ pose.rotation)[:, 2])
    resect_camera(
        problem.scene(), row, view.points, problem.corrected[n], 1.0 / sigma, POSE_SCALE**2, 40, np.zeros(len(n))
    )
    found = problem.rotations[row].copy(), problem.centres[row].copy()
    problem.rotations[row], problem.centres[row] = kept
    return _judged(problem, view, *found) if np.isfinite(found[1]).all() else None


def _judged(problem: Problem, view: _View, rotation: np.ndarray, centre: np.ndarray) -> _Pose | None:
    """Return a frame's camera with how well it sees its known points; None where it looks away from all of them."""
    ahead = (view.xyz - centre) @ rotation
    if not (ahead[:, 2] > 0.0).any():
        return None
    sigma = _sigmas(problem, view, ahead[:, 2])
    off = np.linalg.norm(problem.lens.as_lens(1, 1).project(ahead) - problem.corrected[view.measured], axis=1)
    off = np.where(np.isfinite(off), off, np.inf)
    bend = np.minimum(off / sigma / POSE_SCALE, MOST_OFF) ** 2
    cost = 0.5 * POSE_SCALE**2 * float(np.log1p(bend).sum())
    return _Pose(rotation, centre, cost, off / sigma, off)


def _swept(problem: Problem, survey: Survey, rows: np.ndarray, width: int) -> RadialLens:
    """Return the lens with that focal length at which the known points of some frames are explained best."""
    focals, views = 0.5 * width / np.tan(0.5 * FIELDS_OF_VIEW), [_view(problem, survey, int(row)) for row in rows]
    costs = np.array([_cost_at(problem, views, focal) for focal in focals])
    best = int(np.argmin(costs))
    low, high = np.log(focals[max(best - 1, 0)]), np.log(focals[min(best + 1, len(focals) - 1)])
    for _ in range(2):
        finer = np.linspace(low, high, 9)
        at = finer[int(np.argmin([_cost_at(problem, views, float(np.exp(f))) for f in finer]))]
        step = finer[1] - finer[0]
        low, high = at - step, at + step
    return problem.lens.with_value("focal", float(np.exp(at)))


def _cost_at(problem: Problem, views: list[_View], focal: float) -> float:
    before = problem.lens
    problem.lens = before.with_value("focal", float(focal))
    poses = [_pose(problem, view) for view in views]
    problem.lens = before
    return sum(pose.cost if pose else 1e9 for pose in poses)


def _check_fit(problem: Problem, survey: Survey, rows: np.ndarray, width: int) -> None:
    """Refuse known points that do not fit one camera, by the name of the one that is off where it is one.

    Raises
    ------
    SolveError : one point is far off while the others agree, or no camera sees them where they are.
    """
    off = np.full((len(rows), len(survey.rows)), np.nan)
    for r, row in enumerate(rows):
        view = _view(problem, survey, int(row))
        pose = _pose(problem, view)
        off[r, view.which] = np.inf if pose is None else np.where(pose.sigmas > WRONG, pose.px, 0.0)
    usual, seen = np.zeros(len(survey.rows)), ~np.isnan(off)
    for point in np.nonzero(seen.any(0))[0].tolist():
        usual[point] = np.median(off[seen[:, point], point])
    wrong = np.nonzero(usual > WRONG_SHARE * width)[0]
    if not len(wrong):
        return
    seen_at_all = int(seen.any(0).sum())
    if len(wrong) == 1 and seen_at_all > LEAST_KNOWN:
        name, px = survey.names[wrong[0]], usual[wrong[0]]
        where = f"{px:,.0f} px from where its coordinates put it" if np.isfinite(px) else "behind the camera"
        raise SolveError(
            f"{name} is seen {where}; the other {seen_at_all - 1} known points agree.",
            "Look at its unit, its axes and its track, or switch it off.",
        )
    raise SolveError(
        f"No camera sees the {seen_at_all} known points where their coordinates put them.",
        "Look at their unit, at which axis is up, and whether each is on the track that was meant.",
    )


def _resect_all(problem: Problem, survey: Survey, rows: np.ndarray) -> None:
    """Find the cameras of rows of frames from their known points, each from its neighbour's as well, in place."""
    near: int | None = None
    for row in rows:
        pose = _pose(problem, _view(problem, survey, int(row)), near)
        if pose is None or np.median(pose.sigmas) > WRONG:
            continue
        problem.rotations[row], problem.centres[row] = pose.rotation, pose.centre
        problem.solved[row] = True
        near = int(row)


def freedom_of(asked: Asked) -> tuple[Freedom, tuple[str, ...]]:
    """Return what of the lens is free from the start, and what is tried afterwards: a handful of points hardly tells a
    lens's curve, so that it is freed only where they do.

    Parameters
    ----------
    asked : the shot.
    """
    plan, chosen = asked.plan, asked.recipe.lens
    curve = tuple(
        name for name in RADIAL_NAMES if name in plan.free.lens and (name not in chosen or chosen[name].state == FREE)
    )
    return replace(plan.free, lens=tuple(n for n in plan.free.lens if n not in curve)), (*curve, *plan.later)


def _carried(problem: Problem, freedom: Freedom, progress: Progress) -> Problem:
    """Return the problem with cameras for those frames too that show too few known points: from what else was tracked.
    What cannot be reached is left without.
    """
    if not problem.solved.any():
        raise SolveError("No frame's known points give a camera.", "Look at their coordinates and their tracks.")
    problem.triangulate(problem.active, POSE_SCALE)
    if problem.solved.all():
        return problem
    rows = np.nonzero(problem.solved)[0]
    fill_between(problem, int(rows[0]), int(rows[-1]))
    try:
        grow(problem, freedom, progress)
    except Broken as broken:
        return broken.problem
    return problem


def put_back(problem: Problem, points: np.ndarray, terms: tuple[Term, ...]) -> None:
    """Put points back to where they are known to be, in place.

    Parameters
    ----------
    problem : whose coordinates are the world's. points : (P,) bool. terms : with what is known of them.
    """
    for term in terms:
        if not isinstance(term, Known) or term.members.block != POINT_BLOCK:
            continue
        own = points[term.members.rows] & np.isfinite(term.xyz).all(1)
        rows = term.members.rows[own]
        _seen_from(problem, rows, term.xyz[own], problem.anchors[rows])
