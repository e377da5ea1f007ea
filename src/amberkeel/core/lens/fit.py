"""A lens from drawn lines: distortion from what must be straight, focal length and orientation from what runs along X, Y, Z.

One adjustment for both, by least squares with a Cauchy loss; each line's own place is eliminated (`line_errors`).
Vanishing points come from all points of the lines by maximum likelihood, never from crossings of pairs of lines (Hartley
and Zisserman 2004, 8.6; Förstner and Wrobel 2016, 10.6). World: Y up; X points right in the picture, Z then to the viewer.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.geometry import nearest_rotation, rotation_exp
from amberkeel.core.lens.drawn import AXES, DrawnLine
from amberkeel.core.lens.kernels import DIVISION
from amberkeel.core.lens.line_errors import FREE, line_errors
from amberkeel.core.lens.model import Lens

LOSS_SCALE = 3.0
"""Whitened distance at which the loss bends."""

FIELDS_OF_VIEW = np.radians(np.geomspace(110.0, 6.0, 14))
"""Horizontal fields of view tried as a start, radians."""

TOLD = 0.15
"""Relative sigma of the focal length from which lines do not tell it."""

WORTH_PX = 3.0
"""Sigma of a coefficient's effect at the picture's corner, pixels, from which the lines do not tell it."""

HELD_PX, HELD_SHARE = 1.0, 0.2
"""What a coefficient that is held at 0 may yet do at the corner: pixels, and a share of what the first one does."""

GAIN = 4.0
"""By how much the cost must fall for a further coefficient: two sigmas. More would bias the focal length by what is held."""

DISAGREES = 3.0
"""RMS distance in sigmas from which a line disagrees with the others."""

TURN_SIGMA = 10.0
"""Hold on rotations that too few lines tell, radians: keeps the equations regular and tells nothing."""

AGAIN = 3
"""Steps taken from an earlier fit of nearly the same lines."""

_PLACE = {"k1": 0, "k2": 1, "k3": 2, "p1": 3, "p2": 4, "division": DIVISION}
_STEP = {"focal": 1e-5, "cx": 1e-2, "cy": 1e-2}


@dataclass(frozen=True)
class LensOrder:
    """What lines are asked to tell.

    Attributes
    ----------
    width, height : picture in pixels. pixel_aspect : width of a pixel over its height.
    focal_px : along x; None when unknown. focal_sigma : its relative sigma; 0 holds it.
    model : "radial" or "division". radial : radial coefficients wanted, 0 to 3. tangential : p1 and p2 too.
    centre_px : optical centre; the middle when None.
    """

    width: int
    height: int
    pixel_aspect: float = 1.0
    focal_px: float | None = None
    focal_sigma: float = 0.0
    model: str = "radial"
    radial: int = 2
    tangential: bool = False
    centre_px: tuple[float, float] | None = None

    def steps(self) -> list[tuple[str, ...]]:
        """Return the groups of coefficients in the order in which they are tried."""
        if self.model == "division":
            return [("division",)]
        return [(f"k{k + 1}",) for k in range(self.radial)] + ([("p1", "p2")] if self.tangential else [])


@dataclass(frozen=True)
class LineReport:
    """How straight a line is: RMS distances in pixels without and with the lens, and whether it disagrees with the others."""

    name: str
    before_px: float
    after_px: float
    disagrees: bool


@dataclass(frozen=True)
class LensFit:
    """A lens that drawn lines tell.

    Attributes
    ----------
    lens : with the focal length found, or the one given, or a stand-in where `focal_told` is False; the map of pixels
        to straightened pixels is the same for any.
    focal_told : whether lines or order tell the focal length. focal_sigma_px : one sigma, pixels.
    sigma : one sigma of each coefficient that was found.
    rotations : ``world_from_camera`` by frame with axis lines; rotation_sigma : (3,) radians about the camera's axes.
    lines : a report for each line. notes : plain sentences for the artist. noise_px : of drawn points as found.
    held : coefficients that were asked for and held at 0.
    """

    lens: Lens
    focal_told: bool
    focal_sigma_px: float
    sigma: dict[str, float]
    rotations: dict[int, np.ndarray]
    rotation_sigma: dict[int, np.ndarray]
    lines: list[LineReport]
    notes: list[str] = field(default_factory=list)
    noise_px: float = 0.0
    held: tuple[str, ...] = ()


class _Lines:
    """The lines as flat arrays."""

    def __init__(self, lines: Sequence[DrawnLine]):
        self.lines = lines
        self.points = np.ascontiguousarray(np.concatenate([line.points for line in lines]), dtype=float)
        self.first = np.concatenate([[0], np.cumsum([len(line.points) for line in lines])]).astype(np.int64)
        self.axis = np.array([AXES.index(line.axis) if line.axis else FREE for line in lines], np.int64)
        self.frames = sorted({line.frame for line in lines if line.axis})
        self.group = np.array([self.frames.index(line.frame) if line.axis else 0 for line in lines], np.int64)
        self.weight = np.repeat([1.0 / line.sigma for line in lines], np.diff(self.first))
        self.freedom = len(self.points) - int(np.where(self.axis == FREE, 2, 1).sum())

    def distances(self, lens: Lens, rotations: np.ndarray, axis: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Return points' distances (N,) in pixels and the lines (L, 3) in undistorted space."""
        return self.distances_flat(np.array([*lens.focal_px, *lens.principal_px]), lens.coefficients, rotations, axis)

    def distances_flat(self, pinhole: np.ndarray, c: np.ndarray, rotations: np.ndarray, axis: np.ndarray | None = None):
        """The same from fx, fy, cx, cy (4,) and coefficients (17,)."""
        out, normals = np.empty(len(self.points)), np.empty((len(self.axis), 3))
        used = self.axis if axis is None else axis
        line_errors(self.points, self.first, used, self.group, pinhole, c, rotations, out, normals)
        return out, normals

    def rms(self, distances: np.ndarray, spent: np.ndarray) -> np.ndarray:
        """Return each line's RMS distance (L,), with the freedoms it spent taken off."""
        count = np.diff(self.first)
        total = np.add.reduceat(distances**2, self.first[:-1])
        return np.sqrt(total / np.maximum(count - spent, 1))


@dataclass
class _State:
    lens: Lens
    rotations: np.ndarray
    free: tuple[str, ...]
    held: tuple[str, ...] = ()

    @property
    def size(self) -> int:
        return len(self.free) + 3 * len(self.rotations)

    def loosened(self) -> "_State":
        """Return this state with the held coefficients free, for its uncertainty."""
        return replace(self, free=self.free + self.held, held=())

    def stepped(self, step: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return fx, fy, cx, cy (4,), coefficients (17,) and rotations (G, 3, 3) after a step."""
        pinhole, c = np.array([*self.lens.focal_px, *self.lens.principal_px]), self.lens.coefficients
        for name, value in zip(self.free, step.tolist()):
            if name == "focal":
                pinhole[:2] *= math.exp(min(max(value, -0.5), 0.5))
            elif name in ("cx", "cy"):
                pinhole[2 + (name == "cy")] += value
            else:
                c[_PLACE[name]] += min(max(value, -0.5), 0.5)
        turns = np.clip(step[len(self.free) :].reshape(-1, 3), -0.5, 0.5)
        turned = self.rotations.copy()
        for k in range(len(turned)):
            if turns[k].any():
                turned[k] = turned[k] @ rotation_exp(turns[k])
        return pinhole, c, turned

    def moved(self, step: np.ndarray) -> "_State":
        """Return the state after a step."""
        pinhole, c, turned = self.stepped(step)
        lens = replace(self.lens, focal_px=(float(pinhole[0]), float(pinhole[1])), principal_px=(float(pinhole[2]), float(pinhole[3])))
        return _State(lens.with_coefficients(c), turned, self.free, self.held)


def fit_lens(lines: Sequence[DrawnLine], order: LensOrder, start: LensFit | None = None) -> LensFit:
    """Return the lens that the lines tell.

    Parameters
    ----------
    lines : straight edges need three points or more; axis lines two.
    order : what is wanted and what is known. start : an earlier fit of nearly the same lines, which saves time.

    Raises
    ------
    LensError : lines that tell nothing, or a lens that folds the picture.
    """
    lines = [replace(line, straight=line.straight and len(line.points) >= 3) for line in lines]
    _check(lines, order)
    data = _Lines(lines)
    if start is not None and sorted(start.rotations) == data.frames:
        state, notes = _again(data, order, start), list(start.notes)
    else:
        state, notes = _from_nothing(data, order)
    fold = state.lens.folds()
    if fold is not None:
        raise LensError(
            f"The lens found folds the picture over at {100 * fold:.0f} % of its half diagonal.",
            "Ask for fewer coefficients, or draw lines nearer to the picture's edge.",
        )
    return _report(data, state, order, notes)


def _from_nothing(data: _Lines, order: LensOrder) -> tuple[_State, list[str]]:
    """Return the state that the lines tell, one coefficient after the other, and why some are held."""
    state, notes = _begin(data, order)
    state, cost = _adjust(data, state, order)
    for names in order.steps() if any(line.straight for line in data.lines) else []:
        trial, trial_cost = _adjust(data, _State(_seeded(state.lens, names), state.rotations, state.free + names), order)
        word = _refused(data, trial, order, names, cost - trial_cost)
        if word:
            return replace(state, held=names), [*notes, word]
        state, cost = trial, trial_cost
    return state, notes


def _again(data: _Lines, order: LensOrder, start: LensFit) -> _State:
    """Adjust from an earlier fit, the same coefficients free."""
    focal = ("focal",) if _focal_free(data, order) else ()
    lens = replace(start.lens, principal_px=_stand_in(order).principal_px)
    lens = lens if focal else lens.with_focal(_stand_in(order).focal_px[0])
    rotations = np.array([start.rotations[f] for f in data.frames]).reshape(-1, 3, 3)
    return _adjust(data, _State(lens, rotations, focal + tuple(start.sigma), start.held), order, AGAIN)[0]


def _check(lines: list[DrawnLine], order: LensOrder) -> None:
    if order.width < 16 or order.height < 16:
        raise LensError(f"A picture of {order.width}x{order.height} is too small.", "Give the plate's size in pixels.")
    if not order.pixel_aspect > 0.0:
        raise LensError(f"A pixel aspect of {order.pixel_aspect:g} is impossible.", "Give the width of a pixel over its height, as 1 or 2.")
    if order.focal_px is not None and not order.focal_px > 0.0:
        raise LensError(f"A focal length of {order.focal_px:g} px is impossible.", "Give more than 0, or none.")
    if len(lines) < 2:
        raise LensError("One line only tells no lens.", "Draw a second one, well apart from the first or in another direction.")
    if not any(line.straight or line.axis for line in lines):
        raise LensError("The lines have two points each.", "Give straight edges three points or more; two ends are always straight.")


def _stand_in(order: LensOrder) -> Lens:
    lens = Lens.centred(order.width, order.height, order.focal_px or float(order.width), pixel_aspect=order.pixel_aspect)
    return replace(lens, principal_px=order.centre_px) if order.centre_px else lens


def _directions(data: _Lines) -> int:
    """Return along how many of the world's axes lines are drawn, on the frame that has most."""
    drawn = {(line.frame, line.axis) for line in data.lines if line.axis}
    return max((sum(f == frame for f, _ in drawn) for frame in data.frames), default=0)


def _focal_free(data: _Lines, order: LensOrder) -> bool:
    return _directions(data) >= 2 if order.focal_px is None else order.focal_sigma > 0.0


def _begin(data: _Lines, order: LensOrder) -> tuple[_State, list[str]]:
    """Return the state to adjust from, with what is free in it, and a word where focal length cannot be told."""
    notes = []
    if _directions(data) == 1 and order.focal_px is None:
        notes.append("Axis lines of one direction tell no focal length: draw some along a second one.")
    free = ("focal",) if _focal_free(data, order) else ()
    sweep = 0.5 * order.width / np.tan(FIELDS_OF_VIEW / 2.0) if free and order.focal_px is None else [_stand_in(order).focal_px[0]]
    best, least = None, np.inf
    for focal in sweep:
        lens = _stand_in(order).with_focal(float(focal))
        state = _State(lens, _orient(data, lens), free)
        cost = _cost(data.distances(state.lens, state.rotations)[0] * data.weight)
        if cost < least:
            best, least = state, cost
    return best, notes


def _orient(data: _Lines, lens: Lens) -> np.ndarray:
    """Return a first ``world_from_camera`` for each frame with axis lines (G, 3, 3), from the lines' common directions."""
    _, normals = data.distances(lens, np.tile(np.eye(3), (max(len(data.frames), 1), 1, 1)), np.full(len(data.axis), FREE))
    out = []
    for g in range(len(data.frames)):
        seen = np.zeros((3, 3))
        for a in range(3):
            own = normals[(data.axis == a) & (data.group == g)]
            if len(own) >= 2:
                planes = own / np.linalg.norm(own, axis=1, keepdims=True)
                seen[a] = np.linalg.svd(planes)[2][-1]
        out.append(_upright(seen, normals[(data.axis >= 0) & (data.group == g)], data.axis[(data.axis >= 0) & (data.group == g)]))
    return np.array(out).reshape(-1, 3, 3)


def _upright(seen: np.ndarray, normals: np.ndarray, axis: np.ndarray) -> np.ndarray:
    """Return the rotation nearest to axes seen in the camera (3, 3), zero where unknown: Y up, X right.

    A direction with one line only lies in that line's plane, square to the directions that are known.
    """
    known = [a for a in range(3) if seen[a].any()]
    for a in range(3):
        own = normals[axis == a]
        if not seen[a].any() and len(own) and known:
            seen[a] = np.cross(own[0], seen[known[0]])
            seen[a] /= max(np.linalg.norm(seen[a]), 1e-12)
    if not seen[1].any():
        seen[1] = [0.0, -1.0, 0.0] if not (seen[0].any() and seen[2].any()) else np.cross(seen[2], seen[0])
    if seen[1] @ [0.0, -1.0, 0.0] < 0.0:
        seen[1] = -seen[1]
    if not seen[0].any():
        seen[0] = np.cross(seen[1], seen[2]) if seen[2].any() else [1.0, 0.0, 0.0]
    if seen[0][0] < 0.0:
        seen[0] = -seen[0]
    across = np.cross(seen[0], seen[1])
    seen[2] = across if not seen[2].any() else seen[2] * (1.0 if seen[2] @ across >= 0.0 else -1.0)
    return nearest_rotation(seen)


def _seeded(lens: Lens, names: tuple[str, ...]) -> Lens:
    """Return a lens whose division coefficient is not quite 0, where the model changes its kind."""
    return replace(lens, division=-1e-6) if "division" in names and not lens.division else lens


def _cost(whitened: np.ndarray) -> float:
    return float(LOSS_SCALE**2 * np.log1p((whitened / LOSS_SCALE) ** 2).sum())


def _whitened(data: _Lines, state: _State, order: LensOrder, step: np.ndarray | None = None) -> np.ndarray:
    """Return whitened distances after a step, with what is known beforehand appended."""
    pinhole, c, rotations = state.stepped(np.zeros(state.size) if step is None else step)
    distances, _ = data.distances_flat(pinhole, c, rotations)
    known = []
    if "focal" in state.free and order.focal_px and order.focal_sigma:
        known = [np.log(pinhole[0] / order.focal_px) / order.focal_sigma]
    return np.append(distances * data.weight, known)


def _jacobian(data: _Lines, state: _State, order: LensOrder, now: np.ndarray | None = None) -> np.ndarray:
    """Return derivatives by central differences, or by forward ones from the residuals `now`, which take half as long."""
    columns = []
    for k in range(state.size):
        size = _STEP.get(state.free[k], 1e-5) if k < len(state.free) else 1e-6
        step = np.zeros(state.size)
        step[k] = size
        ahead = _whitened(data, state, order, step)
        columns.append((ahead - now) / size if now is not None else (ahead - _whitened(data, state, order, -step)) / (2.0 * size))
    return np.stack(columns, 1) if columns else np.zeros((len(data.points), 0))


def _adjust(data: _Lines, state: _State, order: LensOrder, iterations: int = 40) -> tuple[_State, float]:
    """Levenberg-Marquardt with a Cauchy loss; return the best state and its cost."""
    r = _whitened(data, state, order)
    cost, damping = _cost(r), 1e-4
    if not state.size:
        return state, cost
    for _ in range(iterations):
        j = _jacobian(data, state, order, r if iterations <= AGAIN else None)
        w = 1.0 / (1.0 + (r / LOSS_SCALE) ** 2)
        normal, side = (j * w[:, None]).T @ j, -(j * w[:, None]).T @ r
        normal[np.arange(len(state.free), state.size), np.arange(len(state.free), state.size)] += TURN_SIGMA**-2
        gone = 0.0
        while damping < 1e9:
            step = np.linalg.solve(normal + np.diag(damping * np.diagonal(normal) + 1e-12), side)
            new = _whitened(data, state, order, step)
            new_cost = _cost(new) if np.isfinite(new).all() else np.inf
            if new_cost < cost:
                gone, state, r, cost, damping = cost - new_cost, state.moved(step), new, new_cost, max(damping * 0.1, 1e-10)
                break
            damping *= 8.0
        if gone < (1e-4 if iterations <= AGAIN else 1e-7) * max(cost, 1.0):
            break
    return state, cost


def _noise(data: _Lines, state: _State, order: LensOrder) -> float:
    """Return the scale of the whitened distances against what was stated; 1 at the least."""
    r = _whitened(data, state, order)[: len(data.points)]
    freedom = data.freedom - state.size
    if freedom < 1:
        return 1.0
    w = 1.0 / (1.0 + (r / LOSS_SCALE) ** 2)
    return float(max(1.0, np.sqrt((w * r * r).sum() / freedom)))


def _covariance(data: _Lines, state: _State, order: LensOrder) -> np.ndarray:
    """Return the covariance of the free parameters, the noise as found if it is larger than stated.

    Held coefficients count as not quite known: as far as lenses usually have them beside the first.
    """
    loose = state.loosened()
    r = _whitened(data, state, order)
    j = _jacobian(data, loose, order, r)
    w = 1.0 / (1.0 + (r / LOSS_SCALE) ** 2)
    normal = (j * w[:, None]).T @ j
    at = np.arange(len(loose.free), loose.size)
    normal[at, at] += TURN_SIGMA**-2
    first = "division" if order.model == "division" else "k1"
    usual = HELD_PX + HELD_SHARE * abs(state.lens.coefficients[_PLACE[first]]) * corner_effect(state.lens, first)
    for name in state.held:
        row = loose.free.index(name)
        normal[row, row] += (corner_effect(state.lens, name) / usual) ** 2
    scale = 1.0 / np.sqrt(np.maximum(np.diagonal(normal), 1e-30))
    inverse = np.linalg.pinv(normal * scale[:, None] * scale[None], rcond=1e-12, hermitian=True)
    inverse = inverse * scale[:, None] * scale[None] * _noise(data, state, order) ** 2
    kept = np.r_[: len(state.free), len(loose.free) : loose.size]
    return inverse[np.ix_(kept, kept)]


def corner_effect(lens: Lens, name: str) -> float:
    """Return how far one unit of a coefficient moves the picture's corner, pixels."""
    r = 0.5 * np.hypot(lens.width, lens.height * lens.focal_px[0] / lens.focal_px[1]) / lens.focal_px[0]
    power = {"k1": 3, "k2": 5, "k3": 7, "division": 3}.get(name, 2)
    return float(lens.focal_px[0] * r**power)


def _corner_sigma(covariance: np.ndarray, state: _State, name: str) -> float:
    """Return the sigma, pixels, of what a coefficient does at the picture's corner, its tie to the focal length counted in."""
    row = np.zeros(len(covariance))
    row[state.free.index(name)] = 1.0
    if "focal" in state.free:
        power = {"k1": 2, "k2": 4, "k3": 6, "division": 2}.get(name, 1)
        row[state.free.index("focal")] = -power * state.lens.coefficients[_PLACE[name]]
    return float(np.sqrt(row @ covariance @ row)) * corner_effect(state.lens, name)


def _refused(data: _Lines, trial: _State, order: LensOrder, names: tuple[str, ...], gain: float) -> str:
    """Return why coefficients are held at 0, or "" when the lines tell them. Raises LensError for the first of all."""
    covariance = _covariance(data, trial, order)
    loose = max(_corner_sigma(covariance, trial, name) for name in names)
    title = " and ".join(names)
    if names[0] in ("k1", "division"):
        if loose > WORTH_PX or not np.isfinite(loose):
            return (
                f"The lines do not tell distortion (±{min(loose, 999):.0f} px at the corner): they run through the middle, "
                "lie in one direction from it, or are short. It is held at 0; draw long ones near the picture's edges."
            )
        return ""
    if loose > WORTH_PX or not np.isfinite(loose):
        return f"{title} held at 0: the lines tell it only to ±{min(loose, 999):.1f} px at the corner."
    if gain < GAIN * len(names):
        return f"{title} held at 0: with it the lines are no straighter than chance would have it."
    return ""


def _report(data: _Lines, state: _State, order: LensOrder, notes: list[str]) -> LensFit:
    covariance = _covariance(data, state, order) if state.size else np.zeros((0, 0))
    spread = np.sqrt(np.diagonal(covariance))
    sigma = dict(zip(state.free, spread.tolist()))
    log_sigma = sigma.pop("focal", 0.0)
    told = ("focal" in state.free or order.focal_px is not None) and log_sigma < TOLD
    if "focal" in state.free and not told:
        notes.append(_why_untold(data, state, log_sigma))
    distances, _ = data.distances(state.lens, state.rotations)
    plain = Lens.centred(order.width, order.height, state.lens.focal_px[0], pixel_aspect=order.pixel_aspect)
    before, _ = data.distances(plain, state.rotations, np.full(len(data.axis), FREE))
    before_rms = data.rms(before, np.full(len(data.axis), 2))
    after_rms = data.rms(distances, np.where(data.axis == FREE, 2, 1))
    stated = np.array([line.sigma for line in data.lines])
    noise = _noise(data, state, order)
    count = np.diff(data.first)
    astray = (after_rms > DISAGREES * stated * min(noise, 1.5)) & (count > np.where(data.axis == FREE, 2, 1))
    reports = [
        LineReport(line.name or f"line {k + 1}", float(before_rms[k]), float(after_rms[k]), bool(astray[k]))
        for k, line in enumerate(data.lines)
    ]
    turns = spread[len(state.free) :].reshape(-1, 3)
    return LensFit(
        state.lens, bool(told), float(log_sigma * state.lens.focal_px[0]), sigma,
        dict(zip(data.frames, state.rotations)), dict(zip(data.frames, turns)), reports, notes, float(noise * stated.mean()), state.held,
    )  # fmt: skip


def straightness(lines: Sequence[DrawnLine], lens: Lens) -> list[LineReport]:
    """Return how straight each line is without a lens and with a given one, directions set aside."""
    if not lines:
        return []
    data = _Lines(lines)
    free, spent = np.full(len(lines), FREE), np.full(len(lines), 2)
    plain = Lens.centred(lens.width, lens.height, lens.focal_px[0], pixel_aspect=lens.pixel_aspect)
    none = np.tile(np.eye(3), (max(len(data.frames), 1), 1, 1))
    before, after = (data.rms(data.distances(one, none, free)[0], spent) for one in (plain, lens))
    return [LineReport(line.name or f"line {k + 1}", float(before[k]), float(after[k]), False) for k, line in enumerate(lines)]


def _why_untold(data: _Lines, state: _State, log_sigma: float) -> str:
    """Say which vanishing points lie too far away."""
    far = []
    for a, name in enumerate(AXES):
        if not (data.axis == a).any():
            continue
        v = state.rotations[:, a]
        if (np.hypot(v[:, 0], v[:, 1]) > 8.0 * np.abs(v[:, 2])).all():
            far.append(name.upper())
    where = f"the lines along {' and '.join(far)} are parallel in the picture too" if far else "the lines are too short or too few"
    return f"Focal length is not told (±{100 * min(log_sigma, 9.99):.0f} %): {where}, and any focal length explains them nearly as well."


def centre_test(lines: Sequence[DrawnLine], order: LensOrder, fit: LensFit) -> tuple[np.ndarray, np.ndarray] | None:
    """Return how far the optical centre lies from where it is held, (2,) pixels, and its sigma (2,), or None if lines cannot tell.

    Three directions are needed, two of them with vanishing points near the picture.
    """
    lines = [replace(line, straight=line.straight and len(line.points) >= 3) for line in lines]
    data = _Lines(lines)
    if not fit.focal_told or all(len({line.axis for line in lines if line.axis and line.frame == f}) < 3 for f in data.frames):
        return None
    free = ("focal",) * (order.focal_px is None) + tuple(fit.sigma) + ("cx", "cy")
    state, _ = _adjust(data, _State(fit.lens, np.array([fit.rotations[f] for f in data.frames]), free), order)
    spread = np.sqrt(np.diagonal(_covariance(data, state, order)))
    at = free.index("cx")
    return np.array(state.lens.principal_px) - np.array(fit.lens.principal_px), spread[at : at + 2]
