"""The scene's coordinates: ground, origin, heading, scale and what is set by hand, each change one edit."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from flask import request
from scipy.spatial.transform import Rotation
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.units import maybe_number, typed_length, typed_number
from amberkeel.core.world.datum import AXES
from amberkeel.core.world.planes import fit_plane
from amberkeel.core.world.probe import card_outlines
from amberkeel.core.world.solids import degrees_of, turned_by
from amberkeel.core.world.statement import read_statement, statement_document
from amberkeel.core.world.survey import MOST_BYTES, read_survey
from amberkeel.store.models import Attempt, Shot, Track
from amberkeel.store.scene import proxies_of, scene_carried, solid_in
from amberkeel.store.stages import placed_by_lines
from amberkeel.store.tracks import some_tracks
from amberkeel.store.world import datum_where_found, found_of
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.sent import Body, Number, Whole, Word, sent
from amberkeel.web.state import edited
from amberkeel.web.world.blueprint import blueprint

MOST_DEGREES, MOST_MOVE = 3600.0, 1e6


class DatumPart(Body):
    """A part of the datum, from selected tracks, a spot of the plate, or typed figures; what is said depends on what
    part.
    """

    what: Word = ""
    tracks: list[Whole] = []
    frame: Whole = 0
    x: Number = 0.0
    y: Number = 0.0
    axis: Word = ""
    distance: Word = ""
    unit: Word = "m"
    sigma: Word = ""
    name: Word = ""
    number: Whole | None = None
    turn: list[Word] = []
    move: list[Word] = []
    scale: Word = ""
    degrees: Word = ""
    shot: Whole = 0


class Change(NamedTuple):
    """What a part does to the datum as it is kept, and the edit's label."""

    datum: dict
    label: str


@blueprint.post("/shots/<int:number>/datum")
def datum(number: int):
    """Set a part of the datum, after trying it on the pinned attempt."""
    asked = sent(DatumPart)
    if asked.what not in PARTS:
        raise KeelError(f"There is no part “{asked.what}” of the datum.")
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        if row is None:
            raise KeelError("There is no pinned attempt.", "Solve first; the datum is set on solved points.")
        if asked.tracks and len(some_tracks(opened, shot, asked.tracks)) != len(set(asked.tracks)):
            raise KeelError("One of these tracks is gone, or another shot's.", "Select them again.")
        kept = statement_document(read_statement(shot.datum or {}))
        change = PARTS[asked.what](kept, asked, opened, shot)
        tidy = statement_document(read_statement(change.datum))
        return edited(opened, number, "datum", _tried(opened, shot, row, tidy, change.label), asked.revision)


def _tried(opened, shot: Shot, row: Attempt, tidy: dict, label: str) -> dict:
    """Return the edit that makes another datum, tried on an attempt first; what stands in the scene stays where it is
    in the picture.
    """
    earlier, _ = datum_where_found(opened, media(), shot, row)
    before, shot.datum = shot.datum, tidy
    later = found_of(opened, media(), shot, row).datum
    shot.datum = before
    payload = {"datum": tidy, "label": label}
    things = (shot.scene or {}).get("proxies") or (shot.scene or {}).get("probes")
    return payload | {"scene": scene_carried(shot, later.after(earlier))} if things else payload


@blueprint.post("/shots/<int:number>/survey")
def survey(number: int):
    """Add the lengths of a sheet (CSV) to the datum; those whose tracks are not named wait for them."""
    file = request.files.get("file")
    if file is None:
        raise KeelError("There is no file.", "Choose a sheet of lengths (CSV).")
    try:
        text = file.read(MOST_BYTES + 1).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise KeelError("This file is no text.", "Send a table as CSV, in UTF-8.") from error
    rows = read_survey(text, request.form.get("unit", "m"))
    with open_session() as opened:
        shot = get_shot(opened, number)
        ids = dict(opened.execute(select(Track.name, Track.id).where(Track.shot_id == shot.id, ~Track.removed)).all())
        kept = statement_document(read_statement(shot.datum or {}))
        added = []
        for one in rows:
            ends = [ids.get(name) for name in one.tracks]
            ends = [end for end in ends if end is not None] if None not in ends else []
            added.append(one.model_copy(update={"tracks": ends}).model_dump(exclude_defaults=True, mode="json"))
        kept["distances"] = [*kept.get("distances", []), *added]
        tidy = statement_document(read_statement(kept))
        label = f"{len(rows)} length{'s' if len(rows) > 1 else ''} from a survey sheet"
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        payload = _tried(opened, shot, row, tidy, label) if row else {"datum": tidy, "label": label}
        return edited(opened, number, "datum", payload, request.form.get("revision", type=int))


def _ground(kept: dict, asked: DatumPart, *_) -> Change:
    ids = asked.tracks
    if len(ids) < 3:
        raise KeelError("A ground needs three tracks or more.", "Select them on the plate or in the list.")
    kept["directions"] = [d for d in kept.get("directions", []) if d["axis"][-1] != "y"]
    return Change({**kept, "ground": ids}, f"Ground from {len(ids)} tracks")


def _under(kept: dict, asked: DatumPart, *rest) -> Change:
    """The ground as it was shown under the pointer, with the origin there."""
    datum, label = _ground(kept, asked, *rest)
    datum.pop("origin", None)
    spot = {"frame": asked.frame, "xy": [asked.x, asked.y]}
    return Change({**datum, "spot": spot, "flip": False}, f"{label}, and the origin on it")


def _unground(kept: dict, asked: DatumPart, *_) -> Change:
    """The ground without some of its points, or none."""
    left = [t for t in kept.get("ground", []) if asked.tracks and t not in asked.tracks]
    if asked.tracks and len(left) < 3:
        raise KeelError("A ground needs three tracks or more.", "Take another point before you let go of this one.")
    return Change({**kept, "ground": left}, "Ground without some points" if left else "No ground")


def _exchange(kept: dict, asked: DatumPart, *_) -> Change:
    """Another track in the place of one that was chosen."""
    if len(asked.tracks) != 2:
        raise KeelError("Select the one track that comes in its place.")
    old, new = asked.tracks

    def put(tracks: list) -> list:
        return [new if t == old else t for t in tracks]

    for name in ("ground", "origin"):
        kept[name] = put(kept.get(name, []))
    for name in ("directions", "distances"):
        kept[name] = [{**one, "tracks": put(one.get("tracks", []))} for one in kept.get(name, [])]
    return Change(kept, "Another track in the datum")


def _origin(kept: dict, asked: DatumPart, *_) -> Change:
    ids = asked.tracks
    if not ids:
        raise KeelError("The origin is a track, or the middle of several.", "Select them.")
    kept.pop("spot", None)
    return Change({**kept, "origin": ids}, "Origin from a track" if len(ids) == 1 else f"Origin amid {len(ids)} tracks")


def _spot(kept: dict, asked: DatumPart, *_) -> Change:
    kept.pop("origin", None)
    return Change({**kept, "spot": {"frame": asked.frame, "xy": [asked.x, asked.y]}}, "Origin at a spot of the ground")


def _no_origin(kept: dict, *_) -> Change:
    kept.pop("origin", None)
    kept.pop("spot", None)
    return Change(kept, "No origin")


def _direction(kept: dict, asked: DatumPart, *_) -> Change:
    if len(asked.tracks) != 2 or len(set(asked.tracks)) != 2:
        raise KeelError("A heading runs from one track to another.", "Select two.")
    if asked.axis not in AXES:
        raise KeelError(f"“{asked.axis}” is no axis of the world.")
    if asked.axis[-1] == "y" and kept.get("ground"):
        raise KeelError("The ground already says where up is.", "Let go of the ground first.")
    others = [d for d in kept.get("directions", []) if d["axis"][-1] != asked.axis[-1]]
    own = {"tracks": asked.tracks, "axis": asked.axis}
    return Change({**kept, "directions": [*others[-1:], own]}, f"{asked.axis.upper()} from one track to another")


def _swap(kept: dict, asked: DatumPart, *_) -> Change:
    own = _numbered(kept, "directions", asked)
    kept["directions"][asked.number] = {**own, "tracks": own["tracks"][::-1]}
    return Change(kept, "Turn the heading round")


def _undirect(kept: dict, asked: DatumPart, *_) -> Change:
    _numbered(kept, "directions", asked)
    del kept["directions"][asked.number]
    return Change(kept, "One heading less")


def _numbered(kept: dict, name: str, asked: DatumPart) -> dict:
    rows = kept.get(name, [])
    if asked.number is None or not 0 <= asked.number < len(rows):
        raise KeelError("That part of the datum is gone.", "The page shows the newest state now.")
    return rows[asked.number]


def _distance(kept: dict, asked: DatumPart, *_) -> Change:
    """A measured length: of two tracks, or the camera's height on a frame."""
    height = asked.axis == "height"
    if not height and len(asked.tracks) != 2:
        raise KeelError("A scale needs two tracks.", "Select the two whose distance was measured.")
    metres = typed_length(asked.distance, "The distance", asked.unit)
    sigma = typed_length(asked.sigma, "The sigma", asked.unit) if asked.sigma.strip() else None
    between = {"height_on": asked.frame} if height else {"tracks": asked.tracks}
    words = asked.distance.strip() if not _plain(asked.distance) else f"{asked.distance.strip()} {asked.unit}"
    own = {"metres": metres, "sigma": sigma, "name": asked.name[:100], "typed": asked.distance.strip()[:60]}
    own |= {"unit": asked.unit, **between}
    return Change({**kept, "distances": [*kept.get("distances", []), own]}, f"Scale: {words}")


def _plain(text: str) -> bool:
    return text.strip().replace(",", "").replace(".", "").isdigit()


def _change_distance(kept: dict, asked: DatumPart, *_) -> Change:
    """Switch a length on or off, or say between which tracks it was measured."""
    own = _numbered(kept, "distances", asked)
    if asked.tracks:
        if len(asked.tracks) != 2:
            raise KeelError("A scale needs two tracks.", "Select the two whose distance was measured.")
        change, words = {"tracks": asked.tracks, "on": True}, "Place a measured length"
    else:
        change = {"on": not own.get("on", True)}
        words = "Use a measured length" if change["on"] else "Leave a measured length out"
    kept["distances"][asked.number] = {**own, **change}
    return Change(kept, words)


def _drop_distance(kept: dict, asked: DatumPart, *_) -> Change:
    _numbered(kept, "distances", asked)
    del kept["distances"][asked.number]
    return Change(kept, "One measured length less")


def _hand(kept: dict, asked: DatumPart, *_) -> Change:
    """What is set by hand, as typed."""
    if len(asked.turn) != 3 or len(asked.move) != 3:
        raise KeelError("By hand takes three angles and three lengths.")
    turn = [maybe_number(v, f"Turn {a}", -MOST_DEGREES, MOST_DEGREES) or 0.0 for a, v in zip("XYZ", asked.turn)]
    move = [maybe_number(v, f"Move {a}", -MOST_MOVE, MOST_MOVE) or 0.0 for a, v in zip("XYZ", asked.move)]
    scale = maybe_number(asked.scale, "Scale", 1e-6, 1e6) or 1.0
    if scale == 1.0 and not any(turn) and not any(move):
        kept.pop("hand", None)
        return Change(kept, "Nothing by hand")
    return Change({**kept, "hand": {"turn": turn, "scale": scale, "move": move}}, "Set the scene by hand")


def _nudge(kept: dict, asked: DatumPart, *_) -> Change:
    """A turn about an axis of the present world, a move in it, or a scale, on top of what was set by hand."""
    if asked.axis in ("x", "y", "z"):
        degrees = typed_number(asked.degrees, "The angle", -MOST_DEGREES, MOST_DEGREES)
        more = Rotation.from_euler(asked.axis, degrees, degrees=True)
        words = f"Turn the scene {degrees:g}° about {asked.axis.upper()}"
        return _turned_more(kept, more, 1.0, [0.0, 0.0, 0.0], words)
    if asked.scale.strip():
        gain = typed_number(asked.scale, "Scale", 1e-6, 1e6)
        return _turned_more(kept, Rotation.identity(), gain, [0.0, 0.0, 0.0], f"Scale the scene by {gain:g}")
    by = [maybe_number(v, "The move", -MOST_MOVE, MOST_MOVE) or 0.0 for v in [*asked.move, "", "", ""][:3]]
    return _turned_more(kept, Rotation.identity(), 1.0, by, "Move the scene")


def _proxy(kept: dict, asked: DatumPart, _opened, shot: Shot) -> Change:
    """The plane of a proxy, or the best one through a mesh, becomes the ground: what was set by hand turns with it."""
    thing = proxies_of(shot).get(asked.name)
    if thing is None:
        raise KeelError("That proxy is no longer in the scene.")
    solid = solid_in(media(), thing)
    plane = fit_plane(solid.vertices) if thing.kind == "mesh" else None
    own = turned_by(thing.turn)[:, 2 if thing.kind == "wall" else 1]
    normal, on = (own, np.array(thing.position)) if plane is None else (plane.normal, plane.centre)
    normal = normal if normal[1] >= 0.0 else -normal
    turn, _ = Rotation.align_vectors([[0.0, 1.0, 0.0]], [normal])
    datum, _ = _turned_more(kept, turn, 1.0, [0.0, -float(turn.apply(on)[1]), 0.0], "")
    return Change(datum, f"Ground from {thing.name}")


def _turned_more(kept: dict, more: Rotation, gain: float, move, words: str) -> Change:
    """Turn, scale and move the present world, on top of what was set by hand."""
    old = {"turn": [0.0, 0.0, 0.0], "scale": 1.0, "move": [0.0, 0.0, 0.0], **(kept.get("hand") or {})}
    turn = more * Rotation.from_euler("xyz", old["turn"], degrees=True)
    moved = gain * more.apply(np.array(old["move"])) + np.array(move)
    hand = {"turn": degrees_of(turn.as_matrix()), "scale": gain * old["scale"], "move": moved.round(9).tolist()}
    if np.allclose(hand["turn"] + hand["move"], 0.0, atol=1e-9) and abs(hand["scale"] - 1.0) < 1e-12:
        return Change({name: part for name, part in kept.items() if name != "hand"}, words)
    return Change({**kept, "hand": hand}, words)


def _flip(kept: dict, *_) -> Change:
    return Change({**kept, "flip": not kept.get("flip", False)}, "Turn the scene the other way up")


def _copy(kept: dict, asked: DatumPart, opened, shot: Shot) -> Change:
    """Another shot's datum, its tracks found by name."""
    other = get_shot(opened, asked.shot)
    if other.production_id != shot.production_id or other.id == shot.id:
        raise KeelError("That shot is not another one of this production.")
    theirs = dict(opened.execute(select(Track.id, Track.name).where(Track.shot_id == other.id)).all())
    own = dict(opened.execute(select(Track.name, Track.id).where(Track.shot_id == shot.id, ~Track.removed)).all())

    def here(tracks: list) -> list:
        return [own[theirs[t]] for t in tracks if theirs.get(t) in own]

    datum = statement_document(read_statement(other.datum or {}))
    if not datum:
        raise KeelError(f"{other.name} has no datum.")
    for name in ("ground", "origin"):
        datum[name] = here(datum.get(name, []))
    for name in ("directions", "distances"):
        rows = [{**one, "tracks": here(one.get("tracks", []))} for one in datum.get(name, [])]
        datum[name] = [one for one in rows if len(one["tracks"]) == 2 or name == "distances"]
    datum["ground"] = datum["ground"] if len(datum["ground"]) >= 3 else []
    # Spots and drawn lines are those of the other picture.
    for name in ("spot", "axes"):
        datum.pop(name, None)
    if kept.get("axes"):
        datum["axes"] = kept["axes"]
    if not any(datum.get(name) for name in ("ground", "origin", "directions")):
        raise KeelError(f"No track of {other.name}'s datum bears the name of one here.", "Give them the same names.")
    return Change(datum, f"Datum from {other.name}")


def _clear(kept: dict, *_) -> Change:
    return Change({}, "Clear the datum")


PARTS: dict[str, Callable[..., Change]] = {
    "ground": _ground, "under": _under, "unground": _unground, "exchange": _exchange, "origin": _origin,
    "spot": _spot, "no-origin": _no_origin, "direction": _direction, "swap": _swap, "undirect": _undirect,
    "distance": _distance, "change-distance": _change_distance, "drop-distance": _drop_distance, "hand": _hand,
    "nudge": _nudge, "proxy": _proxy, "flip": _flip, "copy": _copy, "clear": _clear,
}  # fmt: skip
"""A part is a function that changes what is kept, and a line here."""


def card(shot: Shot, world: dict, frames: range) -> list | None:
    """Return the checker card's outlines for each frame of the plate, for a shot whose ground is known: from tracks, or
    from lines with a scale. There is none where the camera has no position.
    """
    kept = shot.datum or {}
    placed = placed_by_lines(kept)
    if "ground" not in kept and not placed:
        return None
    path = read_path(world)
    xyz = np.array([p["xyz"] for p in world["points"] if p["state"] != "excluded"])
    low = xyz[np.abs(xyz[:, 1]) < 0.15 * np.median(np.abs(xyz))]
    centre = np.zeros(3)
    if "origin" not in kept and not placed and len(low):
        centre = np.array([np.median(low[:, 0]), 0.0, np.median(low[:, 2])])
    reach = float(np.linalg.norm(path.positions[0] - centre))
    outlines = card_outlines(path, centre, 0.28 * reach)
    by_frame = dict(zip(path.frames.tolist(), outlines))
    return [[np.round(p, 2).tolist() for p in by_frame.get(frame, [])] for frame in frames]
