"""The ties stage's state."""

from amberkeel.store.models import FilmSet
from amberkeel.store.stages.state import LOOK, SETTLED, UNTOUCHED, WORKING, Facts, Stage


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact: the set, and how far the shot's ties lie off it."""
    kept = facts.shot.ties or {}
    if {"align", "tie", "tiepictures"} & facts.running:
        return Stage("ties", "Ties", WORKING, "being tied")
    row = facts.session.get(FilmSet, kept["set"]) if kept.get("set") else None
    if row is None:
        return Stage("ties", "Ties", UNTOUCHED, "no set")
    aligned, count = kept.get("aligned"), len(kept.get("ties", {}))
    if aligned is None:
        own = row.reference_id == facts.shot.id
        return Stage("ties", "Ties", SETTLED if own else WORKING, "made the set" if own else f"{count} ties")
    current = facts.attempt is not None and aligned["attempt"] == facts.attempt.id and not row.removed
    state = SETTLED if current and aligned["version"] == row.version else LOOK
    return Stage("ties", "Ties", state, f"{count} ties, {figure(aligned['rms'], aligned['unit'])}")


def figure(length: float, unit: str) -> str:
    """Return a small length in words: millimetres where the unit is metres."""
    return f"{1000 * length:.1f} mm" if unit == "m" else f"{length:.2g} units"
