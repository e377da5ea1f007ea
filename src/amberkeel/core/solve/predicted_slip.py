"""Predicted slip: how far an object that is put on the set now would slide against the plate, by what the solve does
not know.

Each sample of the jackknife is another camera path that the tracks allow. An object on the set is seen by it elsewhere;
what remains after it is put where that camera sees it best is slip. So an error that moves camera and object alike
(a scale, a depth that nothing tells) counts for nothing, as on the plate.
"""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.shifts import Shifts
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED

MOST_FRAMES = 32
"""Frames that an object is followed over, evenly taken from those of the path."""

LEAST_SEEN = 4
"""Of those, frames on which it must be seen."""

NEIGHBOURS = 4
"""Solved points around a spot of the picture that its depth is taken from."""

REACH = 0.2
"""Distance to the nearest of them, in widths of the picture, from which nothing is said."""

STEP = 1e-4
"""Share of its distance by which an object is moved for derivatives."""

HARDLY = 1e-9
"""Share of the largest curvature below which a direction counts as undetermined."""


@dataclass(frozen=True)
class SlipMap:
    """Predicted slip over the picture.

    Attributes
    ----------
    frame : number. columns, rows : cells of the picture. px : (rows, columns), one sigma of the slip, pixels RMS over
    the frames in which an object at the cell's middle is seen; NaN where nothing near was solved.
    """

    frame: int
    columns: int
    rows: int
    px: np.ndarray


def predicted_slip(solution: Solution, frame: int, columns: int = 16, rows: int = 9) -> SlipMap:
    """Return the slip predicted for objects that are put on the set as it is seen on one frame.

    Parameters
    ----------
    solution : with its shifts. frame : number; one that has a camera. columns, rows : of the map.

    Raises
    ------
    KeyError : the frame has no camera.
    """
    path, at = solution.path, solution.path.index_of(frame)
    empty = np.full(columns * rows, np.nan)
    if solution.shifts is None or not len(solution.shifts):
        return SlipMap(frame, columns, rows, empty.reshape(rows, columns))
    lens = path.lens
    x, y = np.meshgrid((np.arange(columns) + 0.5) / columns * lens.width, (np.arange(rows) + 0.5) / rows * lens.height)
    spots = np.stack([x.ravel(), y.ravel()], 1)
    depth, near = _depths(solution, at, spots)
    empty[near] = slip_sigma(path, solution.shifts, _placed(path, at, spots[near], depth[near]))
    return SlipMap(frame, columns, rows, empty.reshape(rows, columns))


def slip_sigma(path: CameraPath, shifts: Shifts, xyz: np.ndarray) -> np.ndarray:
    """Return one sigma of the slip of points (P, 3), pixels (P,), NaN for those seen on too few frames.

    Parameters
    ----------
    path : solved. shifts : of it. xyz : (P, 3) in its world.
    """
    chosen = np.unique(np.linspace(0, len(path.frames) - 1, MOST_FRAMES).astype(int))
    seen, px = _seen(path, chosen, xyz)
    jacobian = _by_position(path, chosen, xyz, px) * seen[..., None, None]
    curvature = np.einsum("pmai,pmaj->pij", jacobian, jacobian)
    top = np.trace(curvature, axis1=1, axis2=2)
    curvature += HARDLY * np.maximum(top, 1e-12)[:, None, None] * np.eye(3)
    count = seen.sum(1)
    squares = np.zeros((len(shifts), len(xyz)))
    for k in range(len(shifts)):
        moved = np.nan_to_num(_project(shifts.camera(path, k), chosen, xyz) - px) * seen[..., None]
        follows = np.linalg.solve(curvature, np.einsum("pmai,pma->pi", jacobian, moved)[..., None])[..., 0]
        left = moved - np.einsum("pmai,pi->pma", jacobian, follows)
        squares[k] = (left**2).sum((1, 2)) / np.maximum(count, 1)
    return np.where(count >= LEAST_SEEN, np.sqrt(shifts.variance(squares)), np.nan)


def _project(path: CameraPath, rows: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """Return pixels (P, M, 2) of points (P, 3) in rows (M,)."""
    points, frames = np.repeat(xyz, len(rows), 0), np.tile(rows, len(xyz))
    return path.project_read(points, frames).reshape(len(xyz), len(rows), 2)


def _seen(path: CameraPath, rows: np.ndarray, xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return where points are in the picture (P, M) bool, and at which pixels (P, M, 2)."""
    points, frames = np.repeat(xyz, len(rows), 0), np.tile(rows, len(xyz))
    px, inside = path.seen(points, frames)
    return inside.reshape(len(xyz), len(rows)), np.nan_to_num(px).reshape(len(xyz), len(rows), 2)


def _by_position(path: CameraPath, rows: np.ndarray, xyz: np.ndarray, px: np.ndarray) -> np.ndarray:
    """Return derivatives (P, M, 2, 3) of pixels by each point's position, in units of its distance."""
    reach = np.linalg.norm(xyz - path.positions[0], axis=1, keepdims=True)
    with np.errstate(all="ignore"):
        steps = [(_project(path, rows, xyz + STEP * reach * axis) - px) / STEP for axis in np.eye(3)]
    return np.nan_to_num(np.stack(steps, -1))


def _depths(solution: Solution, at: int, spots: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the depth (S,) of the set at spots (S, 2) of a row's picture, and where it is known, (S,) bool."""
    path = solution.path
    state = np.array(solution.tracks.states, object)
    xyz = solution.points.positions(path.positions[0])[solution.points.known & (state != EXCLUDED)]
    px, inside = path.seen(xyz, at)
    if inside.sum() < NEIGHBOURS:
        return np.ones(len(spots)), np.zeros(len(spots), bool)
    away, nearest = cKDTree(px[inside]).query(spots, NEIGHBOURS)
    weight = 1.0 / np.maximum(away, 1.0)
    depth = path.to_camera(xyz[inside], at)[:, 2]
    inverse = (weight / depth[nearest]).sum(1) / weight.sum(1)
    return 1.0 / inverse, away[:, 0] < REACH * path.lens.width


def _placed(path: CameraPath, at: int, spots: np.ndarray, depth: np.ndarray) -> np.ndarray:
    """Return where rays through spots (S, 2) of a row meet the set at depths (S,), (S, 3)."""
    rays = np.concatenate([path.normalise(spots, at), np.ones((len(spots), 1))], 1) * depth[:, None]
    return rays @ path.world_from_camera[at].T + path.positions[at]
