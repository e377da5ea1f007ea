"""The handoff stage's state: settled once a package was made of what is pinned now."""

from amberkeel.core.handoff.formats import FORMATS
from amberkeel.store.stages.state import LOOK, SETTLED, UNTOUCHED, WORKING, Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    from amberkeel.store.handoff import gone_stale

    last = facts.package
    if last is None:
        fact = f"{len(FORMATS)} files ready" if facts.attempt else "nothing yet"
        state = WORKING if "package" in facts.running else LOOK if facts.look else UNTOUCHED
        return Stage("handoff", "Handoff", state, fact)
    behind = gone_stale(facts.session, last)
    state = WORKING if "package" in facts.running else LOOK if behind else SETTLED
    return Stage("handoff", "Handoff", state, f"v{last.version:03d} for {last.recipient}{', behind' if behind else ''}")
