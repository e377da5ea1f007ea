"""Bend an outline to its subject: what a walking figure needs, whose outline no motion of the whole carries along.

The keyed frame teaches a classifier (randomised trees, Geurts et al. 2006) over the frame's cues (`cues`) what is
inside and what is not. On the next frames its answer, held near the position to which the outline was carried, gives
the
subject's outline; the shape's points are matched to it in order (dynamic time warping, Sakoe and Chiba 1978), so that
each keeps its position on the subject.
"""

import cv2
import numpy as np
from numba import njit
from sklearn.ensemble import ExtraTreesClassifier

from amberkeel.core.compiled import FAST
from amberkeel.core.errors import MaskError
from amberkeel.core.masks.cues import CueReader, Cues
from amberkeel.core.masks.raster import contour, fill
from amberkeel.core.masks.shape import area, evenly, flatten, smooth

INSIDE, BESIDE, BEYOND = 4000, 5000, 2500
"""Pixels learned from: inside the keyed outline, beside it, and elsewhere in the picture."""

REACH = 0.12
"""How far from the carried outline the subject's is believed, as a share of its size."""

HELD = 2.0
"""Log odds that a pixel at that distance must overcome."""

STAYS, SWAY_PX = 1.0, 3.0
"""Log odds that a pixel this far within or without the carried outline is still on its side."""

RELEARN, REMEMBERED = 5, 3
"""Frames after which what has come into the picture beside the subject is learned too, and how often it is remembered.
"""

LEAST_SIDE = 32.0
"""Least side in analysis pixels of a square as large as the subject: the cues blur what is smaller."""

LEAST_OVERLAP = 0.35
"""Overlap of what was found with the carried outline, below which the outline is not bent."""


class Bender:
    """Knows a subject by its keyed outline, and bends outlines carried to other frames to it."""

    def __init__(self, reader: CueReader, points: np.ndarray, frame: int):
        self.reader = reader
        self._keyed: list[tuple[np.ndarray, np.ndarray]] = []
        self._around: list[tuple[np.ndarray, np.ndarray]] = []
        self._since = 0
        side = float(np.sqrt(abs(area(flatten(points))))) * reader.scale
        if side < LEAST_SIDE:
            raise MaskError("The subject is too small for an outline that bends.", "Follow it by rotation and scale.")
        self.learn(points, frame)

    def learn(self, points: np.ndarray, frame: int) -> None:
        """Learn what is inside the outline of control points (N, 6) at a frame, and what is not."""
        cues = self.reader.read(frame)
        inside = fill(flatten(points) * self.reader.scale, *cues.unlike.shape)
        self._keyed.append(_rows(cues, inside, ~inside))
        self._fit()

    def _learn_around(self, cues: Cues, found: np.ndarray, away: np.ndarray, reach: float) -> None:
        """Learn from a frame that was not keyed: what is well within what was found, and what is well away from it."""
        within = cv2.erode(found.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        self._around = [*self._around, _rows(cues, within, (away > reach) & ~found, 0.3)][-REMEMBERED:]
        self._fit()

    def _fit(self) -> None:
        x, y = (np.concatenate(part) for part in zip(*self._keyed, *self._around))
        self._model = _trees().fit(x, y)
        # A rough outline holds some background, and misses some of the subject: what most of the trees deny is left
        # out.
        sure = np.abs(self._model.oob_decision_function_[:, 1] - y) < 0.7
        if (sure & (y == 1)).sum() > 0.3 * (y == 1).sum():
            self._model = _trees().fit(x[sure], y[sure])

    def bend(self, points: np.ndarray, frame: int) -> tuple[np.ndarray, float]:
        """Return control points (N, 6) bent to the subject at a frame, and how well what was found overlaps the
        outline carried there.
        """
        cues, scale = self.reader.read(frame), self.reader.scale
        outline = flatten(points) * scale
        carried = fill(outline, *cues.unlike.shape)
        reach = max(3.0, REACH * float(np.sqrt(np.prod(np.maximum(np.ptp(outline, axis=0), 1.0)))))
        away = cv2.distanceTransform((~carried).astype(np.uint8), cv2.DIST_L2, 5) - cv2.distanceTransform(
            carried.astype(np.uint8), cv2.DIST_L2, 5
        )
        found = self._found(cues, away, reach)
        overlap = float((found & carried).sum() / max((found | carried).sum(), 1))
        if overlap < LEAST_OVERLAP:
            return points, overlap
        self._since += 1
        if self._since % RELEARN == 0:
            self._learn_around(cues, found, away, reach)
        return matched(points, contour(found) / scale), overlap

    def _found(self, cues: Cues, away: np.ndarray, reach: float) -> np.ndarray:
        """Return the subject (h, w) bool near the carried outline, from which each pixel lies `away` (h, w), inside
        below 0.
        """
        rows, columns = (np.nonzero((away < 3.0 * reach).any(k))[0] for k in (1, 0))
        window = slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)
        features, away = cues.features[window], away[window]
        near = away < 3.0 * reach
        p = np.full(away.shape, 0.02, np.float32)
        p[near] = np.clip(self._model.predict_proba(features[near])[:, 1], 0.02, 0.98)
        odds = (
            np.log(p / (1.0 - p)) - HELD * np.clip(away / reach, 0.0, 3.0) - STAYS * np.clip(away / SWAY_PX, -1.0, 1.0)
        )
        found = np.zeros(cues.unlike.shape, bool)
        found[window] = _joined(cv2.GaussianBlur(odds, (0, 0), 1.0) > 0.0, 0.6 * reach)
        return found


def _trees() -> ExtraTreesClassifier:
    return ExtraTreesClassifier(
        48,
        min_samples_leaf=3,
        max_features=8,
        n_jobs=2,
        random_state=0,
        bootstrap=True,
        oob_score=True,
        class_weight="balanced",
    )


def _rows(cues: Cues, inside: np.ndarray, outside: np.ndarray, share: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Return features (N, K) of pixels inside and outside, and which is which (N,)."""
    rng = np.random.default_rng(0)
    size = max(8, int(np.sqrt(inside.sum())))
    beside = cv2.dilate(inside.astype(np.uint8), np.ones((size, size))) > 0
    rows, labels = [], []
    for where, count, label in ((inside, INSIDE, 1), (beside & outside, BESIDE, 0), (~beside & outside, BEYOND, 0)):
        position = np.argwhere(where)
        if len(position):
            position = position[rng.permutation(len(position))[: int(share * count)]]
            rows.append(cues.features[position[:, 0], position[:, 1]])
            labels.append(np.full(len(position), label))
    return np.concatenate(rows), np.concatenate(labels)


def _joined(mask: np.ndarray, reach: float) -> np.ndarray:
    """Return the largest part of a mask (h, w), and those within `reach` pixels of it, tied to it by narrow bridges."""
    contours, _ = cv2.findContours(mask.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    out = np.zeros(mask.shape, np.uint8)
    if not contours:
        return out > 0
    contours = sorted(contours, key=cv2.contourArea, reverse=True)
    least = 0.01 * cv2.contourArea(contours[0])
    parts = [c for c in contours if cv2.contourArea(c) >= least]
    cv2.drawContours(out, parts[:1], 0, 1, -1)
    trunk = parts[0][:, 0].astype(float)
    for part in parts[1:]:
        edge = part[:, 0].astype(float)
        gap = np.linalg.norm(edge[:, None] - trunk[None], axis=-1)
        i, j = np.unravel_index(int(gap.argmin()), gap.shape)
        if gap[i, j] <= reach:
            cv2.drawContours(out, [part], 0, 1, -1)
            cv2.line(out, edge[i].astype(int).tolist(), trunk[j].astype(int).tolist(), 1, 3)
            trunk = np.concatenate([trunk, edge])
    return out > 0


def matched(points: np.ndarray, outline: np.ndarray) -> np.ndarray:
    """Return control points (N, 6) moved onto an outline (M, 2), in order round it; curves stay smooth, corners
    corners.
    """
    dense, share = _dense(points)
    target = evenly(outline, 2 * len(dense))
    if (area(dense) > 0) != (area(target) > 0):
        target = target[::-1]
    cost = ((dense[:, None] - target[None]) ** 2).sum(-1)
    i, j = np.unravel_index(int(cost.argmin()), cost.shape)
    way = _warp(np.ascontiguousarray(np.roll(cost, (-i, -j), (0, 1))))
    seen = target[(way[(np.arange(len(dense)) - i) % len(dense)] + j) % len(target)]
    # The points that bring all of the outline nearest to what was found, not only themselves: else corners are cut.
    xy = np.linalg.solve(share.T @ share + 1e-3 * np.eye(len(points)), share.T @ seen + 1e-3 * points[:, :2])
    out = np.concatenate([xy, np.zeros((len(xy), 4))], 1)
    curved = np.abs(points[:, 2:]).sum(1) > 1e-9
    return np.where(curved[:, None], smooth(xy), out)


def _dense(points: np.ndarray, count: int = 200) -> tuple[np.ndarray, np.ndarray]:
    """Return about `count` positions (K, 2) along control points (N, 6), and each point's share in each position (K,
    N).
    """
    pieces = max(2, int(np.ceil(count / len(points))))
    t = np.tile(np.arange(pieces) / pieces, len(points))
    row, owner = np.arange(len(t)), np.repeat(np.arange(len(points)), pieces)
    share = np.zeros((len(t), len(points)))
    share[row, owner] = 1.0 - t
    share[row, (owner + 1) % len(points)] += t
    return share @ points[:, :2], share


@njit(cache=True, fastmath=FAST)
def _warp(cost):
    """Return for each row the column matched to it (N,) on the cheapest way through `cost` (N, M) that never turns
    back.
    """
    n, m = cost.shape
    total = np.full((n, m), np.inf)
    came = np.zeros((n, m), np.int8)
    total[0, 0] = cost[0, 0]
    for i in range(n):
        for j in range(m):
            if i + j == 0:
                continue
            best, how = np.inf, 0
            if i > 0 and j > 0 and total[i - 1, j - 1] < best:
                best, how = total[i - 1, j - 1], 0
            if i > 0 and total[i - 1, j] < best:
                best, how = total[i - 1, j], 1
            if j > 0 and total[i, j - 1] < best:
                best, how = total[i, j - 1], 2
            total[i, j] = best + cost[i, j]
            came[i, j] = how
    low, high = np.zeros(n, np.int64), np.zeros(n, np.int64)
    i, j = n - 1, m - 1
    high[i] = j
    while True:
        low[i] = j
        if i == 0 and j == 0:
            break
        how = came[i, j]
        if how != 2:
            i -= 1
            if how == 0:
                j -= 1
            high[i] = j
        else:
            j -= 1
    return (low + high) // 2
