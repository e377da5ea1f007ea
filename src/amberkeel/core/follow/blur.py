"""How motion blurs a frame: direction and length of the motion_blur, measured against a sharper frame nearby.

Blur along a line weakens gradients along it. The kernel is the one that, laid on the sharper frame, gives the gradient
energies (structure tensor) of the blurred one; which spot of the set shows where does not matter, so frames need not be
aligned. Energies are compared by the logarithm of the tensor (Arsigny et al. 2006), grain taken off.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent

WORK_WIDTH = 480
"""Width in pixels at which blur is measured."""

NOTABLE = 0.004
"""Length of blur, as a share of the picture's width, from which a frame counts as blurred."""

WEAKER = 0.8
"""Share of the sharper frame's gradient energy below which a frame is looked at closely."""

REACH = 8
"""Frames to each side among which the sharper frame is sought."""

_LENGTHS = np.array([2.0, 3.5, 6.0, 10.0, 16.0])
_ANGLES = np.arange(8) * np.pi / 8


@dataclass(frozen=True)
class MotionBlur:
    """A frame's motion blur at the middle of the picture.

    Attributes
    ----------
    length : pixels of the plate; 0 for a sharp frame. angle : direction in radians, 0 along x, rising towards y,
        modulo pi.
    """

    length: float = 0.0
    angle: float = 0.0


SHARP = MotionBlur()


@dataclass(frozen=True)
class Glance:
    """A frame made small: its picture (h, w) float32, its tensor (2, 2) at fine and (2, 2) at coarse scale, and its
    scale.
    """

    picture: np.ndarray
    fine: np.ndarray
    coarse: np.ndarray
    scale: float

    @property
    def energy(self) -> float:
        """Gradient energy along the direction that has least."""
        return float(np.linalg.eigvalsh(self.fine)[0])


def glance(gray: np.ndarray) -> Glance:
    """Make a frame (H, W) uint8 small and take its gradient energies."""
    scale = max(1.0, gray.shape[1] / WORK_WIDTH)
    small = cv2.resize(gray, None, fx=1 / scale, fy=1 / scale, interpolation=cv2.INTER_AREA).astype(np.float32)
    grain = _grain(small)
    soft = cv2.GaussianBlur(small, (5, 5), 0.8)
    tiny = cv2.resize(small, None, fx=1 / 16, fy=1 / 16, interpolation=cv2.INTER_AREA)
    return Glance(soft, _tensor(soft, 0.02 * grain**2), _tensor(tiny, 0.0), scale)


def _grain(small: np.ndarray) -> float:
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    return float(np.median(np.abs(cv2.filter2D(small[::3], cv2.CV_32F, kernel))[1::3, ::2]) / 0.6745 / 6.0)


def _tensor(picture: np.ndarray, noise: float) -> np.ndarray:
    x = (picture[1:-1, 2:] - picture[1:-1, :-2]).ravel()
    y = (picture[2:, 1:-1] - picture[:-2, 1:-1]).ravel()
    xx, xy, yy = float(x @ x) / x.size - noise, float(x @ y) / x.size, float(y @ y) / x.size - noise
    return np.array([[max(xx, 1e-3), xy], [xy, max(yy, 1e-3)]])


def _log(tensor: np.ndarray) -> np.ndarray:
    values, axes = np.linalg.eigh(tensor)
    return (axes * np.log(np.maximum(values, 1e-4))) @ axes.T


def line_kernel(length: float, angle: float) -> np.ndarray:
    """Return the kernel (K, K) float32 of blur along a line of `length` pixels, K odd."""
    half = int(np.ceil(0.5 * length)) + 1
    kernel = np.zeros((2 * half + 1, 2 * half + 1))
    s = (np.arange(int(8 * length) + 9) + 0.5) / (int(8 * length) + 9) - 0.5
    x, y = half + s * length * np.cos(angle), half + s * length * np.sin(angle)
    x0, y0 = np.floor(x).astype(int), np.floor(y).astype(int)
    for dx in (0, 1):
        for dy in (0, 1):
            np.add.at(kernel, (y0 + dy, x0 + dx), np.abs(1 - dx - (x - x0)) * np.abs(1 - dy - (y - y0)))
    return (kernel / kernel.sum()).astype(np.float32)


def blurred_by(picture: np.ndarray, motion_blur: MotionBlur) -> np.ndarray:
    """Return a picture (H, W) blurred by a motion blur given in its own pixels."""
    if motion_blur.length < 0.5:
        return picture
    return cv2.filter2D(
        picture, -1, line_kernel(motion_blur.length, motion_blur.angle), borderType=cv2.BORDER_REPLICATE
    )


def motion_blur_against(sharp: Glance, frame: Glance) -> MotionBlur:
    """Return the blur of `frame` beyond that of the sharper frame `sharp`, lengths in the plate's pixels."""
    gain = np.trace(frame.coarse) / np.trace(sharp.coarse)
    wanted = _log(frame.fine / np.clip(gain, 0.5, 2.0))
    if np.exp(np.linalg.eigvalsh(wanted - _log(sharp.fine))[0]) > WEAKER:
        return SHARP
    # It takes a tenth of a second to come in, which sharp plates need not wait for.
    from scipy.optimize import minimize

    half = cv2.resize(sharp.picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    base = _log(_tensor(half, 0.0))
    change = wanted - _log(sharp.fine)

    def miss(picture, start, length, angle):
        return float(((_log(_tensor(blurred_by(picture, MotionBlur(length, angle)), 0.0)) - start - change) ** 2).sum())

    tried = [(miss(half, base, n / 2, a), n, a) for n in _LENGTHS for a in _ANGLES]
    _, length, angle = min(tried)
    start = _log(_tensor(sharp.picture, 0.0))
    fit = minimize(
        lambda p: miss(sharp.picture, start, float(np.exp(np.clip(p[0], -1.0, 4.0))), p[1]),
        [np.log(length), angle],
        method="Nelder-Mead",
        options={
            "initial_simplex": [[np.log(length), angle], [np.log(length) + 0.25, angle], [np.log(length), angle + 0.2]],
            "maxfev": 24,
            "xatol": 0.02,
            "fatol": 1e-4,
        },
    )
    length = float(np.exp(np.clip(fit.x[0], -1.0, 4.0))) * sharp.scale
    width = sharp.picture.shape[1] * sharp.scale
    return MotionBlur(length, float(fit.x[1] % np.pi)) if length > NOTABLE * width else SHARP


def motion_blurs(glances: list[Glance]) -> list[MotionBlur]:
    """Return the blur of each frame, from glances in frame order; each is held against the sharpest near it."""
    energy = np.array([g.energy for g in glances])
    out = []
    for k, seen in enumerate(glances):
        near = np.arange(max(0, k - REACH), min(len(glances), k + REACH + 1))
        best = int(near[energy[near].argmax()])
        out.append(SHARP if best == k else motion_blur_against(glances[best], seen))
    return out


def measure_blur(plate: Plate, progress: Progress = silent) -> list[MotionBlur]:
    """Return the blur of every frame of a plate; pictures are read one at a time."""
    seen = []
    for k, frame in enumerate(plate.frames.tolist()):
        seen.append(glance(plate.gray(frame)))
        progress((k + 1) / len(plate.frames), f"Measuring blur, frame {frame}")
    return motion_blurs(seen)
