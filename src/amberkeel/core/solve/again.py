"""A shot solved from a camera that was found before."""

from dataclasses import replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.adjust_shot import finished
from amberkeel.core.solve.grow import GROW_SCALE, Broken, grow
from amberkeel.core.solve.lens_plan import Freedom, zoom_along
from amberkeel.core.solve.motions import AUTO, FREE, NODAL, SWING
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import ARM_NAMES, RADIAL_NAMES, READOUT_NAME, ROW_NAMES
from amberkeel.core.solve.recipe import AUTO_ROWS, KNOWN_ROWS, NO_ROWS
from amberkeel.core.solve.rows import row_drift
from amberkeel.core.solve.shot import LEAST_PART, Asked, Solved
from amberkeel.core.solve.terms import SoftLens
from amberkeel.core.solve.turn import LATERAL

EXACTLY = 1e-6
"""Distance, over the size of the path, within which a camera stands still or swings about a pivot."""

LEAST_ARM = 1e-3
"""Arm along the view axis, over the size of the path, below which a camera swings about no pivot that is seen."""

REFINE_SCALES = (FINAL_SCALE,)
"""Cauchy scales of the rounds of adjusting and judging outliers, in sigmas, from a camera that was found before."""

ONCE = (1, 1e-5, FINAL_SCALE)
"""Iterations, tolerance and Cauchy scale of the adjustment after it; what weighs the tracks goes on from there."""


def refined(asked: Asked, progress: Progress) -> Solved:
    """Return a shot solved from a camera that was found before: adjusted anew, frames that it lacks added.

    Raises
    ------
    SolveError : the camera has too few of this shot's frames, or frames that it lacks cannot be tied to the others.
    """
    problem, path = asked.problem(), asked.recipe.begin
    assert path is not None
    take_cameras(problem, path)
    motion = take_motion(asked.recipe.motion, problem)
    take_lens(problem, path, asked)
    freedom = take_freedom(asked, problem, motion)
    if asked.recipe.within is not None:
        problem.movable[_outside(problem, asked.recipe.within)] = False
        freedom = replace(freedom, lens=(), terms=())
    problem.triangulate(problem.active, GROW_SCALE)
    if problem.lens.readout or READOUT_NAME in freedom.lens:
        problem.drift = row_drift(problem, problem.lens.readout)
    if not problem.solved.all():
        try:
            grow(problem, freedom, span(progress, 0.0, 0.6))
        except Broken as broken:
            problem = broken.problem
    done = finished(problem, freedom, (), span(progress, 0.6, 1.0), REFINE_SCALES, ONCE)
    return replace(done, motion=motion)


def take_cameras(problem: Problem, path: CameraPath) -> None:
    """Put those cameras that a path has into a problem, in place."""
    rows = np.nonzero(np.isin(problem.frames, path.frames))[0]
    if len(rows) < LEAST_PART:
        raise SolveError(
            f"The camera to begin from has {len(rows)} of this shot's frames.",
            f"It has frames {path.frames[0]}–{path.frames[-1]}; choose an attempt of this shot.",
        )
    own = np.searchsorted(path.frames, problem.frames[rows])
    problem.rotations[rows], problem.centres[rows] = path.world_from_camera[own], path.positions[own]
    problem.solved[rows] = True


def take_lens(problem: Problem, path: CameraPath, asked: Asked) -> None:
    """Put a path's lens, its zoom and its shutter into a problem, in place; what is held stays."""
    asked_rows, known = asked.recipe.rows, asked.recipe.readout
    readout = {NO_ROWS: 0.0, KNOWN_ROWS: known}.get(asked_rows, path.readout) or 0.0
    values = {"focal": path.lens.focal_px[0], **dict(zip(RADIAL_NAMES, path.lens.radial)), READOUT_NAME: readout}
    held = set(RADIAL_NAMES) if asked.recipe.held_lens is not None else set()
    for name, value in values.items():
        problem.lens = problem.lens if name in held else problem.lens.with_value(name, value)
    if not asked.recipe.zoom:
        return
    course = np.zeros(len(problem.frames))
    if path.zoom is not None:
        course = np.log(np.interp(problem.frames, path.frames, path.zoom))
    problem.lens = problem.lens.with_value("focal", problem.lens.focal * np.exp(course.mean()))
    problem.zoom_basis, problem.zoom = zoom_along(course - course.mean())


def take_motion(wanted: str, problem: Problem) -> str:
    """Return how a camera that is refined moves, and hold it to that, in place: as it was asked for, or as it did."""
    pupils = problem.centres[problem.solved]
    size = np.linalg.norm(pupils - pupils.mean(0), axis=1).max()
    pivot, arm, off = _about_a_pivot(problem.rotations[problem.solved], pupils)
    if wanted == AUTO:
        still = size <= EXACTLY * max(1.0, np.abs(pupils).max())
        wanted = NODAL if still else SWING if off < EXACTLY * size else FREE
    turns_only = wanted in (NODAL, SWING)
    if wanted == NODAL:
        problem.centres[:] = pupils.mean(0)
    if wanted == SWING:
        length = abs(arm[2]) if abs(arm[2]) > LEAST_ARM * size else 1.0
        problem.centres[:] = pivot / length
        for name, value in zip(ARM_NAMES, arm / length):
            problem.lens = problem.lens.with_value(name, value)
    problem.movable[:, 3:] = not turns_only
    return wanted if turns_only else FREE


def _about_a_pivot(rotations: np.ndarray, pupils: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Return the pivot (3,) about which entrance pupils (F, 3) swing, their arm (3,) in the camera's frame, and by how
    much the worst of them is off; ``pupil = pivot + R arm`` is linear in both.
    """
    left = np.concatenate([np.tile(np.eye(3), (len(rotations), 1, 1)), rotations], 2).reshape(-1, 6)
    both = np.linalg.lstsq(left, pupils.ravel(), rcond=None)[0]
    off = (left @ both).reshape(-1, 3) - pupils
    return both[:3], both[3:], float(np.linalg.norm(off, axis=1).max())


def take_freedom(asked: Asked, problem: Problem, motion: str) -> Freedom:
    """Return what of the lens may change: what may from the start, and what the camera was found to need."""
    own, recipe = asked.freedom, asked.recipe
    needed, terms = {name for name in asked.plan.later if problem.lens.value(name)}, list(own.terms)
    if problem.lens.readout and recipe.rows == AUTO_ROWS:
        needed.add(READOUT_NAME)
    if recipe.readout is not None and recipe.readout_sigma:
        needed.add(READOUT_NAME)
        terms.append(SoftLens(READOUT_NAME, recipe.readout, recipe.readout_sigma))
    if motion == SWING:
        needed |= {"arm_x", "arm_y"}
        terms += LATERAL
    return Freedom(tuple(name for name in ROW_NAMES if name in {*own.lens, *needed}), tuple(terms))


def _outside(problem: Problem, within: tuple[int, int]) -> np.ndarray:
    """Return which frames (F,) bool a refinement of a range leaves as they are."""
    low, high = within
    inside = (problem.frames >= low) & (problem.frames <= high)
    if not inside.any():
        raise SolveError(
            f"Frames {low}–{high} are not in this shot.", f"It has {problem.frames[0]}–{problem.frames[-1]}."
        )
    lost = problem.frames[~problem.solved & ~inside]
    if len(lost):
        raise SolveError(
            f"The attempt has no camera on frame {lost[0]}, outside of {low}–{high}.", "Choose a wider range, or none."
        )
    return ~inside
