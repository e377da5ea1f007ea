"""Follow a flat piece of the set as a whole, and lay tracks on it that move with its homography.

For plates with next to no features: a wall with wrinkles has no corner worth following, but the whole of it can be
registered. All tracks of a surface share one fit of eight unknowns a frame, so together they must not weigh more than
four free points would: their noise is raised by the root of their number over four.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.errors import FollowError
from amberkeel.core.follow.blur import SHARP, MotionBlur, blurred_by
from amberkeel.core.follow.patch import PERSPECTIVE, Fit, Patch, shifted
from amberkeel.core.geometry.homography import carried
from amberkeel.core.masks.raster import fill
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TrackSet, from_pieces

WORK_SIDE = 260
"""Longest side of the region in working pixels; a larger one is followed on a smaller picture."""

LEVELS = 3
"""Halvings from which each frame's fit starts."""

MODEL_NOISE_PX = 0.03
LEAST_SCORE = 0.6
FREE_POINTS = 4.0
"""Points whose freedom a homography has."""


@dataclass(frozen=True)
class SurfaceRun:
    """A followed surface.

    Attributes
    ----------
    positions : (M, 2) pixels, the grid on the start frame. warps : by frame, the homography (3, 3) from the start
        frame to it.
    sigmas : by frame, the noise (M,) of the grid's positions, pixels, raised for what they share. scores : by frame,
        the match.
    lost : why it ended early, or "".
    """

    positions: np.ndarray
    warps: dict[int, np.ndarray]
    sigmas: dict[int, np.ndarray]
    scores: dict[int, float]
    lost: str = ""


def grid_inside(outline: np.ndarray, columns: int, rows: int) -> np.ndarray:
    """Return the nodes (M, 2) of a grid over an outline (N, 2) that lie inside it, a little away from its edge.

    Parameters
    ----------
    outline : (N, 2) pixels. columns, rows : of the grid over the outline's bounds.
    """
    low, high = outline.min(0), outline.max(0)
    x, y = (np.linspace(a, b, n + 2)[1:-1] for a, b, n in zip(low, high, (columns, rows)))
    nodes = np.stack(np.meshgrid(x, y), -1).reshape(-1, 2)
    inside = [
        cv2.pointPolygonTest(outline.astype(np.float32).reshape(-1, 1, 2), (float(a), float(b)), True) > 2.0
        for a, b in nodes
    ]
    return nodes[np.array(inside, bool)]


def follow_surface(
    gray: Callable[[int], np.ndarray],
    outline: np.ndarray,
    start: int,
    stops: tuple[int, ...],
    grid: tuple[int, int] = (4, 3),
    predict: Callable[[int, int, np.ndarray], np.ndarray] | None = None,
    blur: Callable[[int], MotionBlur] = lambda frame: SHARP,
    progress: Progress = silent,
) -> SurfaceRun:
    """Follow the inside of an outline (N, 2), drawn on the frame `start`, to each of the frames in `stops`.

    `predict` says where a position moves from one frame to another; `grid` is how many tracks lie across and down.

    Parameters
    ----------
    gray : from frame number to (H, W) uint8. outline : (N, 2) pixels. start : frame that it is drawn on. stops :
        frames to follow to. grid : tracks across and down. predict : from two frames and a position (2,) to that on
        the second. blur : from frame to its motion blur. progress : called with the share done.

    Raises
    ------
    FollowError : an outline too small, out of the picture, or with nothing at all inside it.
    """
    image = gray(start)
    height, width = image.shape
    outline = np.asarray(outline, float)
    if len(outline) < 3 or cv2.contourArea(outline.astype(np.float32)) < 400.0:
        raise FollowError("The surface is smaller than 400 pixels.", "Draw it larger.")
    if (outline < 0).any() or (outline > [width, height]).any():
        raise FollowError("The surface reaches out of the picture.", "Draw it inside.")
    positions = grid_inside(outline, *grid)
    if len(positions) < 4:
        raise FollowError("Fewer than four grid points lie inside the surface.", "Lay a finer grid, or draw it larger.")
    run = _Surface(gray, outline, start, positions, predict, blur)
    count = sum(abs(stop - start) for stop in stops) or 1
    done = 0
    for stop in stops:
        way = 1 if stop > start else -1
        run.begin()
        for frame in range(start + way, stop + way, way):
            if run.step(frame, way):
                break
            done += 1
            progress(done / count, f"Following the surface, frame {frame}")
    return SurfaceRun(positions, dict(sorted(run.warps.items())), run.sigmas, run.scores, " ".join(run.lost))


class _Surface:
    """One surface under way: references of its inside at several sizes, and the newest homography."""

    def __init__(self, gray, outline, start, positions, predict, blur):
        self.gray, self.predict, self.blur, self.start, self.outline, self.positions = (
            gray,
            predict,
            blur,
            start,
            outline,
            positions,
        )
        side = float((outline.max(0) - outline.min(0)).max())
        self.scale = min(1.0, WORK_SIDE / side)
        self.middle = 0.5 * (outline.max(0) + outline.min(0))
        self.warps: dict[int, np.ndarray] = {start: np.eye(3)}
        self.sigmas = {start: np.full(len(positions), MODEL_NOISE_PX)}
        self.scores: dict[int, float] = {start: 1.0}
        self.lost: list[str] = []
        self.references = {k: self._reference(self.scale / 2**k, SHARP) for k in range(LEVELS)}
        if self.references[0] is None:
            raise FollowError(
                "There is nothing at all to see on that surface.",
                "Prepare a tracking copy with more contrast, or draw it elsewhere.",
            )

    def begin(self) -> None:
        self.now = np.eye(3)

    def _reference(self, scale: float, motion_blur: MotionBlur) -> tuple[Patch, np.ndarray] | None:
        """Return the patch at a scale, with the matrix from its coordinates to the start frame's pixels."""
        source = blurred_by(self.gray(self.start), motion_blur)
        small = _shrunk(source, scale)
        # Shrinking rounds to whole pixels.
        ratio = np.array(small.shape[::-1]) / np.array(source.shape[::-1])
        middle = self.middle * ratio
        half = np.maximum(np.ceil(0.5 * (self.outline.max(0) - self.outline.min(0)) * ratio).astype(int) + 1, 4)
        inside = fill((self.outline * ratio - middle) + half + 0.5, 2 * int(half[1]) + 1, 2 * int(half[0]) + 1)
        try:
            patch = Patch(
                small,
                float(middle[0]),
                float(middle[1]),
                (int(half[0]), int(half[1])),
                PERSPECTIVE,
                inside.astype(float),
            )
        except FollowError:
            return None
        return patch, np.diag([1 / ratio[0], 1 / ratio[1], 1.0]) @ shifted(*middle)

    def step(self, frame: int, way: int) -> bool:
        """Follow to a frame; tell whether the surface was lost."""
        image, motion_blur = self.gray(frame), self.blur(frame)
        warp = self._expected(frame, way)
        fit = None
        for level in sorted(self.references, reverse=True):
            scale = self.scale / 2**level
            reference = self.references[level] if not motion_blur.length else self._reference(scale, motion_blur)
            if reference is None:
                continue
            fit, warp = self._fit(image, reference, scale, warp)
        if fit is None or not fit.ok or fit.score < LEAST_SCORE:
            why = f"its match fell to {max(fit.score, 0):.2f}" if fit else "nothing was left to see"
            self.lost.append(f"Lost on frame {frame}: {why}.")
            return True
        self.now = self.warps[frame] = warp
        self.scores[frame] = fit.score
        self.sigmas[frame] = self._noise(fit, motion_blur)
        return False

    def _expected(self, frame: int, way: int) -> np.ndarray:
        if self.predict is None:
            return self.now
        corners = carried(self.now, self.outline[np.linspace(0, len(self.outline) - 1, 4).astype(int)])
        shift = np.median([self.predict(frame - way, frame, p) - p for p in corners], axis=0)
        return shifted(*shift) @ self.now

    def _fit(self, image: np.ndarray, reference, scale: float, warp: np.ndarray) -> tuple[Fit, np.ndarray]:
        patch, start_from_patch = reference
        small = _shrunk(image, scale)
        ratio = np.diag([small.shape[1] / image.shape[1], small.shape[0] / image.shape[0], 1.0])
        first = ratio @ warp @ start_from_patch
        fit = patch.fit(small, first / first[2, 2], 25, robust=True)
        found = np.linalg.inv(ratio) @ fit.warp @ np.linalg.inv(start_from_patch)
        return fit, (found / found[2, 2] if fit.ok else warp)

    def _noise(self, fit: Fit, motion_blur: MotionBlur) -> np.ndarray:
        """Return the noise (M,) of the grid's positions in pixels, raised for what they share."""
        reference = self.references[0]
        if reference is None:
            raise FollowError("The surface shows too little to be followed.")
        patch, start_from_patch = reference
        at = carried(np.linalg.inv(start_from_patch), self.positions)
        flat = np.c_[at, np.ones(len(at))]
        moved = np.einsum("kab,mb->mka", patch.basis, flat)
        jacobian = moved[..., :2] - at[:, None, :] * moved[..., 2:]
        variance = 0.5 * np.einsum("mki,kl,mli->m", jacobian, fit.covariance, jacobian) / self.scale**2
        own = variance + MODEL_NOISE_PX**2 + (0.02 * motion_blur.length) ** 2
        return np.sqrt(own * max(1.0, len(self.positions) / FREE_POINTS))


def _shrunk(image: np.ndarray, scale: float) -> np.ndarray:
    if scale >= 0.999:
        return image
    size = (max(8, round(image.shape[1] * scale)), max(8, round(image.shape[0] * scale)))
    return cv2.resize(image, size, interpolation=cv2.INTER_AREA)


def surface_tracks(run: SurfaceRun, name: str) -> TrackSet:
    """Return the grid's tracks, named after the surface: ``name.01`` on."""
    frames = np.array(sorted(run.warps))
    seen = np.array([carried(run.warps[f], run.positions) for f in frames])
    sigma, score = np.array([run.sigmas[f] for f in frames]), np.array([run.scores[f] for f in frames])
    pieces = [(frames, seen[:, m], sigma[:, m], score) for m in range(len(run.positions))]
    return from_pieces(
        [f"{name}.{m + 1:02d}" for m in range(len(run.positions))], pieces, ["hand"] * len(run.positions)
    )
