"""A camera aimed again along a path whose positions are given, so that the picture is met as well as it can be."""

from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.residuals import residuals
from amberkeel.core.solve.resume import resumed
from amberkeel.core.solve.solution import Solution

ITERATIONS = 6
"""Steps of Gauss and Newton in which rotations are found."""

ROUNDS = 2
"""Rounds of aiming and of triangulating anew."""

REGULAR = 1e-9
"""Share of a rotation's information added to its diagonal."""


def aimed(solution: Solution, path: CameraPath, rows: np.ndarray) -> Solution:
    """Return a solution judged by another path whose rotations were solved again on some frames, and its points
    triangulated anew.

    Parameters
    ----------
    solution : with the tracks that are to be met. path : its positions are kept. rows : (K,) of the path, those that
        are aimed.
    """
    out = solution.judged(path)
    for _ in range(ROUNDS):
        out = out.judged(_turned(out, rows))
        problem, _ = resumed(out)
        good = problem.triangulated & problem.active
        homogeneous = out.points.homogeneous.copy()
        anew = np.hstack([problem.directions + problem.rhos[:, None] * problem.anchors, problem.rhos[:, None]])
        order = np.argsort(out.points.ids)
        at = order[np.searchsorted(out.points.ids, out.tracks.ids[good], sorter=order)]
        homogeneous[at] = anew[good]
        out = out.judged(out.path, replace(out.points, homogeneous=homogeneous))
    return replace(out, shifts=None, position_sigma=solution.position_sigma, rotation_sigma=solution.rotation_sigma)


def _turned(solution: Solution, rows: np.ndarray) -> CameraPath:
    """Return the path with rotations on some rows that meet the measurements best, all else given: robust Gauss-Newton,
    each row by itself.
    """
    path, tracks = solution.path, solution.tracks
    row = path.rows_of(tracks.frames)
    at = np.nonzero(solution.counted & np.isin(row, rows))[0]
    sigma = solution.stated_sigma[at] * max(solution.noise_factor, 0.5)
    own, count, focal = row[at], len(path.frames), path.lens.focal_px[0]
    for _ in range(ITERATIONS):
        error = residuals(path, solution.points, tracks)[at]
        live = np.isfinite(error).all(1)
        e, k = error[live] / sigma[live, None], own[live]
        weight = 1.0 / (1.0 + (e**2).sum(1) / FINAL_SCALE**2)
        centred = (tracks.xy[at[live]] - np.array(path.lens.principal_px)) / focal
        x, y = centred.T
        scale = focal / sigma[live]
        across = np.stack([x * y, -(1 + x * x), y], 1) * scale[:, None]
        down = np.stack([1 + y * y, -x * y, -x], 1) * scale[:, None]
        normal, side = np.zeros((count, 3, 3)), np.zeros((count, 3))
        for derivative, part in ((across, e[:, 0]), (down, e[:, 1])):
            for a in range(3):
                side[:, a] += np.bincount(k, weight * derivative[:, a] * part, count)
                for b in range(3):
                    normal[:, a, b] += np.bincount(k, weight * derivative[:, a] * derivative[:, b], count)
        trace = np.maximum(np.einsum("faa->f", normal), 1e-12)
        step = -np.linalg.solve(normal + REGULAR * trace[:, None, None] * np.eye(3), side[..., None])[..., 0]
        step = np.where((np.bincount(k, minlength=count) >= 3)[:, None], np.clip(step, -0.1, 0.1), 0.0)
        turned = path.world_from_camera @ Rotation.from_rotvec(step).as_matrix()
        path = replace(path, world_from_camera=turned)
    return path
