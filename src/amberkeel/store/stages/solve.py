"""The solve stage's state."""

from amberkeel.store.stages.state import Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    figures = facts.attempt.figures if facts.attempt else None
    state = facts.state("solve", figures is not None, facts.look)
    return Stage("solve", "Solve", state, f"{figures['rms_px']:.2f} px RMS" if figures else "not solved")
