"""The whole loop by itself: findings, their remedies tried one after the other, what helps kept.

Each remedy is tried on the best attempt so far and judged by `compare`; only what is better there is kept, so a chain
of trials that merely lower a number leads nowhere.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.evidence import Measures
from amberkeel.core.diagnose.finding import Finding, Remedy
from amberkeel.core.errors import Cancelled, KeelError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.repair.compare import BETTER, Comparison, compare
from amberkeel.core.repair.remedies import Ground, carry_out
from amberkeel.core.solve.solution import Solution

EFFORTS = {"quick": 3, "usual": 6, "thorough": 14}
"""Remedies that are tried at the most."""

BY_HAND = ("bridge", "smooth", "down-weight", "release", "limit", "limit-down")
"""Remedies that give up evidence or change what was filmed: for a person to choose."""

ORDER = (
    "motion", "focal", "distortion", "zoom", "rows", "centre", "through-blur", "again", "cut", "exclude", "add",
)  # fmt: skip
"""What is tried before what: the camera's model first, since a wrong one makes all else look wrong."""

ALWAYS = (
    Remedy("through-blur", "Measure blurred frames anew"),
    Remedy("add", "Follow more features"),
)
"""What is tried even where no finding asks for it, if the plate is at hand."""


@dataclass(frozen=True)
class Trial:
    """A remedy that was tried: what it was for, what came of it, and whether it was kept; `failed` says why nothing
    came of it.
    """

    remedy: Remedy
    finding: str
    comparison: Comparison | None = None
    kept: bool = False
    failed: str = ""


@dataclass(frozen=True)
class Improved:
    """What the loop came to: the best attempt, all trials in order, and the findings that are left, worst first."""

    solution: Solution
    trials: tuple[Trial, ...]
    findings: tuple[Finding, ...]


def improve(
    ground: Ground,
    effort: str = "usual",
    measures: Measures | None = None,
    progress: Progress = silent,
    told: Callable[[Trial, Solution], None] | None = None,
) -> Improved:
    """Try remedies on a solution and keep those that make the camera better.

    Parameters
    ----------
    ground : the solution and what can be worked on. effort : one of `EFFORTS`. measures : of the plate. progress : the
        share done. told : called after each trial with it and the best attempt so far.

    Raises
    ------
    KeelError : there is no such effort.
    """
    check_effort(effort)
    trials: list[Trial] = []
    most, done = EFFORTS[effort], set()
    found = diagnose(ground.solution, measures)
    while len(trials) < most:
        ahead = [one for one in _candidates(ground, found) if _key(one[0]) not in done]
        if not ahead:
            break
        remedy, why = ahead[0]
        done.add(_key(remedy))
        step = span(progress, len(trials) / most, (len(trials) + 1) / most)
        trial, ground = _tried(ground, remedy, why, step)
        trials.append(trial)
        if told:
            told(trial, ground.solution)
        if trial.kept:
            found = diagnose(ground.solution, measures)
    return Improved(ground.solution, tuple(trials), tuple(found))


def check_effort(effort: str) -> None:
    """Raise KeelError when there is no such effort."""
    if effort not in EFFORTS:
        raise KeelError(f"There is no effort “{effort}”.", f"Choose {', '.join(EFFORTS)}.")


def _tried(ground: Ground, remedy: Remedy, why: str, progress: Progress) -> tuple[Trial, Ground]:
    """Return the trial of a remedy, and the ground that is better after it."""
    try:
        outcome = carry_out(ground, remedy, progress)
    except Cancelled:
        raise
    except KeelError as error:
        return Trial(remedy, why, failed=str(error)), ground
    comparison = compare(ground.solution, outcome.solution, outcome.proof)
    kept = comparison.verdict == BETTER
    return Trial(remedy, why, comparison, kept), replace(ground, solution=outcome.solution) if kept else ground


def _candidates(ground: Ground, found: list[Finding]) -> list[tuple[Remedy, str]]:
    """Return what could be tried, with the finding that it is for, in the order in which it is: what several findings
    would cut, or would exclude, in one.
    """
    wanted = [(remedy, one.text) for one in found for remedy in one.remedies if remedy.code in ORDER]
    for code in ("cut", "exclude"):
        own = [one for one in wanted if one[0].code == code]
        if len(own) > 1:
            wanted = [one for one in wanted if one[0].code != code] + [(_merged([r for r, _ in own]), own[0][1])]
    if ground.plate is not None:
        wanted += [(remedy, "") for remedy in ALWAYS]
    return sorted(wanted, key=lambda one: ORDER.index(one[0].code))


def _merged(remedies: list[Remedy]) -> Remedy:
    """Return remedies of one code as one; a track of which a stretch could be cut is not excluded for it too."""
    tracks = tuple(sorted({track for one in remedies for track in one.tracks}))
    cuts = tuple(sorted({cut for one in remedies for cut in one.cuts}))
    verb = "Cut what is wrong of" if cuts else "Exclude"
    return replace(remedies[0], words=f"{verb} {len(tracks)} tracks", tracks=tracks, cuts=cuts)


def _key(remedy: Remedy) -> tuple:
    """Return what tells a remedy from others: measuring through blur and adding features are whole by themselves."""
    if remedy.code in ("through-blur", "add"):
        return (remedy.code,)
    return remedy.code, remedy.word, remedy.tracks, remedy.cuts, remedy.frames
