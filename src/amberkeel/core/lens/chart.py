"""A lens from views of a filmed grid: all views' poses and one lens adjusted together (after Zhang 2000), with a
Cauchy loss.
"""

from dataclasses import dataclass, replace

import cv2
import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.pixels import to_opencv
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.line_adjust import LOSS_SCALE, corner_effect
from amberkeel.core.lens.model import Lens
from amberkeel.core.lens.views import ChartOrder, View
from amberkeel.core.linear import scaled_inverse

CORNER_SIGMA_PX = 0.1
"""Noise of a found corner until the residuals tell it."""

COVERAGE = (6, 4)
"""Columns and rows of the coverage map."""

ASTRAY = 3.0
"""Times the usual RMS from which a view is an outlier."""

FOCAL_WORTH = 0.05
"""Relative sigma of the focal length from which the views do not tell it."""

MOST_VIEWS = 80

MOST_EVALUATIONS = 200
"""Of the residuals in one adjustment: focal length, squeeze and the two-axis terms form a long valley."""

_TWO_AXIS = ("t0", "t1", "t5", "t6")


@dataclass(frozen=True)
class ChartFit:
    """A calibrated lens.

    Attributes
    ----------
    lens : the lens. sigma : one sigma of "focal_px", "cx", "cy", "squeeze" and coefficients.
    views : names; rms_px (V,) of each; astray (V,) bool, left out. rms_px : over the views that counted.
    coverage : (rows, columns) corners in each part of the picture. notes : plain sentences.
    map_sigma_px : one sigma of the map from picture to straightened picture, RMS over the picture, pixels.
    """

    lens: Lens
    sigma: dict[str, float]
    views: list[str]
    view_rms: np.ndarray
    astray: np.ndarray
    rms_px: float
    coverage: np.ndarray
    notes: list[str]
    map_sigma_px: float


class _Views:
    """Views as flat arrays."""

    def __init__(self, views: list[View]):
        self.count = len(views)
        self.view = np.repeat(np.arange(len(views)), [len(v.corners) for v in views])
        self.corners = np.concatenate([v.corners for v in views])
        self.positions = np.concatenate([np.c_[v.positions, np.zeros(len(v.positions))] for v in views])


@dataclass
class _State:
    lens: Lens
    rotations: np.ndarray
    shifts: np.ndarray
    free: tuple[str, ...]

    def moved(self, lens_step: np.ndarray, poses: np.ndarray) -> "_State":
        """Return the state after a step of the lens (L,) and the poses (V, 6)."""
        lens, c = self.lens, self.lens.coefficients
        fx, fy, cx, cy = *lens.focal_px, *lens.principal_px
        for name, value in zip(self.free, lens_step):
            if name == "focal":
                fx, fy = fx * np.exp(value), fy * np.exp(value)
            elif name == "squeeze":
                fy *= np.exp(value)
            elif name == "cx":
                cx += value
            elif name == "cy":
                cy += value
            else:
                c[INDEX[name]] += value
        lens = replace(lens, focal_px=(float(fx), float(fy)), principal_px=(float(cx), float(cy))).with_coefficients(c)
        turned = Rotation.from_rotvec(poses[:, :3]).as_matrix() @ self.rotations
        return _State(lens, turned, self.shifts + poses[:, 3:], self.free)

    def residuals(self, data: _Views) -> np.ndarray:
        """Return projected minus found corners (N, 2), pixels."""
        camera = np.einsum("nij,nj->ni", self.rotations[data.view], data.positions) + self.shifts[data.view]
        return np.nan_to_num(self.lens.project(camera) - data.corners, nan=1e3)


def calibrate(views: list[View], width: int, height: int, order: ChartOrder) -> ChartFit:
    """Return the lens that explains the grids.

    Raises LensError when the views do not tell it: too few, or all square to the camera.

    Parameters
    ----------
    views : grids found on pictures. width, height : of the pictures, pixels. order : the grid and what is asked.
    """
    if len(views) > MOST_VIEWS:
        views = [views[k] for k in np.linspace(0, len(views) - 1, MOST_VIEWS).astype(int)]
    data = _Views(views)
    state = _begin(views, width, height, order)
    notes: list[str] = []
    stages: list[tuple[str, ...]] = [("focal",), ("k1",) if order.model == "radial" else ("division",)]
    if order.model == "radial":
        stages += [(f"k{k}",) for k in range(2, order.radial + 1)]
    if order.anamorphic:
        stages = [("focal", "squeeze"), _TWO_AXIS + ("turn",)]
    if order.radial == 0 and not order.anamorphic and order.model == "radial":
        stages = [("focal",)]
    if order.pattern == "loose":
        notes.append("Optical centre held in the middle: tags that lie each for itself do not tell it.")
    elif len(views) >= 3:
        stages.append(("cx", "cy"))
    else:
        notes.append("Optical centre held in the middle: fewer than three views do not tell it.")
    if order.tangential and not order.anamorphic:
        stages.append(("p1", "p2"))
    for names in stages:
        if "division" in names:
            state.lens = replace(state.lens, division=-1e-6)
        state.free = state.free + names
        state = _adjust(data, state)
    rms = _view_rms(data, state)
    astray = rms > max(ASTRAY * float(np.median(rms)), 0.3)
    if astray.any() and (~astray).sum() >= 3:
        kept = [v for v, out in zip(views, astray) if not out]
        rotations, shifts = state.rotations[~astray], state.shifts[~astray]
        data, state = _Views(kept), _State(state.lens, rotations, shifts, state.free)
        state = _adjust(data, state)
        notes.append(f"{int(astray.sum())} of {len(views)} views disagree and were left out.")
    else:
        astray = np.zeros(len(views), bool)
    rms[~astray] = _view_rms(data, state)
    return _report(data, state, views, rms, astray, order, notes)


def _begin(views: list[View], width: int, height: int, order: ChartOrder) -> _State:
    flat = [np.c_[v.positions, np.zeros(len(v.positions))].astype(np.float32) for v in views]
    seen = [to_opencv(v.corners) for v in views]
    guess = cv2.initCameraMatrix2D(flat, seen, (width, height), 0)[0, 0]
    if not (np.isfinite(guess) and 0.2 * width < guess < 20 * width):
        guess = 1.2 * width
    lens = Lens.centred(width, height, float(guess), pixel_aspect=order.pixel_aspect)
    matrix = np.array([[lens.focal_px[0], 0, width / 2], [0, lens.focal_px[1], height / 2], [0, 0, 1.0]])
    rotations, shifts = [], []
    for view, positions in zip(views, flat):
        ok, turn, shift = cv2.solvePnP(positions.astype(float), view.corners, matrix, None, flags=cv2.SOLVEPNP_IPPE)
        rotations.append(cv2.Rodrigues(turn)[0])
        shifts.append(shift.ravel())
    return _State(lens, np.array(rotations), np.array(shifts), ())


def _residuals(data: _Views, state: _State, step: np.ndarray) -> np.ndarray:
    """Return residuals (N, 2) after a step of the lens and the poses (L + 6 V,), pixels."""
    count = len(state.free)
    return state.moved(step[:count], step[count:].reshape(-1, 6)).residuals(data)


def _jacobian(data: _Views, state: _State, at: np.ndarray) -> np.ndarray:
    """Return derivatives (2 N, L + 6 V) after the step `at`, by central differences.

    All views are moved at once: no corner is seen on two of them (Curtis, Powell and Reid 1974).
    """
    count, corners = len(state.free), np.arange(len(data.corners))
    out = np.zeros((len(corners), 2, len(at)))

    def slope(step: np.ndarray, size: float) -> np.ndarray:
        return (_residuals(data, state, at + step) - _residuals(data, state, at - step)) / (2.0 * size)

    for k, name in enumerate(state.free):
        size = 1e-2 if name in ("cx", "cy") else 1e-5
        out[:, :, k] = slope(size * (np.arange(len(at)) == k), size)
    reach = float(np.linalg.norm(state.shifts, axis=1).mean())
    pose = np.arange(len(at)) - count
    for k in range(6):
        size = 1e-5 * (1.0 if k < 3 else reach)
        out[corners, :, count + 6 * data.view + k] = slope(size * ((pose >= 0) & (pose % 6 == k)), size)
    return out.reshape(2 * len(corners), -1)


def _adjust(data: _Views, state: _State) -> _State:
    """Return the state of least robust cost."""
    count = len(state.free)
    found = least_squares(
        lambda step: _residuals(data, state, step).ravel(),
        np.zeros(count + 6 * data.count),
        lambda step: _jacobian(data, state, step),
        loss="cauchy",
        f_scale=CORNER_SIGMA_PX * LOSS_SCALE,
        x_scale="jac",
        max_nfev=MOST_EVALUATIONS,
    )
    return state.moved(found.x[:count], found.x[count:].reshape(-1, 6))


def _view_rms(data: _Views, state: _State) -> np.ndarray:
    d2 = (state.residuals(data) ** 2).sum(1)
    return np.sqrt(np.bincount(data.view, d2, data.count) / np.bincount(data.view, minlength=data.count))


def _report(data, state, views, rms, astray, order, notes) -> ChartFit:
    r = state.residuals(data)
    j = _jacobian(data, state, np.zeros(len(state.free) + 6 * data.count))
    w = 1.0 / (1.0 + (r.ravel() / (CORNER_SIGMA_PX * LOSS_SCALE)) ** 2)
    freedom = max(2 * len(r) - j.shape[1], 1)
    noise2 = float((w * r.ravel() ** 2).sum() / freedom)
    inverse = scaled_inverse((j * w[:, None]).T @ j) * noise2
    lens, count = state.lens, len(state.free)
    sigma = dict(zip(state.free, np.sqrt(np.diagonal(inverse))[:count].tolist()))
    relative = sigma.pop("focal")
    if relative > FOCAL_WORTH:
        raise LensError(
            f"The views do not tell the focal length (±{100 * min(relative, 9.99):.0f} %).",
            "Tilt the grid by 20° to 45° in several directions; views square to the camera tell only scale over "
            "distance.",
        )
    fold = lens.folds()
    if fold is not None:
        raise LensError(
            f"The lens found folds the picture over at {100 * fold:.0f} % of its half diagonal.",
            "Ask for fewer coefficients, or film the grid nearer to the corners.",
        )
    sigma["focal_px"] = relative * lens.focal_px[0]
    columns, rows = COVERAGE
    cell = np.clip((data.corners / [lens.width / columns, lens.height / rows]).astype(int), 0, [columns - 1, rows - 1])
    coverage = np.bincount(cell[:, 1] * columns + cell[:, 0], minlength=columns * rows).reshape(rows, columns)
    if (coverage == 0).sum() > columns * rows // 4:
        notes.append(
            f"The grid covers {100 * float((coverage > 0).mean()):.0f} % of the picture: distortion is guessed in "
            "the rest."
        )
    for name in [n for n in sigma if n in ("k1", "k2", "k3", "division")]:
        if abs(lens.coefficients[INDEX[name]]) < 2.0 * sigma[name] and sigma[name] * corner_effect(lens, name) > 1.0:
            notes.append(
                f"{name} is hardly told (±{sigma[name] * corner_effect(lens, name):.1f} px at the corner): ask for "
                "fewer coefficients."
            )
    return ChartFit(
        lens, sigma, [v.name for v in views], rms, astray, float(np.sqrt((rms[~astray] ** 2).mean())), coverage, notes,
        _map_sigma(state, inverse[:count, :count]),
    )  # fmt: skip


def _map_sigma(state: _State, covariance: np.ndarray) -> float:
    """Return one sigma of straightened positions over the picture, RMS, pixels, from the lens's covariance (L, L)."""
    lens = state.lens
    x, y = np.meshgrid(np.linspace(0, lens.width, 13), np.linspace(0, lens.height, 9))
    px = np.stack([x, y], -1).reshape(-1, 2)
    still = np.zeros((len(state.rotations), 6))
    slopes = []
    for k, name in enumerate(state.free):
        size = 1e-2 if name in ("cx", "cy") else 1e-5
        step = size * (np.arange(len(state.free)) == k)
        a, b = state.moved(step, still).lens, state.moved(-step, still).lens
        slopes.append((a.normalise(px) - b.normalise(px)) * lens.focal_px[0] / (2 * size))
    j = np.stack(slopes, -1)
    return float(np.sqrt(np.einsum("nia,ab,nib->ni", j, covariance, j).sum(1).mean()))
