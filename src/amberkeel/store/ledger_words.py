"""What an attempt changed against the one that it came from, in words."""

from collections.abc import Mapping
from typing import Any

from amberkeel.store.models import Attempt

MOST_NAMED = 3
"""Constraints named at the most; more are counted."""

ASKED = {
    "camera_motion": "camera motion",
    "distortion": "distortion",
    "zoom": "zoom",
    "rows": "shutter",
    "lens": "lens values",
    "start": "starting frames",
    "within": "frames refined",
    "weights": "weights",
    "readout": "readout",
    "lens_held": "lens profile",
}
"""Members of a recipe that are compared as they are."""


def changes(attempt: Attempt, parent: Attempt | None) -> list[str]:
    """Return what is different from the parent: constraints, tracks, masks, lens, what was asked; empty without one."""
    if parent is None:
        return []
    return [
        *_constraints(attempt.recipe.get("evidence", []), parent.recipe.get("evidence", [])),
        *_tracks(attempt.snapshot["states"], parent.snapshot["states"]),
        *_stamps(attempt.snapshot, parent.snapshot),
        *(
            f"{words} {_said(attempt.recipe.get(key))}" + _was(parent.recipe.get(key))
            for key, words in ASKED.items()
            if (attempt.recipe.get(key) or None) != (parent.recipe.get(key) or None)
        ),
    ]


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, Mapping):
        said = {name: one["state"] if isinstance(one, Mapping) else f"×{one:g}" for name, one in value.items()}
        return ", ".join(f"{name} {words}" for name, words in said.items()) or "as usual"
    if isinstance(value, list):
        return "–".join(str(one) for one in value)
    return "as usual" if value is None else str(value)


def _was(value: Any) -> str:
    return f", was {_said(value)}" if value else ""


def _constraints(now: list[dict], before: list[dict]) -> list[str]:
    new, old = ({row["name"]: row for row in rows if row["on"]} for rows in (now, before))
    out = []
    for words, names in (
        ("with", [n for n in new if n not in old]),
        ("without", [n for n in old if n not in new]),
        ("changed", [n for n in new if n in old and new[n] != old[n]]),
    ):
        if names:
            more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
            out.append(f"{words} {', '.join(names[:MOST_NAMED])}{more}")
    return out


def _tracks(now: Mapping[str, str], before: Mapping[str, str]) -> list[str]:
    """Return how many tracks came, went, were excluded or taken in again; outliers that a solve found are its own."""
    came, gone = len(now.keys() - before.keys()), len(before.keys() - now.keys())
    out = [f"{came} new tracks"] if came else []
    out += [f"{gone} tracks gone"] if gone else []
    both = [(now[k], before[k]) for k in now.keys() & before.keys()]
    less = sum(a == "excluded" != b for a, b in both)
    more = sum(b == "excluded" != a for a, b in both)
    out += [f"{less} tracks fewer in use"] if less else []
    return out + ([f"{more} tracks more in use"] if more else [])


def _stamps(now: Mapping[str, Any], before: Mapping[str, Any]) -> list[str]:
    pairs = (("masks_stamp", "other masks"), ("lens_stamp", "another lens"))
    return [words for key, words in pairs if now.get(key) != before.get(key)]
