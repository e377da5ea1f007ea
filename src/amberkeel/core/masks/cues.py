"""What a frame shows about itself: how each pixel departs from the background's motion, and how it looks.

Two frames, one later and one earlier, and a third further off are compared with each: dense flow (Kroeger et al. 2016,
OpenCV) gives how far each pixel departs from the background's rigid motion. Where it does not, the flow is the
background's own; carried over the gaps, it says where the background behind a subject lies in the other frame. A pixel
that looks otherwise there in all of them is not background: this finds edges to the pixel, where flow smears. The third
frame speaks for positions that another subject hides in both of the others, and for those that only one of them shows.
"""

from collections import OrderedDict
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from threading import RLock

import cv2
import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.geometry.background import RigidMotion, fit_background
from amberkeel.core.geometry.pixels import from_opencv
from amberkeel.core.masks.rigid import dense_residuals, scaled
from amberkeel.core.plate.plate import Plate
from amberkeel.core.tracks import TrackSet

ANALYSIS_WIDTH = 960
"""Pictures wider than this are analysed at this width."""

GAP = 7
"""Frames to the pictures compared with: long enough for a walking figure to clear its own position."""

STILL_PX = 0.4
"""Departure, in analysis pixels, up to which flow is taken as the background's own."""

FLOW_CELL, FLOW_TEXTURE = 16, 2e-4
"""Side in analysis pixels of the cells in each of which one spot of flow is taken, and its least texture (OpenCV's
eigenvalue).
"""

COARSE = 3
"""How much smaller the background's flow is kept while it is carried over gaps."""

FEATURES = 13
KEPT = 3 * GAP + 4
"""Pictures kept in memory while the plate is worked through."""


@dataclass(frozen=True)
class Cues:
    """One frame's cues at the analysis size (h, w).

    Attributes
    ----------
    departure : (h, w) float32, analysis pixels over GAP frames or more; the geometric mean of the two least of three.
    unlike : (h, w) float32, least difference to the background's position in three other frames, in CIE Lab units.
    features : (h, w, K) float32, both with their surroundings, colour at two scales, and texture.
    """

    departure: np.ndarray
    unlike: np.ndarray
    features: np.ndarray


class CueReader:
    """Cues of a plate's frames; keeps what neighbouring frames share, and the cues of the last `keep` frames read."""

    def __init__(self, plate: Plate, tracks: TrackSet | None = None, width: int = ANALYSIS_WIDTH, keep: int = 1):
        self.plate = plate
        self.scale = min(1.0, width / plate.width)
        self.size = (int(round(plate.width * self.scale)), int(round(plate.height * self.scale)))
        self.gap = min(GAP, max(1, (len(plate.frames) - 1) // 2))
        self._grid = None
        if tracks is not None and len(tracks):
            self._grid = tracks.grid(plate.frames)
        self._flow, self._lock = _flow(), RLock()
        self._keep_cues = keep
        self._cues: OrderedDict = OrderedDict()
        self._kept: OrderedDict[int, tuple[np.ndarray, np.ndarray]] = OrderedDict()
        y, x = np.mgrid[0 : self.size[1], 0 : self.size[0]]
        self._x, self._y = x.astype(np.float32), y.astype(np.float32)

    def picture(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """Return a frame at the analysis size: Lab (h, w, 3) float32, slightly smoothed, and luma (h, w) uint8."""
        with self._lock:
            return self._picture(frame)

    def _picture(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        if frame not in self._kept:
            self._keep(frame, self._made(frame))
        return self._kept[frame]

    def _made(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        picture = self.plate.read(frame)
        if self.scale < 1.0:
            picture = cv2.resize(picture, self.size, interpolation=cv2.INTER_AREA)
        lab = cv2.cvtColor(picture.astype(np.float32) / 255.0, cv2.COLOR_RGB2LAB)
        return cv2.GaussianBlur(lab, (0, 0), 0.8), cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)

    def _keep(self, frame: int, made: tuple[np.ndarray, np.ndarray]) -> None:
        self._kept[frame] = made
        while len(self._kept) > KEPT:
            self._kept.popitem(last=False)

    def _gather(self, frames: list[int]) -> None:
        """Bring several pictures in at once, on two threads: decoding takes most of a new frame's time."""
        lacking = [f for f in dict.fromkeys(frames) if f not in self._kept]
        if len(lacking) > 1:
            with ThreadPoolExecutor(2) as pool:
                for frame, made in zip(lacking, pool.map(self._made, lacking)):
                    self._keep(frame, made)

    def partners(self, frame: int) -> list[int]:
        """Return the two frames to compare with: later and earlier, or both on one side at the plate's ends."""
        first, last, gap = int(self.plate.frames[0]), int(self.plate.frames[-1]), self.gap
        later, earlier = frame + gap, frame - gap
        if later > last:
            later = max(frame - 2 * gap, first)
        if earlier < first:
            earlier = min(frame + 2 * gap, last)
        return [later, earlier]

    def third(self, frame: int, towards: int) -> int:
        """Return the third frame to compare with: beyond the partner `towards`."""
        first, last = int(self.plate.frames[0]), int(self.plate.frames[-1])
        way = 1 if towards > frame else -1
        to = towards + way * self.gap
        return min(max(to + way * self.gap if to in self.partners(frame) else to, first), last)

    def motion(self, frame: int, to: int, flow: np.ndarray) -> RigidMotion:
        """Return the background's motion between two frames, in analysis pixels: by tracks where enough run through,
        else by a grid of spots of the `flow` (h, w, 2) between them. Raises MaskError where neither can tell.

        Parameters
        ----------
        frame, to : frame numbers. flow : (h, w, 2) analysis pixels from the one to the other.
        """
        if self._grid is not None:
            a, b = self._grid[frame - int(self.plate.frames[0])], self._grid[to - int(self.plate.frames[0])]
            rows = np.isfinite(a[:, 0]) & np.isfinite(b[:, 0])
            found = fit_background(a[rows], b[rows])
            if found is not None:
                return scaled(found, self.scale)
        found = fit_background(*self._flow_spots(frame, flow))
        if found is None:
            raise MaskError(
                f"How the background moves from frame {frame} to {to} cannot be determined.",
                "Follow features first, with more of them.",
            )
        return found

    def _flow_spots(self, frame: int, flow: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return points (N, 2) with texture in all directions, one a cell of a grid, and where the flow takes them."""
        strength = cv2.cornerMinEigenVal(self.picture(frame)[1], 7)
        width, height = self.size
        rows = height // FLOW_CELL * FLOW_CELL, width // FLOW_CELL * FLOW_CELL
        cells = strength[: rows[0], : rows[1]].reshape(rows[0] // FLOW_CELL, FLOW_CELL, -1, FLOW_CELL).swapaxes(1, 2)
        best = cells.reshape(*cells.shape[:2], -1)
        r, c = np.divmod(best.argmax(-1), FLOW_CELL)
        r, c = r + FLOW_CELL * np.arange(cells.shape[0])[:, None], c + FLOW_CELL * np.arange(cells.shape[1])
        r, c = r[(good := best.max(-1) > FLOW_TEXTURE)], c[good]
        x = from_opencv(np.stack([c, r], 1))
        y = x + flow[r, c]
        inside = ((y > 2) & (y < [width - 2, height - 2])).all(1)
        return x[inside], y[inside]

    def read(self, frame: int) -> Cues:
        """Return a frame's cues. Safe to call from several threads; OpenCV's flow is not, so they take turns."""
        with self._lock:
            if frame not in self._cues:
                self._cues[frame] = self._read(frame)
                while len(self._cues) > self._keep_cues:
                    self._cues.popitem(last=False)
            self._cues.move_to_end(frame)
            return self._cues[frame]

    def _read(self, frame: int) -> Cues:
        partners = self.partners(frame)
        self._gather([frame, *partners])
        lab, _ = self.picture(frame)
        parts = [self._compare(frame, to) for to in partners]
        fuller = partners[int(np.isnan(parts[0][1]).sum() > np.isnan(parts[1][1]).sum())]
        parts.append(self._compare(frame, self.third(frame, fuller), 2))
        a, b, c = (p[0] for p in parts)
        departure = np.sqrt(a * b * c / np.maximum(np.maximum(np.maximum(a, b), c), 1e-6))
        least = np.fmin(np.fmin(parts[0][1], parts[1][1]), parts[2][1])
        most = np.fmax(parts[0][1], parts[1][1])
        least, most = (cv2.GaussianBlur(np.nan_to_num(p), (0, 0), 1.0) for p in (least, most))
        features = np.empty((*least.shape, FEATURES), np.float32)
        for k, column in enumerate((departure, least, most, cv2.GaussianBlur(least, (0, 0), 4.0))):
            np.log1p(column, out=features[..., k])
        features[..., 4:7], features[..., 7:10] = lab, cv2.GaussianBlur(lab, (0, 0), 2.5)
        features[..., 10:] = _texture(lab[..., 0])
        return Cues(departure, least, features)

    def _compare(self, frame: int, to: int, shrink: int = 1) -> tuple[np.ndarray, np.ndarray]:
        """Return departure and unlikeness (h, w) of a frame against another; NaN where the background left the picture.

        Flow is found on pictures `shrink` times smaller.
        """
        (lab, gray), (other, other_gray) = self.picture(frame), self.picture(to)
        if shrink > 1:
            small = [
                cv2.resize(g, None, fx=1 / shrink, fy=1 / shrink, interpolation=cv2.INTER_AREA)
                for g in (gray, other_gray)
            ]
            flow = shrink * cv2.resize(self._flow.calc(*small, None), self.size, interpolation=cv2.INTER_LINEAR)
        else:
            flow = self._flow.calc(gray, other_gray, None)
        residual = dense_residuals(flow, self.motion(frame, to, flow))
        departure = cv2.GaussianBlur(np.clip(residual, 0.0, 12.0), (0, 0), 1.5)
        still = np.exp(-((cv2.GaussianBlur(departure, (0, 0), 4.0) / STILL_PX) ** 2))
        carried = _fill_gaps(flow, still)
        there = cv2.remap(
            other, self._x + carried[..., 0], self._y + carried[..., 1], cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_CONSTANT, borderValue=(np.nan,) * 3,
        )  # fmt: skip
        apart = there - lab
        return departure, np.sqrt(np.einsum("hwk,hwk->hw", apart, apart))


def _flow():
    """Dense flow for small limbs: full resolution, without the smoothing that carries motion over their edges."""
    flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    flow.setFinestScale(0)
    flow.setPatchStride(5)
    flow.setVariationalRefinementIterations(0)
    flow.setGradientDescentIterations(12)
    return flow


def _fill_gaps(flow: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """Return flow (h, w, 2) smoothed by weight (h, w) over its surroundings, from wider ones where weight is thin."""
    height, width = weight.shape
    coarse = (max(2, width // COARSE), max(2, height // COARSE))
    flow, weight = (cv2.resize(p, coarse, interpolation=cv2.INTER_AREA) for p in (flow * weight[..., None], weight))
    out, sure = None, None
    for sigma in (6, 14, 32, 80):
        cell = max(1, sigma // (4 * COARSE))
        size = (max(2, coarse[0] // cell), max(2, coarse[1] // cell))
        top, below = (cv2.resize(p, size, interpolation=cv2.INTER_AREA) for p in (flow, weight))
        top, below = (cv2.GaussianBlur(p, (0, 0), sigma / (COARSE * cell)) for p in (top, below))
        here = cv2.resize(top / np.maximum(below, 1e-6)[..., None], coarse)
        trust = cv2.resize(below, coarse)
        if out is None or sure is None:
            out, sure = here, trust > 0.2
        else:
            out = np.where(sure[..., None], out, here)
            sure = sure | (trust > 0.1)
    return cv2.resize(np.asarray(out), (width, height), interpolation=cv2.INTER_LINEAR)


def _texture(luma: np.ndarray) -> np.ndarray:
    """Return the structure tensor (h, w, 3) of luma, smoothed, by its cube root."""
    gx, gy = cv2.Sobel(luma, cv2.CV_32F, 1, 0) / 8.0, cv2.Sobel(luma, cv2.CV_32F, 0, 1) / 8.0
    return np.cbrt(cv2.GaussianBlur(np.stack([gx * gx, gy * gy, gx * gy], -1), (0, 0), 3.0))
