"""A flat picture that slides and blurs before a camera: plates for tests, whose truth is one shift a frame."""

import cv2
import numpy as np

from amberkeel.core.plate.plate import Plate
from amberkeel.core.sim import textures as tx

WIDTH, HEIGHT = 480, 270


def boards(seed: int = 2) -> np.ndarray:
    """Return 8-bit planks (1024, 1024, 3) to slide about."""
    texture = cv2.GaussianBlur(tx.planks(np.random.default_rng(seed), 14, worn=0.9), (0, 0), 1.2)
    return np.clip(255.0 * (texture / texture.max()) ** 0.45, 0, 255).astype(np.uint8)


class Sliding(Plate):
    """A plate of a picture seen through a window whose corner lies at `path(t)` (2,) pixels at the frame time t."""

    def __init__(
        self, picture, path, frames=range(1001, 1031), shutter=0.5, grain=1.0, size=(WIDTH, HEIGHT), stain=None
    ):
        super().__init__("sliding", np.array(list(frames)), *size, None)
        self.picture, self.path, self.shutter, self.grain, self.stain = picture, path, shutter, grain, stain

    def read(self, frame: int) -> np.ndarray:
        """Return the frame, blurred over the shutter, with grain; `stain` paints on what is not part of the picture."""
        ends = [np.asarray(self.path(frame + s * self.shutter)) for s in (-0.5, 0.5)]
        count = max(5, int(2 * np.hypot(*(ends[1] - ends[0])))) | 1
        total = np.zeros((self.height, self.width, 3))
        for s in (np.arange(count) + 0.5) / count - 0.5:
            x, y = self.path(frame + s * self.shutter)
            total += cv2.warpAffine(
                self.picture, np.array([[1.0, 0, -x], [0, 1.0, -y]]), (self.width, self.height), flags=cv2.INTER_LINEAR
            )
        total /= count
        if self.stain is not None:
            self.stain(total, frame)
        noise = np.random.default_rng(int(frame)).normal(0, self.grain, total.shape)
        return np.clip(np.round(total + noise), 0, 255).astype(np.uint8)

    def true_place(self, frame: int, xy, on: int) -> np.ndarray:
        """Return where what lies at `xy` on the frame `on` lies on another frame."""
        return np.asarray(xy, float) + np.asarray(self.path(on)) - np.asarray(self.path(frame))


def jolted(t: float) -> np.ndarray:
    """A steady slide with a burst of shaking around frame 1015."""
    swing = np.exp(-0.5 * ((t - 1014.5) / 1.3) ** 2) * np.cos(2.0 * np.pi * (t - 1014.5) / 5.0)
    return np.array([60.0 + 1.7 * (t - 1001) + 26.0 * swing, 90.0 + 0.6 * (t - 1001) + 17.0 * swing])


def calm(t: float) -> np.ndarray:
    """A steady slide."""
    return np.array([60.0 + 1.7 * (t - 1001), 90.0 + 0.9 * (t - 1001)])
