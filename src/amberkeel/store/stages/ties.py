"""The ties stage's state."""

from amberkeel.store.stages.state import UNTOUCHED, Facts, Stage


def stage(_facts: Facts) -> Stage:
    """Return the stage, whose tools do not exist yet."""
    return Stage("ties", "Ties", UNTOUCHED, "none", False)
