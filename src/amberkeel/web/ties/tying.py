"""A shot's ties: to which set, made by name, by hand or taken from pictures, switched off, and aligned by."""

from datetime import date

from flask import jsonify

from amberkeel.core.errors import TieError
from amberkeel.jobs.queue import wake
from amberkeel.jobs.ties import in_one_go, take
from amberkeel.store.jobs import submit
from amberkeel.store.models import Shot
from amberkeel.store.stages import pinned
from amberkeel.store.ties import by_name, copied, document_of_set, grow, is_stale, set_row, tied_shots, untied
from amberkeel.store.tracks import some_tracks
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.state import edited, shot_state
from amberkeel.web.ties.blueprint import blueprint


class Part(Body):
    """What becomes of a shot's ties.

    `what`: choose (`set`), copy (what the ties hold becomes the shot's own), names, tie (`track` with `point`, or a
    track of the set's reference), drop or switch (`keys`, `on`), take or leave (`names`, of those proposed; all where
    none is named).
    """

    what: Word
    set: Whole | None = None
    track: Whole | None = None
    point: Word = ""
    keys: list[Word] = []
    names: list[Word] = []
    on: Flag = True


@blueprint.post("/shots/<int:number>/ties")
def ties(number: int):
    """Change a shot's ties."""
    asked = sent(Part)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        if asked.what == "take":
            return _taken(opened, shot, asked)
        if asked.what not in PARTS:
            raise TieError(f"Ties cannot “{asked.what}”.")
        payload = PARTS[asked.what](opened, shot, asked)
        return edited(opened, number, "ties", payload, asked.revision)


def _choose(opened, shot: Shot, asked: Part) -> dict:
    kept = shot.ties or {}
    if asked.set is None:
        return {"ties": {}, "constraints": untied(shot), "label": "Tie it to no set"}
    row = set_row(opened, shot, asked.set)
    ties = kept.get("ties", {}) if kept.get("set") == row.id else {}
    return {"ties": {"set": row.id, "ties": ties}, "label": f"Tie it to {row.name}"}


def _copy(opened, shot: Shot, asked: Part) -> dict:
    """Keep the set's coordinates of the tied tracks as they are now, and tie the shot to no set."""
    row = set_row(opened, shot)
    kept = copied(shot, row, date.today())
    return {"ties": {}, "constraints": kept, "label": f"Keep a copy of {row.name}'s coordinates"}


def _named(opened, shot: Shot, asked: Part) -> dict:
    document = document_of_set(set_row(opened, shot))
    found = by_name(opened, shot, document)
    if not found:
        raise TieError(
            f"No further tag or named track of this shot bears the name of a point of {document.name}.",
            "Find tags in Tracks, or rename a track placed by hand as the point is called.",
        )
    return _with(shot, found, f"Tie {len(found)} by name")


def _with(shot: Shot, ties: dict, label: str) -> dict:
    kept = shot.ties or {}
    return {"ties": {**kept, "ties": {**kept.get("ties", {}), **ties}}, "label": label}


def _tie(opened, shot: Shot, asked: Part) -> dict:
    """Tie a track to a point; a track of the reference that is no point yet becomes one."""
    row = set_row(opened, shot)
    if row.reference_id == shot.id:
        raise TieError(f"{shot.name} made the set {row.name}: it is not tied to itself.", "Open another shot.")
    (track,) = some_tracks(opened, shot, [asked.need("track")])[:1]
    if document_of_set(row).point(asked.point) is None:
        reference = opened.get(Shot, row.reference_id) if row.reference_id else None
        attempt = pinned(opened, reference) if reference else None
        if attempt is None or not grow(opened, media(), row, reference, attempt, [asked.point]):
            raise TieError(f"{row.name} has no point “{asked.point}”.", "Choose one that is listed.")
    used = {one["point"]: key for key, one in (shot.ties or {}).get("ties", {}).items()}
    if used.get(asked.point, f"t{track.id}") != f"t{track.id}":
        raise TieError(f"{asked.point} is tied to another track already.", "Drop that tie first.")
    made = {"track": track.id, "point": asked.point, "by": "hand", "on": True}
    return _with(shot, {f"t{track.id}": made}, f"Tie {track.name} to {asked.point}")


def _drop(opened, shot: Shot, asked: Part) -> dict:
    kept = shot.ties or {}
    gone = set(asked.keys)
    left = {key: one for key, one in kept.get("ties", {}).items() if key not in gone}
    # A tie whose track was deleted is named by its point.
    left = {key: one for key, one in left.items() if one["point"] not in gone}
    count = len(kept.get("ties", {})) - len(left)
    if not count:
        raise TieError("None of these is a tie of this shot.")
    return {"ties": {**kept, "ties": left}, "label": f"Drop {count} tie{'' if count == 1 else 's'}"}


def _switch(opened, shot: Shot, asked: Part) -> dict:
    kept = shot.ties or {}
    ties = {key: {**one, "on": asked.on} if key in asked.keys else one for key, one in kept.get("ties", {}).items()}
    return {"ties": {**kept, "ties": ties}, "label": f"{'Count' if asked.on else 'Leave out'} {len(asked.keys)} ties"}


def _leave(opened, shot: Shot, asked: Part) -> dict:
    kept = shot.ties or {}
    gone = set(asked.names or kept.get("proposed", {}))
    left = {name: one for name, one in kept.get("proposed", {}).items() if name not in gone}
    return {"ties": {**kept, "proposed": left}, "label": f"Leave {len(gone)} proposed ties"}


PARTS = {
    "choose": _choose, "copy": _copy, "names": _named, "tie": _tie, "drop": _drop, "switch": _switch, "leave": _leave,
}  # fmt: skip
"""A part is a function that returns the edit that it makes, and a line here."""


def _taken(opened, shot: Shot, asked: Part):
    proposed = (shot.ties or {}).get("proposed", {})
    chosen = [proposed[name] for name in (asked.names or proposed) if name in proposed]
    if not chosen:
        raise TieError("There is nothing proposed.", "Look for ties in the pictures first.")
    take(opened, media(), shot, chosen)
    return shot_state(opened, shot)


class Align(Body):
    """Whether the set's points are held exactly."""

    exact: Flag = False


@blueprint.post("/shots/<int:number>/ties/align")
def align(number: int):
    """Start aligning the shot by its ties."""
    return start("align", number, {"exact": sent(Align).exact})


class Together(Body):
    """Whether all shots of the set have one lens."""

    share_lens: Flag = False


@blueprint.post("/shots/<int:number>/ties/together")
def together(number: int):
    """Start adjusting all shots of a free set together."""
    asked = sent(Together)
    with open_session() as opened:
        row = set_row(opened, get_shot(opened, number))
        if document_of_set(row).frozen:
            raise TieError(f"{row.name} is frozen: shots are brought to it, and never bend it.", "Let it go first.")
    return start("together", number, {"share_lens": asked.share_lens})


@blueprint.post("/shots/<int:number>/ties/again")
def again(number: int):
    """Start aligning every shot of the set whose alignment no longer holds, one after the other."""
    sent(Body)
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = set_row(opened, shot)
        behind = [one for one in tied_shots(opened, row) if one.id != row.reference_id and is_stale(opened, one)]
        if not behind:
            raise TieError(f"Every shot of {row.name} is aligned to it as it is now.")
        for one in behind:
            submit(opened, "align", one.id, {})
        names = ", ".join(one.name for one in behind[:4])
        answer = {**shot_state(opened, shot), "said": f"Aligning again: {names}."}
    wake()
    return jsonify(answer)


@blueprint.post("/shots/<int:number>/ties/pictures")
def pictures(number: int):
    """Start looking for ties in the pictures."""
    sent(Body)
    return start("tiepictures", number, {})


@blueprint.post("/shots/<int:number>/ties/whole")
def whole(number: int):
    """Start all of it: features and tags followed, the shot solved, tied and aligned."""
    sent(Body)
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = set_row(opened, shot)
        solved = pinned(opened, shot) is not None
        chain = in_one_go(document_of_set(row), solved)
    return start(chain[0], number, {"then": chain[1:]})
