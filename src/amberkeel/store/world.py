"""The datum of a shot, found on the points of an attempt."""

import json
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import KeelError
from amberkeel.core.points import FAR
from amberkeel.core.tracks import EXCLUDED
from amberkeel.core.world.datum import IDENTITY, Datum, Found, Solved, find_datum
from amberkeel.core.world.statement import Statement, read_statement
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot, Track
from amberkeel.store.solve import arrays_of, path_of, points_of
from amberkeel.store.stages.state import pinned

LEAST_HELD = 3
"""Anchored points that put a solve into the world."""

KEPT = 8
"""Attempts whose camera and points are kept ready: pointing at the plate asks for them many times a second."""


def pinned_of(session: Session, shot: Shot, purpose: str = "") -> Attempt:
    """Return the attempt in use; raises KeelError where there is none, saying what it would be for."""
    row = pinned(session, shot)
    if row is None:
        raise KeelError(f"{shot.name} has no pinned attempt.", f"Solve first{f': {purpose}' if purpose else ''}.")
    return row


def statement_of(shot: Shot) -> Statement:
    """Return what is stated of a shot's coordinates."""
    return read_statement(shot.datum or {})


def solved_of(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Solved:
    """Return the camera and points of an attempt in the solve's own coordinates, with the tracks' names."""
    path, ids, xyz, covariance, used = _kept(media.folder, attempt.document, attempt.errors)
    names = dict(session.execute(select(Track.id, Track.name).where(Track.shot_id == shot.id)).all())
    return Solved(path, ids, xyz, covariance, names, used)


@dataclass(frozen=True)
class _Stored:
    """What an attempt holds, by its hashes."""

    document: str
    errors: str


@lru_cache(maxsize=KEPT)
def _kept(
    folder: Path, document: str, errors: str
) -> tuple[CameraPath, np.ndarray, np.ndarray, np.ndarray | None, np.ndarray]:
    media, stored = Media(folder), _Stored(document, errors)
    path, points, arrays = path_of(media, stored), points_of(media, stored), arrays_of(media, stored)
    xyz = points.positions(path.positions[0])
    if np.isfinite(xyz).any():
        away = np.linalg.norm(xyz - path.positions[0], axis=1)
        # What lies at the rim was put there for want of a depth.
        xyz[away > 0.5 * FAR * np.nanmedian(away)] = np.nan
    covariance = arrays.get("point_covariance")
    used = np.isfinite(xyz).all(1) & (arrays["states"] != EXCLUDED)
    return path, points.ids, xyz, None if covariance is None else covariance.astype(float), used


def looked_at(media: Media, shot: Shot, attempt: Attempt) -> tuple[Solved, Datum]:
    """Return an attempt's camera and points without names, and the shot's datum, both kept ready: the pointer asks
    for them many times a second.
    """
    stated = json.dumps(shot.datum or {}, sort_keys=True)
    return _ready(media.folder, attempt.document, attempt.errors, stated, _is_held(attempt))


@lru_cache(maxsize=KEPT)
def _ready(folder: Path, document: str, errors: str, datum: str, held: bool) -> tuple[Solved, Datum]:
    path, ids, xyz, covariance, used = _kept(folder, document, errors)
    solved, statement = Solved(path, ids, xyz, covariance, {}, used), read_statement(json.loads(datum))
    try:
        return solved, _found(solved, statement, held).datum
    except KeelError:
        return solved, IDENTITY


def _is_held(attempt: Attempt) -> bool:
    """Return whether anchored points put an attempt into the world."""
    stated = attempt.recipe.get("evidence", [])
    return sum(one.get("kind") == "anchor" and one.get("on", True) for one in stated) >= LEAST_HELD


def _found(solved: Solved, statement: Statement, held: bool) -> Found:
    """Return the datum that is stated, on a solve; `held` says whether anchored points put it into the world."""
    if statement == Statement():
        return Found(IDENTITY)
    if held and statement == Statement(axes=statement.axes):
        # They do already; lines drawn on one frame would only turn it off again.
        return Found(IDENTITY, levelled="anchors", headed="anchors", placed="anchors", scaled="anchors")
    return find_datum(solved, statement)


def found_of(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Found:
    """Return the shot's datum on an attempt's points with what can be said of it; raises WorldError where its points
    determine nothing.
    """
    statement = statement_of(shot)
    if statement == Statement():
        return Found(IDENTITY)
    return _found(solved_of(session, media, shot, attempt), statement, _is_held(attempt))


def datum_of(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Datum:
    """Return the shot's datum on an attempt's points; raises WorldError where its points determine nothing."""
    return found_of(session, media, shot, attempt).datum


def datum_where_found(session: Session, media: Media, shot: Shot, attempt: Attempt) -> tuple[Datum, str]:
    """Return the shot's datum on an attempt's points, or where it has none the solve's own coordinates and why."""
    found, trouble = found_or_not(session, media, shot, attempt)
    return found.datum, trouble


def found_or_not(session: Session, media: Media, shot: Shot, attempt: Attempt) -> tuple[Found, str]:
    """Return what can be found of the shot's datum on an attempt's points, and what can not, in words."""
    try:
        found = found_of(session, media, shot, attempt)
    except KeelError as error:
        return Found(IDENTITY), str(error)
    return found, " ".join(found.missing)
