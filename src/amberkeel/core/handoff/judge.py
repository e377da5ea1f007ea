"""How well anybody's camera fits a plate: tracks are triangulated through it and judged in pixels, as check tracks are.

The camera itself is never moved: what is said is the residual of points that are best for it (Hartley and Sturm 1997).
"""

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.camera_files import Picture, read_camera
from amberkeel.core.handoff.writers.base import UNSTATED_WIDTH
from amberkeel.core.lens import Lens
from amberkeel.core.plate.plate import Plate
from amberkeel.core.points import points_at
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.outliers import judge_by_rule
from amberkeel.core.solve.problem import SIGMA_FLOOR_PX
from amberkeel.core.solve.residuals import residuals, rms, rms_by
from amberkeel.core.ties.located import located
from amberkeel.core.tracks import EXCLUDED, TrackSet

LEAST_FRAMES, LEAST_TRACKS = 4, 8
"""Frames of the camera that a track must have to be judged, and tracks that are needed."""

ASPECT = 0.005
"""Relative difference of the picture's shape from which a camera is of another picture."""


PROXIES = (1 / 4, 1 / 3, 1 / 2, 1.0, 2.0, 3.0, 4.0)
"""Sizes of a plate over that of the picture that a camera was made on, of which it is the same camera."""


@dataclass(frozen=True)
class Judged:
    """How well a camera fits.

    Attributes
    ----------
    rms_px : of the measurements that agree with it by the robust rule. median_px : of all. outliers : share of
        measurements that do not agree. tracks : how many were judged. frames : (F,) numbers. frame_px : (F,) RMS.
        names, track_px : of the tracks, RMS.
    """

    rms_px: float
    median_px: float
    outliers: float
    tracks: int
    frames: np.ndarray
    frame_px: np.ndarray
    names: tuple[str, ...]
    track_px: np.ndarray

    def worst_frames(self, count: int = 5) -> list[tuple[int, float]]:
        """Return the frames with the largest residual, worst first."""
        order = np.argsort(-np.nan_to_num(self.frame_px))[:count]
        return [(int(self.frames[k]), float(self.frame_px[k])) for k in order]


def judged(path: CameraPath, tracks: TrackSet, progress: Progress = silent) -> Judged:
    """Return how well a camera fits tracks.

    Parameters
    ----------
    path : the camera, with its lens. tracks : measured on its plate. progress : called with the share done.

    Raises
    ------
    HandoffError : too few tracks lie on its frames, or hardly one has a place in front of it.
    """
    on = path.rows_of(tracks.frames)
    xyz = np.full((len(tracks), 3), np.nan)
    for t in range(len(tracks)):
        samples = tracks.rows(t)
        own = np.nonzero(on[samples] >= 0)[0]
        if tracks.states[t] == EXCLUDED or len(own) < LEAST_FRAMES:
            continue
        sigma = np.hypot(tracks.sigma[samples][own], SIGMA_FLOOR_PX)
        found = located(path, on[samples][own], tracks.xy[samples][own], sigma)
        if found is not None:
            xyz[t] = found.xyz
        if t % 50 == 0:
            progress(t / len(tracks), "Triangulating tracks through the camera")
    known = np.isfinite(xyz).all(1)
    if known.sum() < LEAST_TRACKS:
        raise HandoffError(
            f"{known.sum()} tracks have a place in front of this camera: too few to judge it.",
            "Has it the plate's frame numbers, and is it of this plate?",
        )
    error = residuals(path, points_at(tracks.ids, xyz), tracks)
    used = known[tracks.track_of_sample] & (on >= 0)
    agree, _ = judge_by_rule(tracks, error, np.hypot(tracks.sigma, SIGMA_FLOOR_PX), used & np.isfinite(error[:, 0]))
    good = np.where((agree & used)[:, None], error, np.nan)
    size = np.linalg.norm(error[used], axis=1)
    frame_px = rms_by(error[on >= 0], on[on >= 0], len(path.frames))
    return Judged(
        rms(good), float(np.nanmedian(size)), 1.0 - float((agree & used).sum() / max(used.sum(), 1)), int(known.sum()),
        path.frames, frame_px, tuple(tracks.names), rms_by(error, tracks.track_of_sample, len(tracks)),
    )  # fmt: skip


def camera_for(path: Path, plate: Plate, lens: Lens | None = None, name: str = "", offset: int = 0) -> CameraPath:
    """Return the camera of a file (USD, glTF, COLLADA, solve.json or a table) as it sees a plate.

    Parameters
    ----------
    path : of the file. plate : on which it is judged. lens : whose distortion it has, None for none. name : of the
        camera, where the file has several. offset : that was added to the plate's frame numbers.

    Raises
    ------
    HandoffError : it is none of these, holds no such camera, is of another picture's shape, or of other frames.
    """
    if not path.is_file():
        raise HandoffError(f"There is no file {path.name}.")
    own = read_camera(path, Picture(plate.width, plate.height, float(plate.fps or 24)), offset, name)
    shape = own.lens.width * own.lens.pixel_aspect / own.lens.height
    wanted = plate.width * plate.pixel_aspect / plate.height
    if abs(shape / wanted - 1.0) > ASPECT:
        raise HandoffError(
            f"This camera's picture is {shape:.3f} times as wide as high, the plate is {wanted:.3f}.",
            "With overscan, judge it on the straightened plate.",
        )
    scale = plate.width / own.lens.width
    if own.lens.width != UNSTATED_WIDTH and min(abs(scale - n) for n in PROXIES) > 1e-3:
        raise HandoffError(
            f"This camera is of a picture of {own.lens.width}x{own.lens.height}, the plate of "
            f"{plate.width}x{plate.height}.",
            "With overscan, judge it on the straightened plate.",
        )
    seen = own.lens.with_focal(own.lens.focal_px[0] * scale)
    centre = own.lens.principal_px[0] * scale, own.lens.principal_px[1] * plate.height / own.lens.height
    seen = replace(seen, width=plate.width, height=plate.height, principal_px=centre)
    if lens is not None:
        seen = seen.with_coefficients(lens.coefficients)
    if not np.intersect1d(own.frames, plate.frames).size:
        raise HandoffError(
            f"This camera has frames {own.frames[0]}-{own.frames[-1]}, the plate {plate.frames[0]}-{plate.frames[-1]}.",
            "Say by how much they differ: --offset.",
        )
    return replace(own, lens=seen)
