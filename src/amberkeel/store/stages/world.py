"""The world stage's state."""

from amberkeel.store.stages.state import SETTLED, UNTOUCHED, WORKING, Facts, Stage


def placed_by_lines(datum: dict) -> bool:
    """Tell whether a shot's axis lines place its scene: a measured one does with a ground or a scale from tracks."""
    return bool((datum.get("axes") or {}).get("place")) and (bool(datum.get("ground")) or _scaled(datum))


def _scaled(datum: dict) -> bool:
    """Tell whether a length that is placed gives the scale; one was once kept as `scale`."""
    lengths = datum.get("distances", [])
    placed = (
        one.get("tracks") or one.get("spots") or one.get("ends") or "height_on" in one
        for one in lengths
        if one.get("on", True)
    )
    return "scale" in datum or any(placed)


def _datum_parts(datum: dict) -> list[str]:
    """Return which of ground, origin and scale a shot's datum fixes: axis lines level it, and with a measured length
    they place it; so does what is set by hand.
    """
    placed = placed_by_lines(datum)
    hand, ways = bool(datum.get("hand")), datum.get("directions", [])
    level = any(one["axis"][-1] == "y" for one in ways) or len(ways) == 2
    fixed = {
        "ground": bool(datum.get("ground") or datum.get("axes") or level or hand),
        "origin": bool(datum.get("origin") or datum.get("spot")) or placed or hand,
        "scale": _scaled(datum) or placed,
    }
    return [word for word, known in fixed.items() if known]


def stage(facts: Facts) -> Stage:
    """Return the stage with its fact."""
    parts = _datum_parts(facts.shot.datum or {})
    state = SETTLED if len(parts) == 3 else WORKING if parts else UNTOUCHED
    return Stage("world", "World", state, ", ".join(parts) or "no datum")
