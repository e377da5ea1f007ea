"""A lens from drawn lines: distortion from what must be straight, focal length and orientation from what runs along X,
Y, Z.

One adjustment for both, by least squares with a Cauchy loss; each line's own position is eliminated (`line_errors`).
Vanishing points come from all points of the lines by maximum likelihood, never from crossings of pairs of lines
(Hartley and Zisserman 2004, 8.6; Förstner and Wrobel 2016, 10.6). World: Y up; X points right in the picture, Z then to
the viewer.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.rotations import nearest_rotation
from amberkeel.core.lens.drawn import AXES, DrawnLine, LensOrder
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.line_adjust import (
    AGAIN,
    Lines,
    LineState,
    adjust_lines,
    corner_effect,
    line_covariance,
    noise_scale,
    robust_cost,
)
from amberkeel.core.lens.line_errors import FREE
from amberkeel.core.lens.model import Lens

FIELDS_OF_VIEW = np.radians(np.geomspace(110.0, 6.0, 14))
"""Horizontal fields of view tried as a start, radians."""

DETERMINED = 0.15
"""Relative sigma of the focal length from which lines do not determine it."""

WORTH_PX = 3.0
"""Sigma of a coefficient's effect at the picture's corner, pixels, from which the lines do not determine it."""

GAIN = 4.0
"""By how much the cost must fall for a further coefficient: two sigmas.

More would bias the focal length by what is held.
"""

DISAGREES = 3.0
"""RMS distance in sigmas from which a line disagrees with the others."""


@dataclass(frozen=True)
class LineReport:
    """How straight a line is: RMS distances in pixels without and with the lens, and whether it disagrees with the
    others.
    """

    name: str
    before_px: float
    after_px: float
    disagrees: bool


@dataclass(frozen=True)
class LensFit:
    """A lens determined by drawn lines.

    Attributes
    ----------
    lens : with the focal length found, or the one given, or a stand-in where `focal_known` is False; the map of pixels
        to straightened pixels is the same for any.
    focal_known : whether lines or order determine the focal length. focal_sigma_px : one sigma, pixels.
    sigma : one sigma of each coefficient that was found.
    rotations : ``world_from_camera`` by frame with axis lines; rotation_sigma : (3,) radians about the camera's axes.
    lines : a report for each line. notes : plain sentences for the artist. noise_px : of drawn points as found.
    held : coefficients that were asked for and held at 0.
    free : what was adjusted, and covariance : of it, log focal length and coefficients, then of each frame's turn
        about the camera's axes, radians; frames in their order.
    """

    lens: Lens
    focal_known: bool
    focal_sigma_px: float
    sigma: dict[str, float]
    rotations: dict[int, np.ndarray]
    rotation_sigma: dict[int, np.ndarray]
    lines: list[LineReport]
    notes: list[str] = field(default_factory=list)
    noise_px: float = 0.0
    held: tuple[str, ...] = ()
    free: tuple[str, ...] = ()
    covariance: np.ndarray = field(default_factory=lambda: np.zeros((0, 0)))

    @property
    def values(self) -> dict[str, tuple[float, float]]:
        """Each coefficient that was found, with its sigma."""
        return {name: (float(self.lens.coefficients[INDEX[name]]), s) for name, s in self.sigma.items()}


def fit_lens(lines: Sequence[DrawnLine], order: LensOrder, start: LensFit | None = None) -> LensFit:
    """Return the lens that the lines determine.

    Parameters
    ----------
    lines : straight edges need three points or more; axis lines two.
    order : what is wanted and what is known. start : an earlier fit of nearly the same lines, which saves time.

    Raises
    ------
    LensError : lines that determine nothing, or a lens that folds the picture.
    """
    lines = _judged(lines)
    _check(lines, order)
    data = Lines(lines)
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


def _from_nothing(data: Lines, order: LensOrder) -> tuple[LineState, list[str]]:
    """Return the state that the lines determine, one coefficient after the other, and why some are held."""
    state, notes = _begin(data, order)
    state, cost = adjust_lines(data, state, order)
    for names in order.steps() if any(line.straight for line in data.lines) else []:
        trial, trial_cost = adjust_lines(
            data, LineState(_seeded(state.lens, names), state.rotations, state.free + names), order
        )
        word = _refused(data, trial, order, names, cost - trial_cost)
        if word:
            return replace(state, held=names), [*notes, word]
        state, cost = trial, trial_cost
    return state, notes


def _again(data: Lines, order: LensOrder, start: LensFit) -> LineState:
    """Adjust from an earlier fit, the same coefficients free."""
    focal = ("focal",) if _focal_free(data, order) else ()
    lens = replace(start.lens, principal_px=_stand_in(order).principal_px)
    lens = lens if focal else lens.with_focal(_stand_in(order).focal_px[0])
    rotations = np.array([start.rotations[f] for f in data.frames]).reshape(-1, 3, 3)
    return adjust_lines(data, LineState(lens, rotations, focal + tuple(start.sigma), start.held), order, AGAIN)[0]


def _judged(lines: Sequence[DrawnLine]) -> list[DrawnLine]:
    """Return lines of which those with two points do not count as straight: two always are."""
    return [replace(line, straight=False) if line.straight and len(line.points) < 3 else line for line in lines]


def _check(lines: list[DrawnLine], order: LensOrder) -> None:
    if order.width < 16 or order.height < 16:
        raise LensError(f"A picture of {order.width}x{order.height} is too small.", "Give the plate's size in pixels.")
    if not order.pixel_aspect > 0.0:
        raise LensError(
            f"A pixel aspect of {order.pixel_aspect:g} is impossible.",
            "Give the width of a pixel over its height, as 1 or 2.",
        )
    if order.focal_px is not None and not order.focal_px > 0.0:
        raise LensError(f"A focal length of {order.focal_px:g} px is impossible.", "Give more than 0, or none.")
    if len(lines) < 2:
        raise LensError(
            "One line only tells no lens.", "Draw a second one, well apart from the first or in another direction."
        )
    if not any(line.straight or line.axis for line in lines):
        raise LensError(
            "The lines have two points each.", "Give straight edges three points or more; two ends are always straight."
        )


def _stand_in(order: LensOrder) -> Lens:
    lens = Lens.centred(
        order.width, order.height, order.focal_px or float(order.width), pixel_aspect=order.pixel_aspect
    )
    return replace(lens, principal_px=order.centre_px) if order.centre_px else lens


def _directions(data: Lines) -> int:
    """Return along how many of the world's axes lines are drawn, on the frame that has most."""
    drawn = {(line.frame, line.axis) for line in data.lines if line.axis}
    return max((sum(f == frame for f, _ in drawn) for frame in data.frames), default=0)


def _focal_free(data: Lines, order: LensOrder) -> bool:
    return _directions(data) >= 2 if order.focal_px is None else order.focal_sigma > 0.0


def _begin(data: Lines, order: LensOrder) -> tuple[LineState, list[str]]:
    """Return the state to adjust from, with what is free in it, and a note where the focal length is not determined."""
    notes = []
    if _directions(data) == 1 and order.focal_px is None:
        notes.append("Axis lines of one direction tell no focal length: draw some along a second one.")
    free = ("focal",) if _focal_free(data, order) else ()
    sweep = (
        0.5 * order.width / np.tan(FIELDS_OF_VIEW / 2.0)
        if free and order.focal_px is None
        else [_stand_in(order).focal_px[0]]
    )
    lenses = [_stand_in(order).with_focal(float(focal)) for focal in sweep]
    states = [LineState(lens, _orient(data, lens), free) for lens in lenses]
    costs = [robust_cost(data.distances(state.lens, state.rotations)[0] * data.weight) for state in states]
    return states[int(np.argmin(costs))], notes


def _orient(data: Lines, lens: Lens) -> np.ndarray:
    """Return a first ``world_from_camera`` for each frame with axis lines (G, 3, 3), from the lines' common
    directions.
    """
    _, normals = data.distances(
        lens, np.tile(np.eye(3), (max(len(data.frames), 1), 1, 1)), np.full(len(data.axis), FREE)
    )
    out = []
    for g in range(len(data.frames)):
        seen = np.zeros((3, 3))
        for a in range(3):
            own = normals[(data.axis == a) & (data.group == g)]
            if len(own) >= 2:
                planes = own / np.linalg.norm(own, axis=1, keepdims=True)
                seen[a] = np.linalg.svd(planes)[2][-1]
        out.append(
            _upright(
                seen, normals[(data.axis >= 0) & (data.group == g)], data.axis[(data.axis >= 0) & (data.group == g)]
            )
        )
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


def _corner_sigma(covariance: np.ndarray, state: LineState, name: str) -> float:
    """Return the sigma, pixels, of what a coefficient does at the picture's corner, its correlation
    with the focal length included.
    """
    row = np.zeros(len(covariance))
    row[state.free.index(name)] = 1.0
    if "focal" in state.free:
        power = {"k1": 2, "k2": 4, "k3": 6, "division": 2}.get(name, 1)
        row[state.free.index("focal")] = -power * state.lens.coefficients[INDEX[name]]
    return float(np.sqrt(row @ covariance @ row)) * corner_effect(state.lens, name)


def _refused(data: Lines, trial: LineState, order: LensOrder, names: tuple[str, ...], gain: float) -> str:
    """Return why coefficients are held at 0, or "" when the lines determine them."""
    covariance = line_covariance(data, trial, order)
    loose = max(_corner_sigma(covariance, trial, name) for name in names)
    title = " and ".join(names)
    if names[0] in ("k1", "division"):
        if loose > WORTH_PX or not np.isfinite(loose):
            return (
                f"The lines do not tell distortion (±{min(loose, 999):.0f} px at the corner): they run through the "
                "middle, "
                "lie in one direction from it, or are short. It is held at 0; draw long ones near the picture's edges."
            )
        return ""
    if loose > WORTH_PX or not np.isfinite(loose):
        return f"{title} held at 0: the lines tell it only to ±{min(loose, 999):.1f} px at the corner."
    if gain < GAIN * len(names):
        return f"{title} held at 0: with it the lines are no straighter than chance would have it."
    return ""


def _report(data: Lines, state: LineState, order: LensOrder, notes: list[str]) -> LensFit:
    covariance = line_covariance(data, state, order) if state.size else np.zeros((0, 0))
    spread = np.sqrt(np.diagonal(covariance))
    sigma = dict(zip(state.free, spread.tolist()))
    log_sigma = sigma.pop("focal", 0.0)
    known = ("focal" in state.free or order.focal_px is not None) and log_sigma < DETERMINED
    if "focal" in state.free and not known:
        notes.append(_why_undetermined(data, state, log_sigma))
    distances, _ = data.distances(state.lens, state.rotations)
    plain = Lens.centred(order.width, order.height, state.lens.focal_px[0], pixel_aspect=order.pixel_aspect)
    before, _ = data.distances(plain, state.rotations, np.full(len(data.axis), FREE))
    before_rms = data.rms(before, np.full(len(data.axis), 2))
    after_rms = data.rms(distances, np.where(data.axis == FREE, 2, 1))
    stated = np.array([line.sigma for line in data.lines])
    noise = noise_scale(data, state, order)
    count = np.diff(data.first)
    astray = (after_rms > DISAGREES * stated * min(noise, 1.5)) & (count > np.where(data.axis == FREE, 2, 1))
    reports = [
        LineReport(line.name or f"line {k + 1}", float(before_rms[k]), float(after_rms[k]), bool(astray[k]))
        for k, line in enumerate(data.lines)
    ]
    turns = spread[len(state.free) :].reshape(-1, 3)
    return LensFit(
        state.lens,
        bool(known),
        float(log_sigma * state.lens.focal_px[0]),
        sigma,
        dict(zip(data.frames, state.rotations)),
        dict(zip(data.frames, turns)),
        reports,
        notes,
        float(noise * stated.mean()),
        state.held,
        state.free,
        covariance,
    )


def straightness(lines: Sequence[DrawnLine], lens: Lens) -> list[LineReport]:
    """Return how straight each line is without a lens and with a given one, directions set aside."""
    if not lines:
        return []
    data = Lines(lines)
    free, spent = np.full(len(lines), FREE), np.full(len(lines), 2)
    plain = Lens.centred(lens.width, lens.height, lens.focal_px[0], pixel_aspect=lens.pixel_aspect)
    none = np.tile(np.eye(3), (max(len(data.frames), 1), 1, 1))
    before, after = (data.rms(data.distances(one, none, free)[0], spent) for one in (plain, lens))
    return [
        LineReport(line.name or f"line {k + 1}", float(before[k]), float(after[k]), False)
        for k, line in enumerate(lines)
    ]


def _why_undetermined(data: Lines, state: LineState, log_sigma: float) -> str:
    """Say which vanishing points lie too far away."""
    far = []
    for a, name in enumerate(AXES):
        if not (data.axis == a).any():
            continue
        v = state.rotations[:, a]
        if (np.hypot(v[:, 0], v[:, 1]) > 8.0 * np.abs(v[:, 2])).all():
            far.append(name.upper())
    where = (
        f"the lines along {' and '.join(far)} are parallel in the picture too"
        if far
        else "the lines are too short or too few"
    )
    return (
        f"Focal length is not told (±{100 * min(log_sigma, 9.99):.0f} %): {where}, "
        "and any focal length explains them nearly as well."
    )


def centre_test(lines: Sequence[DrawnLine], order: LensOrder, fit: LensFit) -> tuple[np.ndarray, np.ndarray] | None:
    """Return how far the optical centre lies from where it is held, (2,) pixels, and its sigma (2,), or None if lines
    do not determine it.

    Three directions are needed, two of them with vanishing points near the picture.

    Parameters
    ----------
    lines : as drawn. order : what was asked. fit : what they say with the centre held.
    """
    lines = _judged(lines)
    data = Lines(lines)
    if not fit.focal_known or all(
        len({line.axis for line in lines if line.axis and line.frame == f}) < 3 for f in data.frames
    ):
        return None
    free = ("focal",) * (order.focal_px is None) + tuple(fit.sigma) + ("cx", "cy")
    state, _ = adjust_lines(data, LineState(fit.lens, np.array([fit.rotations[f] for f in data.frames]), free), order)
    spread = np.sqrt(np.diagonal(line_covariance(data, state, order)))
    at = free.index("cx")
    return np.array(state.lens.principal_px) - np.array(fit.lens.principal_px), spread[at : at + 2]
