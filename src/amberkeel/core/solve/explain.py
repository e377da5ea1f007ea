"""The explanation of a shot: what motion of the camera its tracks tell, solved before tracks are weighed.

A camera that stands still, turns, swings or moves: each is solved as far as it takes to compare them (`motions`).
"""

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.adjust_shot import finished
from amberkeel.core.solve.again import refined
from amberkeel.core.solve.free_camera import SURE, free_camera
from amberkeel.core.solve.grow import settle
from amberkeel.core.solve.locked import locked
from amberkeel.core.solve.motions import (
    AUTO,
    EXPLAINS,
    FREE,
    LEAST_OVER_DRIFT,
    LOCKED,
    NODAL,
    PLANE,
    SWING,
    compare,
    parallax_over_drift,
)
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.recipe import KNOWN
from amberkeel.core.solve.refusals import least_tracks
from amberkeel.core.solve.shot import Asked, Solved, keeping
from amberkeel.core.solve.start import FEW, stands_still
from amberkeel.core.solve.surveyed import Survey, least_known, points_by_frame, suffices, survey_of, surveyed
from amberkeel.core.solve.turn import released, swinging, turning
from amberkeel.core.solve.turn_zoom import zooming_turn
from amberkeel.core.tracks import ACTIVE

CLEARLY_BEST = 1000.0
"""By how much a rival's score may fall when it is solved to the end."""


def explained(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved by the explanation asked for, or by the one that explains it best, before tracks are
    weighed by their own noise.

    Parameters
    ----------
    asked : the shot. progress : called with the share done.
    """
    known = survey_of(asked.recipe.evidence, asked.measured)
    if asked.recipe.start == KNOWN or _best_by_known(asked, known):
        return surveyed(asked, progress)
    try:
        solved = _by_motion(asked, progress)
    except SolveError:
        # Of one frame nothing but known points tells a camera.
        if not _suffice(asked, known) and (len(asked.frames) > 1 or not len(known.rows)):
            raise
        return surveyed(asked, progress)
    return solved if solved.problem.solved.all() or not _suffice(asked, known) else surveyed(asked, progress)


def _suffice(asked: Asked, known: Survey) -> bool:
    """Return whether known points alone give a camera of some frame."""
    return suffices(known, asked.measured, asked.frames, asked.plan.search)


def _best_by_known(asked: Asked, known: Survey) -> bool:
    """Return whether known points give the camera, and nothing else can, or hardly: there are few tracks."""
    recipe, plan, active = asked.recipe, asked.plan, int(asked.tracks.in_state(ACTIVE).sum())
    if recipe.begin is not None or recipe.start is not None or recipe.zoom or not _suffice(asked, known):
        return False
    if len(asked.frames) == 1 or active < least_tracks(recipe.motion in (NODAL, SWING), plan.search, plan.held):
        return True
    everywhere = points_by_frame(known, asked.measured, asked.frames) >= least_known(plan.search)
    return recipe.motion in (AUTO, FREE) and active < FEW and bool(everywhere.all())


def _by_motion(asked: Asked, progress: Progress) -> Solved:
    """Return the shot solved from its tracks by the explanation asked for, or the best one; see `explained`."""
    motion = asked.recipe.motion
    if motion == LOCKED:
        return locked(asked)
    if asked.recipe.begin is not None:
        return refined(asked, progress)
    if stands_still(asked.problem()) and not asked.recipe.zoom:
        return locked(asked)
    if motion == FREE:
        return _beside_turning(asked, free_camera(asked, span(progress, 0.0, 0.8)), span(progress, 0.8, 1.0))
    if motion == PLANE:
        return free_camera(asked, progress)
    if motion in (NODAL, SWING):
        turns = _turning(asked, progress)
        if turns is None:
            raise SolveError("No rotation joins the frames.", "Ask for a free camera.")
        return turns.nodal if motion == NODAL else _finished_swing(asked, _swung(asked, turns), progress) or turns.nodal
    try:
        turns = _turning(asked, span(progress, 0.0, 0.2))
    except SolveError:
        return free_camera(asked, span(progress, 0.2, 1.0))
    if turns is None:
        return free_camera(asked, span(progress, 0.1, 1.0))
    with keeping(turns.nodal):
        return _compared(asked, turns, span(progress, 0.2, 1.0))


class _Turns(NamedTuple):
    """A camera that only turns: as it was found, all tracks serving with a wide loss, and solved to the end.

    What swings or moves is begun from the first: the second has bent its focal length to where rotation fits best.
    """

    found: Problem
    nodal: Solved


def _turning(asked: Asked, progress: Progress) -> _Turns | None:
    """Return the shot solved as a camera that only turns; None where the motion is to be found, and rotation explains
    too little.
    """
    plan = asked.plan
    most = EXPLAINS if asked.recipe.motion in (AUTO, FREE) else np.inf
    of, early = (asked.problem(), plan), span(progress, 0.0, 0.7)
    if asked.recipe.zoom:
        turned = zooming_turn(*of, asked.freedom, asked.size[0], early, most)
    else:
        turned = turning(*of, asked.size[0], early, most)
    if turned is None:
        return None
    nodal = replace(finished(turned, asked.freedom, plan.later, span(progress, 0.7, 1.0)), motion=NODAL)
    return _Turns(turned, nodal)


def _beside_turning(asked: Asked, moving: Solved, progress: Progress) -> Solved:
    """Return a camera that was asked to move, with what one that only turns makes of the tracks where it makes
    anything: a camera that moves explains a pan too, at depths that nothing holds.
    """
    with keeping(moving):
        try:
            turns = _turning(asked, progress)
        except SolveError:
            return moving
    if turns is None:
        return moving
    return replace(moving, rivals=tuple(compare([turns.nodal, moving], asked.tracks.in_state(ACTIVE))))


def _compared(asked: Asked, turns: _Turns, progress: Progress) -> Solved:
    """Return the best of a camera that turns, one that swings, and one that moves.

    The rivals are begun from the one that turns and judged by its measurements first; only where that does not settle
    the matter are they solved to the end.
    """
    progress(0.0, "Comparing it with a camera that moves")
    everyone, nodal = asked.tracks.in_state(ACTIVE), turns.nodal
    swung = None if asked.recipe.zoom else _swung(asked, turns)
    free = _let_go(asked, swung.problem if swung else turns.found)
    rivals = compare([nodal, swung, free] if swung else [nodal, free], everyone)
    if rivals[0].score == 0.0 and min(rival.score for rival in rivals[1:]) > CLEARLY_BEST:
        return replace(nodal, rivals=tuple(rivals))
    swing = _finished_swing(asked, swung, span(progress, 0.1, 0.3)) if swung else None
    candidates = [nodal, swing] if swing else [nodal]
    let_go = _let_go(asked, swing.problem if swing else turns.found).problem
    candidates.append(finished(let_go, asked.freedom, asked.plan.later, span(progress, 0.3, 0.7)))
    rivals = compare(candidates, everyone)
    least = min(rivals, key=lambda rival: rival.score)
    if least.motion == FREE or least.explained < SURE:
        # One that is let go of a pivot stays near it: the free camera is looked for everywhere.
        try:
            candidates[-1] = free_camera(asked, span(progress, 0.7, 1.0))
            rivals = compare(candidates, everyone)
        except SolveError:
            pass
    best = int(np.argmin([rival.score for rival in rivals]))
    if parallax_over_drift(nodal.problem, candidates[best].problem) < LEAST_OVER_DRIFT:
        best = 0
    return replace(candidates[best], rivals=tuple(rivals))


def _swung(asked: Asked, turns: _Turns) -> Solved:
    """Return what a camera that turns becomes, roughly, when it may swing."""
    problem, freedom = swinging(turns.found, asked.plan.free)
    return Solved(problem, freedom, np.zeros(len(problem.rhos), bool), motion=SWING)


def _let_go(asked: Asked, problem: Problem) -> Solved:
    """Return what a camera that turns or swings becomes, roughly, when it may move."""
    free = released(problem)
    settle(free, asked.freedom, 20)
    return Solved(free, asked.freedom, np.zeros(len(free.rhos), bool), motion=FREE)


def _finished_swing(asked: Asked, swung: Solved, progress: Progress) -> Solved | None:
    """Return a camera that swings solved to the end; None where too few tracks agree with it."""
    try:
        return replace(finished(swung.problem, swung.freedom, asked.plan.later, progress), motion=SWING)
    except SolveError:
        return None
