"""Shots of one set adjusted together in one world: each keeps its cameras and points, spots that several see are one
point, lenses are shared if that is chosen.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.again import refined
from amberkeel.core.solve.joint import MOST_BUNDLES, SamePoint, joined, parted
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.outliers import FINAL_SCALE, find_outliers
from amberkeel.core.solve.problem import Rows
from amberkeel.core.solve.shot import Asked, Solved
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import ask, conclude
from amberkeel.core.world.align import similarity
from amberkeel.core.world.datum import Datum

ROUNDS = (3.0, FINAL_SCALE, FINAL_SCALE)
"""Cauchy scales of the rounds of adjusting together, in sigmas; outliers are judged between them."""

STEPS, NEARLY, TO_THE_END = 40, 1e-5, 1e-8


@dataclass(frozen=True)
class JointShot:
    """A shot that is adjusted with others: its name, its solve, and what takes that to the common world."""

    name: str
    solution: Solution
    change: Datum


@dataclass(frozen=True)
class SameSpot:
    """One spot that several shots see: (number of the shot, id of its track) of each."""

    seen: tuple[tuple[int, int], ...]


def adjusted_together(
    shots: Sequence[JointShot], spots: Sequence[SameSpot], share_lens: bool = False, progress: Progress = silent
) -> list[JointShot]:
    """Return the shots adjusted together, each with what takes its solution to the common world; the first shot's first
    camera stays.

    Parameters
    ----------
    shots : the reference first; every one is joined by spots to those before it. spots : that several see. share_lens :
        whether all have one lens. progress : called with the share done.

    Raises
    ------
    TieError : one shot alone, too many, lenses of plates of different sizes, or a shot that no spot joins.
    """
    _check(shots, spots, share_lens)
    asked, solved = [], []
    for k, shot in enumerate(shots):
        own = span(progress, 0.5 * k / len(shots), 0.5 * (k + 1) / len(shots))
        own(0.0, f"Taking {shot.name} into the common world")
        asked.append(_asked(shot))
        solved.append(_begun(asked[-1]))
    done = _adjusted(shots, asked, solved, spots, share_lens, span(progress, 0.5, 0.85))
    out = []
    for k, (one, of_it) in enumerate(zip(done, asked)):
        progress(0.85 + 0.15 * k / len(shots), f"How sure {shots[k].name} is")
        found = conclude(of_it, one, one.uncertainty())
        shared = tuple(shot.name for shot in shots if shot is not shots[k]) if share_lens else ()
        recipe = replace(found.recipe, begin=None, shared_with=shared)
        found = replace(found, recipe=recipe)
        out.append(JointShot(shots[k].name, found, _back(found, one)))
    return out


def _back(solution: Solution, solved: Solved) -> Datum:
    """Return what takes a solution, which has coordinates of its own, to those of its adjusted problem."""
    problem = solved.problem
    near = solution.points.known & problem.triangulated & (problem.rhos > 0.0) & problem.active
    there = problem.anchors[near] + problem.directions[near] / problem.rhos[near, None]
    own = np.concatenate([solution.path.positions, solution.points.positions(solution.path.positions[0])[near]])
    return similarity(own, np.concatenate([problem.centres[problem.solved], there]))


def _check(shots: Sequence[JointShot], spots: Sequence[SameSpot], share_lens: bool) -> None:
    if len(shots) < 2:
        raise TieError("One shot is adjusted with nobody.", "Choose a second one.")
    if len(shots) > MOST_BUNDLES:
        raise TieError(f"{len(shots)} shots are too many to adjust at once.", f"Choose {MOST_BUNDLES} at the most.")
    joined_by = {k for spot in spots for k, _ in spot.seen}
    alone = [shot.name for k, shot in enumerate(shots) if k not in joined_by]
    if alone:
        raise TieError(f"Nothing joins {', '.join(alone[:4])} to the other shots.", "Tie it by three spots or more.")
    lenses = [shot.solution.path.lens for shot in shots]
    if share_lens and len({(lens.width, lens.height) for lens in lenses}) > 1:
        raise TieError("These plates differ in size, so they share no lens.", "Adjust them without.")
    if share_lens and any(shot.solution.path.zoom is not None for shot in shots):
        raise TieError("A zoom has no one lens to share.", "Adjust them without.")


def _asked(shot: JointShot) -> Asked:
    """Return a shot to be adjusted from where it stands in the common world."""
    one, path = shot.solution, shot.change.camera(shot.solution.path)
    recipe = replace(one.recipe, begin=path, motion=one.motion, within=None, evidence=())
    return ask(one.tracks, path.frames, path.lens.width, path.lens.height, recipe)


def _begun(asked: Asked) -> Solved:
    """Return a shot as it stands, its points found again."""
    return refined(asked, silent)


def _adjusted(shots, asked, solved: list[Solved], spots, share_lens: bool, progress: Progress) -> list[Solved]:
    """Return all shots adjusted in one world, outliers judged anew."""
    problems = [one.problem.copied() for one in solved]
    dropped = [one.dropped for one in solved]
    everyone = [problem.active | drop for problem, drop in zip(problems, dropped)]
    freedoms = [one.freedom for one in solved]
    if share_lens:
        common = tuple(n for n in freedoms[0].lens if all(n in one.lens for one in freedoms))
        freedoms = [Freedom(common, freedoms[0].terms)] * len(solved)
        for problem in problems[1:]:
            problem.lens = problems[0].lens
    for cycle, scale in enumerate(ROUNDS):
        progress(cycle / len(ROUNDS), f"Adjusting {len(shots)} shots together")
        cut = []
        for k, problem in enumerate(problems):
            problem.active = everyone[k] & ~dropped[k]
            problem.triangulate(problem.active, scale)
            free = problem.all_but_first if k == 0 else problem.solved
            cut.append(problem.bundle(problem.solved, problem.active, free, freedoms[k], scale))
        bundles = [bundle for bundle, _ in cut]
        same = _same(spots, asked, [rows for _, rows in cut])
        last = cycle == len(ROUNDS) - 1
        done = adjust(joined(bundles, share_lens, same), STEPS, TO_THE_END if last else NEARLY).bundle
        for k, part in enumerate(parted(done, bundles, same)):
            problems[k].update(part, cut[k][1])
            if not last:
                problems[k], dropped[k] = find_outliers(problems[k], everyone[k])
    return [
        replace(one, problem=problem, freedom=freedom, dropped=drop)
        for one, problem, freedom, drop in zip(solved, problems, freedoms, dropped)
    ]


def _same(spots: Sequence[SameSpot], asked: list[Asked], rows: list[Rows]) -> list[SamePoint]:
    """Return the spots by rows of points of the bundles, those that two or more of them have."""
    at = []
    for one, cut in zip(asked, rows):
        point = {int(track): k for k, track in enumerate(one.tracks.ids)}
        rank = {int(p): n for n, p in enumerate(cut.points)}
        at.append({track: rank[k] for track, k in point.items() if k in rank})
    out = []
    for spot in spots:
        seen = tuple((k, at[k][track]) for k, track in spot.seen if track in at[k])
        if len(seen) > 1:
            out.append(SamePoint(seen))
    return out
