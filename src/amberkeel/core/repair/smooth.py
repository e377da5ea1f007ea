"""The path's own repairs: frames bridged, positions smoothed, and the camera aimed again so that the picture fits.

Smoothing is a local quadratic fit under a Gaussian of a stated width in frames (Cleveland 1979, Savitzky and Golay
1964): it keeps what bends slowly and takes away what trembles. Bridging leaves frames out of that fit.
"""

from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.path import channels_of
from amberkeel.core.errors import SolveError
from amberkeel.core.repair.aim import aimed
from amberkeel.core.solve.solution import Solution

ALL, POSITION, ROTATION = "all", "position", "rotation"
CHANNELS = (POSITION, ALL, ROTATION)
"""What is bridged: positions, the camera being aimed again; turns too, nothing being aimed; turns alone."""

BRIDGE_WIDTH = 2.0
"""Sigma of the Gaussian under which a bridge's neighbours are fitted, frames, beyond the way to the nearest of them."""

LEAST_BESIDE = 4
"""Frames with a camera that a bridge needs beside it."""

MOST_STRENGTH = 48.0
"""Frames over which a path is smoothed at the most."""


def bridged(solution: Solution, frames: tuple[int, ...], channels: str = POSITION) -> Solution:
    """Return a solution whose path goes over some frames as those beside them tell.

    Parameters
    ----------
    solution : solved. frames : numbers that are bridged. channels : POSITION interpolates positions and aims the camera
        again at the picture; ROTATION and ALL take turns from the frames beside, or both, and aim nothing.

    Raises
    ------
    SolveError : no such frames, or too few beside them, as at the first or the last frame.
    """
    path = solution.path
    rows = np.nonzero(np.isin(path.frames, frames))[0]
    if not len(rows):
        raise SolveError("None of these frames has a camera.", "Brush the frames to bridge on a lane.")
    if rows[0] == 0 or rows[-1] == len(path.frames) - 1:
        raise SolveError(
            "The first and the last frame have nothing on one side to bridge from.",
            "Let their tracks count less, or measure them anew.",
        )
    kept = np.setdiff1d(np.arange(len(path.frames)), rows)
    if len(kept) < 2 * LEAST_BESIDE:
        raise SolveError("Too few frames are left to bridge from.", "Choose fewer frames.")
    own = {POSITION: (True, False), ROTATION: (False, True), ALL: (True, True)}[channels]
    moved = _with_channels(path, _interpolated(path, rows, kept), rows, *own)
    return aimed(solution, moved, rows if channels == POSITION else rows[:0])


def carried_over(path: CameraPath, frames: np.ndarray) -> CameraPath:
    """Return a path that goes over frames as those beside them tell, with a pose on those that it lacked.

    Parameters
    ----------
    path : solved. frames : (K,) numbers between its first frame and its last.

    Raises
    ------
    SolveError : too few frames are left beside them.
    """
    every = np.union1d(path.frames, frames)
    rows, kept = np.searchsorted(every, frames), np.nonzero(~np.isin(every, frames))[0]
    if len(kept) < 2 * LEAST_BESIDE:
        raise SolveError("Too few frames are left to go by.", "Choose fewer frames.")
    nearest = path.taken(np.abs(path.frames[:, None] - every[None]).argmin(0))
    zoom = None if path.zoom is None else np.interp(every, path.frames, path.zoom)
    there = replace(nearest, frames=every, zoom=zoom)
    return _with_channels(there, _interpolated(there, rows, kept), rows, True, True)


def _interpolated(path: CameraPath, rows: np.ndarray, kept: np.ndarray) -> np.ndarray:
    """Return the path's channels (F, 6), on some rows as the kept rows beside them tell."""
    values = channels_of(path)
    for row in rows:
        near = kept[np.argsort(np.abs(path.frames[kept] - path.frames[row]), kind="stable")[: 2 * LEAST_BESIDE]]
        offsets = path.frames[near] - path.frames[row]
        values[row] = _local(offsets, values[near], BRIDGE_WIDTH + np.abs(offsets).min() - 1.0)
    return values


def smoothed(solution: Solution, strength: float, frames: tuple[int, ...] | None = None) -> Solution:
    """Return a solution with its positions smoothed and its camera aimed again, so that the picture is met.

    Parameters
    ----------
    solution : solved. strength : one sigma of the fit's Gaussian, frames. frames : numbers of the frames that are
        smoothed, blended in over the strength at their ends; None for all.

    Raises
    ------
    SolveError : a strength that cannot be, or a camera that does not move.
    """
    if not 0.3 <= strength <= MOST_STRENGTH:
        raise SolveError(f"A strength of {strength:g} frames is impossible.", f"Give 0.3 to {MOST_STRENGTH:g} frames.")
    path = solution.path
    if not np.ptp(path.positions, axis=0).any():
        raise SolveError("This camera does not move.", "There are no positions to smooth.")
    values, share = channels_of(path), _share(path.frames, frames, strength)
    rows = np.nonzero(share > 1e-3)[0]
    if not len(rows):
        raise SolveError("None of these frames has a camera.", "Brush the frames to smooth on a lane.")
    out = values.copy()
    reach = int(np.ceil(3.0 * strength)) + 1
    for row in rows:
        near = np.arange(max(0, int(row) - reach), min(len(values), int(row) + reach + 1))
        out[row] += share[row] * (_local(path.frames[near] - path.frames[row], values[near], strength) - values[row])
    return aimed(solution, _with_channels(path, out, rows, True, False), rows)


def _share(frames: np.ndarray, chosen: tuple[int, ...] | None, strength: float) -> np.ndarray:
    """Return by how much each frame (F,) is smoothed, 0 to 1, falling off beside the chosen ones."""
    if chosen is None:
        return np.ones(len(frames))
    away = np.abs(frames[:, None] - np.array(sorted(chosen))[None]).min(1)
    return np.exp(-0.5 * (away / max(strength, 1.0)) ** 2) * (away < 3.0 * max(strength, 1.0))


def _local(offsets: np.ndarray, values: np.ndarray, width: float) -> np.ndarray:
    """Return the value (C,) at offset 0 of a quadratic fitted to values (n, C) under a Gaussian of a width, frames."""
    weight = np.exp(-0.25 * (offsets / width) ** 2)
    design = np.vander(offsets.astype(float), 3, increasing=True)
    return np.linalg.lstsq(weight[:, None] * design, weight[:, None] * values, rcond=None)[0][0]


def _with_channels(path: CameraPath, values: np.ndarray, rows: np.ndarray, positions: bool, turns: bool) -> CameraPath:
    """Return the path with channels (F, 6) as `channels_of` names them put in on some rows."""
    middle = path.world_from_camera[len(path.frames) // 2]
    where, turned = path.positions.copy(), path.world_from_camera.copy()
    if positions:
        where[rows] = values[rows, :3] @ middle.T
    if turns:
        turned[rows] = middle @ Rotation.from_rotvec(values[rows, 3:]).as_matrix()
    return replace(path, positions=where, world_from_camera=turned)
