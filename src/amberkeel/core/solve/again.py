"""A shot solved from a camera that was found before."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.adjust_shot import finished
from amberkeel.core.solve.grow import GROW_SCALE, Broken, grow
from amberkeel.core.solve.motions import FREE, NODAL
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.radial_lens import RADIAL_NAMES, READOUT_NAME, ROW_NAMES
from amberkeel.core.solve.rows import row_drift
from amberkeel.core.solve.shot import LEAST_PART, Asked, Solved

REFINE_SCALES = (FINAL_SCALE, FINAL_SCALE)
"""The same from a camera that was found before."""


def refined(asked: Asked, progress: Progress) -> Solved:
    """Return a shot solved from a camera that was found before: adjusted anew, frames that it lacks added.

    Raises
    ------
    SolveError : the camera has too few of this shot's frames, or frames that it lacks cannot be tied to the others.
    """
    problem, path = asked.problem(), asked.recipe.begin
    assert path is not None
    rows = np.nonzero(np.isin(problem.frames, path.frames))[0]
    if len(rows) < LEAST_PART:
        raise SolveError(
            f"The camera to begin from has {len(rows)} of this shot's frames.",
            f"It has frames {path.frames[0]}–{path.frames[-1]}; choose an attempt of this shot.",
        )
    own = np.searchsorted(path.frames, problem.frames[rows])
    problem.rotations[rows], problem.centres[rows] = path.world_from_camera[own], path.positions[own]
    problem.solved[rows] = True
    values = {"focal": path.lens.focal_px[0], **dict(zip(RADIAL_NAMES, path.lens.radial)), READOUT_NAME: path.readout}
    fixed = asked.recipe.held_lens is not None
    for name, value in values.items():
        problem.lens = problem.lens if fixed and name in RADIAL_NAMES else problem.lens.with_value(name, value)
    motion = NODAL if asked.recipe.motion == NODAL else FREE
    problem.movable[:, 3:] = motion != NODAL
    further = tuple(k for k in asked.plan.later if problem.lens.value(k)) + ((READOUT_NAME,) if path.readout else ())
    freedom = replace(asked.plan.free, lens=tuple(n for n in ROW_NAMES if n in {*asked.plan.free.lens, *further}))
    problem.triangulate(problem.active, GROW_SCALE)
    if path.readout:
        problem.drift = row_drift(problem, path.readout)
    if not problem.solved.all():
        try:
            grow(problem, freedom, span(progress, 0.0, 0.6))
        except Broken as broken:
            problem = broken.problem
    return replace(finished(problem, freedom, (), span(progress, 0.6, 1.0), REFINE_SCALES), motion=motion)
