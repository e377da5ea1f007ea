"""A matte learned from a few spots: randomised trees (Geurts et al. 2006) over a frame's cues (`cues`), grown from the
spots clicked.

Few spots say little about all that is not the subject. Where the subject departs from the background, pixels that go
with the background are taken as further, weaker samples of what it is not; then what the first answer is sure of joins
in, once. Spots always outweigh both, so a correction on one frame never undoes another.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from sklearn.ensemble import ExtraTreesClassifier

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.cues import CueReader, Cues
from amberkeel.core.masks.raster import grow

SPOT_PX = 2.5
"""Radius of what one click samples, in analysis pixels."""

STILL_UNLIKE = 2.0
"""Unlikeness, in Lab units, below which a pixel is taken as background."""

MOVING_UNLIKE = 4.0
WEAK = 0.12
"""Weight of a pixel that was not clicked but inferred."""

TREES, ROUGH_TREES = 40, 12
"""Trees that answer, and those of the first, rough answer."""

SURE = 0.6
"""Probability from which a pixel is the subject: motion smears outwards more than inwards."""


@dataclass(frozen=True)
class Sample:
    """One clicked spot: frame, position in plate pixels, and whether it is the subject."""

    frame: int
    x: float
    y: float
    subject: bool


@dataclass(frozen=True)
class Cleaning:
    """What is done to a learned matte: pixels to grow (or shrink), smallest speck kept, whether holes are filled."""

    grow: float = 0.0
    speck_px: int = 80
    fill_holes: bool = True


class Learned:
    """A classifier for one subject of one plate."""

    def __init__(self, reader: CueReader, samples: list[Sample], cues: dict[int, Cues] | None = None, seed: int = 0):
        if not any(s.subject for s in samples):
            raise MaskError("Every sample says “not the subject”.", "Click a few spots that are the subject.")
        if all(s.subject for s in samples):
            raise MaskError("Every sample says “the subject”.", "Click a few spots that are not, close beside it too.")
        self.reader = reader
        self._rng = np.random.default_rng(seed)
        cues = dict(cues or {})
        for frame in sorted({s.frame for s in samples}):
            if frame not in cues:
                cues[frame] = reader.read(frame)
        self._model = self._learn(samples, cues)

    def _learn(self, samples: list[Sample], cues: dict[int, Cues]) -> ExtraTreesClassifier:
        spots = [(*self._spot(s, cues[s.frame]), s.subject) for s in samples]
        rows = [(x, np.full(len(x), label), np.ones(len(x))) for x, _, label in spots]
        subject = np.concatenate([u for _, u, label in spots if label])
        if np.mean(subject > MOVING_UNLIKE) > 0.25:
            rows += [self._still(c) for f, c in cues.items() if any(s.frame == f for s in samples)]
        model = self._fit(rows, ROUGH_TREES)
        return self._fit(rows + [self._sure(model, cues[f]) for f in sorted({s.frame for s in samples})])

    def _spot(self, sample: Sample, cues: Cues) -> tuple[np.ndarray, np.ndarray]:
        """Return features (N, K) and unlikeness (N,) of the pixels of one spot."""
        height, width = cues.unlike.shape
        x, y, r = sample.x * self.reader.scale, sample.y * self.reader.scale, int(np.ceil(SPOT_PX))
        rows, columns = np.mgrid[int(y) - r : int(y) + r + 1, int(x) - r : int(x) + r + 1]
        inside = (rows + 0.5 - y) ** 2 + (columns + 0.5 - x) ** 2 <= SPOT_PX**2
        inside &= (rows >= 0) & (rows < height) & (columns >= 0) & (columns < width)
        if not inside.any():
            raise MaskError("A sample lies outside the picture.", "Click on the plate itself.")
        return cues.features[rows[inside], columns[inside]], cues.unlike[rows[inside], columns[inside]]

    def _still(self, cues: Cues) -> tuple:
        """Pixels that go with the background, as weak samples of what is not the subject."""
        wide = cv2.GaussianBlur(cues.unlike, (0, 0), 4.0)
        rows, columns = np.nonzero(wide < STILL_UNLIKE)
        if not len(rows):
            return np.zeros((0, cues.features.shape[-1])), np.zeros(0, bool), np.zeros(0)
        chosen = self._rng.integers(len(rows), size=1500)
        return cues.features[rows[chosen], columns[chosen]], np.zeros(1500, bool), np.full(1500, WEAK)

    def _sure(self, model, cues: Cues) -> tuple:
        """Pixels of a frame that a first model is sure of, as weak samples."""
        flat = cues.features.reshape(-1, cues.features.shape[-1])
        chosen = self._rng.integers(len(flat), size=12000)
        probability = model.predict_proba(flat[chosen])[:, 1]
        yes, no = np.nonzero(probability > 0.9)[0][:800], np.nonzero(probability < 0.05)[0][:2000]
        rows = chosen[np.concatenate([yes, no])]
        return flat[rows], np.arange(len(rows)) < len(yes), np.full(len(rows), WEAK)

    def _fit(self, rows: list[tuple], trees: int = TREES) -> ExtraTreesClassifier:
        x, y, weight = (np.concatenate(part) for part in zip(*rows))
        # The subject fills little of a picture, and has few samples: both sides weigh the same in all.
        weight = np.where(y, weight * weight[~y].sum() / weight[y].sum(), weight)
        model = ExtraTreesClassifier(trees, min_samples_leaf=3, max_features=6, n_jobs=2, random_state=0)
        return model.fit(x, y.astype(int), sample_weight=weight)

    def probability(self, cues: Cues) -> np.ndarray:
        """Return how likely each pixel (h, w) of a frame is the subject, 0 to 1; sure regions by every third pixel."""
        features = cues.features
        height, width, depth = features.shape
        coarse = self._model.predict_proba(features[1::3, 1::3].reshape(-1, depth))[:, 1]
        coarse = coarse.reshape(features[1::3, 1::3].shape[:2]).astype(np.float32)
        kernel = np.ones((3, 3), np.uint8)
        low, high = cv2.erode(coarse, kernel), cv2.dilate(coarse, kernel)
        unsure = (high > 0.1) & (low < 0.97)
        full = cv2.resize(coarse, (width, height), interpolation=cv2.INTER_LINEAR)
        rows, columns = np.nonzero(
            cv2.resize(unsure.astype(np.uint8), (width, height), interpolation=cv2.INTER_NEAREST)
        )
        if len(rows):
            full[rows, columns] = self._model.predict_proba(features[rows, columns])[:, 1]
        return full

    def matte(self, frame: int, cleaning: Cleaning = Cleaning(), cues: Cues | None = None) -> np.ndarray:
        """Return the matte of a frame as bool (H, W) at the plate's size.

        Parameters
        ----------
        frame : number. cleaning : what is done to the learned matte. cues : of the frame, or None to look at it.
        """
        cues = cues or self.reader.read(frame)
        lab, _ = self.reader.picture(frame)
        probability = _along_edges(self.probability(cues), lab[..., 0] / 100.0)
        size = (self.reader.plate.width, self.reader.plate.height)
        if self.reader.scale < 1.0:
            probability = cv2.resize(probability, size, interpolation=cv2.INTER_CUBIC)
        return clean(probability > SURE, cleaning)


def _along_edges(probability: np.ndarray, guide: np.ndarray, radius: int = 4, smoothing: float = 1e-3) -> np.ndarray:
    """Return a probability (h, w) that follows the edges of `guide` (guided filter; He, Sun and Tang 2013)."""
    side = (2 * radius + 1, 2 * radius + 1)

    def mean(a):
        return cv2.boxFilter(a, -1, side)

    m, p = mean(guide), mean(probability)
    slope = (mean(guide * probability) - m * p) / (mean(guide * guide) - m * m + smoothing)
    return mean(slope) * guide + mean(p - slope * m)


def clean(mask: np.ndarray, cleaning: Cleaning) -> np.ndarray:
    """Return a bool mask (H, W) without specks and holes, grown or shrunk."""
    out = mask
    if cleaning.speck_px > 0:
        _, parts, stats, _ = cv2.connectedComponentsWithStats(out.astype(np.uint8))
        kept = stats[:, cv2.CC_STAT_AREA] >= cleaning.speck_px
        kept[0] = False
        out = kept[parts]
    if cleaning.fill_holes:
        _, parts, stats, _ = cv2.connectedComponentsWithStats((~out).astype(np.uint8), connectivity=4)
        x, y, w, h = stats[:, :4].T
        outer = (x == 0) | (y == 0) | (x + w == out.shape[1]) | (y + h == out.shape[0])
        outer |= stats[:, cv2.CC_STAT_AREA] > 0.02 * out.size
        outer[0] = False
        out = ~outer[parts]
    return grow(out, cleaning.grow)
