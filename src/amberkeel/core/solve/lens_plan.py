"""What a solve may do with the lens: each value free, held softly around a value, or fixed; and zooms."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.solve.radial_lens import LENS_NAMES, RADIAL_NAMES, ROW_NAMES, RadialLens
from amberkeel.core.solve.terms import SmoothZoom, SoftLens, Term

FREE, SOFT, FIXED = "free", "soft", "fixed"

K_SIGMA = 0.3
"""One sigma of the prior of a free radial coefficient around 0: no lens bends more."""

CENTRE_SIGMA_SHARE = 0.03
"""One sigma of the prior of a free optical centre, as a share of the picture's width."""

USUAL_FOCAL = 1.2
"""Focal length from which an unknown one starts, in widths of the picture."""

KNOT_FRAMES = 8
"""Frames between two knots of a zoom."""

ZOOM_BEND = 0.02
"""One sigma of the second difference of a zoom's coefficients, in log focal length."""


@dataclass(frozen=True)
class LensChoice:
    """What is chosen for a value of the lens before the solve.

    Attributes
    ----------
    state : "free", "soft" or "fixed". value : pixels for focal length and centre; None where nothing is known.
    sigma : one sigma of a soft one, in the value's unit.
    """

    state: str = FREE
    value: float | None = None
    sigma: float = 0.0


@dataclass(frozen=True)
class Freedom:
    """What an adjustment may change of the lens, by names of `ROW_NAMES`, and what else is known."""

    lens: tuple[str, ...] = ()
    terms: tuple[Term, ...] = ()

    def without(self, name: str) -> "Freedom":
        """Return the freedom with one value of the lens held."""
        return replace(self, lens=tuple(n for n in self.lens if n != name))

    def with_value(self, name: str) -> "Freedom":
        """Return the freedom with one more value of the lens free."""
        return replace(self, lens=tuple(n for n in ROW_NAMES if n in self.lens or n == name))

    def with_terms(self, terms: Sequence[Term]) -> "Freedom":
        """Return the freedom with more that is known."""
        return replace(self, terms=(*self.terms, *terms))

    @property
    def active_terms(self) -> tuple[Term, ...]:
        """The terms that say something of what is free."""
        return tuple(t for t in self.terms if not isinstance(t, SoftLens) or t.value in self.lens)


@dataclass(frozen=True)
class LensPlan:
    """A solve's lens.

    Attributes
    ----------
    start : the lens to begin with. free : what is free from the start; later : names of what may be freed afterwards.
    search : whether the focal length must be searched.
    """

    start: RadialLens
    free: Freedom
    later: tuple[str, ...]
    search: bool

    @property
    def held(self) -> bool:
        """Whether all of the lens is held."""
        return not self.free.lens and not self.later


def zoom_basis(frames: int) -> np.ndarray:
    """Return the zoom's basis (F, K): cubic B-splines over frames, about one every `KNOT_FRAMES` (de Boor 1978)."""
    # Splines are for zooms alone, and a sixth of what it takes the program to come in.
    from scipy.interpolate import BSpline

    spans = max(1, int(round((frames - 1) / KNOT_FRAMES)))
    inner = np.linspace(0.0, frames - 1.0, spans + 1)
    knots = np.concatenate([[inner[0]] * 3, inner, [inner[-1]] * 3])
    return BSpline.design_matrix(np.arange(frames, dtype=float), knots, 3).toarray()


def zoom_along(course: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return a zoom's basis (F, K) and the coefficients (K,) that follow a course of the log focal length (F,)."""
    basis = zoom_basis(len(course))
    return basis, np.linalg.lstsq(basis, course, rcond=None)[0]


def zooming(plan: LensPlan) -> Freedom:
    """Return the freedom of a plan with a zoom that bends little."""
    return replace(plan.free, terms=(*plan.free.terms, SmoothZoom(ZOOM_BEND)))


def lens_plan(choices: dict[str, LensChoice], width: int, height: int, pixel_aspect: float, estimate: bool) -> LensPlan:
    """Return what a solve may do with the lens.

    Parameters
    ----------
    choices : by name what is known; where one is missing, the focal length is free, the centre fixed in the middle, and
        coefficients are fixed at 0, or with `estimate` k1 is free and the others are freed where the shot determines
        them.
    width, height : of the picture, pixels. pixel_aspect : width of a pixel over its height.
    """
    usual = {
        "focal": LensChoice(FREE),
        "k1": LensChoice(FREE if estimate else FIXED),
        "k2": LensChoice(FIXED),
        "k3": LensChoice(FIXED),
        "cx": LensChoice(FIXED, width / 2.0),
        "cy": LensChoice(FIXED, height / 2.0),
    }
    known = {**usual, **choices}
    k1, k2, k3 = (known[name].value or 0.0 for name in RADIAL_NAMES)
    start = RadialLens(
        known["focal"].value or USUAL_FOCAL * width,
        known["cx"].value or width / 2.0,
        known["cy"].value or height / 2.0,
        k1,
        k2,
        k3,
        pixel_aspect,
    )
    loose = {name: K_SIGMA for name in RADIAL_NAMES} | {name: CENTRE_SIGMA_SHARE * width for name in ("cx", "cy")}
    terms: list[Term] = []
    for name in LENS_NAMES:
        choice = known[name]
        if choice.state == SOFT and choice.sigma > 0.0:
            terms.append(SoftLens(name, start.value(name), choice.sigma))
        elif name in loose and (choice.state == FREE or name not in choices):
            terms.append(SoftLens(name, start.value(name), loose[name], shown=False))
    free = tuple(name for name in LENS_NAMES if known[name].state != FIXED)
    later = tuple(name for name in ("k2", "k3") if estimate and name not in choices)
    return LensPlan(start, Freedom(free, tuple(terms)), later, known["focal"].state == FREE)
