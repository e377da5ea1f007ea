"""The sentences of which camera was chosen, and why."""

from collections.abc import Mapping, Sequence
from typing import Any

from amberkeel.core.solve.motions import FREE, LOCKED, NODAL, PLANE, SWING, Rival

WHAT = {
    NODAL: "turning alone",
    SWING: "turning about a pivot off the entrance pupil",
    FREE: "a camera that moves freely",
    PLANE: "a camera that moves before one plane",
}
"""Each explanation as a noun."""

CHOSEN = {
    NODAL: "The camera only turns",
    SWING: "The camera turns about a pivot off its entrance pupil",
    FREE: "The camera moves",
    PLANE: "The camera moves before a single plane",
}


def camera_sentence(motion: str, rivals: Sequence[Rival]) -> str:
    """Return which camera was chosen and what its rivals leave, or "" where nothing was compared."""
    if motion == LOCKED:
        return "The camera is locked off: nothing moves, so points are directions and the lens is as it was given."
    own = next((rival for rival in rivals if rival.motion == motion), None)
    if own is None:
        return ""
    text = f"{CHOSEN[motion]}: {WHAT[motion]} explains {100 * own.explained:.0f} % of the measurements to {_px(own)}."
    for other in rivals:
        if other.motion == motion:
            continue
        if other.unknowns > own.unknowns:
            gain = max(own.rms_px - other.rms_px, 0.0)
            spent = other.unknowns - own.unknowns
            text += f" {WHAT[other.motion].capitalize()} gains {gain:.3f} px for {spent} more unknowns: not worth it."
        else:
            text += f" {WHAT[other.motion].capitalize()} leaves {_px(other)}"
            spared = own.unknowns - other.unknowns
            text += f" with {spared} fewer unknowns: the better explanation." if other.score < own.score else "."
    return text


def begun_sentence(begun: Mapping[str, Any] | None) -> str:
    """Return from which frames a solve began, and why those, as `BegunDocument` has it; "" for none."""
    if not begun:
        return ""
    return (
        f"Begun at frames {begun['first']} and {begun['last']}: {begun['parallax_px']:.1f} px of parallax beyond a "
        f"homography and {begun['travel_px']:.0f} px of travel over {begun['tracks']} common tracks."
    )


def standing_sentence(stretches: Sequence[Sequence[int]]) -> str:
    """Return where a moving camera stands still, or "" where it never does."""
    said = ", ".join(f"{first}–{last}" for first, last in stretches)
    return f"The camera stands still and only turns on frames {said}; it is held at one spot there." if said else ""


def _px(rival: Rival) -> str:
    return f"{rival.rms_px:.3f} px"
