"""How well a solve is determined: sigmas in a stated gauge.

Two figures are taken for every value, and the larger one is believed: the inverse of the normal matrix, inflated for
the time correlation of track errors, and the spread when cells of the picture and stretches of frames are left out
(`jackknife`), which knows what neighbouring tracks share.

Gauge: of cameras that share points, the first is held, and the coordinate along the longest axis of the camera furthest
from it, which fixes the scale. Where known points hold the world, nothing else is held.
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.linalg import LinAlgError
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components

from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.jackknife import cells, shifts, stretches
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.normal_system import NormalSystem
from amberkeel.core.solve.radial_lens import ROW_NAMES
from amberkeel.core.solve.shifts import Shifts
from amberkeel.core.solve.step import mean_log_depth_row, point_steps
from amberkeel.core.solve.terms import SoftLens
from amberkeel.core.solve.tiles import Factor
from amberkeel.core.solve.unknowns import Unknown

DEPTH = "depth"
"""Name of the mean log depth of the set among what a lens is correlated with."""

REGULAR = 1e-13
"""Share of its own diagonal added to each row, so that what nothing determines comes out with a huge sigma."""

NEAR_SHARE = 0.1
"""A point counts for the mean depth when its inverse depth is at least this share of the usual one."""


@dataclass(frozen=True)
class Uncertainty:
    """How sure an adjusted shot is; all sigmas are one sigma, in the gauge of `uncertainty`.

    Attributes
    ----------
    names : free lens values, and "depth" last. covariance : (L + 1, L + 1) of them; the focal length's is relative.
    rotation_sigma, position_sigma : (F,) radians and the solve's own unit, for the cameras of the bundle.
    noise_factor : by how much the stated noise of the measurements understates their error; it is in the sigmas.
    points : (P, 3, 3) covariance of each point of the bundle: along both tangents of its direction, radians, and of its
        inverse depth, over the solve's own unit.
    shifts : how cameras and lens move when part of the tracks is left out; None where that was not asked for.
    """

    names: tuple[str, ...]
    covariance: np.ndarray
    rotation_sigma: np.ndarray
    position_sigma: np.ndarray
    noise_factor: float
    points: np.ndarray
    shifts: Shifts | None = None

    def sigma(self, name: str) -> float:
        """Return one sigma of a lens value (of the focal length's logarithm), 0 where it was fixed."""
        if name not in self.names:
            return 0.0
        at = self.names.index(name)
        return float(np.sqrt(max(self.covariance[at, at], 0.0)))


def gauge(bundle: Bundle) -> np.ndarray:
    """Return which of the free degrees of the cameras (F, 6) bool stay so once the gauge is held."""
    free = bundle.free.copy()
    if bundle.world.held:
        return free
    groups = camera_groups(bundle)
    for group in np.unique(groups):
        own = np.nonzero(groups == group)[0]
        away = bundle.centres[own] - bundle.centres[own[0]]
        far = int(np.argmax(np.linalg.norm(away, axis=1)))
        free[own[0]] = False
        free[own[far], 3 + int(np.argmax(np.abs(away[far])))] = False
    return free


def camera_groups(bundle: Bundle) -> np.ndarray:
    """Return a group number for each camera (F,): cameras that share points, directly or through others."""
    frames, live = len(bundle.centres), bundle.weight > 0.0
    rows, columns = bundle.camera[live], frames + bundle.point[live]
    graph = csr_matrix((np.ones(len(rows)), (rows, columns)), shape=(frames + len(bundle.rhos),) * 2)
    return connected_components(graph, directed=False)[1][:frames]


@dataclass(frozen=True)
class Part:
    """A shot of an adjusted bundle: how many cameras and points it has, the noise factor of its measurements as they
    are weighted, and that of their noise as it was stated.
    """

    cameras: int
    points: int
    noise: float
    stated_noise: float


class Covariance:
    """The inverse of a bundle's reduced system, asked for a few rows at a time."""

    def __init__(self, bundle: Bundle, information: np.ndarray | None = None):
        """Factor the system of an adjusted bundle; `information` (P,) multiplies each point's weight."""
        self.bundle = replace(bundle, free=gauge(bundle))
        self.system = NormalSystem(self.bundle)
        self.factor = self._factored(information)

    def _factored(self, information: np.ndarray | None) -> Factor:
        share = REGULAR
        while True:
            self.system.fill(self.bundle, 0.0, information)
            try:
                return self.system.factored(share * self.system.diagonal())
            except LinAlgError:
                share *= 100.0
                if share > 1.0:
                    raise

    def of(self, rows: np.ndarray) -> np.ndarray:
        """Return the covariance (R, R) of combinations (R, n + C) of the system's unknowns."""
        a, b = self.factor.forward(rows[:, : self.system.full], rows[:, self.system.full :])
        return a @ a.T + b @ b.T

    def pose_variances(self) -> np.ndarray:
        """Return the variances of each camera's turn and position (F, 6), 0 where held."""
        return self.system.camera_rows(self.factor.camera_variances())

    def lens_rows(self, number: int, points: np.ndarray) -> tuple[tuple[str, ...], np.ndarray, float]:
        """Return the names of a lens's free values and "depth", the rows (L + 1, n + C) that give them, and the
        variance of the depth that comes from the points alone.

        Parameters
        ----------
        number : of the lens. points : (P,) bool, whose mean log depth is meant.
        """
        system, rhos = self.system, self.bundle.rhos
        names = [n for n in ROW_NAMES if n in self.bundle.lenses[number].free]
        rows = np.zeros((len(names) + 1, len(system.side())))
        for k, name in enumerate(names):
            rows[k, system.whole_rows(Unknown(name, number))[0]] = 1.0
        ahead = rhos[points & (rhos > 0.0)]
        usual = float(np.median(ahead)) if len(ahead) else 0.0
        own = mean_log_depth_row(
            self.bundle.observations(), system.structure, system.full, system.kept, rhos,
            points & (rhos > NEAR_SHARE * usual), rows[-1],
        )  # fmt: skip
        return (*names, DEPTH), rows, own

    def point_steps(self, step: np.ndarray) -> np.ndarray:
        """Return how the points (P, 3) follow a step (n + C,) of cameras and lenses, their measurements unchanged."""
        out = np.empty((len(self.bundle.rhos), 3))
        kept = self.system.kept._replace(gradients=np.zeros_like(self.system.kept.gradients))
        point_steps(self.bundle.observations(), self.system.structure, self.system.full, kept, step, out)
        return out


def uncertainties(bundle: Bundle, parts: list[Part], clustered: bool = True) -> list[Uncertainty]:
    """Return how sure each part of an adjusted bundle is: the shots that were adjusted together, or the only one.

    Parameters
    ----------
    bundle : adjusted. parts : its shots, whose cameras and points follow one another.
    clustered : whether errors that measurements share are counted; without, it takes a tenth of the time.
    """
    cameras, points = np.cumsum([0] + [p.cameras for p in parts]), np.cumsum([0] + [p.points for p in parts])
    information = np.concatenate([np.full(p.points, p.noise**-2.0) for p in parts])
    covariance = Covariance(bundle, information)
    chosen = [np.isin(np.arange(len(bundle.rhos)), np.arange(a, b)) for a, b in zip(points[:-1], points[1:])]
    lenses = [covariance.lens_rows(int(bundle.lens_of[c]), own) for c, own in zip(cameras[:-1], chosen)]
    independent, poses = [covariance.of(rows) for _, rows, _ in lenses], covariance.pose_variances()
    own = covariance.system.kept.inverses.copy()
    moved = _all_shifts(covariance) if clustered else [[], []]
    covariance.system.fill(covariance.bundle, 0.0, information)
    steps = [[covariance.point_steps(d) for d in way] for way in moved]
    spread = [sum((np.einsum("pa,pb->pab", d, d) for d in way), np.zeros_like(own)) for way in steps]
    follow = [sum((covariance.system.camera_rows(d) ** 2 for d in way), np.zeros_like(poses)) for way in moved]
    poses = _two_ways(poses, *follow)
    turns, positions = np.sqrt(poses[:, :3].sum(1)), np.sqrt(poses[:, 3:].sum(1))
    out = []
    for k, (part, (names, rows, depth)) in enumerate(zip(parts, lenses)):
        ways = [(np.array([rows @ d for d in way]).reshape(-1, len(rows)) ** 2).sum(0) for way in moved]
        wider = _widened(independent[k], ways)
        wider[-1, -1] += depth
        c, p = slice(cameras[k], cameras[k + 1]), slice(points[k], points[k + 1])
        out.append(
            Uncertainty(
                names,
                wider,
                turns[c],
                positions[c],
                part.stated_noise,
                (own + spread[0] + spread[1])[p],
                _shifts(covariance.system, moved, names[:-1], rows[:-1], c) if clustered else None,
            )  # fmt: skip
        )
    return out


def _all_shifts(covariance: Covariance) -> list[list[np.ndarray]]:
    """Return the steps (n + C,) of both jackknives, scaled so that the squares of each add up to a variance.

    A variance from few groups is itself uncertain, so that errors over their sigma follow Student's distribution with a
    degree of freedom fewer than groups; its own variance, (g - 1) / (g - 3), is in the sigma (Cameron and Miller 2015,
    section 6; Student 1908).
    """
    out = []
    bundle = covariance.bundle
    for labels in (cells(bundle)[bundle.point], stretches(bundle)):
        moved = list(shifts(bundle, covariance.system, labels))
        groups = len(moved)
        share = (groups - 1) / groups * (groups - 1) / max(groups - 3, 1)
        out.append([np.sqrt(share) * step for step in moved])
    return out


def _shifts(system: NormalSystem, moved: list, names: tuple[str, ...], rows: np.ndarray, cameras: slice) -> Shifts:
    """Return the samples of both jackknives for some cameras and their lens, whose rows (L, n + C) are given."""
    samples = [*moved[0], *moved[1]]
    poses = np.array([system.camera_rows(d)[cameras] for d in samples])
    lens = np.array([rows @ d for d in samples]).reshape(len(samples), len(names))
    return Shifts(poses[..., :3], poses[..., 3:], names, lens, len(moved[0]))


def _two_ways(independent: np.ndarray, by_cell: np.ndarray, by_time: np.ndarray) -> np.ndarray:
    """Return variances clustered in two ways: what both ways know, independent noise, counts once (Cameron and Miller
    2015), and no way of grouping is better than none.
    """
    both = by_cell + by_time - independent
    return np.maximum(np.maximum(both, independent), np.maximum(by_cell, by_time))


def _widened(covariance: np.ndarray, ways: list[np.ndarray]) -> np.ndarray:
    """Return a covariance (R, R) with its variances clustered in two ways, `ways` being those of each (R,)."""
    variance = np.maximum(np.diagonal(covariance), 1e-300)
    factor = np.sqrt(_two_ways(variance, *ways) / variance)
    return covariance * factor[:, None] * factor[None]


def uncertainty(bundle: Bundle, stated: np.ndarray, clustered: bool = True) -> Uncertainty:
    """Return how sure an adjusted bundle of one shot is.

    Parameters
    ----------
    bundle : adjusted. stated : (N,) one over the stated sigmas. clustered : as for `uncertainties`.
    """
    return uncertainties(bundle, [part_of(bundle, stated)], clustered)[0]


def part_of(bundle: Bundle, stated: np.ndarray) -> Part:
    """Return a bundle of one shot as a part; `stated` (N,) is one over the stated sigmas."""
    noise, as_stated = bundle_noise_factor(bundle, bundle.weight), bundle_noise_factor(bundle, stated)
    return Part(len(bundle.centres), len(bundle.rhos), noise, as_stated)


def stated_uncertainty(bundle: Bundle, weights: np.ndarray, freedom: Freedom) -> Uncertainty:
    """Return how sure a locked-off camera is: of its lens as sure as what was stated, of the rest by definition.

    Parameters
    ----------
    bundle : of the shot. weights : (N,) one over the stated sigma of each measurement. freedom : what was known of the
        lens.
    """
    soft = [term for term in freedom.terms if isinstance(term, SoftLens) and term.shown]
    names = (*(term.value for term in soft), DEPTH)
    sigmas = [t.sigma / (bundle.lens.focal if t.value == "focal" else 1.0) for t in soft]
    frames = len(bundle.centres)
    return Uncertainty(
        names, np.diag([*(s * s for s in sigmas), 0.0]), np.zeros(frames), np.zeros(frames),
        bundle_noise_factor(bundle, weights), np.zeros((len(bundle.rhos), 3, 3)),
    )  # fmt: skip


def bundle_noise_factor(bundle: Bundle, weight: np.ndarray) -> float:
    """Return the noise factor of an adjusted bundle of one shot, for measurements weighted by `weight` (N,)."""
    values = len(bundle.lenses[0].free) + len(bundle.lenses[0].zoom)
    factor = noise_factor(bundle.residuals(), weight, bundle.first, len(bundle.centres), values)
    # What few known points leave says little of the noise: points within their sigmas follow the measurements.
    return max(1.0, factor) if bundle.world.held else factor


def time_correlation(residuals: np.ndarray, first: np.ndarray) -> float:
    """Return the lag-one correlation of residuals (N, 2) along tracks, 0 to 0.98; `first` (P + 1,) as in `Bundle`."""
    lengths = np.diff(first)
    inner = np.repeat(lengths >= 4, lengths)
    pair = inner[1:] & inner[:-1]
    pair[first[1:-1] - 1] = False
    length = np.repeat(lengths, lengths).astype(float)
    products = (residuals[1:] * residuals[:-1]).sum(1)
    top = float((products * length[1:] / np.maximum(length[1:] - 1.0, 1.0))[pair].sum())
    bottom = float((residuals[inner] ** 2).sum())
    return float(np.clip(top / bottom if bottom else 0.0, 0.0, 0.98))


def noise_factor(residuals: np.ndarray, weight: np.ndarray, first: np.ndarray, cameras: int, lens_values: int) -> float:
    """Return by how much the stated noise understates: robust residual scale and the effective number of samples.

    Parameters
    ----------
    residuals : (N, 2) pixels. weight : (N,) one over the stated sigma. first : (P + 1,) as in `Bundle`.
    cameras, lens_values : how many cameras and free lens values the residuals were fitted with.

    Notes
    -----
    A first-order process with lag-one correlation r carries (1 - r) / (1 + r) of its samples (Box and Jenkins 1976).
    """
    whitened = residuals * weight[:, None]
    scale = 1.4826 * np.median(np.abs(whitened))
    samples = 2 * len(residuals)
    unknowns = 6 * cameras + 3 * (len(first) - 1) + lens_values - 7
    freedom = np.sqrt(samples / max(samples - unknowns, 0.1 * samples))
    r = time_correlation(whitened, first)
    return float(scale * freedom * np.sqrt((1.0 + r) / (1.0 - r)))
