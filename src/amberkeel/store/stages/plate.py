"""The plate stage's state."""

from amberkeel.store.stages.state import Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    plate = facts.shot.plate
    state = facts.state("ingest", bool(plate and plate.ready))
    return Stage("plate", "Plate", state, f"{plate.count} frames" if plate else "no plate")
