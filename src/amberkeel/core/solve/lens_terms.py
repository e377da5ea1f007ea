"""What is known of the lens before a solve: each value free, held softly around a value, or fixed; and zooms.

Parameters, in order: log focal length in pixels along x, k1, k2, k3, and the optical centre cx, cy in pixels. A zoom adds
coefficients of a cubic B-spline over frames, added to the log focal length.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.interpolate import BSpline

LENS_NAMES = ("focal", "k1", "k2", "k3", "cx", "cy")

FREE, SOFT, FIXED = "free", "soft", "fixed"

K_SIGMA = 0.3
"""How softly a free coefficient is held around 0: no lens bends more."""

CENTRE_SIGMA_SHARE = 0.03
"""How softly a free optical centre is held around where it is, as a share of the picture's width."""

KNOT_FRAMES = 8
"""Frames between two knots of a zoom."""

ZOOM_BEND = 0.02
"""One sigma of the second difference of a zoom's coefficients, in log focal length."""


@dataclass(frozen=True)
class LensTerm:
    """A value of the lens before the solve: "free", "soft" or "fixed"; `value` None where nothing is known; `sigma` of a soft one."""

    state: str = FREE
    value: float | None = None
    sigma: float = 0.0


@dataclass
class LensPriors:
    """Soft values of the lens as rows of least squares.

    Attributes
    ----------
    mean, weight (6,) : values and one over their sigmas.
    bend : weight of the second differences of zoom coefficients; zoom : how many there are.
    """

    mean: np.ndarray = field(default_factory=lambda: np.zeros(6))
    weight: np.ndarray = field(default_factory=lambda: np.zeros(6))
    bend: float = 0.0
    zoom: int = 0

    def rows(self, parameters: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return whitened residuals (R,) and derivatives (R, 6 + zoom) at parameters (6 + zoom,)."""
        size = 6 + self.zoom
        residual, rows = (parameters[:6] - self.mean) * self.weight, np.eye(6, size) * self.weight[:, None]
        if self.zoom:
            c = parameters[6:]
            second = self.bend * (np.eye(self.zoom - 2, self.zoom) - 2 * np.eye(self.zoom - 2, self.zoom, 1) + np.eye(self.zoom - 2, self.zoom, 2))
            mean = np.full((1, self.zoom), 1e3 / self.zoom)
            bends = np.concatenate([second, mean])
            residual = np.concatenate([residual, bends @ c])
            rows = np.concatenate([rows, np.concatenate([np.zeros((len(bends), 6)), bends], 1)])
        return residual, rows

    def cost(self, parameters: np.ndarray) -> float:
        """Return half the sum of squares."""
        r, _ = self.rows(parameters)
        return 0.5 * float(r @ r)


def zoom_basis(frames: int) -> np.ndarray:
    """Return the zoom's basis (F, K): cubic B-splines over frames, about one every `KNOT_FRAMES`."""
    spans = max(1, int(round((frames - 1) / KNOT_FRAMES)))
    inner = np.linspace(0.0, frames - 1.0, spans + 1)
    knots = np.concatenate([[inner[0]] * 3, inner, [inner[-1]] * 3])
    return BSpline.design_matrix(np.arange(frames, dtype=float), knots, 3).toarray()


@dataclass(frozen=True)
class LensPlan:
    """A solve's lens: the start (7,) (fx, aspect, cx, cy, k1, k2, k3), what is free from the start, what may be tried
    later, the soft values, and whether the focal length must be searched."""

    start: np.ndarray
    free: tuple[int, ...]
    later: tuple[int, ...]
    priors: LensPriors
    search: bool


def lens_plan(terms: dict[str, LensTerm], width: int, height: int, pixel_aspect: float, estimate: bool) -> LensPlan:
    """Return what a solve may do with the lens.

    Parameters
    ----------
    terms : by name what is known; where one is missing, the focal length is free, the centre fixed in the middle, and
        coefficients are fixed at 0, or with `estimate` k1 free and the others freed where the shot tells them.
    """
    usual = {
        "focal": LensTerm(FREE),
        "cx": LensTerm(FIXED, width / 2.0),
        "cy": LensTerm(FIXED, height / 2.0),
        "k1": LensTerm(FREE if estimate else FIXED),
        "k2": LensTerm(FIXED),
        "k3": LensTerm(FIXED),
    }
    known = {**usual, **terms}
    focal = known["focal"]
    values = np.array([known[name].value or 0.0 for name in LENS_NAMES])
    values[4:] = [known["cx"].value or width / 2.0, known["cy"].value or height / 2.0]
    start = np.array([focal.value or 1.2 * width, pixel_aspect, values[4], values[5], *values[1:4]])
    priors = LensPriors(mean=values.copy())
    priors.mean[0] = np.log(start[0])
    loose = {"k1": K_SIGMA, "k2": K_SIGMA, "k3": K_SIGMA, "cx": CENTRE_SIGMA_SHARE * width, "cy": CENTRE_SIGMA_SHARE * width}
    for k, name in enumerate(LENS_NAMES):
        term = known[name]
        if term.state == SOFT and term.sigma > 0.0:
            priors.weight[k] = 1.0 / (term.sigma / start[0] if name == "focal" else term.sigma)
        elif name in loose and (term.state == FREE or name not in terms):
            priors.weight[k] = 1.0 / loose[name]
    free = tuple(k for k, name in enumerate(LENS_NAMES) if known[name].state != FIXED)
    later = tuple(k for k in (2, 3) if estimate and LENS_NAMES[k] not in terms)
    return LensPlan(start, free, later, priors, focal.state == FREE)
