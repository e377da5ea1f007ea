"""Two that move and cross: whose each spot is while they are one region."""

import cv2
import numpy as np

SWAYS_SPOTS, BY_SHAPE, FRONT, STILL_COUNTS = 1.5, 4.0, 2.0, 0.5
"""While two cross: by how much either may sway, spots; log odds that the shapes give, and being in front; and by how
much flow, colour and speed still count.
"""


def middle_of(spots: np.ndarray) -> np.ndarray:
    """Return the middle of some spots (gh, gw) bool, (2,): column and row."""
    rows, columns = np.nonzero(spots)
    return np.array([columns.mean(), rows.mean()])


class Crossing:
    """Two that cross: what either looked like before they met, moved on as it was going, says whose each spot is; which
    of them is in front, their colours say.
    """

    def __init__(self, subject: np.ndarray, other: np.ndarray, speed: np.ndarray, other_speed: np.ndarray):
        self._shapes = subject.astype(np.float32), other.astype(np.float32)
        self._speeds = speed.copy(), other_speed.copy()
        self._from, self.age, self._front = middle_of(subject), 0, 0.0
        self.subject, self.other = self._shapes

    @property
    def middle(self) -> np.ndarray:
        """Where the subject's middle is expected, (2,) spots."""
        return self._from + self.age * self._speeds[0]

    def odds(self, body: np.ndarray, odds: np.ndarray, colour: np.ndarray) -> np.ndarray:
        """Return the log odds (gh, gw) that each spot is the subject's on the next frame."""
        self.age += 1
        self.subject, self.other = (
            _shifted(shape, self.age * speed) for shape, speed in zip(self._shapes, self._speeds)
        )
        soft, other = (cv2.GaussianBlur(one, (0, 0), SWAYS_SPOTS) for one in (self.subject, self.other))
        both = (soft > 0.4) & (other > 0.4) & body
        if both.any():
            self._front = 0.8 * self._front + 0.2 * float(np.clip(colour[both].mean(), -1.0, 1.0))
        front = np.where(both, FRONT * np.sign(self._front) * min(1.0, 4.0 * abs(self._front)), 0.0)
        return BY_SHAPE * (soft - other) + front + STILL_COUNTS * odds

    def apart(self) -> bool:
        """Return whether the two are expected to lie beside each other again."""
        return bool((self.subject * self.other).sum() < 0.02 * self.subject.sum()) and self.age > 3


def _shifted(shape: np.ndarray, by: np.ndarray) -> np.ndarray:
    """Return a picture of spots moved by (2,) spots."""
    height, width = shape.shape
    return np.asarray(cv2.warpAffine(shape, np.array([[1.0, 0.0, by[0]], [0.0, 1.0, by[1]]]), (width, height)))
