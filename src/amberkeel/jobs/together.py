"""What the job does that adjusts all shots of a set together: the set bends with them, and each is held to it anew."""

import json
from dataclasses import dataclass, replace

from sqlalchemy.orm import Session

from amberkeel.core.errors import TieError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.solution import Solution
from amberkeel.core.ties.align import LEAST
from amberkeel.core.ties.refine import refined, standing
from amberkeel.core.ties.set_file import Set, set_text
from amberkeel.core.ties.together import JointShot, SameSpot, adjusted_together
from amberkeel.core.world.datum import Datum
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.ties import Aligned, keep_aligned, without_ties
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, FilmSet, Shot
from amberkeel.store.session import session
from amberkeel.store.solve import Stamps, solution_of, stamps_like, store_attempt
from amberkeel.store.ties import (
    Tie,
    anchored_by,
    document_of_set,
    held_set,
    is_stale,
    keep_set,
    points_from,
    set_row,
    standing_in,
    tied_shots,
    ties_of_shot,
)
from amberkeel.store.world import datum_of, pinned_of


class Together(Arguments):
    """Whether all shots have one lens."""

    share_lens: bool = False


@dataclass(frozen=True)
class _Gathered:
    """A shot that is adjusted: its id and name, what its attempts are made from, pinned attempt, solve, what takes that
    to the set's world, and its ties.
    """

    id: int
    name: str
    stamps: Stamps
    base: int
    solution: Solution
    change: Datum
    ties: list[Tie]


def together(settings: Settings, shot_id: int, arguments: Together, progress: Progress) -> None:
    """Adjust a free set's shots together: another attempt of each, pinned, and the set's points where they lie then."""
    media = Media(settings.media)
    with session(settings.database) as opened:
        row = set_row(opened, opened.get(Shot, shot_id))
        number, version, document = row.id, row.version, document_of_set(row)
        if document.frozen:
            raise TieError(f"{row.name} is frozen: shots are brought to it, and never bend it.", "Let it go first.")
        shots = _gathered(opened, media, row)
    spots = _same(shots, document)
    joint = [JointShot(one.name, without_ties(one.solution), one.change) for one in shots]
    done = adjusted_together(joint, spots, arguments.share_lens, span(progress, 0.0, 0.6))
    bent = _bent(settings, number, shots[0], done[0].solution)
    held = []
    for k, (one, after) in enumerate(zip(shots[1:], done[1:])):
        own = span(progress, 0.6 + 0.36 * k / len(shots), 0.6 + 0.36 * (k + 1) / len(shots))
        anchored = standing(after.solution, anchored_by(one.ties, bent))
        if len(anchored) < LEAST:
            raise TieError(
                f"Adjusted together, {one.name} keeps {len(anchored)} of its {len(one.ties)} ties.",
                "Adjust without one lens, or align it again first."
                if arguments.share_lens
                else "Align it again first.",
            )
        found = refined(_begun_at(one, after.solution), anchored, False, own)
        held.append(Aligned(bent, version + 1, number, anchored, found))
    label = f"Adjust the shots of {document.name} together"
    said = f"{len(shots)} shots of {document.name} adjusted together"
    with effect(settings, shot_id, arguments, said, also=[one.id for one in shots]) as opened:
        row = held_set(opened, number)
        if row.version != version or any(opened.get(Shot, one.id).tracks_stamp != one.stamps.tracks for one in shots):
            raise TieError(f"{row.name}, or tracks of its shots, changed meanwhile.", "Start it again.")
        if any(_counted(opened, one) != one.ties for one in shots[1:]):
            raise TieError(f"Ties to {row.name} changed meanwhile.", "Start it again.")
        keep_set(row, bent)
        row.reference_attempt = _kept(opened, media, shots[0], done[0].solution).id
        reference = opened.get(Shot, shots[0].id)
        whole = {"ties": reference.ties or {}, "attempt": row.reference_attempt, "label": label}
        apply(opened, reference.id, "ties", whole)
        for one, aligned in zip(shots[1:], held):
            attempt = _kept(opened, media, one, aligned.done.solution)
            keep_aligned(opened, media, opened.get(Shot, one.id), attempt, aligned, label)
            _renew(opened, media, row, one, attempt)


def _kept(opened: Session, media: Media, one: _Gathered, solution: Solution) -> Attempt:
    return store_attempt(opened, media, opened.get(Shot, one.id), solution, one.stamps, parent=one.base)


def _counted(opened: Session, one: _Gathered) -> list[Tie]:
    """Return the ties of a shot that count, as they are now."""
    return [tie for tie in ties_of_shot(opened, opened.get(Shot, one.id))[0] if tie.on]


def _gathered(opened: Session, media: Media, row: FilmSet) -> list[_Gathered]:
    """Return what is known of the set's shots that stand in its world, the reference first.

    Raises
    ------
    TieError : no shot made the set, a shot is behind it, or no other one is aligned.
    """
    reference = opened.get(Shot, row.reference_id) if row.reference_id else None
    if reference is None or reference.deleted:
        raise TieError(f"No shot made {row.name}: what was surveyed does not bend.", "Align the shots to it.")
    if reference.pinned_id != row.reference_attempt:
        raise TieError(f"{reference.name} has another attempt pinned than {row.name} is of.", "Renew the set first.")
    others = [one for one in tied_shots(opened, row) if one.id != reference.id and (one.ties or {}).get("aligned")]
    if not others:
        raise TieError(f"No other shot stands in the world of {row.name} yet.", "Align one first.")
    behind = [one.name for one in others if is_stale(opened, one)]
    if behind:
        raise TieError(f"{', '.join(behind[:4])} must be aligned again first.", "Ties, Shots: align what is behind.")
    out = []
    for shot in (reference, *others):
        base = pinned_of(opened, shot)
        change = datum_of(opened, media, shot, base)
        ties = [one for one in ties_of_shot(opened, shot)[0] if one.on]
        stamps = stamps_like(base, shot.tracks_stamp)
        out.append(_Gathered(shot.id, shot.name, stamps, base.id, solution_of(media, base), change, ties))
    return out


def _same(shots: list[_Gathered], document: Set) -> list[SameSpot]:
    """Return the set's points that two shots or more see: the reference by its track of that name, others by ties."""
    points = {one.name for one in document.points}
    seen: dict[str, dict[int, int]] = {name: {} for name in points}
    tracks = shots[0].solution.tracks
    for track, name in zip(tracks.ids.tolist(), tracks.names):
        if name in points:
            seen[name][0] = track
    for k, one in enumerate(shots[1:], start=1):
        for tie in one.ties:
            if tie.point in points:
                seen[tie.point][k] = tie.track
    return [SameSpot(tuple(sorted(spot.items()))) for spot in seen.values() if len(spot) > 1]


def _bent(settings: Settings, number: int, one: _Gathered, solution: Solution) -> Set:
    """Return the set with its points where its reference's adjusted solve has them; nothing is kept yet."""
    media = Media(settings.media)
    with session(settings.database) as opened:
        shot = opened.get(Shot, one.id)
        # The datum of a shot is found on an attempt's points: one is stored for that, and taken back.
        trial = opened.begin_nested()
        points, metric, _ = points_from(opened, media, shot, [], _kept(opened, media, one, solution))
        document, name, proxies = document_of_set(opened.get(FilmSet, number)), shot.name, standing_in(shot)
        trial.rollback()
    return document.model_copy(update={"points": document.renewed(points, name), "metric": metric, "proxies": proxies})


def _begun_at(one: _Gathered, after: Solution) -> Solution:
    """Return a shot's adjusted solve with what else was stated of it before."""
    return replace(after, recipe=replace(after.recipe, evidence=without_ties(one.solution).recipe.evidence))


def _renew(opened: Session, media: Media, row: FilmSet, one: _Gathered, attempt: Attempt) -> None:
    """Put the points that a shot gave its set where its adjusted solve has them; the set's version stays."""
    shot, document = opened.get(Shot, one.id), document_of_set(row)
    if not any(point.source == shot.name for point in document.points):
        return
    points, _, _ = points_from(opened, media, shot, [], attempt)
    row.document = json.loads(set_text(document.model_copy(update={"points": document.renewed(points, shot.name)})))
