"""Solving with a zoom that is held: measurements are taken to the lens's middle focal length, and put back afterwards.

A zoom moves pixels about the optical centre, `centre + zoom * (px - centre)`, distortion included (`CameraPath.zoom`).
"""

from dataclasses import replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import TrackSet


def without_zoom(tracks: TrackSet, camera: CameraPath) -> TrackSet:
    """Return tracks on frames that a camera has, as a lens of its own focal length sees them; none where it has none.

    Parameters
    ----------
    tracks : measured, pixels. camera : whose zoom is taken off.
    """
    own = tracks.on_frames(np.intersect1d(tracks.frames, camera.frames))
    if camera.zoom is None:
        return own
    return _scaled(own, camera, 1.0 / camera.zoom[camera.rows_of(own.frames)])


def with_zoom(solution: Solution, camera: CameraPath) -> Solution:
    """Return a solution of tracks whose zoom was taken off, with the zoom in its path and its tracks as measured.

    Parameters
    ----------
    solution : of what `without_zoom` gave. camera : the same.
    """
    if camera.zoom is None:
        return solution
    share = camera.zoom[camera.rows_of(solution.tracks.frames)]
    path = replace(solution.path, zoom=camera.zoom[camera.rows_of(solution.path.frames)])
    tracks = _scaled(solution.tracks, camera, share)
    return replace(solution, path=path, tracks=tracks, residuals=solution.residuals * share[:, None])


def _scaled(tracks: TrackSet, camera: CameraPath, share: np.ndarray) -> TrackSet:
    """Return tracks moved about the optical centre by a share (N,) of each measurement, their noise with them."""
    centre = np.array(camera.lens.principal_px)
    return replace(tracks, xy=centre + (tracks.xy - centre) * share[:, None], sigma=tracks.sigma * share)
