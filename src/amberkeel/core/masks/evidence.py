"""What a frame tells of motion of its own: on a grid of spots, how far each departs from standing still, and how much
better its own motion explains the pictures than any still point does (`still`).
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import MaskError, SolveError
from amberkeel.core.follow.detect import grain_sigma
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.leads import KEPT, Leads, grid_of
from amberkeel.core.masks.still import ask_colours, ask_pictures, dealt, fit_depths
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.rough import TRUSTED, RoughCamera, rough_camera
from amberkeel.core.tracks import TrackSet

NEAREST = 8.0
"""How many times nearer than the middle point a still point may be."""

DEPARTS = 3.0
"""Departure over what is usual on the frame from which the pictures are asked."""

LEAST_DEPARTURE_PX = 0.35
"""What is taken as usual at the least, analysis pixels."""

SAME_EXPOSURE = 0.03
"""Share by which two frames may differ in brightness and be compared as they are."""

LEAST_TOLD = 2
"""Frames to which a spot must be led for its departure to count."""

NOISE = 3.0
"""Sigma with which the same patch differs from frame to frame beyond grain, 8-bit code values."""


@dataclass(frozen=True)
class Evidence:
    """What a frame tells on its grid of spots.

    Attributes
    ----------
    departure : (gh, gw) float32, over what is usual on the frame; NaN where a spot could not be led. ratio : (gh, gw)
        float32, by how much a motion of its own explains the pictures better, log likelihood a sample; 0 where nothing
        speaks for it. unlike : (gh, gw) float32, by how much a spot differs from what stands still about it, mean
        square over the noise; 0 where a spot is known to stand still, NaN where nothing tells. shaded : (gh, gw)
        float32, by which factor only its light differs from what stands still there; 1 where that is not so.
        usual_px : the usual departure, analysis pixels.
    """

    departure: np.ndarray
    ratio: np.ndarray
    unlike: np.ndarray
    shaded: np.ndarray
    usual_px: float


class EvidenceReader:
    """Evidence of a plate's frames, by a camera found before or a rough one."""

    def __init__(self, plate: Plate, camera: RoughCamera, flows: FlowReader | None = None, leads: Leads | None = None):
        self.plate, self.camera, path = plate, camera, camera.path
        self.flows = flows or FlowReader(plate, KEPT)
        self.leads = leads or Leads(self.flows)
        self.grid, self.spots, height = grid_of(self.flows), self.leads.spots, self.flows.size[1]
        scale, lens = self.flows.scale, path.lens
        self._lens = np.array(
            [*(f * scale for f in lens.focal_px), *(c * scale for c in lens.principal_px), path.readout, height]
        )
        self._near = camera.inverse_distance
        self._rates = _rates(path)
        self._kept_rays: dict[int, np.ndarray] = {}
        self._levels: dict[int, float] = {}
        grain = grain_sigma(plate.gray(int(plate.frames[len(plate.frames) // 2]))) * scale
        self._sigma = float(np.hypot(NOISE, 1.2 * grain))

    def partners(self, frame: int) -> list[int]:
        """Return the frames that one is compared with, rising: those that the camera has."""
        known = self.camera.path.frames
        return [other for other in self.leads.partners(frame) if known[0] <= other <= known[-1]]

    def read(self, frame: int) -> Evidence | None:
        """Return a frame's evidence; None where the camera does not have it, or too little beside it."""
        path = self.camera.path
        partners = self.partners(frame)
        if path.rows_of(np.array([frame]))[0] < 0 or not partners:
            return None
        found, xy, alive = self.leads.of(frame)
        own = [found.index(f) for f in partners]
        xy, alive = xy[:, own], alive[:, own]
        rows = path.rows_of(np.array(partners))
        alive &= (rows >= 0)[None]
        rows = np.maximum(rows, 0)
        cameras, rays = self._cameras(path.index_of(frame), rows), self._rays(frame)
        n, depth = len(rays), NEAREST * self._near
        rho, departure, count = np.zeros(n), np.zeros(n), np.zeros(n, np.int64)
        coefficients = path.lens.coefficients
        fit_depths(cameras, rays, xy, alive, self._lens, coefficients, depth, self._near, rho, departure, count)
        departure[count < LEAST_TOLD] = np.nan
        known = np.isfinite(departure)
        if known.sum() < 0.1 * n:
            return None
        usual = max(LEAST_DEPARTURE_PX, float(np.median(departure[known])))
        odd = known & (departure > DEPARTS * usual)
        ratio, unlike, shaded = np.zeros(n), np.zeros(n), np.ones(n)
        if not (known & ~odd).all():
            depths = np.concatenate([rho[:, None], self._depths_about(rho, known & ~odd)], 1)
            pictures, colours = (np.stack([self._as_bright(frame, f, k) for f in partners]) for k in (1, 0))
            given = self.spots, cameras, rays
            bent = self._lens, coefficients, depths
            luma, here = self.flows.picture(frame)[1], self.flows.picture(frame)[0]
            ask_pictures(luma, pictures, *given, xy, alive, *bent, dealt(odd), self._sigma, usual, ratio)
            nearby = self._lens, coefficients, depths[:, 1:]
            unlike[:] = np.nan
            ask_colours(here, colours, *given, *nearby, dealt(~known | odd), self._sigma, unlike, shaded)
        shape = self.grid[::-1]
        told = (p.astype(np.float32).reshape(shape) for p in (departure / usual, ratio, unlike, shaded))
        over, ahead, odd_looks, light = told
        return Evidence(over, ahead, odd_looks, light, usual)

    def _as_bright(self, frame: int, other: int, which: int) -> np.ndarray:
        """Return another frame's picture (colours 0, luma 1) at the exposure of the frame looked at."""
        picture = self.flows.picture(other)[which]
        gain = self._level(frame) / self._level(other)
        if abs(gain - 1.0) < SAME_EXPOSURE:
            return picture
        return cv2.convertScaleAbs(picture, alpha=gain)

    def _level(self, frame: int) -> float:
        """Return how bright a frame is for the most."""
        if frame not in self._levels:
            self._levels[frame] = max(float(np.median(self.flows.picture(frame)[1][::4, ::4])), 1.0)
        return self._levels[frame]

    def _rays(self, frame: int) -> np.ndarray:
        """Return the spots' rays (N, 3) in the world, each at its own row's time."""
        path, row = self.camera.path, self.camera.path.index_of(frame)
        ahead = self._ahead(row if path.zoom is not None else 0)
        if not path.readout:
            return ahead @ path.world_from_camera[row].T
        tau = path.readout * (self.spots[:, 1] / self.flows.size[1] - 0.5)
        turned = path.world_from_camera[row] + tau[:, None, None] * np.swapaxes(self._rates[0][row], 0, 1)
        return np.einsum("nij,nj->ni", turned, ahead)

    def _ahead(self, row: int) -> np.ndarray:
        """Return the spots' rays (N, 3) in the camera of a row; those of the row asked for last are kept."""
        if row not in self._kept_rays:
            straight = self.camera.path.normalise(self.spots / self.flows.scale, row)
            self._kept_rays = {row: np.concatenate([straight, np.ones((len(straight), 1))], 1)}
        return self._kept_rays[row]

    def _cameras(self, own: int, rows: np.ndarray) -> np.ndarray:
        """Return what `still` needs of the cameras on rows (K,), positions from that of the row looked at."""
        path, (turn, move) = self.camera.path, self._rates
        out = np.zeros((len(rows), 25))
        for k, row in enumerate(rows.tolist()):
            out[k, :9] = path.world_from_camera[row].T.ravel()
            out[k, 9:12] = path.positions[row] - path.positions[own]
            out[k, 12:21], out[k, 21:24] = turn[row].ravel(), move[row]
            out[k, 24] = 1.0 if path.zoom is None else path.zoom[row]
        return out

    def _depths_about(self, rho: np.ndarray, still: np.ndarray) -> np.ndarray:
        """Return inverse distances (N, D) of what stands still about each spot, NaN where nothing does."""
        known = np.where(still, rho, np.nan).reshape(self.grid[::-1])
        ways = (known, known[:, ::-1], known.T, known.T[:, ::-1])
        left, right, above, below = (_last_known(one) for one in ways)
        return np.stack([left.ravel(), right[:, ::-1].ravel(), above.T.ravel(), below[:, ::-1].T.ravel()], 1)


def _last_known(values: np.ndarray) -> np.ndarray:
    """Return values (n, m), each NaN replaced by the last number before it in its row, if there is any."""
    at = np.where(np.isfinite(values), np.arange(values.shape[1]), 0)
    return np.take_along_axis(values, np.maximum.accumulate(at, axis=1), axis=1)


def _rates(path: CameraPath) -> tuple[np.ndarray, np.ndarray]:
    """Return how ``camera_from_world`` (F, 3, 3) and position (F, 3) change over a frame interval, for a rolling
    shutter; 0 for one without.
    """
    count = len(path.frames)
    turn, move = np.zeros((count, 3, 3)), np.zeros((count, 3))
    if path.readout and count > 1:
        turns = np.swapaxes(path.world_from_camera, 1, 2)
        turn, move = np.gradient(turns, axis=0), np.gradient(path.positions, axis=0)
    return turn, move


class Readers:
    """Evidence of a plate's frames by several cameras, each for its own run of frames."""

    def __init__(self, plate: Plate, cameras: list[RoughCamera], flows: FlowReader, leads: Leads | None = None):
        self.flows = flows
        self._readers = [EvidenceReader(plate, camera, flows, leads) for camera in cameras]

    def read(self, frame: int) -> Evidence | None:
        """Return a frame's evidence; None where no camera has it, or too little beside it."""
        for reader in self._readers:
            frames = reader.camera.path.frames
            if frames[0] <= frame <= frames[-1]:
                return reader.read(frame)
        return None


LEAST_PIECE = 10
"""Frames of a part of a plate for which a camera of its own is looked for."""


def cameras_for(plate: Plate, tracks: TrackSet, progress: Progress = silent) -> list[RoughCamera]:
    """Return the cameras by which a plate's tracks stand still, each for a run of frames of its own: more than one
    where a cut or a flash parts the tracks.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it. progress : called with the share done.

    Raises
    ------
    MaskError : there are too few tracks, or no camera explains them on any frames.
    """
    out: list[RoughCamera] = []
    failure: MaskError | None = None
    waiting = [np.asarray(plate.frames)]
    while waiting:
        frames = waiting.pop()
        try:
            found = camera_for(plate, tracks.on_frames(frames), progress, frames)
        except MaskError as error:
            failure = error
            continue
        out.append(found)
        held = found.path.frames
        rest = (frames[frames < held[0]], frames[frames > held[-1]])
        waiting += [part for part in rest if LEAST_PIECE <= len(part) < len(frames)]
    if not out:
        raise failure or MaskError("This plate has no frames.")
    return sorted(out, key=lambda one: int(one.path.frames[0]))


def believed_cameras(
    plate: Plate, tracks: TrackSet, progress: Progress, more: Callable[[], TrackSet] | None
) -> tuple[list[RoughCamera], TrackSet]:
    """Return the cameras of `cameras_for` and the tracks that told them: more of them where what few tracks tell
    explains too little to be believed.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it. progress : called with the share done. more : follows more features,
        or None where the tracks are what they are.

    Raises
    ------
    MaskError : there are too few tracks, or no camera explains them on any frames.
    """
    cameras = cameras_for(plate, tracks, progress)
    if more is None or min(one.explained for one in cameras) >= TRUSTED:
        return cameras, tracks
    tracks = more()
    return cameras_for(plate, tracks, progress), tracks


def camera_for(
    plate: Plate, tracks: TrackSet, progress: Progress = silent, frames: np.ndarray | None = None
) -> RoughCamera:
    """Return the camera by which a plate's tracks stand still.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it. progress : called with the share done. frames : on which, or all.

    Raises
    ------
    MaskError : there are too few tracks, or no camera explains them.
    """
    try:
        return rough_camera(tracks, plate.frames if frames is None else frames, plate.width, plate.height, progress)
    except SolveError as error:
        raise MaskError(
            "How the background moves cannot be told, since no camera explains the tracks.",
            f"{error} Follow features first, with more of them.",
        ) from error
