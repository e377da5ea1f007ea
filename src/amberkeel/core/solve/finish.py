"""From an adjusted problem to a solution: a level world, every track judged by the finished camera."""

from dataclasses import replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.lens import Lens
from amberkeel.core.points import PointSet
from amberkeel.core.solve import reasons as why
from amberkeel.core.solve.held_lens import with_focal
from amberkeel.core.solve.lens_report import LensReport
from amberkeel.core.solve.motions import DIRECTIONS, FREE, Rival
from amberkeel.core.solve.outliers import FINAL_SCALE, TRACK_SHARE, judge_by_rule
from amberkeel.core.solve.problem import SIGMA_FLOOR_PX, Problem, level_world
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.residuals import residuals
from amberkeel.core.solve.rows import row_drift
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.terms import Figure
from amberkeel.core.solve.turn import released
from amberkeel.core.solve.uncertainty import Uncertainty
from amberkeel.core.solve.world_frame import World, tangents
from amberkeel.core.tracks import CHECK, EXCLUDED, TrackSet

DEPTH_KNOWN = 0.5
"""Sigma of an inverse depth, as a share of it, from which a depth counts as unknown."""

DRIFT_PASSES = 2
"""Passes in which withheld tracks are triangulated and their rows' drifts taken anew."""


def make_solution(
    problem: Problem,
    tracks: TrackSet,
    dropped: np.ndarray,
    counted: np.ndarray,
    sure: Uncertainty,
    report: LensReport,
    recipe: Recipe,
    size: tuple[int, int],
    terms: tuple[Figure, ...] = (),
    motion: str = FREE,
    rivals: tuple[Rival, ...] = (),
    solved_points: np.ndarray | None = None,
    standing: tuple[tuple[int, int], ...] = (),
) -> Solution:
    """Judge every track with the finished camera and put the figures together.

    Parameters
    ----------
    problem : adjusted; it is left as it is. tracks : as measured, with the states that the solve used.
    dropped : (T,) bool, tracks that are outliers as a whole. counted : (N,) bool, measurements that were adjusted to.
    sure : how sure the problem is. report : of its lens. size : width and height of the picture, pixels.
    terms : what further knowledge says. motion : how the camera moves. rivals : the explanations that were compared.
    solved_points : (M,) rows of the tracks whose points' covariances `sure` has. standing : stretches in which the
        camera stands still.
    """
    judge = problem.copied()
    judge.inlier[:] = True
    judge.triangulate(~judge.active, FINAL_SCALE)
    for _ in range(DRIFT_PASSES if judge.lens.readout else 0):
        judge.drift = row_drift(judge, judge.lens.readout)
        judge.triangulate(~judge.active, FINAL_SCALE)
    world, far = (World(), False) if recipe.within else _world_of(judge, motion)
    radius = recipe.radius if far else None
    path, points = _in_world(judge, tracks.ids, _solved_lens(judge, recipe, size), world, radius)
    errors = residuals(path, points, tracks)
    checks = tracks.in_state(CHECK) & ~dropped
    agree, share = judge_by_rule(tracks, errors, np.hypot(tracks.sigma, SIGMA_FLOOR_PX), counted)
    moving = checks & (share < TRACK_SHARE)
    codes = {int(t): why.DISAGREES for t in np.nonzero(dropped)[0]} | {
        int(t): why.CHECK_MOVES for t in np.nonzero(moving)[0]
    }
    reasons = {
        int(tracks.ids[t]): Reason(code, (tracks.names[t],), {"agree_share": float(share[t])})
        for t, code in codes.items()
    }
    states = [EXCLUDED if d else s for d, s in zip(dropped, tracks.states)]
    outlier = ~(counted | (agree & (checks & ~moving)[tracks.track_of_sample]))
    return Solution(
        path, replace(tracks, states=states), points, outlier, reasons, errors, report, sure.noise_factor,
        sure.position_sigma * world.scale, motion, recipe, terms, rivals,
        _point_covariances(problem, sure, solved_points, motion, world), standing, rotation_sigma=sure.rotation_sigma,
        shifts=sure.shifts and sure.shifts.moved(world.scale, world.world_from_solve),
    )  # fmt: skip


def _point_covariances(
    problem: Problem, sure: Uncertainty, rows: np.ndarray | None, motion: str, world: World
) -> np.ndarray:
    """Return the covariances of the points (T, 3, 3) in world units squared; NaN for tracks that did not serve, and
    where depth is as good as unknown.
    """
    out = np.full((len(problem.rhos), 3, 3), np.nan)
    if rows is None or motion in DIRECTIONS:
        return out
    for row, own in zip(rows, sure.points):
        m, rho = problem.directions[row], problem.rhos[row]
        if rho * DEPTH_KNOWN < np.sqrt(own[2, 2]):
            continue
        j = world.scale * world.world_from_solve @ np.column_stack([tangents(m) / rho, -m / rho**2])
        out[row] = j @ own @ j.T
    return out


def _solved_lens(problem: Problem, recipe: Recipe, size: tuple[int, int]) -> Lens:
    if recipe.held_lens:
        return with_focal(recipe.held_lens, problem.lens.focal)
    return problem.lens.as_lens(*size)


def _world_of(problem: Problem, motion: str) -> tuple[World, bool]:
    """Return the world of a solve: the one that evidence is stated in, else a level one with the first camera at the
    origin and the median point at the usual distance; and whether all points are put there, since only their
    directions are known.
    """
    far = motion in DIRECTIONS
    return problem.world if problem.world.known else level_world(released(problem), directions_only=far), far


def camera_of(problem: Problem, lens: Lens) -> CameraPath:
    """Return the camera of a problem as it stands, in the solve's own coordinates, on the frames that are solved."""
    problem = released(problem)
    zoom = np.exp(problem.zoom_basis @ problem.zoom) if len(problem.zoom) else None
    own = problem.solved
    return CameraPath(
        problem.frames[own], problem.centres[own], problem.rotations[own], lens, None if zoom is None else zoom[own],
        problem.lens.readout,
    )  # fmt: skip


def _in_world(
    problem: Problem, ids: np.ndarray, lens: Lens, world: World, radius: float | None
) -> tuple[CameraPath, PointSet]:
    """Return the path and the points of a solve in a world; `radius` puts all points at that distance."""
    problem = released(problem)
    rhos = problem.rhos[:, None] if radius is None else np.full_like(problem.rhos, 1.0 / radius)[:, None]
    homogeneous = np.hstack([problem.directions + rhos * problem.anchors, rhos])
    points = PointSet(ids, np.where(problem.triangulated[:, None], homogeneous, np.nan))
    similarity = world.scale, world.world_from_solve, world.shift
    return camera_of(problem, lens).moved(*similarity), points.moved(*similarity)
