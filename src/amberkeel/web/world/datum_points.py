"""Parts of the datum from points: ground, origin, heading and measured lengths, each as a change of what is kept."""

from typing import NamedTuple

from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.units import typed_length
from amberkeel.core.world.datum import AXES
from amberkeel.core.world.statement import read_statement, statement_document
from amberkeel.store.models import Shot, Track
from amberkeel.web.common import get_shot
from amberkeel.web.sent import Body, Number, Whole, Word


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


def ground(kept: dict, asked: DatumPart, *_) -> Change:
    """The selected tracks lie on the ground."""
    ids = asked.tracks
    if len(ids) < 3:
        raise KeelError("A ground needs three tracks or more.", "Select them on the plate or in the list.")
    kept["directions"] = [d for d in kept.get("directions", []) if d["axis"][-1] != "y"]
    return Change({**kept, "ground": ids}, f"Ground from {len(ids)} tracks")


def under(kept: dict, asked: DatumPart, *rest) -> Change:
    """The ground as it was shown under the pointer, with the origin there."""
    datum, label = ground(kept, asked, *rest)
    datum.pop("origin", None)
    spot = {"frame": asked.frame, "xy": [asked.x, asked.y]}
    return Change({**datum, "spot": spot, "flip": False}, f"{label}, and the origin on it")


def unground(kept: dict, asked: DatumPart, *_) -> Change:
    """The ground without some of its points, or none."""
    left = [t for t in kept.get("ground", []) if asked.tracks and t not in asked.tracks]
    if asked.tracks and len(left) < 3:
        raise KeelError("A ground needs three tracks or more.", "Take another point before you let go of this one.")
    return Change({**kept, "ground": left}, "Ground without some points" if left else "No ground")


def exchange(kept: dict, asked: DatumPart, *_) -> Change:
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
    # A side's ends keep their points: another one in its place would be another spot.
    return Change(kept, "Another track in the datum")


def origin(kept: dict, asked: DatumPart, *_) -> Change:
    """The origin is a track, or the middle of several."""
    ids = asked.tracks
    if not ids:
        raise KeelError("The origin is a track, or the middle of several.", "Select them.")
    kept.pop("spot", None)
    return Change({**kept, "origin": ids}, "Origin from a track" if len(ids) == 1 else f"Origin amid {len(ids)} tracks")


def spot(kept: dict, asked: DatumPart, *_) -> Change:
    """The origin is a spot of the ground, as a frame sees it."""
    kept.pop("origin", None)
    return Change({**kept, "spot": {"frame": asked.frame, "xy": [asked.x, asked.y]}}, "Origin at a spot of the ground")


def no_origin(kept: dict, *_) -> Change:
    """Nothing says where the origin is."""
    kept.pop("origin", None)
    kept.pop("spot", None)
    return Change(kept, "No origin")


def direction(kept: dict, asked: DatumPart, *_) -> Change:
    """An axis runs from one selected track to the other."""
    if len(asked.tracks) != 2 or len(set(asked.tracks)) != 2:
        raise KeelError("A heading runs from one track to another.", "Select two.")
    if asked.axis not in AXES:
        raise KeelError(f"“{asked.axis}” is no axis of the world.")
    if asked.axis[-1] == "y" and kept.get("ground"):
        raise KeelError("The ground already says where up is.", "Let go of the ground first.")
    others = [d for d in kept.get("directions", []) if d["axis"][-1] != asked.axis[-1]]
    own = {"tracks": asked.tracks, "axis": asked.axis}
    return Change({**kept, "directions": [*others[-1:], own]}, f"{asked.axis.upper()} from one track to another")


def swap(kept: dict, asked: DatumPart, *_) -> Change:
    """A heading runs the other way."""
    own = _numbered(kept, "directions", asked)
    kept["directions"][asked.number] = {**own, "tracks": own["tracks"][::-1]}
    return Change(kept, "Turn the heading round")


def undirect(kept: dict, asked: DatumPart, *_) -> Change:
    """A heading is let go."""
    _numbered(kept, "directions", asked)
    del kept["directions"][asked.number]
    return Change(kept, "One heading less")


def _numbered(kept: dict, name: str, asked: DatumPart) -> dict:
    rows = kept.get(name, [])
    if asked.number is None or not 0 <= asked.number < len(rows):
        raise KeelError("That part of the datum is gone.", "The page shows the newest state now.")
    return rows[asked.number]


def distance(kept: dict, asked: DatumPart, *_) -> Change:
    """A measured length: of two tracks, or the camera's height on a frame."""
    height = asked.axis == "height"
    if not height and len(asked.tracks) != 2:
        raise KeelError("A scale needs two tracks.", "Select the two whose distance was measured.")
    between = {"height_on": asked.frame} if height else {"tracks": asked.tracks}
    words = asked.distance.strip() if not _plain(asked.distance) else f"{asked.distance.strip()} {asked.unit}"
    return with_length(kept, asked, {"name": asked.name[:100], **between}, f"Scale: {words}", "The distance")


def with_length(kept: dict, asked: DatumPart, between: dict, label: str, what: str) -> Change:
    """One measured length more, as it was typed, between what `between` says; `what` names it in a message."""
    metres = typed_length(asked.distance, what, asked.unit)
    sigma = typed_length(asked.sigma, "The sigma", asked.unit) if asked.sigma.strip() else None
    own = {"metres": metres, "sigma": sigma, "typed": asked.distance.strip()[:60], "unit": asked.unit, **between}
    return Change({**kept, "distances": [*kept.get("distances", []), own]}, label)


def _plain(text: str) -> bool:
    return text.strip().replace(",", "").replace(".", "").isdecimal()


def change_distance(kept: dict, asked: DatumPart, *_) -> Change:
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


def drop_distance(kept: dict, asked: DatumPart, *_) -> Change:
    """A measured length is let go."""
    _numbered(kept, "distances", asked)
    del kept["distances"][asked.number]
    return Change(kept, "One measured length less")


def flip(kept: dict, *_) -> Change:
    """Up becomes down."""
    return Change({**kept, "flip": not kept.get("flip", False)}, "Turn the scene the other way up")


def copy(kept: dict, asked: DatumPart, opened, shot: Shot) -> Change:
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
    # A proxy's side is that of the other shot's proxy.
    datum["distances"] = [one for one in datum["distances"] if not one.get("ends")]
    datum["ground"] = datum["ground"] if len(datum["ground"]) >= 3 else []
    # Spots and drawn lines are those of the other picture.
    for name in ("spot", "axes"):
        datum.pop(name, None)
    if kept.get("axes"):
        datum["axes"] = kept["axes"]
    if not any(datum.get(name) for name in ("ground", "origin", "directions")):
        raise KeelError(f"No track of {other.name}'s datum bears the name of one here.", "Give them the same names.")
    return Change(datum, f"Datum from {other.name}")


def clear(kept: dict, *_) -> Change:
    """Nothing is stated any more."""
    return Change({}, "Clear the datum")
