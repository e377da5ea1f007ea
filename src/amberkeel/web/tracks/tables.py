"""Tracks as columns for the page, and as tables in and out."""

import numpy as np
from flask import jsonify, request

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.track_table import TOP_LEFT, check_origin, read_tracks_csv, tracks_csv
from amberkeel.jobs.images import open_row
from amberkeel.store import track_changes
from amberkeel.store.tracks import live_tracks, within
from amberkeel.web.common import get_shot, open_session, send_text, stem_of
from amberkeel.web.tracks.answers import answer
from amberkeel.web.tracks.blueprint import blueprint


@blueprint.get("/shots/<int:number>/tracks.json")
def columns(number: int):
    """Send a shot's tracks in columns: samples of track k are first[k] to first[k + 1]."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        rows = live_tracks(opened, shot)
        span = shot.plate.first, shot.plate.last
        # Samples beyond the plate's range come back with it.
        parts = [within(t.frames, span) for t in rows]
    first = np.concatenate([[0], np.cumsum([p.stop - p.start for p in parts])]).astype(int)
    return jsonify(
        ids=[t.id for t in rows],
        names=[t.name for t in rows],
        kinds=[t.kind for t in rows],
        states=[t.state for t in rows],
        first=first.tolist(),
        frames=[f for t, p in zip(rows, parts) for f in t.frames[p]],
        x=[round(v, 3) for t, p in zip(rows, parts) for v in t.x[p]],
        y=[round(v, 3) for t, p in zip(rows, parts) for v in t.y[p]],
        sigma=[round(v, 3) for t, p in zip(rows, parts) for v in t.sigma[p]],
        score=[round(v, 3) for t, p in zip(rows, parts) for v in t.score[p]],
        keys=[t.keys for t in rows],
        groups=[t.group for t in rows],
        locked=[t.id for t in rows if t.locked],
        images=[t.made.get("images", "") for t in rows],
        settings={t.id: t.made["settings"] for t in rows if "settings" in t.made},
    )


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
    given = request.files.get("table")
    if given is None or not given.filename:
        raise KeelError("There is no table in what arrived.", "Choose a CSV file.")
    blob = given.read(TABLE_BYTES + 1)
    if len(blob) > TABLE_BYTES:
        raise KeelError("The table is larger than 200 MiB.", "Split it.")
    try:
        text = blob.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise KeelError("That is no table of text.", "Give a CSV file in UTF-8.") from None
    origin = request.form.get("origin", TOP_LEFT)
    with open_session() as opened:
        shot = get_shot(opened, number)
        plate = open_row(shot.plate)
        tracks = read_tracks_csv(text, plate, origin)
        check_origin(tracks, plate, origin)
        edit = track_changes.bring_in(opened, shot, tracks, given.filename[:200])
        return answer(opened, shot, said=edit.label)
