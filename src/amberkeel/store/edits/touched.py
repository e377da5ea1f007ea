"""What an edit touches, so that two people who change different things of a shot are not in each other's way."""

from collections.abc import Callable, Iterable

ALL = ("all",)
"""Stands for everything: an edit that touches it agrees with no other."""

Touched = frozenset[tuple]


def _tracks(ids: Iterable) -> Touched:
    return frozenset(("track", int(one)) for one in ids)


def _states(payload: dict) -> Touched:
    return _tracks(one for ids in payload["states"].values() for one in ids)


def _removed(payload: dict) -> Touched:
    return _tracks([*payload.get("remove", []), *payload.get("bring", [])])


def _samples(payload: dict) -> Touched:
    changed = [one for part in ("put", "drop", "keys", "values") for one in payload.get(part, {})]
    groups = {("groups",)} if "groups" in payload else set()
    return _tracks(changed) | _removed(payload) | groups


def _datum(payload: dict) -> Touched:
    return frozenset({("datum",), ("scene",)} if "scene" in payload else {("datum",)})


def _masks(payload: dict) -> Touched:
    masks = [one for part in ("remove", "bring", "lit", "off") for one in payload.get(part, [])]
    return frozenset(("mask", int(one)) for one in masks) | {("proposal", int(p)) for p in payload.get("proposals", {})}


_FINE: dict[str, Callable[[dict], Touched]] = {
    "states": _states,
    "tracks": _removed,
    "samples": _samples,
    "mask": lambda payload: frozenset({("mask", int(payload["id"]))}),
    "masks": _masks,
    "datum": _datum,
    "attempt": lambda payload: frozenset({("attempt", int(payload["attempt"]))}),
}

_WHOLE = ("copy", "named", "pin", "lens", "constraints", "scene")
"""Kinds that touch one thing, which bears their name."""


def touched(kind: str, payload: dict) -> Touched:
    """Return what an edit of a kind touches; for kinds that are not known to be narrow, everything."""
    if kind in _FINE:
        return _FINE[kind](payload)
    return frozenset({(kind,)}) if kind in _WHOLE else frozenset({ALL})


def agree(one: Touched, other: Touched) -> bool:
    """Return whether two edits can be made in either order."""
    return not (one & other) and ALL not in one and ALL not in other
