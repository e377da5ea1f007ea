"""One patch of any size and motion, registered to a small part of a pixel: what tracks placed by hand and surfaces use.

Inverse-compositional alignment (Baker and Matthews 2004) with gain and offset. The motions form groups, from a shift up
to a homography, so a step can always be taken back into the warp. Warps map patch coordinates (pixels from the patch's
middle) to the picture's pixels, centres at +0.5, as 3x3 matrices.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from amberkeel.core.errors import FollowError
from amberkeel.core.follow.register import cubic_at

TRANSLATION, ROTATION, SCALE, SIMILARITY = "translation", "rotation", "scale", "rotation and scale"
AFFINE, PERSPECTIVE = "affine", "perspective"


def _unit(row: int, column: int) -> np.ndarray:
    out = np.zeros((3, 3))
    out[row, column] = 1.0
    return out


_SHIFT = [_unit(0, 2), _unit(1, 2)]
_TURN, _GROW = _unit(1, 0) - _unit(0, 1), _unit(0, 0) + _unit(1, 1)
_LINEAR = [_unit(0, 0), _unit(0, 1), _unit(1, 0), _unit(1, 1)]
MODELS: dict[str, np.ndarray] = {
    TRANSLATION: np.array(_SHIFT),
    ROTATION: np.array([*_SHIFT, _TURN]),
    SCALE: np.array([*_SHIFT, _GROW]),
    SIMILARITY: np.array([*_SHIFT, _TURN, _GROW]),
    AFFINE: np.array([*_SHIFT, *_LINEAR]),
    PERSPECTIVE: np.array([*_SHIFT, *_LINEAR, _unit(2, 0), _unit(2, 1)]),
}
"""Small motions (K, 3, 3) that each model may take, shifts first."""

ENOUGH_PX = 0.01
"""Motion of the patch's corners, pixels, below which a fit is done."""

OWN_SHARE = 0.5
"""Share of a residual's variance that is the picture's own: the rest is the reference's, which shifts a track as a
whole.
"""

TUKEY = 4.685
"""Residual, in robust sigmas, from which a pixel no longer counts (Tukey's biweight)."""


@njit(cache=True, nogil=True, parallel=True)
def sample_warped(image, warp, half_x, half_y, out):
    """Sample `image` at the warped grid of a patch into `out` (2 half_y + 1, 2 half_x + 1); NaN outside the picture.

    Parameters
    ----------
    image : (H, W). warp : (3, 3), picture_from_patch, pixels. half_x, half_y : of the patch, pixels. out : (2
        half_y + 1, 2 half_x + 1), filled.
    """
    height, width = image.shape
    for j in prange(out.shape[0]):
        v = float(j - half_y)
        for i in range(out.shape[1]):
            u = float(i - half_x)
            w = warp[2, 0] * u + warp[2, 1] * v + warp[2, 2]
            x = (warp[0, 0] * u + warp[0, 1] * v + warp[0, 2]) / w
            y = (warp[1, 0] * u + warp[1, 1] * v + warp[1, 2]) / w
            if x < 2.0 or y < 2.0 or x > width - 2.5 or y > height - 2.5:
                out[j, i] = np.nan
            else:
                out[j, i] = cubic_at(image, x, y)


def shifted(x: float, y: float) -> np.ndarray:
    """Return the warp (3, 3) of a patch that only lies at (x, y)."""
    out = np.eye(3)
    out[:2, 2] = x, y
    return out


@dataclass(frozen=True)
class Fit:
    """Where a patch was found.

    Attributes
    ----------
    warp : (3, 3) from patch to picture. score : correlation, -1 to 1. noise : one-sigma of the residual, code values.
    covariance : (K, K) of the model's small motions, pixels where they are shifts. ok : whether it converged inside
        the picture.
    """

    warp: np.ndarray
    score: float
    noise: float
    covariance: np.ndarray
    ok: bool

    def position(self, at=(0.0, 0.0)) -> np.ndarray:
        """Return where (2,) a spot of the patch, given from its middle, lies in the picture."""
        p = self.warp @ np.array([at[0], at[1], 1.0])
        return p[:2] / p[2]


class Patch:
    """A reference patch with its gradients.

    Parameters
    ----------
    image : (H, W) uint8 or float picture. x, y : its middle in pixels. half : (half_x, half_y) pixels.
    model : one of MODELS. weights : (2 half_y + 1, 2 half_x + 1) of the pixels, or None for a soft window.

    Raises
    ------
    FollowError : it reaches out of the picture, or holds nothing that determines its model.
    """

    def __init__(
        self,
        image: np.ndarray,
        x: float,
        y: float,
        half: tuple[int, int],
        model: str = SIMILARITY,
        weights: np.ndarray | None = None,
    ):
        if model not in MODELS:
            raise FollowError(f"There is no patch motion “{model}”.", f"Choose {', '.join(MODELS)}.")
        self.half, self.model, self.basis = half, model, MODELS[model]
        wide = np.empty((2 * half[1] + 3, 2 * half[0] + 3))
        sample_warped(image, shifted(x, y), half[0] + 1, half[1] + 1, wide)
        inside = np.isfinite(wide)
        wide = np.where(inside, wide, 0.0)
        self.pixels = wide[1:-1, 1:-1]
        gx, gy = 0.5 * (wide[1:-1, 2:] - wide[1:-1, :-2]), 0.5 * (wide[2:, 1:-1] - wide[:-2, 1:-1])
        v, u = np.mgrid[-half[1] : half[1] + 1, -half[0] : half[0] + 1].astype(float)
        whole = inside[1:-1, 1:-1] & inside[1:-1, 2:] & inside[1:-1, :-2] & inside[2:, 1:-1] & inside[:-2, 1:-1]
        window = (
            np.exp(-0.5 * ((u / (0.8 * half[0])) ** 2 + (v / (0.8 * half[1])) ** 2)) if weights is None else weights
        )
        self.window = np.where(whole, window, 0.0)
        if weights is None and not whole.all():
            raise FollowError(
                "The pattern reaches out of the picture there.", "Make it smaller, or place it further in."
            )
        flat = np.stack([u, v, np.ones_like(u)], -1)
        moved = np.einsum("kab,jib->kjia", self.basis, flat)
        du, dv = moved[..., 0] - u * moved[..., 2], moved[..., 1] - v * moved[..., 2]
        self.steepest = gx * du + gy * dv
        mean = np.average(self.pixels, weights=self.window) if self.window.any() else 0.0
        self.pixels = self.pixels - mean
        self.rows = np.concatenate(
            [self.steepest.reshape(len(self.basis), -1), self.pixels.reshape(1, -1), np.ones((1, self.pixels.size))]
        )
        shift = (self.rows[:2] * self.window.ravel()) @ self.rows[:2].T
        if np.linalg.eigvalsh(shift)[0] < 1.0:
            raise FollowError(
                "There is nothing to hold on to: the pattern is flat, or a bare edge.",
                "Choose a corner, or make the pattern larger.",
            )
        self.offset = mean

    def fit(self, image: np.ndarray, warp: np.ndarray, iterations: int = 20, robust: bool = False) -> Fit:
        """Register the patch in `image` (H, W), starting from `warp` (3, 3); `robust` lets covered pixels go.

        Parameters
        ----------
        image : (H, W). warp : (3, 3), picture_from_patch, where to start. iterations : at the most. robust :
            whether pixels that do not fit lose their weight.
        """
        rows, window = self.rows, self.window.ravel()
        gain, offset, seen = 1.0, self.offset, np.empty(self.pixels.shape)
        k, score, noise, covariance = len(self.basis), -1.0, np.inf, np.eye(len(self.basis)) * 1e6
        corner = float(np.hypot(*self.half))
        for _ in range(iterations):
            sample_warped(image, warp, self.half[0], self.half[1], seen)
            inside = np.isfinite(seen.ravel())
            weight = np.where(inside, window, 0.0)
            if weight.sum() < 0.5 * window.sum():
                return Fit(warp, score, noise, covariance, False)
            values = np.where(inside, seen.ravel(), 0.0)
            error = values - gain * rows[k] - offset
            scale = 1.4826 * _weighted_median(np.abs(error), weight)
            if robust:
                weight = weight * np.clip(1.0 - (error / (TUKEY * max(scale, 1.0))) ** 2, 0.0, None) ** 2
            weighted = rows * weight
            normal = weighted @ rows.T + np.diag(np.r_[np.full(k + 1, 1e-6), 1e-6])
            step = np.linalg.solve(normal, weighted @ error)
            step[:k] /= gain
            warp = warp @ np.linalg.inv(np.eye(3) + np.tensordot(step[:k], self.basis, 1))
            warp = warp / warp[2, 2]
            gain, offset = gain + step[k], offset + step[k + 1]
            score = _correlation(values, rows[k], weight)
            dof = max(weight.sum() - k - 2, 6.0)
            noise = float(np.sqrt((weight * error**2).sum() / dof))
            own = OWN_SHARE * (noise / max(abs(gain), 0.2)) ** 2
            covariance = (
                np.linalg.inv(normal)[:k, :k]
                * own
                * _shared(error.reshape(self.pixels.shape), weight.reshape(self.pixels.shape))
            )
            if not 0.15 < gain < 6.0 or not np.isfinite(warp).all():
                return Fit(warp, score, noise, covariance, False)
            if np.hypot(*step[:2]) + corner * np.abs(step[2:6]).sum() + corner**2 * np.abs(step[6:k]).sum() < ENOUGH_PX:
                break
        return Fit(warp, score, noise, covariance, True)


def _weighted_median(values: np.ndarray, weight: np.ndarray) -> float:
    live = values[weight > 0.2 * weight.max()]
    return float(np.median(live)) if len(live) else 0.0


def _correlation(a: np.ndarray, b: np.ndarray, w: np.ndarray) -> float:
    total = w.sum()
    a, b = a - (w * a).sum() / total, b - (w * b).sum() / total
    return float((w * a * b).sum() / np.sqrt(max((w * a * a).sum() * (w * b * b).sum(), 1e-9)))


def _shared(error: np.ndarray, weight: np.ndarray) -> float:
    """Return by how much common noise of neighbouring pixels raises a variance, from the residual's own correlation."""

    def lag(a, b, w):
        return float(np.clip((w * a * b).sum() / max((w * a * a).sum(), 1e-9), 0.0, 0.85))

    x = lag(error[:, :-1], error[:, 1:], weight[:, :-1])
    y = lag(error[:-1], error[1:], weight[:-1])
    return (1.0 + x) / (1.0 - x) * (1.0 + y) / (1.0 - y)
