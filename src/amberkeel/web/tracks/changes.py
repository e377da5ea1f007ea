"""Changes to tracks, and the figures by which they are judged."""

from collections import OrderedDict

import numpy as np
from flask import jsonify

from amberkeel.core.errors import KeelError
from amberkeel.core.follow.judge import Judgement, judge, returns
from amberkeel.core.tracks import TrackSet
from amberkeel.jobs.images import open_row
from amberkeel.store import track_changes
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.models import Shot
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.sent import Body, Flag, Whole, Word, sent
from amberkeel.web.tracks.answers import answer
from amberkeel.web.tracks.blueprint import blueprint

KEPT = 4

_judged: OrderedDict[tuple, tuple[list[int], Judgement, TrackSet]] = OrderedDict()


class Change(Body):
    """A change to tracks: what it is, the tracks' ids, and what that change needs besides."""

    what: Word = ""
    tracks: list[Whole] = []
    samples: dict[Whole, list[Whole]] = {}
    first: Whole | None = None
    last: Whole | None = None
    frame: Whole | None = None
    name: Word = ""
    colour: Word = ""
    hidden: Flag = False
    locked: Flag = False


@blueprint.post("/shots/<int:number>/tracks/change")
def change(number: int):
    """Cut, trim, split, join, fill, rename, group, hide or lock tracks."""
    asked = sent(Change)
    ids, revision = asked.tracks, asked.revision
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        match asked.what:
            case "cut":
                track_changes.cut(opened, shot, asked.samples, revision)
            case "trim":
                track_changes.trim(opened, shot, ids, asked.need("first"), asked.need("last"), revision)
            case "split":
                track_changes.split(opened, shot, ids, asked.need("frame"), revision)
            case "join":
                track_changes.join(opened, shot, ids, revision)
            case "fill":
                track_changes.interpolate(opened, shot, ids, asked.need("first"), asked.need("last"), revision)
            case "rename":
                track_changes.rename(opened, shot, ids[0] if ids else 0, asked.name, revision)
            case "group":
                track_changes.group(opened, shot, ids, asked.name, asked.colour, revision)
            case "hide":
                track_changes.hide(opened, shot, asked.name, asked.hidden, revision)
            case "lock":
                track_changes.lock(opened, shot, ids, asked.locked, revision)
            case _:
                raise KeelError(f"There is no change “{asked.what}” of tracks.")
        return answer(opened, shot)


def _judgement(opened, shot: Shot) -> tuple[list[int], Judgement, TrackSet]:
    """Return track ids, what is known of the tracks, and the tracks; kept while neither they nor the masks change."""
    known = (shot.id, shot.tracks_stamp, shot.masks_stamp, str(shot.plate.stack))
    if known not in _judged:
        rows, tracks = track_changes.whole(opened, shot)
        plate = open_row(shot.plate)
        masked = masked_of(media(), [m for m in live_masks(opened, shot) if m.on], plate.height, plate.width)
        _judged[known] = ([t.id for t in rows], judge(tracks, plate, masked), tracks)
        while len(_judged) > KEPT:
            _judged.popitem(last=False)
    return _judged[known]


@blueprint.get("/shots/<int:number>/judgement.json")
def judgement(number: int):
    """Send the figures by which tracks are weeded, a row a track, and each track's worst jump."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        if not track_changes.live_tracks(opened, shot):
            return jsonify(ids=[], returns=[])
        ids, known, tracks = _judgement(opened, shot)
        pairs = returns(tracks, np.arange(shot.plate.first, shot.plate.last + 1))
    distance = np.where(np.isfinite(known.mask_distance), known.mask_distance, 1e6)
    return jsonify(
        ids=ids,
        length=known.length.tolist(),
        score=known.score.round(3).tolist(),
        jump=known.worst_jump.round(3).tolist(),
        jumps=known.jump.round(2).tolist(),
        restless=known.restless.round(2).tolist(),
        edge=known.edge.round(2).tolist(),
        highlight=known.highlight.round(3).tolist(),
        stray=known.stray.round(3).tolist(),
        mask=distance.round(1).tolist(),
        twin=[ids[t] if t >= 0 else 0 for t in known.twin],
        returns=[[ids[a], ids[b], round(d, 2)] for a, b, d in pairs],
    )
