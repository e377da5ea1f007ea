"""A solved shot adjusted again with what is known of the set and of the camera's path."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import nearest_rotation
from amberkeel.core.lens import Lens
from amberkeel.core.solve.evidence.bind import SCALE, Bound, Ground, bind
from amberkeel.core.solve.evidence.line_pieces import AlongAxes, axis_directions
from amberkeel.core.solve.evidence.piece import Piece
from amberkeel.core.solve.evidence.scene_pieces import Known
from amberkeel.core.solve.evidence.statement import AxisLines, Constraint
from amberkeel.core.solve.held_lens import straight_px
from amberkeel.core.solve.problem import USUAL_DISTANCE, Problem, level_world
from amberkeel.core.solve.terms import Term
from amberkeel.core.solve.unknowns import BLOCKS, POINT_BLOCK, WORLD, Unknown
from amberkeel.core.solve.world_frame import Line, Shape, Spot, World
from amberkeel.core.tracks import ACTIVE, TrackSet

LEAST_ALIGNED = 3
"""Whole coordinates from which the world is begun by the best similarity."""

STEPS = 30
"""Steps of laying the world and its shapes through a solve that stands."""


def bound_to(problem: Problem, tracks: TrackSet, constraints: tuple[Constraint, ...], fps: float) -> Bound:
    """Lay the world and the shapes of constraints through a solved problem, in place, and return what is bound.

    Parameters
    ----------
    problem : solved; its world and shapes are set. tracks : of the shot. constraints : those that are on count.
    fps : frames a second.

    Raises
    ------
    SolveError : what `bind` refuses.
    """
    level = level_world(problem)
    if not problem.world.held:
        problem.world = level
        bound = bind(constraints, Ground(tracks, problem.frames, fps, USUAL_DISTANCE))
        _align(problem, bound.terms)
        _turn_to_lines(problem, bound.terms)
    usual = USUAL_DISTANCE * problem.world.scale / level.scale
    bound = bind(constraints, Ground(tracks, problem.frames, fps, usual))
    if not problem.world.held:
        problem.world = replace(problem.world, free=bound.world_free)
    problem.shapes = tuple(
        _laid(shape, members.in_world(problem)[0]) for shape, members in zip(bound.shapes, bound.members)
    )
    _settle_scene(problem, bound.terms)
    if not bound.world_free[SCALE] and not problem.world.held:
        _hold_scale(problem)
    return bound


def _hold_scale(problem: Problem) -> None:
    """Hold the longest coordinate of the camera furthest from the first, in place: where nothing states a length, what
    is stated in lengths must not shrink the scene.
    """
    away = problem.centres - problem.centres[problem.first_solved]
    away[~problem.solved] = 0.0
    far = int(np.argmax(np.linalg.norm(away, axis=1)))
    problem.movable[far, 3 + int(np.argmax(np.abs(away[far])))] = False


def stated_of(constraints: tuple[Constraint, ...], tracks: TrackSet) -> np.ndarray:
    """Return which tracks constraints that are on speak of, (T,) bool."""
    named: set[int | str] = set()
    for one in constraints:
        if one.on:
            named |= set(getattr(one, "tracks", [])) | ({one.track} if hasattr(one, "track") else set())
    return np.array([int(i) in named or n in named for i, n in zip(tracks.ids, tracks.names)], bool)


def tightened(problem: Problem, terms: tuple[Term, ...]) -> tuple[Term, ...]:
    """Return the terms with the multipliers of those that are held exactly risen."""
    return tuple(term.tightened(problem) if isinstance(term, Piece) else term for term in terms)


def check_evidence(constraints: tuple[Constraint, ...], tracks: TrackSet, frames: np.ndarray, fps: float) -> None:
    """Refuse evidence that cannot be used, before anything is solved.

    Parameters
    ----------
    constraints : those that are on count. tracks : of the shot, in the states the solve uses. frames : (F,) frame
        numbers. fps : frames a second.

    Raises
    ------
    SolveError : what `bind` refuses, or a track that serves as a check track.
    """
    terms = bind(constraints, Ground(tracks, frames, fps, USUAL_DISTANCE)).terms
    named = {int(k) for term in terms for u in term.unknowns() if u.block == POINT_BLOCK for k in u.keys}
    for row in sorted(named):
        if tracks.states[row] != ACTIVE:
            raise SolveError(
                f"Track {tracks.names[row]} is withheld as a check track, so nothing can be stated of it.",
                "Make it active, or choose another one.",
            )


def _align(problem: Problem, terms: list[Piece]) -> None:
    """Begin the world where known coordinates put it, in place: a similarity in closed form (Umeyama 1991)."""
    pairs = [(term.members.in_solve(problem)[0], term.xyz) for term in terms if isinstance(term, Known)]
    if not pairs:
        return
    ours, known = (np.concatenate(column) for column in zip(*pairs))
    whole = np.isfinite(known).all(1) & np.isfinite(ours).all(1)
    if whole.sum() < LEAST_ALIGNED:
        return
    a, b = ours[whole] - ours[whole].mean(0), known[whole] - known[whole].mean(0)
    turn = nearest_rotation(b.T @ a)
    scale = float(np.sqrt((b**2).sum() / max((a**2).sum(), 1e-300)))
    shift = known[whole].mean(0) - scale * turn @ ours[whole].mean(0)
    problem.world = World(scale, turn, shift, problem.world.free)


def _turn_to_lines(problem: Problem, terms: list[Piece]) -> None:
    """Begin the world's turn where axis lines put it, in place, unless known coordinates did: each axis takes that
    sense which is nearer to the world as it is.
    """
    lines = [term for term in terms if isinstance(term, AlongAxes)]
    if not lines or any(isinstance(term, Known) for term in terms):
        return
    world = problem.world
    axes, found = world.world_from_solve.copy(), axis_directions(lines[0], problem)
    for number, direction in found.items():
        axes[number] = direction if direction @ axes[number] >= 0.0 else -direction
    missing = [k for k in range(3) if k not in found]
    if len(missing) == 1:
        one, other = ((missing[0] + k) % 3 for k in (1, 2))
        axes[missing[0]] = np.cross(axes[one], axes[other])
    turn = nearest_rotation(axes)
    pivot = world.apply(problem.centres[problem.first_solved][None])[0]
    shift = pivot - world.scale * turn @ problem.centres[problem.first_solved]
    problem.world = replace(world, world_from_solve=turn, shift=shift)


def _laid(shape: Shape, xyz: np.ndarray) -> Shape:
    """Return a shape laid through positions (G, 3), as far as it is free."""
    centre = xyz.mean(0)
    axes = np.linalg.svd(xyz - centre)[2]
    if isinstance(shape, Spot):
        return replace(shape, point=centre)
    if isinstance(shape, Line):
        return replace(shape, point=centre, frame=np.stack([axes[1], np.cross(axes[0], axes[1]), axes[0]], 1))
    normal = axes[2] if shape.free[0] else shape.normal
    return replace(shape, normal=normal, offset=float(centre @ normal) if shape.free[2] else shape.offset)


def _settle_scene(problem: Problem, terms: list[Piece]) -> None:
    """Adjust world and shapes alone to the solve as it stands, in place (Levenberg 1944)."""
    rows: dict[Unknown, np.ndarray] = {}
    count = 0
    for unknown, free in [
        (Unknown(WORLD, 0), problem.world.free),
        *((Unknown(shape.block, k), shape.free) for k, shape in enumerate(problem.shapes)),
    ]:
        rows[unknown] = np.where(free, count + np.cumsum(free) - 1, -1)
        count += int(free.sum())
    if not count:
        return
    damping, cost = 1e-3, _scene_cost(problem, terms)
    for _ in range(STEPS):
        normal, side = _scene_system(problem, terms, rows, count)
        step = np.linalg.solve(normal + damping * np.diag(np.diagonal(normal) + 1e-12), side)
        world, shapes = problem.world, problem.shapes

        problem.world = world.stepped(_at(step, rows[Unknown(WORLD, 0)]))
        problem.shapes = tuple(s.stepped(_at(step, rows[Unknown(s.block, k)])) for k, s in enumerate(shapes))
        after = _scene_cost(problem, terms)
        if after < cost:
            settled = cost - after < 1e-9 * cost
            cost, damping = after, 0.1 * damping
            if settled:
                break
        else:
            problem.world, problem.shapes, damping = world, shapes, 10.0 * damping


def _at(step: np.ndarray, rows: np.ndarray) -> np.ndarray:
    """Return the numbers of a step at some rows, 0 where a row is -1."""
    return np.where(rows >= 0, step[rows], 0.0)


def _scene_cost(problem: Problem, terms: list[Piece]) -> float:
    return 0.5 * sum(float((term.evaluate(problem).residual ** 2).sum()) for term in terms)


def _scene_system(
    problem: Problem, terms: list[Piece], rows: dict[Unknown, np.ndarray], count: int
) -> tuple[np.ndarray, np.ndarray]:
    """Return the normal matrix (count, count) and the right side of world and shapes, all else held."""
    normal, side = np.zeros((count, count)), np.zeros(count)
    for term in terms:
        residual, derivatives = term.evaluate(problem)
        own = [(u, d) for u, d in zip(term.unknowns(), derivatives) if BLOCKS[u.block].scope == "scene"]
        for g in range(len(residual)):
            at = np.concatenate([rows[Unknown(u.block, int(u.keys[g]))] for u, _ in own]) if own else np.zeros(0, int)
            j = np.concatenate([d[g] for _, d in own], 1) if own else np.zeros((residual.shape[1], 0))
            live = at >= 0
            side[at[live]] -= j[:, live].T @ residual[g]
            normal[np.ix_(at[live], at[live])] += j[:, live].T @ j[:, live]
    return normal, side


def straightened_lines(evidence: tuple[Constraint, ...], lens: Lens) -> tuple[Constraint, ...]:
    """Return evidence with its drawn lines in straightened pixels."""
    return tuple(_straightened(one, lens) if isinstance(one, AxisLines) else one for one in evidence)


def _straightened(drawn: AxisLines, lens: Lens) -> AxisLines:
    ends = straight_px(lens, np.array([line.ends for line in drawn.lines]).reshape(-1, 2)).reshape(-1, 2, 2)
    lines = [line.model_copy(update={"ends": tuple(map(tuple, own))}) for line, own in zip(drawn.lines, ends.tolist())]
    return drawn.model_copy(update={"lines": lines})
