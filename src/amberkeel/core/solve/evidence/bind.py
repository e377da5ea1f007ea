"""From what a person states to terms over a problem's cameras and points, with the shapes and the world they need."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.lens.drawn import LEAST_LENGTH_PX
from amberkeel.core.solve.evidence import statement as stated
from amberkeel.core.solve.evidence.line_pieces import AlongAxes
from amberkeel.core.solve.evidence.path_pieces import SmoothPosition, SmoothRotation, Turned
from amberkeel.core.solve.evidence.piece import Members, Piece
from amberkeel.core.solve.evidence.scene_pieces import AtSpot, Distance, Known, OnLine, OnPlane, PivotRadius, PlanesAt
from amberkeel.core.solve.unknowns import POINT_BLOCK, POSITION, ROTATION
from amberkeel.core.solve.world_frame import WORLD_SIZE, Line, Plane, Shape, Spot
from amberkeel.core.tracks import EXCLUDED, TrackSet

TURN, SHIFT, SCALE = slice(0, 3), slice(3, 6), 6
"""Where the world's similarity has its turn, its shift and its log scale."""

USUAL_SIGMA = 0.002
"""One sigma of a plane or line where none is stated, in distances of the usual point."""

EXACT_SIGMA = 1e-6
"""Sigma of what is held exactly, in distances of the usual point; multipliers take up the rest."""

EXACT_TURN = 1e-6
"""The same of an angle, radians."""

ON_A_LINE = 0.02
"""Width of anchored points over their length, below which they lie on a line."""

UP = np.array([0.0, 1.0, 0.0])


@dataclass
class Bound:
    """Evidence over a problem.

    Attributes
    ----------
    terms : one or more for each constraint. shapes : unknown planes, lines and spots; members of each, so that it can
        be laid through them. world_free : (7,) bool, which part of the world's similarity the evidence fixes.
    planes : numbers of the named planes.
    """

    terms: list[Piece] = field(default_factory=list)
    shapes: list[Shape] = field(default_factory=list)
    members: list[Members] = field(default_factory=list)
    world_free: np.ndarray = field(default_factory=lambda: np.zeros(WORLD_SIZE, bool))
    planes: dict[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Ground:
    """What constraints are bound to.

    Attributes
    ----------
    tracks : of the shot. frames (F,) : frame numbers. fps : frames a second. usual : distance of the usual point in
        world units.
    """

    tracks: TrackSet
    frames: np.ndarray
    fps: float
    usual: float

    def points(self, given: Sequence[int | str], what: str) -> Members:
        """Return tracks, by id or name, as members.

        Raises
        ------
        SolveError : there is no such track, it is excluded, or one is named twice.
        """
        ids, rows = {int(i): k for k, i in enumerate(self.tracks.ids)}, {n: k for k, n in enumerate(self.tracks.names)}
        found = []
        for one in given:
            row = ids.get(one) if isinstance(one, int) else rows.get(one)
            if row is None:
                raise SolveError(f"{what}: there is no track {one}.", "Choose another track, or switch this off.")
            if self.tracks.states[row] == EXCLUDED:
                raise SolveError(
                    f"{what}: track {self.tracks.names[row]} is excluded.", "Take it in again, or switch this off."
                )
            found.append(row)
        if len(set(found)) < len(found):
            raise SolveError(f"{what}: a track is named twice.")
        return Members(POINT_BLOCK, np.array(found, np.int64), tuple(self.tracks.names[k] for k in found))

    def cameras(self, frames: tuple[int, int] | None, what: str) -> Members:
        """Return the cameras of a range of frames as members; raises SolveError where the plate has none of them."""
        low, high = frames or (int(self.frames[0]), int(self.frames[-1]))
        rows = np.nonzero((self.frames >= low) & (self.frames <= high))[0]
        if not len(rows):
            raise SolveError(
                f"{what}: frames {low}–{high} are not in this shot, which has {self.frames[0]}–{self.frames[-1]}."
            )
        return self.at(rows)

    def rows_of(self, frames: Sequence[int], what: str) -> np.ndarray:
        """Return the rows of frame numbers; raises SolveError where the plate lacks one of them."""
        lost = np.setdiff1d(frames, self.frames)
        if len(lost):
            raise SolveError(
                f"{what}: frame {lost[0]} is not in this shot, which has {self.frames[0]}–{self.frames[-1]}."
            )
        return np.searchsorted(self.frames, frames)

    def at(self, rows: np.ndarray) -> Members:
        """Return cameras by their rows as members."""
        return Members(POSITION, rows, tuple(f"frame {f}" for f in self.frames[rows]))


def bind(constraints: Sequence[stated.Constraint], ground: Ground) -> Bound:
    """Return the terms of those constraints that are on.

    Raises
    ------
    SolveError : tracks or frames that do not exist or are excluded, anchored points on a line, holds that contradict.
    """
    bound, on = Bound(), [one for one in constraints if one.on]
    _check_anchors([one for one in on if isinstance(one, stated.Anchor)])
    _check_holds([one for one in on if isinstance(one, stated.Hold)])
    for number, one in enumerate(sorted(on, key=lambda c: isinstance(c, stated.PlanesMeet))):
        MAKERS[type(one)](one, ground, bound, one.name or f"{NAMES[type(one)]} {number + 1}")
    bound.world_free[:] = _fixed(on)
    return bound


def _fixed(on: list[stated.Constraint]) -> np.ndarray:
    """Return which of the world's turn, shift and log scale constraints fix, (7,) bool."""
    free, anchors = np.zeros(WORLD_SIZE, bool), [one for one in on if isinstance(one, stated.Anchor)]
    holds = [one for one in on if isinstance(one, stated.Hold)]
    planes = [one for one in on if isinstance(one, stated.PlaneThrough) and one.normal != "any"]
    heights = [one for one in on if isinstance(one, stated.CameraHeight)]
    placed = bool(anchors or [h for h in holds if h.positions])
    lines, radius = (any(isinstance(one, kind) for one in on) for kind in (stated.AxisLines, stated.SwingRadius))
    free[TURN] = bool(anchors or holds or planes or heights or lines)
    free[SHIFT] = placed or bool(heights) or any(plane.offset is not None for plane in planes)
    measured = len(anchors) > 1 or any(h.positions and len(h.positions) > 1 for h in holds)
    measured = measured or bool(anchors and [h for h in holds if h.positions])
    level = any(plane.offset is not None for plane in planes)
    free[SCALE] = (
        measured or radius or any(isinstance(one, stated.DistanceBetween) for one in on) or bool(heights) and level
    )
    return free


def _check_anchors(anchors: list[stated.Anchor]) -> None:
    known = np.array([[np.nan if v is None else v for v in one.xyz] for one in anchors]).reshape(-1, 3)
    if not np.isfinite(known).any() and len(anchors):
        raise SolveError("An anchored point has no coordinate.", "Type at least one of X, Y and Z.")
    whole = known[np.isfinite(known).all(1)]
    if len(whole) < 3 or len(whole) < len(anchors):
        return
    # One point that is far away, as by a wrong unit, makes a line of all others.
    far = np.linalg.norm(whole - np.median(whole, axis=0), axis=1).argmax()
    if _on_a_line(whole) and (len(whole) < 4 or _on_a_line(np.delete(whole, far, axis=0))):
        raise SolveError(
            f"The {len(whole)} anchored points lie on a line, so the scene could turn about it.",
            "Anchor a point well off that line.",
        )


def _on_a_line(xyz: np.ndarray) -> bool:
    spread = np.linalg.svd(xyz - xyz.mean(0), compute_uv=False)
    return bool(spread[1] < ON_A_LINE * spread[0])


def _check_holds(holds: list[stated.Hold]) -> None:
    """Refuse two holds that give one frame different positions or orientations."""
    for what in ("positions", "rotations"):
        given: dict[int, np.ndarray] = {}
        for hold in holds:
            for frame, value in zip(hold.frames, getattr(hold, what) or []):
                new = np.array(value, object).ravel()
                new = np.array([np.nan if v is None else v for v in new], float)
                old = given.setdefault(frame, new)
                if np.nanmax(np.abs(old - new), initial=0.0) > max(hold.sigma, 1e-6):
                    raise SolveError(
                        f"Two holds give frame {frame} different {what}.", "Switch one of them off on those frames."
                    )


def _sigma(one: stated.Constraint, ground: Ground, given: float | None) -> float:
    if one.exact:
        return EXACT_SIGMA * ground.usual
    return given if given is not None else USUAL_SIGMA * ground.usual


def _anchor(one: stated.Anchor, ground: Ground, bound: Bound, name: str) -> None:
    xyz = np.array([[np.nan if v is None else v for v in one.xyz]])
    sigma = np.broadcast_to(_sigma(one, ground, 1.0) if one.exact else one.sigma, (1, 3)).astype(float)
    members = ground.points([one.track], name)
    bound.terms.append(Known(name, one.kind, sigma, not one.exact, one.exact, members=members, xyz=xyz))


def _distance(one: stated.DistanceBetween, ground: Ground, bound: Bound, name: str) -> None:
    ends, sigma = ground.points(one.tracks, name), _sigma(one, ground, one.sigma)
    bound.terms.append(Distance(name, one.kind, sigma, not one.exact, one.exact, ends=ends, length=one.length))


def _shape(bound: Bound, shape: Shape, members: Members) -> int:
    bound.shapes.append(shape)
    bound.members.append(members)
    return len(bound.shapes) - 1


def _plane(one: stated.PlaneThrough, ground: Ground, bound: Bound, name: str) -> None:
    members = ground.points(one.tracks, name)
    if len(members.rows) < 3:
        raise SolveError(f"{name}: a plane needs three tracks.", "Choose more tracks that lie on it.")
    normal = UP if isinstance(one.normal, str) else np.array(one.normal)
    if not np.linalg.norm(normal) > 0.0:
        raise SolveError(f"{name}: a normal of no length has no direction.")
    free = np.array([one.normal == "any"] * 2 + [one.offset is None])
    plane = Plane(normal / np.linalg.norm(normal), one.offset or 0.0, free)
    number = bound.planes[name] = _shape(bound, plane, members)
    sigma = _sigma(one, ground, one.sigma)
    bound.terms.append(OnPlane(name, one.kind, sigma, not one.exact, one.exact, members=members, shape=number))


def _line(one: stated.LineThrough, ground: Ground, bound: Bound, name: str) -> None:
    members = ground.points(one.tracks, name)
    if len(members.rows) < 3:
        raise SolveError(f"{name}: a line needs three tracks.", "Choose more tracks that lie on it.")
    number, sigma = _shape(bound, Line(np.zeros(3), np.eye(3)), members), _sigma(one, ground, one.sigma)
    bound.terms.append(OnLine(name, one.kind, sigma, not one.exact, one.exact, members=members, shape=number))


def _angle(one: stated.PlanesMeet, ground: Ground, bound: Bound, name: str) -> None:
    missing = [plane for plane in one.planes if plane not in bound.planes]
    if missing:
        raise SolveError(f"{name}: there is no plane “{missing[0]}” among the constraints that are on.")
    a, b = (bound.planes[plane] for plane in one.planes)
    if a == b:
        raise SolveError(f"{name}: it names the same plane twice.")
    sigma, square = EXACT_TURN if one.exact else np.radians(one.sigma_degrees), one.relation == "square"
    bound.terms.append(PlanesAt(name, one.kind, sigma, not one.exact, one.exact, one=a, other=b, square=square))


def _camera_height(one: stated.CameraHeight, ground: Ground, bound: Bound, name: str) -> None:
    members, sigma = ground.cameras(one.frames, name), _sigma(one, ground, one.sigma)
    number = _shape(bound, Plane(UP, one.height, np.zeros(3, bool)), members)
    bound.terms.append(OnPlane(name, one.kind, sigma, not one.exact, one.exact, members=members, shape=number))


CAMERA_SHAPES: dict[str, tuple[type, Callable[[], Shape], int]] = {
    "line": (OnLine, lambda: Line(np.zeros(3), np.eye(3)), 3),
    "plane": (OnPlane, lambda: Plane(UP, 0.0), 4),
    "spot": (AtSpot, lambda: Spot(np.zeros(3)), 2),
}
"""Where a camera may stay: the piece, a shape to begin with, and frames that it needs."""


def _camera_on(one: stated.CameraOn, ground: Ground, bound: Bound, name: str) -> None:
    make, begin, least = CAMERA_SHAPES[one.shape]
    members, sigma = ground.cameras(one.frames, name), _sigma(one, ground, one.sigma)
    if len(members.rows) < least:
        raise SolveError(f"{name}: {len(members.rows)} frames are too few to hold a camera on a {one.shape}.")
    number = _shape(bound, begin(), members)
    bound.terms.append(make(name, one.kind, sigma, not one.exact, one.exact, members=members, shape=number))


def _hold(one: stated.Hold, ground: Ground, bound: Bound, name: str) -> None:
    members = ground.at(ground.rows_of(one.frames, name))
    if one.positions is not None:
        xyz = np.array([[np.nan if v is None else v for v in row] for row in one.positions])
        sigma = np.full(xyz.shape, _sigma(one, ground, one.sigma))
        bound.terms.append(Known(name, one.kind, sigma, False, one.exact, members=members, xyz=xyz))
    if one.rotations is not None:
        turns = Members(ROTATION, members.rows, members.names)
        sigma = np.full((len(members.rows), 3), EXACT_TURN if one.exact else np.radians(one.sigma_degrees))
        rotations = np.array(one.rotations)
        if np.abs(np.swapaxes(rotations, 1, 2) @ rotations - np.eye(3)).max() > 1e-3:
            raise SolveError(f"{name}: what is given as an orientation is no rotation.")
        bound.terms.append(Turned(name, one.kind, sigma, False, one.exact, members=turns, world_from_camera=rotations))


def _smooth(one: stated.Smooth, ground: Ground, bound: Bound, name: str) -> None:
    rows = ground.cameras(one.frames, name).rows
    triples = np.stack([rows[:-2], rows[1:-1], rows[2:]], 1) if len(rows) > 2 else np.zeros((0, 3), np.int64)
    triples = triples[np.ptp(ground.frames[triples], axis=1) == 2] if len(triples) else triples
    if not len(triples):
        raise SolveError(f"{name}: three frames in a row are needed to speak of a path.")
    for value, make, gain in ((one.position, SmoothPosition, 1.0), (one.rotation, SmoothRotation, np.pi / 180.0)):
        if value is not None:
            bound.terms.append(make(name, one.kind, value * gain, rows=triples, per_second2=ground.fps**2))


def _axis_lines(one: stated.AxisLines, ground: Ground, bound: Bound, name: str) -> None:
    rows = ground.rows_of([line.frame for line in one.lines], name)
    cameras = Members(ROTATION, rows, tuple(f"a line along {line.axis.upper()} on {line.frame}" for line in one.lines))
    axes = np.eye(3)[["xyz".index(line.axis) for line in one.lines]]
    ends = np.array([line.ends for line in one.lines])
    if (np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1) < LEAST_LENGTH_PX).any():
        raise SolveError(f"{name}: a line has no length.", "Draw it longer.")
    if one.exact:
        raise SolveError(f"{name}: drawn lines cannot be held exactly.", "They are within their sigma in pixels.")
    sigma = np.full((len(rows), 1), one.sigma_px)
    bound.terms.append(AlongAxes(name, one.kind, sigma, True, False, members=cameras, ends=ends, axes=axes))


def _swing_radius(one: stated.SwingRadius, ground: Ground, bound: Bound, name: str) -> None:
    sigma = _sigma(one, ground, one.sigma)
    bound.terms.append(PivotRadius(name, one.kind, sigma, not one.exact, one.exact, length=one.length))


MAKERS: dict[type, Callable] = {
    stated.Anchor: _anchor,
    stated.DistanceBetween: _distance,
    stated.PlaneThrough: _plane,
    stated.LineThrough: _line,
    stated.PlanesMeet: _angle,
    stated.CameraHeight: _camera_height,
    stated.CameraOn: _camera_on,
    stated.Hold: _hold,
    stated.Smooth: _smooth,
    stated.AxisLines: _axis_lines,
    stated.SwingRadius: _swing_radius,
}
"""How each kind of constraint becomes terms. A new kind is a model in `statement`, a piece, and a line here."""

NAMES = {
    stated.Anchor: "Anchored point",
    stated.DistanceBetween: "Distance",
    stated.PlaneThrough: "Plane",
    stated.LineThrough: "Line",
    stated.PlanesMeet: "Angle",
    stated.CameraHeight: "Camera height",
    stated.CameraOn: "Camera stays",
    stated.Hold: "Held path",
    stated.Smooth: "Smooth path",
    stated.AxisLines: "Axis lines",
    stated.SwingRadius: "Swing radius",
}
