"""The datum of a shot: its chosen tracks and lines, on the points of an attempt."""

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError, WorldError
from amberkeel.core.world.datum import IDENTITY, Datum, DrawnAxes, make_datum
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot, Track
from amberkeel.store.solve import path_of, points_of


def datum_of(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Datum:
    """Return the shot's datum on an attempt's points; raises WorldError when its tracks have no points there."""
    chosen = shot.datum or {}
    if not chosen:
        return IDENTITY
    points = points_of(media, attempt)
    names = dict(session.execute(select(Track.id, Track.name).where(Track.shot_id == shot.id)).all())

    def point(track: int) -> np.ndarray:
        found = points.position(track)
        if found is None:
            name = names.get(track, f"number {track}")
            raise WorldError(f"Track {name} of the datum has no point in this attempt.", "Choose others.")
        return found

    ground = np.array([point(t) for t in chosen["ground"]]) if "ground" in chosen else None
    origin = point(chosen["origin"][0]) if "origin" in chosen else None
    scale = None
    if "scale" in chosen:
        a, b = chosen["scale"]["tracks"]
        scale = (point(a), point(b), chosen["scale"]["metres"])
    return make_datum(path_of(media, attempt), ground, origin, scale, _drawn_axes(chosen.get("axes")))


def datum_where_found(session: Session, media: Media, shot: Shot, attempt: Attempt) -> tuple[Datum, str]:
    """Return the shot's datum on an attempt's points, or where it has none the solve's own coordinates and why."""
    try:
        return datum_of(session, media, shot, attempt), ""
    except KeelError as error:
        return IDENTITY, str(error)


def _drawn_axes(kept: dict | None) -> DrawnAxes | None:
    """Return what a datum keeps of axis lines."""
    if not kept:
        return None
    position = kept.get("place")
    return DrawnAxes(
        {int(f): np.array(r) for f, r in kept["rotations"].items()},
        (int(position["frame"]), np.array(position["xyz"])) if position else None,
    )
