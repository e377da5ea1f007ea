"""Somebody else's camera as an attempt: its path and lens held exactly, points triangulated through it, and judged as
any solve is.
"""

from dataclasses import replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.evidence.statement import Hold
from amberkeel.core.solve.held_zoom import with_zoom, without_zoom
from amberkeel.core.solve.lens_plan import FIXED, LensChoice
from amberkeel.core.solve.motions import FREE
from amberkeel.core.solve.recipe import KNOWN_ROWS, NO_ROWS, Recipe
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet

LEAST_FRAMES = 8
"""Frames of the plate that a camera must have to be an attempt."""


def adopted(path: CameraPath, tracks: TrackSet, frames: np.ndarray, name: str, progress: Progress = silent) -> Solution:
    """Return the solution that a given camera is: no frame of it and no value of its lens is moved.

    Parameters
    ----------
    path : the camera, with its lens as it sees the plate, metres. tracks : measured on the plate. frames : (F,) of the
        plate. name : of the file that it came from. progress : called with the share done.

    Raises
    ------
    HandoffError : it has too few of the plate's frames, gaps among them. SolveError : the tracks do not fit.
    """
    own = np.intersect1d(path.frames, frames)
    if len(own) < LEAST_FRAMES or own[-1] - own[0] != len(own) - 1:
        raise HandoffError(
            f"This camera has {len(own)} frames of the plate, or gaps among them.",
            f"An attempt takes {LEAST_FRAMES} frames in a row or more.",
        )
    path = path.taken(path.rows_of(own))
    held = replace(path, zoom=None)
    hold = Hold(
        name=f"camera of {name}"[:60], exact=True, frames=own.tolist(), positions=held.positions.tolist(),
        rotations=held.world_from_camera.tolist(),
    )  # fmt: skip
    recipe = Recipe(
        motion=FREE, begin=held, evidence=(hold,), held_lens=path.lens, pixel_aspect=path.lens.pixel_aspect,
        lens={"focal": LensChoice(FIXED, path.lens.focal_px[0])}, rows=KNOWN_ROWS if path.readout else NO_ROWS,
        readout=path.readout or None,
    )  # fmt: skip
    flat = without_zoom(tracks, path)
    return with_zoom(solve_tracks(flat, own, path.lens.width, path.lens.height, recipe, progress), path)
