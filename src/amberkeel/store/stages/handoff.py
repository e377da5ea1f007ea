"""The handoff stage's state."""

from amberkeel.core.handoff.formats import FORMATS
from amberkeel.store.stages.state import LOOK, UNTOUCHED, Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    fact = f"{len(FORMATS)} files ready" if facts.attempt else "nothing yet"
    return Stage("handoff", "Handoff", LOOK if facts.look else UNTOUCHED, fact)
