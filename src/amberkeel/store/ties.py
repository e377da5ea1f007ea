"""Sets of a production, the ties of its shots, and how shots were aligned to sets.

`Shot.ties` holds `set` (id), `ties` by key (`track`, `point`, `by`: "name", "hand" or "pictures", `on`), what is
`proposed` from pictures, and `aligned`: to which version, on which attempt, and what each tie said.
"""

import json
from dataclasses import dataclass
from datetime import date

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import TieError
from amberkeel.core.follow.tags import FAMILIES
from amberkeel.core.plate.plate import Plate
from amberkeel.core.ties.refine import Anchored, anchored_at
from amberkeel.core.ties.set_file import Point, Set, read_set, set_text, sigmas_of
from amberkeel.core.ties.side import Side, sure
from amberkeel.core.tracks import TAG
from amberkeel.store.held import hold_row
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, FilmSet, Shot, Track
from amberkeel.store.scene import proxies_of
from amberkeel.store.solve import solution_of
from amberkeel.store.tracks import live_tracks
from amberkeel.store.world import found_of, pinned_of, solved_of

TIED = "tie "
"""What the names of the anchored points begin with that ties make, for who reads them."""

PLACE = "set-"
"""What the ids of proxies and probe objects begin with that came from a set."""


def sets_of(session: Session, production: int) -> list[FilmSet]:
    """Return the sets of a production, by name."""
    own = select(FilmSet).where(FilmSet.production_id == production, ~FilmSet.removed)
    return list(session.scalars(own.order_by(FilmSet.name, FilmSet.id)))


def set_row(session: Session, shot: Shot, number: int | None = None) -> FilmSet:
    """Return a set of a shot's production: the one asked for, or that which the shot is tied to.

    Raises
    ------
    TieError : there is none, it was deleted, or belongs to another production.
    """
    number = number or (shot.ties or {}).get("set")
    row = session.get(FilmSet, number) if number else None
    if row is None or row.production_id != shot.production_id:
        raise TieError(f"{shot.name} is tied to no set.", "Choose one, or make one of this shot.")
    if row.removed:
        raise TieError(f"The set {row.name} was deleted.", "Choose another one; the ties are kept until then.")
    return row


def held_set(session: Session, number: int) -> FilmSet:
    """Return a set as it stands now, which nobody else changes until the transaction ends; raises TieError where it was
    deleted for good.
    """
    row = hold_row(session, FilmSet, number)
    if row is None:
        raise TieError("That set is gone.", "Choose another one.")
    return row


def document_of_set(row: FilmSet) -> Set:
    """Return what a set holds."""
    return read_set(json.dumps(row.document))


def keep_set(row: FilmSet, document: Set) -> None:
    """Put what a set holds into its row, as another version."""
    row.document, row.name = json.loads(set_text(document)), document.name
    row.version = (row.version or 0) + 1


def families_of(document: Set) -> list[str]:
    """Return the families of fiducial tags that a set has points of."""
    return sorted({point.name.rpartition("-")[0] for point in document.points} & set(FAMILIES))


def tied_shots(session: Session, row: FilmSet) -> list[Shot]:
    """Return the shots that are tied to a set, by name."""
    own = select(Shot).where(Shot.production_id == row.production_id, Shot.deleted.is_(None))
    return [one for one in session.scalars(own.order_by(Shot.name)) if (one.ties or {}).get("set") == row.id]


def points_from(
    session: Session, media: Media, shot: Shot, tracks: list[int], attempt: Attempt | None = None
) -> tuple[list[Point], bool, Attempt]:
    """Return tracks of a shot as points of a set in the shot's world, its tags among them; whether that world has a
    scale; and the attempt whose world it is.

    Parameters
    ----------
    session, media : where they are kept. shot : solved. tracks : ids; where there are none, all that were used.
    attempt : of the shot, or None for the pinned one.

    Raises
    ------
    KeelError : nothing is pinned, the datum fails, or none of the tracks has a point.
    """
    attempt = attempt or pinned_of(session, shot, "a set is made of solved points")
    found, solved = found_of(session, media, shot, attempt), solved_of(session, media, shot, attempt)
    tags = set(session.scalars(select(Track.id).where(Track.shot_id == shot.id, Track.kind == TAG, ~Track.removed)))
    wanted = set(tracks) or set(solved.ids[solved.standing].tolist())
    turn = found.datum.scale * found.datum.rotation
    out = []
    for row in solved.standing.tolist():
        track = int(solved.ids[row])
        if track not in wanted and track not in tags:
            continue
        at = found.datum.apply(solved.xyz[row])
        spread = None if solved.covariance is None else sigmas_of(turn @ solved.covariance[row] @ turn.T)
        out.append(
            Point(
                name=solved.name(track), xyz=(float(at[0]), float(at[1]), float(at[2])), sigma=spread, source=shot.name
            )
        )
    if not out:
        raise TieError("None of these tracks has a point.", "Select tracks that served in the pinned attempt.")
    return out, bool(found.scaled), attempt


def new_set(session: Session, shot: Shot, document: Set, attempt: Attempt | None) -> FilmSet:
    """Keep a new set of a shot's production; `attempt` is the one whose world it is, None for a set from a file."""
    taken = {one.name for one in sets_of(session, shot.production_id)}
    if document.name in taken:
        raise TieError(f"There is a set {document.name} already.", "Give this one another name.")
    row = FilmSet(
        production_id=shot.production_id, name=document.name, document=json.loads(set_text(document)), version=1,
        reference_id=shot.id if attempt else None, reference_attempt=attempt.id if attempt else None,
    )  # fmt: skip
    session.add(row)
    session.flush()
    return row


def standing_in(shot: Shot) -> dict:
    """Return the proxies of a shot as a set keeps them: geometry, without what a page needs."""
    return {
        name: thing.model_copy(update={"tracks": [], "texture": "", "light": ""})
        for name, thing in proxies_of(shot).items()
        if thing.kind != "mesh"
    }


@dataclass(frozen=True)
class Tie:
    """A tie of a shot: its key, track (id and name), point, how it was made, and whether it counts."""

    key: str
    track: int
    name: str
    point: str
    by: str
    on: bool


def ties_of_shot(session: Session, shot: Shot) -> tuple[list[Tie], list[str]]:
    """Return a shot's ties, and the points of those whose track is gone."""
    names = dict(session.execute(select(Track.id, Track.name).where(Track.shot_id == shot.id, ~Track.removed)).all())
    kept = (shot.ties or {}).get("ties", {})
    ties = [
        Tie(key, one["track"], names.get(one["track"], ""), one["point"], one["by"], one["on"])
        for key, one in kept.items()
    ]
    return [one for one in ties if one.name], [one.point for one in ties if not one.name]


def anchored_by(ties: list[Tie], document: Set) -> list[Anchored]:
    """Return what a set knows of tied tracks, of ties that count and points that it has."""
    made = [anchored_at(one.track, one.point, document) for one in ties if one.on]
    return [one for one in made if one is not None]


def untied(shot: Shot) -> list[dict]:
    """Return a shot's constraints without those that its ties make."""
    return [one for one in shot.constraints if not _by_a_tie(one)]


def _by_a_tie(constraint: dict) -> bool:
    return bool(constraint.get("tie", str(constraint.get("name", "")).startswith(TIED)))


def copied(shot: Shot, row: FilmSet, when: date) -> list[dict]:
    """Return a shot's constraints with what its ties hold of a set as the shot's own: a copy that says from when it is,
    and follows the set no more.

    Parameters
    ----------
    shot : aligned to the set. row : the set. when : the day.

    Raises
    ------
    TieError : the shot is not aligned.
    """
    aligned = (shot.ties or {}).get("aligned")
    if not aligned or len(untied(shot)) == len(shot.constraints):
        raise TieError(f"{shot.name} is not in the world of {row.name} yet.", "Align it first.")
    of = f" of {row.name[:40]}, version {aligned['version']}, copied {when:%d %b %Y}"
    return [
        {**one, "name": one["name"].removeprefix(TIED)[:40] + of, "tie": False} if _by_a_tie(one) else one
        for one in shot.constraints
    ]


def by_name(session: Session, shot: Shot, document: Set) -> dict[str, dict]:
    """Return ties of tracks that bear the name of a point, those that are not tied yet, by key.

    Names belong to a shot: of tracks that were followed by themselves no name means anything in another one, so tags
    and tracks that a person named are taken.
    """
    kept = (shot.ties or {}).get("ties", {})
    tied = {one["track"] for one in kept.values()} | {one["point"] for one in kept.values()}
    out = {}
    for track in live_tracks(session, shot):
        if track.kind == "auto" or track.id in tied or track.name in tied:
            continue
        if document.point(track.name) is not None:
            out[f"t{track.id}"] = {"track": track.id, "point": track.name, "by": "name", "on": True}
    return out


def side_in_set(session: Session, media: Media, shot: Shot, attempt: Attempt, plate: Plate) -> Side:
    """Return a shot as a side of a tie, its camera and points in its world as its datum has it on an attempt.

    Parameters
    ----------
    session, media : where they are kept. shot : solved. attempt : of it. plate : its pictures.
    """
    solution, found = solution_of(media, attempt), found_of(session, media, shot, attempt)
    datum, path = found.datum, found.datum.camera(solution.path)
    turn = datum.scale * datum.rotation
    points = datum.points(solution.points)
    xyz = points.positions(path.positions[0])
    covariance = solution.point_covariance
    spread = np.full((len(xyz), 3, 3), np.nan) if covariance is None else turn @ covariance @ turn.T
    bad = ~points.known | np.array([state == "excluded" for state in solution.tracks.states], bool)
    return Side(plate, path, solution.tracks, sure(path, xyz, spread, bad), spread)


def grow(session: Session, media: Media, row: FilmSet, shot: Shot, attempt: Attempt, names: list[str]) -> int:
    """Add tracks of a shot of a set to its points, those that it does not have; return how many.

    Parameters
    ----------
    session, media : where they are kept. row : the set. shot : whose tracks. attempt : of it, whose world is the set's.
    names : of the tracks.
    """
    row = held_set(session, row.id)
    document = document_of_set(row)
    has = {one.name for one in document.points}
    wanted = set(names) - has
    if not wanted:
        return 0
    ids = [t for t, name in solved_of(session, media, shot, attempt).names.items() if name in wanted]
    found, _, _ = points_from(session, media, shot, ids, attempt)
    new = [one for one in found if one.name in wanted]
    # Growing bends nothing: what was there stays as it is, and shots that were aligned to it are aligned still.
    row.document = json.loads(set_text(document.model_copy(update={"points": [*document.points, *new]})))
    return len(new)


def is_stale(session: Session, shot: Shot) -> str:
    """Return why a shot's alignment no longer holds, in words; empty where it does, or there is none."""
    aligned = (shot.ties or {}).get("aligned")
    row = session.get(FilmSet, (shot.ties or {}).get("set") or 0)
    if not aligned or row is None:
        return ""
    if row.removed:
        return f"The set {row.name} was deleted."
    if aligned["version"] != row.version:
        return f"{row.name} has changed since: it is version {row.version}, this was aligned to {aligned['version']}."
    if row.reference_id:
        reference = session.get(Shot, row.reference_id)
        if reference is None or reference.deleted:
            return f"The reference shot of {row.name} was deleted; the set is kept as it was."
        if reference.pinned_id != row.reference_attempt:
            return f"{reference.name}, which made {row.name}, has another attempt pinned: renew the set from it."
    return ""
