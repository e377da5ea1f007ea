"""Tracks as columns for the page, and as tables in and out."""

import json
from collections.abc import Sequence
from itertools import accumulate

from flask import Response, request
from sqlalchemy import Row, text

from amberkeel.core.handoff.track_table import TOP_LEFT, check_origin, read_tracks_csv, tracks_csv
from amberkeel.jobs.images import open_row
from amberkeel.store import track_changes
from amberkeel.web.common import get_shot, open_session, send_text, shot_to_change, stem_of
from amberkeel.web.tracks.answers import answer
from amberkeel.web.tracks.blueprint import blueprint
from amberkeel.web.uploads import uploaded


@blueprint.get("/shots/<int:number>/tracks.json")
def columns(number: int):
    """Send a shot's tracks in columns: samples of track k are first[k] to first[k + 1]."""
    with open_session() as opened:
        plate = get_shot(opened, number).plate
        rows = opened.execute(_COLUMNS, {"shot": number, "first": plate.first, "last": plate.last}).all()
    return Response(_as_json(rows), mimetype="application/json")


# The database writes the numbers: a long shot has half a million, too many to be made into objects and back.
_COLUMNS = text("""
select id, name, kind, state, keys, "group", locked, made,
  greatest(hi - lo + 1, 0) as count, array_to_string(frames[lo:hi], ',') as frames,
  array_to_string(x[lo:hi], ',') as x, array_to_string(y[lo:hi], ',') as y,
  array_to_string(sigma[lo:hi], ',') as sigma, array_to_string(score[lo:hi], ',') as score
from track, lateral (
  select case when frames[1] >= :first then 1
    else 1 + (select count(*) from unnest(frames) f where f < :first) end as lo,
  case when frames[cardinality(frames)] <= :last then cardinality(frames)
    else (select count(*) from unnest(frames) f where f <= :last) end as hi
) part
where shot_id = :shot and not removed order by name
""")
"""A shot's tracks by name; samples beyond the plate's range are left out, and come back with it."""


def _as_json(rows: Sequence[Row]) -> str:
    """Return rows of tracks in columns, as JSON."""
    whole = {
        "ids": [t.id for t in rows],
        "names": [t.name for t in rows],
        "kinds": [t.kind for t in rows],
        "states": [t.state for t in rows],
        "first": [0, *accumulate(t.count for t in rows)],
        "keys": [t.keys for t in rows],
        "groups": [t.group for t in rows],
        "locked": [t.id for t in rows if t.locked],
        "images": [t.made.get("images", "") for t in rows],
        "settings": {t.id: t.made["settings"] for t in rows if "settings" in t.made},
    }
    samples = (
        f'"{name}":[{",".join(getattr(t, name) for t in rows if t.count)}]'
        for name in ("frames", "x", "y", "sigma", "score")
    )
    return f"{json.dumps(whole)[:-1]},{','.join(samples)}}}"


TABLE_BYTES = 200 * 1024 * 1024


@blueprint.get("/shots/<int:number>/tracks.csv")
def table(number: int):
    """Send a shot's tracks as CSV."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        _, tracks = track_changes.whole(opened, shot)
        name = f"{stem_of(shot.name)}_tracks.csv"
    return send_text(tracks_csv(tracks), "text/csv", name)


@blueprint.post("/shots/<int:number>/tracks.csv")
def bring_in(number: int):
    """Add tracks from an uploaded table."""
    given = uploaded("a table of tracks (CSV), or parts of it", TABLE_BYTES, "table")
    text = given.text()
    origin = request.form.get("origin", TOP_LEFT)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        plate = open_row(shot.plate)
        tracks = read_tracks_csv(text, plate, origin)
        check_origin(tracks, plate, origin)
        edit = track_changes.bring_in(opened, shot, tracks, given.name[:200])
        return answer(opened, shot, said=edit.label)
