"""What is known besides the tracks: terms, each with a residual, derivatives, a name, and a figure to show."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

import numpy as np

from amberkeel.core.solve.projection import tangent
from amberkeel.core.solve.unknowns import POINT_BLOCK, ZOOM, Unknown

if TYPE_CHECKING:
    from amberkeel.core.solve.bundle import Bundle


@dataclass(frozen=True)
class Figure:
    """What a term says after the solve.

    Attributes
    ----------
    name : the term's. stated, found : its value as it was given and as the solve has it, in `unit`.
    sigmas : how far the two differ, in the term's own one-sigma.
    """

    name: str
    stated: float
    found: float
    sigmas: float
    unit: str = ""


class Term(Protocol):
    """A piece of knowledge as rows of least squares."""

    @property
    def name(self) -> str:
        """The term's name, for people."""
        ...

    def unknowns(self) -> tuple[Unknown, ...]:
        """The blocks that the term depends on."""
        ...

    def evaluate(self, bundle: "Bundle") -> tuple[np.ndarray, Mapping[Unknown, np.ndarray]]:
        """Return whitened residuals (R,) and their derivatives (R, size) by a step of each block."""
        ...

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return what to show of the term after the solve."""
        ...


def cost(terms: tuple[Term, ...], bundle: "Bundle") -> float:
    """Return half the sum of squares of all terms."""
    return 0.5 * sum(float(r @ r) for r in (term.evaluate(bundle)[0] for term in terms))


@dataclass(frozen=True)
class SoftLens:
    """A value of a lens held softly.

    Attributes
    ----------
    value : one of `LENS_NAMES`. mean, sigma : where it is held and how softly, in the value's own unit; the focal
        length is held by its logarithm, `sigma` over `mean` being one sigma of that.
    shown : False for the weak prior that every solve has.
    lens : number of the lens.
    """

    value: str
    mean: float
    sigma: float
    shown: bool = True
    lens: int = 0

    @property
    def name(self) -> str:
        """The term's name."""
        return self.value

    def unknowns(self) -> tuple[Unknown, ...]:
        """The lens value."""
        return (Unknown(self.value, self.lens),)

    def evaluate(self, bundle: "Bundle") -> tuple[np.ndarray, Mapping[Unknown, np.ndarray]]:
        """Return the whitened difference (1,) and its derivative."""
        now = bundle.lenses[self.lens].values.parameter(self.value)
        mean, sigma = (np.log(self.mean), self.sigma / self.mean) if self.value == "focal" else (self.mean, self.sigma)
        return np.array([(now - mean) / sigma]), {self.unknowns()[0]: np.array([[1.0 / sigma]])}

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return the value beside what it was said to be."""
        if not self.shown:
            return []
        residual, _ = self.evaluate(bundle)
        found = bundle.lenses[self.lens].values.value(self.value)
        unit = "px" if self.value in ("focal", "cx", "cy") else ""
        return [Figure(self.name, self.mean, found, float(residual[0]), unit)]


@dataclass(frozen=True)
class SmoothZoom:
    """A zoom that bends little: second differences of its coefficients, with `sigma` in log focal length.

    The coefficients' mean is tied to 0, since the focal length itself holds the mean.
    """

    sigma: float
    lens: int = 0

    name = "zoom"

    def unknowns(self) -> tuple[Unknown, ...]:
        """The zoom's coefficients."""
        return (Unknown(ZOOM, self.lens),)

    def evaluate(self, bundle: "Bundle") -> tuple[np.ndarray, Mapping[Unknown, np.ndarray]]:
        """Return whitened second differences and mean (K - 1,), and their derivatives (K - 1, K)."""
        zoom = bundle.lenses[self.lens].zoom
        count = len(zoom)
        bends = (np.eye(count - 2, count) - 2 * np.eye(count - 2, count, 1) + np.eye(count - 2, count, 2)) / self.sigma
        rows = np.concatenate([bends, np.full((1, count), MEAN_WEIGHT / count)])
        return rows @ zoom, {self.unknowns()[0]: rows}

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return nothing: a stiff zoom shows in its curve."""
        return []


MEAN_WEIGHT = 1e3
"""Weight of the mean of a zoom's coefficients: firm, since only their sum with the log focal length is seen."""


@dataclass(frozen=True)
class Distance:
    """A known distance between two points, in the solve's unit, with one sigma."""

    name: str
    a: int
    b: int
    length: float
    sigma: float

    def unknowns(self) -> tuple[Unknown, ...]:
        """The two points."""
        return Unknown(POINT_BLOCK, self.a), Unknown(POINT_BLOCK, self.b)

    def evaluate(self, bundle: "Bundle") -> tuple[np.ndarray, Mapping[Unknown, np.ndarray]]:
        """Return the whitened difference (1,) and derivatives (1, 3) by the steps of both points."""
        (xa, ja), (xb, jb) = _position(bundle, self.a), _position(bundle, self.b)
        apart = float(np.linalg.norm(xa - xb))
        way = (xa - xb) / max(apart, 1e-12) / self.sigma
        a, b = self.unknowns()
        return np.array([(apart - self.length) / self.sigma]), {a: (way @ ja)[None], b: (-way @ jb)[None]}

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return the distance beside what it was said to be."""
        sigmas = float(self.evaluate(bundle)[0][0])
        return [Figure(self.name, self.length, self.length + sigmas * self.sigma, sigmas)]


def _position(bundle: "Bundle", point: int) -> tuple[np.ndarray, np.ndarray]:
    """Return a point (3,) and its derivative (3, 3) by a step of its direction and inverse depth."""
    m, rho, basis = bundle.directions[point], bundle.rhos[point], np.zeros((3, 2))
    tangent(m, basis)
    return bundle.anchors[point] + m / rho, np.column_stack([basis / rho, -m / rho**2])
