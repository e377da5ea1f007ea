"""The adjustment of drawn lines: distortion, focal length and one rotation a frame with axis lines, by least squares.

Robust least squares with a Cauchy loss; each line's position is eliminated (`line_errors`). Derivatives are finite
differences: there are few unknowns, and the residuals take microseconds.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import least_squares

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens.drawn import AXES, DrawnLine, LensOrder
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.line_errors import FREE, flatten, line_errors
from amberkeel.core.lens.model import Lens
from amberkeel.core.linear import scaled_inverse

LOSS_SCALE = 3.0
"""Whitened distance at which the loss bends."""

HELD_PX, HELD_SHARE = 1.0, 0.2
"""What a coefficient that is held at 0 may yet do at the corner: pixels, and a share of what the first one does."""

TURN_SIGMA = 10.0
"""Prior on rotations that too few lines determine, radians: so wide that it only keeps the equations regular."""

MOST_LOG_FOCAL = 2.0
"""Farthest that one adjustment may move the focal length, as a natural logarithm."""

AGAIN = 4
"""Evaluations of the residuals when an earlier fit of nearly the same lines is at hand."""

TURN_STEP = 1e-6
"""Turn over which derivatives are taken, radians."""

_STEP = {"focal": 1e-5, "cx": 1e-2, "cy": 1e-2}


class Lines:
    """The lines as flat arrays."""

    def __init__(self, lines: Sequence[DrawnLine]):
        self.lines = lines
        self.points = np.ascontiguousarray(np.concatenate([line.points for line in lines]), dtype=float)
        self.first = np.concatenate([[0], np.cumsum([len(line.points) for line in lines])]).astype(np.int64)
        self.axis = np.array([AXES.index(line.axis) if line.axis else FREE for line in lines], np.int64)
        self.frames = sorted({line.frame for line in lines if line.axis})
        self.group = np.array([self.frames.index(line.frame) if line.axis else 0 for line in lines], np.int64)
        self.weight = np.repeat([1.0 / line.sigma for line in lines], np.diff(self.first))
        self.turning = np.repeat(np.where(self.axis == FREE, -1, self.group), np.diff(self.first))
        self._lens: tuple = ()
        self.freedom = len(self.points) - int(np.where(self.axis == FREE, 2, 1).sum())

    def distances(
        self, lens: Lens, rotations: np.ndarray, axis: np.ndarray | None = None
    ) -> tuple[np.ndarray, np.ndarray]:
        """Return points' distances (N,) in pixels and the lines (L, 3) in undistorted space.

        Parameters
        ----------
        lens : to try. rotations : (F, 3, 3), camera_from_world. axis : (L,) world axis of each line, -1 for none,
            or None.
        """
        return self.distances_flat(np.array([*lens.focal_px, *lens.principal_px]), lens.coefficients, rotations, axis)

    def distances_flat(self, pinhole: np.ndarray, c: np.ndarray, rotations: np.ndarray, axis: np.ndarray | None = None):
        """The same from fx, fy, cx, cy (4,) and coefficients (17,).

        Parameters
        ----------
        pinhole : (4,) fx, fy, cx, cy in pixels. c : (17,) coefficients. rotations : (F, 3, 3), camera_from_world.
            axis : (L,) world axis of each line, -1 for none, or None.
        """
        out, normals = np.empty(len(self.points)), np.empty((len(self.axis), 3))
        used = self.axis if axis is None else axis
        line_errors(*self._flattened(pinhole, c), self.first, used, self.group, rotations, out, normals)
        return out, normals

    def _flattened(self, pinhole: np.ndarray, c: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the points through a lens, kept until another is asked for: rotations alone do not move them."""
        key = (*pinhole.tolist(), *c.tolist())
        if key != self._lens:
            self._flat = np.empty((len(self.points), 2)), np.empty((len(self.points), 4))
            flatten(self.points, pinhole, c, *self._flat)
            self._lens = key
        return self._flat

    def rms(self, distances: np.ndarray, spent: np.ndarray) -> np.ndarray:
        """Return each line's RMS distance (L,), with the freedoms it spent taken off."""
        count = np.diff(self.first)
        total = np.add.reduceat(distances**2, self.first[:-1])
        return np.sqrt(total / np.maximum(count - spent, 1))


@dataclass
class LineState:
    """What an adjustment of lines changes: the lens, the world's turn on each frame, and which coefficients.

    Attributes
    ----------
    rotations : (F, 3, 3) camera_from_world. free : names of coefficients that may change; held : of those that may not.
    """

    lens: Lens
    rotations: np.ndarray
    free: tuple[str, ...]
    held: tuple[str, ...] = ()

    @property
    def size(self) -> int:
        """Number of unknowns."""
        return len(self.free) + 3 * len(self.rotations)

    def loosened(self) -> "LineState":
        """Return this state with the held coefficients free, for its uncertainty."""
        return replace(self, free=self.free + self.held, held=())

    def stepped(self, step: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return fx, fy, cx, cy (4,), coefficients (17,) and rotations (G, 3, 3) after a step."""
        pinhole, c = np.array([*self.lens.focal_px, *self.lens.principal_px]), self.lens.coefficients
        for name, value in zip(self.free, step.tolist()):
            if name == "focal":
                pinhole[:2] *= math.exp(min(max(value, -MOST_LOG_FOCAL), MOST_LOG_FOCAL))
            elif name in ("cx", "cy"):
                pinhole[2 + (name == "cy")] += value
            else:
                c[INDEX[name]] += value
        turns = step[len(self.free) :].reshape(-1, 3)
        turned = self.rotations.copy()
        for k in range(len(turned)):
            if turns[k].any():
                turned[k] = turned[k] @ rotation_exp(turns[k])
        return pinhole, c, turned

    def moved(self, step: np.ndarray) -> "LineState":
        """Return the state after a step."""
        pinhole, c, turned = self.stepped(step)
        lens = replace(
            self.lens,
            focal_px=(float(pinhole[0]), float(pinhole[1])),
            principal_px=(float(pinhole[2]), float(pinhole[3])),
        )
        return LineState(lens.with_coefficients(c), turned, self.free, self.held)


def robust_cost(whitened: np.ndarray) -> float:
    """Return the Cauchy loss of whitened residuals (N,)."""
    return float(LOSS_SCALE**2 * np.log1p((whitened / LOSS_SCALE) ** 2).sum())


def _whitened(data: Lines, state: LineState, order: LensOrder, step: np.ndarray) -> np.ndarray:
    """Return whitened distances after a step, with the prior on the focal length appended where there is one."""
    pinhole, c, rotations = state.stepped(step)
    distances, _ = data.distances_flat(pinhole, c, rotations)
    known = [np.log(pinhole[0] / order.focal_px) / order.focal_sigma] if _known(state, order) else []
    return np.append(distances * data.weight, known)


def _known(state: LineState, order: LensOrder) -> bool:
    """Return whether the focal length is free with a prior: one residual more."""
    return bool("focal" in state.free and order.focal_px and order.focal_sigma)


def _jacobian(
    data: Lines, state: LineState, order: LensOrder, at: np.ndarray, now: np.ndarray | None = None
) -> np.ndarray:
    """Return derivatives after the step `at`, by central differences, or by forward ones from the residuals `now`,
    which take half as long.

    All frames are turned at once about one axis: no line is seen on two frames (Curtis, Powell and Reid 1974).
    """

    def slope(step: np.ndarray, size: float) -> np.ndarray:
        ahead = _whitened(data, state, order, at + step)
        if now is not None:
            return (ahead - now) / size
        return (ahead - _whitened(data, state, order, at - step)) / (2.0 * size)

    count, frames = len(state.free), len(state.rotations)
    out = np.zeros((len(data.points) + _known(state, order), state.size))
    for k, name in enumerate(state.free):
        size = _STEP.get(name, 1e-5)
        out[:, k] = slope(size * (np.arange(state.size) == k), size)
    turns = np.arange(state.size) - count
    for a in range(3 if frames else 0):
        turned = slope(TURN_STEP * ((turns >= 0) & (turns % 3 == a)), TURN_STEP)
        rows = np.nonzero(data.turning >= 0)[0]
        out[rows, count + 3 * data.turning[rows] + a] = turned[rows]
    return out


def adjust_lines(data: Lines, state: LineState, order: LensOrder, evaluations: int = 40) -> tuple[LineState, float]:
    """Return the state of least robust cost, and its cost.

    Parameters
    ----------
    data : the lines as arrays. state : to begin with. order : what is known of the lens. evaluations : of the
        residuals, at the most.
    """
    if not state.size:
        return state, robust_cost(_whitened(data, state, order, np.zeros(0)))
    count, quick = len(state.free), evaluations <= AGAIN
    wide = np.eye(state.size)[count:] / TURN_SIGMA

    def residuals(step: np.ndarray) -> np.ndarray:
        return np.append(_whitened(data, state, order, step), step[count:] / TURN_SIGMA)

    def jacobian(step: np.ndarray) -> np.ndarray:
        now = _whitened(data, state, order, step) if quick else None
        return np.vstack([_jacobian(data, state, order, step, now), wide])

    found = least_squares(
        residuals,
        np.zeros(state.size),
        jacobian,
        loss="cauchy",
        f_scale=LOSS_SCALE,
        x_scale="jac",
        ftol=1e-4 if quick else 1e-8,
        max_nfev=evaluations,
    )
    return state.moved(found.x), 2.0 * float(found.cost)


def noise_scale(data: Lines, state: LineState, order: LensOrder) -> float:
    """Return the scale of the whitened distances against what was stated; 1 at the least.

    Parameters
    ----------
    data : the lines as arrays. state : adjusted. order : what is known of the lens.
    """
    r = _whitened(data, state, order, np.zeros(state.size))[: len(data.points)]
    freedom = data.freedom - state.size
    if freedom < 1:
        return 1.0
    w = 1.0 / (1.0 + (r / LOSS_SCALE) ** 2)
    return float(max(1.0, np.sqrt((w * r * r).sum() / freedom)))


def line_covariance(data: Lines, state: LineState, order: LensOrder) -> np.ndarray:
    """Return the covariance of the free parameters, the noise as found if it is larger than stated.

    Held coefficients count as not quite known: as far as lenses usually have them beside the first.

    Parameters
    ----------
    data : the lines as arrays. state : adjusted. order : what is known of the lens.
    """
    loose = state.loosened()
    r = _whitened(data, state, order, np.zeros(state.size))
    j = _jacobian(data, loose, order, np.zeros(loose.size), r)
    w = 1.0 / (1.0 + (r / LOSS_SCALE) ** 2)
    normal = (j * w[:, None]).T @ j
    at = np.arange(len(loose.free), loose.size)
    normal[at, at] += TURN_SIGMA**-2
    first = "division" if order.model == "division" else "k1"
    usual = HELD_PX + HELD_SHARE * abs(state.lens.coefficients[INDEX[first]]) * corner_effect(state.lens, first)
    for name in state.held:
        row = loose.free.index(name)
        normal[row, row] += (corner_effect(state.lens, name) / usual) ** 2
    inverse = scaled_inverse(normal, 1e-12) * noise_scale(data, state, order) ** 2
    kept = np.r_[: len(state.free), len(loose.free) : loose.size]
    return inverse[np.ix_(kept, kept)]


def corner_effect(lens: Lens, name: str) -> float:
    """Return how far one unit of a coefficient moves the picture's corner, pixels."""
    r = 0.5 * np.hypot(lens.width, lens.height * lens.focal_px[0] / lens.focal_px[1]) / lens.focal_px[0]
    power = {"k1": 3, "k2": 5, "k3": 7, "division": 3}.get(name, 2)
    return float(lens.focal_px[0] * r**power)
