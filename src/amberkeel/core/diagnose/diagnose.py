"""All that can be said of a solve, worst first. A kind is a function in a file here and a line in `RULES`."""

from collections.abc import Callable

from amberkeel.core.diagnose import alone, depth, frames, model, movers, path, thin, tracks
from amberkeel.core.diagnose.evidence import Evidence, Measures
from amberkeel.core.diagnose.finding import SERIOUS, Finding
from amberkeel.core.solve.solution import Solution

Rule = Callable[[Evidence], list[Finding]]

RULES: tuple[Rule, ...] = (
    thin.findings, depth.findings, frames.findings, model.findings, movers.findings, tracks.findings,
    alone.findings,
)  # fmt: skip
"""What looks for findings, in no order: they are ranked by how serious and how sure they are."""

EXPLAIN_SPIKES = (frames.DOUBLED, frames.DROPPED, frames.LEAN, frames.BLUR, frames.FLASH, thin.FEW)
"""Kinds of findings on whose frames a spike of the path has their cause, and is not told again."""

NEAR = 2
"""Frames beside them on which that holds too."""


def diagnose(solution: Solution, measures: Measures | None = None) -> list[Finding]:
    """Return the findings on a solve, worst first.

    Parameters
    ----------
    solution : as the solve gives it, or as it is read back. measures : what was measured on the plate; None: nothing.
    """
    evidence = Evidence(solution, measures or Measures())
    found = [one for rule in RULES for one in rule(evidence)]
    if any(one.kind == depth.NO_PARALLAX and one.severity == SERIOUS for one in found):
        # The camera's place is a guess on every frame: nothing is told of how it goes.
        return sorted(found, key=lambda one: one.rank)
    explained = {
        f + k for one in found if one.kind in EXPLAIN_SPIKES for f in one.frames for k in range(-NEAR, NEAR + 1)
    }
    return sorted([*found, *path.findings(evidence, explained)], key=lambda one: one.rank)
