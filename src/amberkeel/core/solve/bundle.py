"""The unknowns and the measurements of a bundle adjustment: cameras, points and lenses together."""

from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.solve import terms as known
from amberkeel.core.solve.arrays import Observations, Scene
from amberkeel.core.solve.cost import fill_residuals, point_costs
from amberkeel.core.solve.radial_lens import FOCAL, RadialLens
from amberkeel.core.solve.terms import Term
from amberkeel.core.solve.world_frame import Shape, World


@dataclass(frozen=True)
class LensBlock:
    """One lens of an adjustment.

    Attributes
    ----------
    values : the lens. free : names of `ROW_NAMES` that may change.
    zoom : (K,) coefficients of the log focal length over frames, on the basis (F, K); K is 0 where nothing zooms.
    """

    values: RadialLens
    free: tuple[str, ...]
    zoom: np.ndarray
    zoom_basis: np.ndarray

    @property
    def zooms(self) -> bool:
        """Whether the focal length changes over frames."""
        return len(self.zoom) > 0


def fixed_focal(values: RadialLens, free: tuple[str, ...], frames: int) -> LensBlock:
    """Return a lens whose focal length is the same on all of `frames` cameras.

    Parameters
    ----------
    values : the lens. free : names of what may change. frames : number of cameras.
    """
    return LensBlock(values, free, np.zeros(0), np.zeros((frames, 0)))


@dataclass(frozen=True)
class Bundle:
    """The unknowns and the measurements of an adjustment.

    Attributes
    ----------
    rotations (F, 3, 3) world_from_camera, centres (F, 3) : cameras. free (F, 6) bool : degrees that may move, the turn
        in the camera's own frame, then the position in the world.
    lenses : one or more; lens_of (F,) int, each camera's.
    anchors (P, 3), directions (P, 3), rhos (P,) : points, ``X = anchor + direction / rho``.
    first (P + 1,) : observations of point p are rows ``first[p]:first[p + 1]``, each camera once.
    camera (N,) int, xy (N, 2) pixels, weight (N,) one over sigma in pixels; weight 0 leaves an observation out.
    terms : what else is known. loss_scale : whitened residual at which the Cauchy loss bends.
    drift (N, 2) : pixels that a row's own time moves each measurement for a readout of one; None for none.
    world : from the bundle's coordinates to those that terms are stated in. shapes : of that world, by number.
    """

    rotations: np.ndarray
    centres: np.ndarray
    free: np.ndarray
    lenses: tuple[LensBlock, ...]
    lens_of: np.ndarray
    anchors: np.ndarray
    directions: np.ndarray
    rhos: np.ndarray
    first: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    weight: np.ndarray
    terms: tuple[Term, ...] = ()
    loss_scale: float = 2.5
    drift: np.ndarray | None = None
    world: World = field(default_factory=World)
    shapes: tuple[Shape, ...] = ()

    @property
    def lens(self) -> RadialLens:
        """The first lens."""
        return self.lenses[0].values

    @property
    def point(self) -> np.ndarray:
        """Each observation's point (N,)."""
        return np.repeat(np.arange(len(self.rhos)), np.diff(self.first))

    def lens_rows(self) -> np.ndarray:
        """Return each camera's lens row (F, 11), the zoom in it."""
        return lens_rows(self.lenses, self.lens_of)

    def scene(self) -> Scene:
        """Return cameras, lens rows and points for the kernels."""
        return Scene(self.rotations, self.centres, self.lens_rows(), self.anchors, self.directions, self.rhos)

    def observations(self) -> Observations:
        """Return the measurements for the kernels."""
        drift = np.zeros_like(self.xy) if self.drift is None else self.drift
        return Observations(self.first, self.camera, self.xy, self.weight, drift)

    def residuals(self) -> np.ndarray:
        """Return projected minus measured (N, 2) in pixels; 1e3 where a point is behind the camera."""
        out = np.empty_like(self.xy)
        fill_residuals(self.scene(), self.observations(), self.point, out)
        return out

    def points(self, far: float = 1e4) -> np.ndarray:
        """Return point positions (P, 3); points beyond `far` or at infinity are put at that distance."""
        return self.anchors + self.directions / np.maximum(self.rhos, 1.0 / far)[:, None]

    def figures(self) -> list[known.Figure]:
        """Return what each term says."""
        return [figure for term in self.terms for figure in term.figures(self)]


def lens_rows(lenses: tuple[LensBlock, ...], lens_of: np.ndarray) -> np.ndarray:
    """Return each camera's lens row (F, 11) from the lenses and their numbers (F,)."""
    out = np.stack([lens.values.row for lens in lenses])[lens_of]
    for number, lens in enumerate(lenses):
        if lens.zooms:
            own = lens_of == number
            out[own, FOCAL] *= np.exp(lens.zoom_basis[own] @ lens.zoom)
    return out


def total_cost(bundle: Bundle) -> float:
    """Return the robust cost of a bundle with its terms."""
    return known.cost(bundle.terms, bundle) + float(point_costs_of(bundle).sum())


def point_costs_of(bundle: Bundle) -> np.ndarray:
    """Return the robust cost of each point's measurements (P,)."""
    return point_costs(bundle.scene(), bundle.observations(), bundle.loss_scale**2)
