"""The world stage's state."""

from amberkeel.store.stages.state import SETTLED, UNTOUCHED, WORKING, Facts, Stage


def placed_by_lines(datum: dict) -> bool:
    """Tell whether a shot's axis lines place its scene: a measured one does with a ground or a scale from tracks."""
    return bool((datum.get("axes") or {}).get("place")) and ("ground" in datum or "scale" in datum)


def _datum_parts(datum: dict) -> list[str]:
    """Return which of ground, origin and scale a shot's datum fixes: axis lines level it, and with a measured length
    they place it.
    """
    placed = placed_by_lines(datum)
    fixed = {
        "ground": "ground" in datum or bool(datum.get("axes")),
        "origin": "origin" in datum or placed,
        "scale": "scale" in datum or placed,
    }
    return [word for word, known in fixed.items() if known]


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    parts = _datum_parts(facts.shot.datum or {})
    state = SETTLED if len(parts) == 3 else WORKING if parts else UNTOUCHED
    return Stage("world", "World", state, ", ".join(parts) or "no datum")
