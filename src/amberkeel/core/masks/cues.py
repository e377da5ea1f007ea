"""What a frame shows about itself: how each pixel departs from the background's motion, and how it looks.

Two frames, one later and one earlier, are compared with each: dense flow (Kroeger et al. 2016, OpenCV) gives how far
each pixel departs from the background's rigid motion. Where it does not, the flow is the background's own; carried
over the gaps, it says where the background behind a subject lies in the other frame. A pixel that looks otherwise there
in both frames is not background: this finds edges to the pixel, where flow smears.
"""

from collections import OrderedDict
from dataclasses import dataclass
from threading import RLock

import cv2
import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.rigid import RigidMotion, dense_residuals, fit_background, scaled
from amberkeel.core.plate.plate import Plate
from amberkeel.core.tracks import TrackSet

ANALYSIS_WIDTH = 960
"""Pictures wider than this are analysed at this width."""

GAP = 7
"""Frames to the pictures compared with: long enough for a walking figure to clear its own place."""

STILL_PX = 0.4
"""Departure, in analysis pixels, up to which flow is taken as the background's own."""

FLOW_CELL, FLOW_TEXTURE = 16, 2e-4
"""Side in analysis pixels of the cells in each of which one spot of flow is taken, and its least texture (OpenCV's eigenvalue)."""

KEPT = 2 * GAP + 4
"""Pictures kept in memory while the plate is worked through."""


@dataclass(frozen=True)
class Cues:
    """One frame's cues at the analysis size (h, w).

    Attributes
    ----------
    departure : (h, w) float32, analysis pixels over GAP frames; the geometric mean of later and earlier.
    unlike : (h, w) float32, least difference to the background's place in the other frames, in CIE Lab units.
    features : (h, w, K) float32, both with their surroundings, colour at two scales, and texture.
    """

    departure: np.ndarray
    unlike: np.ndarray
    features: np.ndarray


class CueReader:
    """Cues of a plate's frames; keeps what neighbouring frames share."""

    def __init__(self, plate: Plate, tracks: TrackSet | None = None, width: int = ANALYSIS_WIDTH):
        self.plate = plate
        self.scale = min(1.0, width / plate.width)
        self.size = (int(round(plate.width * self.scale)), int(round(plate.height * self.scale)))
        self.gap = min(GAP, max(1, (len(plate.frames) - 1) // 2))
        self._grid = None
        if tracks is not None and len(tracks):
            self._grid = np.full((len(plate.frames), len(tracks), 2), np.nan)
            self._grid[tracks.frames - int(plate.frames[0]), tracks.track_of_sample] = tracks.xy
        self._flow, self._lock = _flow(), RLock()
        self._kept: OrderedDict[int, tuple[np.ndarray, np.ndarray]] = OrderedDict()
        y, x = np.mgrid[0 : self.size[1], 0 : self.size[0]]
        self._x, self._y = x.astype(np.float32), y.astype(np.float32)

    def picture(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """Return a frame at the analysis size: Lab (h, w, 3) float32, slightly smoothed, and luma (h, w) uint8."""
        with self._lock:
            return self._picture(frame)

    def _picture(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        if frame not in self._kept:
            picture = self.plate.read(frame)
            if self.scale < 1.0:
                picture = cv2.resize(picture, self.size, interpolation=cv2.INTER_AREA)
            lab = cv2.cvtColor(picture.astype(np.float32) / 255.0, cv2.COLOR_RGB2LAB)
            self._kept[frame] = cv2.GaussianBlur(lab, (0, 0), 0.8), cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
            while len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        return self._kept[frame]

    def partners(self, frame: int) -> list[int]:
        """Return the two frames to compare with: later and earlier, or both on one side at the plate's ends."""
        first, last, gap = int(self.plate.frames[0]), int(self.plate.frames[-1]), self.gap
        later, earlier = frame + gap, frame - gap
        if later > last:
            later = max(frame - 2 * gap, first)
        if earlier < first:
            earlier = min(frame + 2 * gap, last)
        return [later, earlier]

    def motion(self, frame: int, to: int, flow: np.ndarray) -> RigidMotion:
        """Return the background's motion between two frames, in analysis pixels: by tracks where enough run through,
        else by a grid of spots of the `flow` (h, w, 2) between them. Raises MaskError where neither can tell."""
        if self._grid is not None:
            a, b = self._grid[frame - int(self.plate.frames[0])], self._grid[to - int(self.plate.frames[0])]
            rows = np.isfinite(a[:, 0]) & np.isfinite(b[:, 0])
            found = fit_background(a[rows], b[rows])
            if found is not None:
                return scaled(found, self.scale)
        found = fit_background(*self._flow_spots(frame, flow))
        if found is None:
            raise MaskError(f"How the background moves from frame {frame} to {to} cannot be told.", "Follow features first, with more of them.")
        return found

    def _flow_spots(self, frame: int, flow: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return places (N, 2) with texture in all directions, one a cell of a grid, and where the flow takes them."""
        strength = cv2.cornerMinEigenVal(self.picture(frame)[1], 7)
        width, height = self.size
        rows = height // FLOW_CELL * FLOW_CELL, width // FLOW_CELL * FLOW_CELL
        cells = strength[: rows[0], : rows[1]].reshape(rows[0] // FLOW_CELL, FLOW_CELL, -1, FLOW_CELL).swapaxes(1, 2)
        best = cells.reshape(*cells.shape[:2], -1)
        r, c = np.divmod(best.argmax(-1), FLOW_CELL)
        r, c = r + FLOW_CELL * np.arange(cells.shape[0])[:, None], c + FLOW_CELL * np.arange(cells.shape[1])
        r, c = r[(good := best.max(-1) > FLOW_TEXTURE)], c[good]
        x = np.stack([c, r], 1) + 0.5
        y = x + flow[r, c]
        inside = ((y > 2) & (y < [width - 2, height - 2])).all(1)
        return x[inside], y[inside]

    def read(self, frame: int) -> Cues:
        """Return a frame's cues. Safe to call from several threads; OpenCV's flow is not, so they take turns."""
        with self._lock:
            return self._read(frame)

    def _read(self, frame: int) -> Cues:
        lab, _ = self.picture(frame)
        parts = [self._compare(frame, to) for to in self.partners(frame)]
        departure = np.sqrt(parts[0][0] * parts[1][0])
        least = np.fmin(parts[0][1], parts[1][1])
        most = np.fmax(parts[0][1], parts[1][1])
        least, most = (cv2.GaussianBlur(np.nan_to_num(p), (0, 0), 1.0) for p in (least, most))
        columns = [
            np.log1p(departure), np.log1p(least), np.log1p(most), np.log1p(cv2.GaussianBlur(least, (0, 0), 4.0)),
        ]  # fmt: skip
        colours = [lab, cv2.GaussianBlur(lab, (0, 0), 2.5)]
        features = np.concatenate([np.stack(columns, -1), *colours, _texture(lab[..., 0])], -1)
        return Cues(departure, least, features)

    def _compare(self, frame: int, to: int) -> tuple[np.ndarray, np.ndarray]:
        """Return departure and unlikeness (h, w) of a frame against another; NaN where the background left the picture."""
        (lab, gray), (other, other_gray) = self.picture(frame), self.picture(to)
        flow = self._flow.calc(gray, other_gray, None)
        residual = dense_residuals(flow, self.motion(frame, to, flow))
        departure = cv2.GaussianBlur(np.clip(residual, 0.0, 12.0), (0, 0), 1.5)
        still = np.exp(-((cv2.GaussianBlur(departure, (0, 0), 4.0) / STILL_PX) ** 2))
        carried = _fill_gaps(flow, still)
        there = cv2.remap(
            other, self._x + carried[..., 0], self._y + carried[..., 1], cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_CONSTANT, borderValue=(np.nan,) * 3,
        )  # fmt: skip
        return departure, np.linalg.norm(there - lab, axis=-1)


def _flow():
    """Dense flow for small limbs: full resolution, without the smoothing that carries motion over their edges."""
    flow = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    flow.setFinestScale(0)
    flow.setPatchStride(4)
    flow.setVariationalRefinementIterations(0)
    flow.setGradientDescentIterations(12)
    return flow


def _fill_gaps(flow: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """Return flow (h, w, 2) smoothed over its surroundings by weight (h, w), from ever wider ones where that is thin."""
    height, width = weight.shape
    out, sure = None, None
    for sigma in (6, 14, 32, 80):
        cell = max(2, sigma // 4)
        size = (max(2, width // cell), max(2, height // cell))
        top = cv2.resize(flow * weight[..., None], size, interpolation=cv2.INTER_AREA)
        below = cv2.resize(weight, size, interpolation=cv2.INTER_AREA)
        top, below = (cv2.GaussianBlur(p, (0, 0), sigma / cell) for p in (top, below))
        here = cv2.resize(top / np.maximum(below, 1e-6)[..., None], (width, height))
        trust = cv2.resize(below, (width, height))
        if out is None:
            out, sure = here, trust > 0.2
        else:
            out = np.where(sure[..., None], out, here)
            sure |= trust > 0.1
    return out


def _texture(luma: np.ndarray) -> np.ndarray:
    """Return the structure tensor (h, w, 3) of luma, smoothed, by its cube root."""
    gx, gy = cv2.Sobel(luma, cv2.CV_32F, 1, 0) / 8.0, cv2.Sobel(luma, cv2.CV_32F, 0, 1) / 8.0
    return np.cbrt(cv2.GaussianBlur(np.stack([gx * gx, gy * gy, gx * gy], -1), (0, 0), 3.0))
