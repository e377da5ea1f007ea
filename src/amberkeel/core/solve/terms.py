"""What is known besides the tracks: terms, each with residuals, derivatives, a name, and a figure to show.

A term is one or many groups of rows of least squares, all of one form: a hundred tracks on a plane are a hundred groups
of one row.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple, Protocol, Self

import numpy as np

from amberkeel.core.solve.unknowns import ZOOM

if TYPE_CHECKING:
    from amberkeel.core.solve.bundle import Bundle


@dataclass(frozen=True)
class Figure:
    """What a term says after the solve.

    Attributes
    ----------
    name : the term's. stated, found : its value as it was given and as the solve has it, in `unit`.
    sigmas : how far the two differ, in the term's own one-sigma. kind : of the constraint, "lens" for a lens value.
    worst : the track or frame that disagrees most, where there are several.
    """

    name: str
    stated: float
    found: float
    sigmas: float
    unit: str = ""
    kind: str = "lens"
    worst: str = ""


COST = "cost"
"""Kind of the figure that says what all evidence together costs: RMS residual without and with it, pixels."""


class Unknowns(NamedTuple):
    """The blocks of one kind that a term's groups depend on: the kind's name, and each group's key (G,)."""

    block: str
    keys: np.ndarray


class Rows(NamedTuple):
    """A term's whitened residuals (G, R), and for each of its unknowns the derivatives (G, R, size)."""

    residual: np.ndarray
    derivatives: tuple[np.ndarray, ...]


class Term(Protocol):
    """A piece of knowledge as rows of least squares."""

    @property
    def name(self) -> str:
        """The term's name, for people."""
        ...

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The blocks it depends on."""
        ...

    def evaluate(self, bundle: "Bundle") -> Rows:
        """Return its residuals and derivatives, in the order of `unknowns`."""
        ...

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return what to show of the term after the solve."""
        ...

    def within(self, cameras: np.ndarray, points: np.ndarray) -> Self | None:
        """Return the term for a part of the problem, or None where nothing is left of it.

        Parameters
        ----------
        cameras, points : (F,) and (P,) int, each row's number in the part, -1 where it has none.
        """
        ...


def cost(terms: tuple[Term, ...], bundle: "Bundle") -> float:
    """Return half the sum of squares of all terms."""
    return 0.5 * sum(float((r**2).sum()) for r in (term.evaluate(bundle).residual for term in terms))


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

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The lens value."""
        return (Unknowns(self.value, np.array([self.lens])),)

    def evaluate(self, bundle: "Bundle") -> Rows:
        """Return the whitened difference (1, 1) and its derivative."""
        now = bundle.lenses[self.lens].values.parameter(self.value)
        mean, sigma = (np.log(self.mean), self.sigma / self.mean) if self.value == "focal" else (self.mean, self.sigma)
        return Rows(np.array([[(now - mean) / sigma]]), (np.array([[[1.0 / sigma]]]),))

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return the value beside what it was said to be."""
        if not self.shown:
            return []
        found = bundle.lenses[self.lens].values.value(self.value)
        unit = "px" if self.value in ("focal", "cx", "cy") else ""
        return [Figure(self.name, self.mean, found, float(self.evaluate(bundle).residual[0, 0]), unit)]

    def within(self, cameras: np.ndarray, points: np.ndarray) -> "SoftLens":
        """Return the term as it is."""
        return self


@dataclass(frozen=True)
class SmoothZoom:
    """A zoom that bends little: second differences of its coefficients, with `sigma` in log focal length.

    The coefficients' mean is tied to 0, since the focal length itself holds the mean.
    """

    sigma: float
    lens: int = 0

    name = "zoom"

    def unknowns(self) -> tuple[Unknowns, ...]:
        """The zoom's coefficients."""
        return (Unknowns(ZOOM, np.array([self.lens])),)

    def evaluate(self, bundle: "Bundle") -> Rows:
        """Return whitened second differences and mean (1, K - 1), and their derivatives (1, K - 1, K)."""
        zoom = bundle.lenses[self.lens].zoom
        count = len(zoom)
        bends = (np.eye(count - 2, count) - 2 * np.eye(count - 2, count, 1) + np.eye(count - 2, count, 2)) / self.sigma
        rows = np.concatenate([bends, np.full((1, count), MEAN_WEIGHT / count)])
        return Rows((rows @ zoom)[None], (rows[None],))

    def figures(self, bundle: "Bundle") -> list[Figure]:
        """Return nothing: a stiff zoom shows in its curve."""
        return []

    def within(self, cameras: np.ndarray, points: np.ndarray) -> "SmoothZoom":
        """Return the term as it is."""
        return self


MEAN_WEIGHT = 1e3
"""Weight of the mean of a zoom's coefficients: firm, since only their sum with the log focal length is seen."""
