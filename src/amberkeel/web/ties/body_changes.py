"""What may become of a shot's bodies: made of masks or tracks, named, their size told, their tracks taken out, proxies
put on them.
"""

import secrets

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.ties.bodies.body import Body as PlacedBody
from amberkeel.core.ties.bodies.body_file import typed_size
from amberkeel.core.ties.bodies.proxies import body_proxy
from amberkeel.store.bodies import own_body, placed
from amberkeel.store.masks import own_mask
from amberkeel.store.models import Shot
from amberkeel.store.ties import document_of_set, set_row
from amberkeel.store.tracks import live_tracks
from amberkeel.web.common import media
from amberkeel.web.sent import Body, Flag, Whole, Word

LEAST_TRACKS = 8
"""Tracks of the shot that a body is made of, at the least."""

MOST_PROXIES = 30
"""Proxies of a body at the most."""


class Change(Body):
    """What becomes of a body: added of a `mask` or of `tracks` of the shot, called `name`, its `size` told as on the
    command line (nothing where it is guessed; a place may be the name of a point of the set), its origin at a track
    (`name`), its axes the world's on a `frame`, its `attempt` another one, its probe box shown (`on`), tracks (`names`)
    taken out of its solve or let in (`on`), a proxy of a `kind` put through them, a `proxy` taken away, or removed.
    """

    what: Word
    key: Word = ""
    mask: Whole | None = None
    tracks: list[Whole] = []
    names: list[Word] = []
    kind: Word = ""
    proxy: Word = ""
    name: Word = ""
    size: Word = ""
    frame: Whole | None = None
    attempt: Whole | None = None
    on: Flag = True


def _add(opened, shot: Shot, asked: Change) -> dict:
    if asked.tracks:
        return _add_of_tracks(opened, shot, asked)
    mask = own_mask(opened, shot.id, asked.need("mask"))
    name = asked.name.strip()[:80] or mask.name
    made = {"name": name, "mask": mask.id, "size": None, "solved": None}
    return {"bodies": {secrets.token_hex(4): made}, "label": f"Make {name} a body"}


def _add_of_tracks(opened, shot: Shot, asked: Change) -> dict:
    """Make a body of tracks that the shot has."""
    own = {row.id for row in live_tracks(opened, shot)}
    chosen = sorted(own.intersection(asked.tracks))
    if len(chosen) < LEAST_TRACKS:
        raise TieError(
            f"A body takes {LEAST_TRACKS} tracks or more, {len(chosen)} are selected.",
            "Select what moves as one piece.",
        )
    taken = {one["name"] for one in (shot.bodies or {}).values()}
    name = asked.name.strip()[:80] or next(f"Body {n}" for n in range(1, 99) if f"Body {n}" not in taken)
    made = {"name": name, "mask": None, "chosen": chosen, "size": None, "solved": None}
    return {"bodies": {secrets.token_hex(4): made}, "label": f"Make {name} of {len(chosen)} tracks"}


def _serve(opened, shot: Shot, asked: Change) -> dict:
    """Take tracks out of a body's solve, or let them in again."""
    kept = own_body(shot, asked.key)
    if not asked.names:
        raise TieError("No track of the body is picked.", "Click one in its list, or its points on the plate.")
    out = set(kept.get("out", [])) - set(asked.names) if asked.on else {*kept.get("out", []), *asked.names}
    what = f"{len(asked.names)} tracks" if len(asked.names) > 1 else asked.names[0]
    label = f"{kept['name']}: {what} {'serve again' if asked.on else 'taken out'}"
    return {"bodies": {asked.key: {**kept, "out": sorted(out)}}, "label": label}


def _proxy(opened, shot: Shot, asked: Change) -> dict:
    """Put a proxy through points of a body."""
    kept = own_body(shot, asked.key)
    proxies = kept.get("proxies") or {}
    if len(proxies) >= MOST_PROXIES:
        raise TieError(f"{kept['name']} has {MOST_PROXIES} proxies already.", "Take one away first.")
    names = [one["name"] for one in proxies.values()]
    called = next(n for k in range(1, MOST_PROXIES + 2) if (n := f"{asked.kind.title()} {k}") not in names)
    found = placed(opened, media(), shot, asked.key)
    at = dict(zip(found.solution.tracks.names, found.solution.tracks.ids.tolist()))
    rows = np.isin(found.body.ids, [at.get(name, -1) for name in asked.names])
    body_proxy(asked.kind, found.body.points[rows])
    made = {"kind": asked.kind, "name": called, "points": asked.names}
    changed = {**kept, "proxies": {**proxies, secrets.token_hex(3): made}}
    return {"bodies": {asked.key: changed}, "label": f"{kept['name']}: {called}"}


def _without_proxy(opened, shot: Shot, asked: Change) -> dict:
    kept = own_body(shot, asked.key)
    proxies = dict(kept.get("proxies") or {})
    gone = proxies.pop(asked.proxy, None)
    if gone is None:
        raise TieError("That proxy is gone.")
    return {"bodies": {asked.key: {**kept, "proxies": proxies}}, "label": f"{kept['name']}: delete {gone['name']}"}


def _name(opened, shot: Shot, asked: Change) -> dict:
    kept, name = own_body(shot, asked.key), asked.name.strip()[:80]
    if not name:
        raise TieError("A body needs a name.")
    return {"bodies": {asked.key: {**kept, "name": name}}, "label": f"Call it {name}"}


def _size(opened, shot: Shot, asked: Change) -> dict:
    """Tell a body's size, after trying it."""
    kept, order = own_body(shot, asked.key), typed_size(_with_place(opened, shot, asked.size.strip()) or None)
    size = {"kind": order.kind, "words": list(order.words)} if order.kind else None
    told = _tried(opened, shot, asked.key, {**kept, "size": size}).size.told
    label = f"{kept['name']}: size by {told}" if told else f"{kept['name']}: size untold"
    return {"bodies": {asked.key: {**kept, "size": size}}, "label": label[:200]}


def _with_place(opened, shot: Shot, text: str) -> str:
    """Return what was typed of a size with the coordinates of a point of the set in place of its name."""
    kind, _, rest = text.partition("=")
    words = rest.split(",")
    if kind != "tie" or len(words) != 3:
        return text
    row = set_row(opened, shot)
    point = document_of_set(row).point(words[2].strip())
    if point is None:
        raise TieError(f"{row.name} has no point “{words[2].strip()}”.", "Type x, y, z, or a point that is listed.")
    return f"tie={words[0]},{words[1]},{','.join(f'{v!r}' for v in point.xyz)}"


def _tried(opened, shot: Shot, key: str, changed: dict) -> PlacedBody:
    """Return a body in the world as it would be; raises TieError where that cannot be."""
    before, shot.bodies = shot.bodies, {**shot.bodies, key: changed}
    try:
        return placed(opened, media(), shot, key).body
    finally:
        shot.bodies = before


def _axes(opened, shot: Shot, asked: Change) -> dict:
    """Set where a body's origin is, and on which frame its axes are the world's."""
    kept = own_body(shot, asked.key)
    axes = dict(kept.get("axes") or {})
    if asked.name:
        axes["origin"] = asked.name
    if asked.frame is not None:
        axes["frame"] = asked.frame
    if not asked.name and asked.frame is None:
        axes = {}
    made = {**kept, "axes": axes}
    _tried(opened, shot, asked.key, made)
    what = f"origin at {asked.name}" if asked.name else f"axes of frame {asked.frame}" if axes else "its own axes"
    return {"bodies": {asked.key: made}, "label": f"{kept['name']}: {what}"}


def _attempt(opened, shot: Shot, asked: Change) -> dict:
    """Use another of a body's solves."""
    kept = own_body(shot, asked.key)
    made, at = kept.get("attempts", []), asked.need("attempt")
    if not 0 <= at < len(made):
        raise TieError(f"{kept['name']} has no such attempt.")
    return {"bodies": {asked.key: {**kept, "solved": made[at]}}, "label": f"{kept['name']}: attempt {at + 1}"}


def _probe(opened, shot: Shot, asked: Change) -> dict:
    kept = own_body(shot, asked.key)
    label = f"{'Put a probe box on' if asked.on else 'Take the probe box off'} {kept['name']}"
    return {"bodies": {asked.key: {**kept, "probe": asked.on}}, "label": label}


def _remove(opened, shot: Shot, asked: Change) -> dict:
    return {"bodies": {asked.key: None}, "label": f"Delete the body {own_body(shot, asked.key)['name']}"}


PARTS = {
    "add": _add, "name": _name, "size": _size, "axes": _axes, "attempt": _attempt, "probe": _probe, "remove": _remove,
    "serve": _serve, "proxy": _proxy, "no proxy": _without_proxy,
}  # fmt: skip
"""A part is a function that returns the edit that it makes, and a line here."""
