"""The masks stage's state."""

from amberkeel.store.stages.state import LOOK, SETTLED, UNTOUCHED, WORKING, Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    masks, proposals = facts.masks, facts.proposals
    if facts.running & {"propose", "carry", "learn", "matte"}:
        state = WORKING
    else:
        state = LOOK if proposals else SETTLED if masks else UNTOUCHED
    if proposals:
        return Stage("masks", "Masks", state, f"{proposals} to decide")
    return Stage("masks", "Masks", state, f"{masks} mask{'s' if masks > 1 else ''}" if masks else "none")
