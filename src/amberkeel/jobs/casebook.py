"""What the casebook's jobs do: findings of an attempt, a remedy tried, and the whole loop by itself."""

import time
from dataclasses import asdict, dataclass, replace
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.diagnose.diagnose import diagnose as find
from amberkeel.core.diagnose.finding import Remedy, finding_document
from amberkeel.core.errors import KeelError, PlateError
from amberkeel.core.progress import Progress, span
from amberkeel.core.repair.compare import compare
from amberkeel.core.repair.improve import Trial as Tried
from amberkeel.core.repair.improve import improve as improved
from amberkeel.core.repair.remedies import Ground, carry_out
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import TrackSet
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import movie_of, open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.held import count_change
from amberkeel.store.jobs import add_job
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Job, Plate, Shot, Trial
from amberkeel.store.session import session
from amberkeel.store.solve import Stamps, measures_of, solution_of, stamps_like, store_attempt
from amberkeel.store.stages import is_stale
from amberkeel.store.tracks import live_tracks, to_track_set
from amberkeel.store.trials import change_steps, remedy_of, steps_to_keep, store_outcome, with_stored_tracks


class Try(Arguments):
    """A trial to carry out."""

    trial: int


class Improve(Arguments):
    """How much the loop may try."""

    effort: str = "usual"


@dataclass(frozen=True)
class _Place:
    """What a trial works on: the ground, the shot's tracks, what attempts are made from, the
    plate's row, and the attempt that it is tried on.
    """

    ground: Ground
    tracks: TrackSet
    stamps: Stamps
    row: Plate
    base: int


def _place(settings: Settings, shot_id: int, attempt: int | None) -> _Place:
    """Return what a trial on an attempt works on, the shot's tracks as they are now."""
    row, media = plate_row(settings, shot_id), Media(settings.media)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        base = opened.get(Attempt, attempt or shot.pinned_id or 0)
        if base is None:
            raise KeelError(f"{shot.name} has no attempt to try anything on.", "Solve the camera first.")
        if base.snapshot.get("tracks_stamp") != shot.tracks_stamp:
            raise KeelError("The shot's tracks changed since that attempt.", "Solve again, then try it on what comes.")
        solution, tracks = solution_of(media, base), to_track_set(live_tracks(opened, shot), row)
        stamps, masked = stamps_like(base, shot.tracks_stamp), _masked(opened, media, shot, row)
    try:
        plate = open_row(row)
    except PlateError:
        plate = None
    frames = np.arange(row.first, row.last + 1)
    return _Place(Ground(solution, frames, plate, masked), tracks, stamps, row, base.id)


def _masked(opened: Session, media: Media, shot: Shot, row: Plate):
    """Return a function from a frame to where nothing may be followed, or None."""
    return masked_of(media, live_masks(opened, shot), row.height, row.width)


def diagnose(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Find anew what is weak about the shot's pinned attempt."""
    media = Media(settings.media)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        base = opened.get(Attempt, shot.pinned_id or 0)
        if base is None:
            raise KeelError(f"{shot.name} has no attempt to diagnose.", "Solve the camera first.")
        number, solution, measures = base.id, solution_of(media, base), measures_of(shot.plate)
    progress(0.2, "Looking for what is weak")
    found = [finding_document(one) for one in find(solution, measures)]
    with effect(settings, shot_id, arguments) as opened:
        row = opened.get(Attempt, number)
        row.figures = {**row.figures, "findings": found}
        count_change(opened, opened.get(Shot, shot_id))


def try_remedy(settings: Settings, shot_id: int, arguments: Try, progress: Progress) -> None:
    """Carry out a remedy on an attempt; what comes of it stands beside the others, with both compared."""
    with session(settings.database) as opened:
        trial = opened.get(Trial, arguments.trial)
        if trial is None or trial.shot_id != shot_id:
            raise KeelError("There is no such trial of this shot.")
        remedy, base = remedy_of(trial), trial.base_id
    place, began = _place(settings, shot_id, base), time.monotonic()
    outcome = carry_out(place.ground, remedy, span(progress, 0.0, 0.95))
    comparison = compare(place.ground.solution, outcome.solution, outcome.proof)
    progress(0.97, "Storing what came of it")
    seconds, media = time.monotonic() - began, Media(settings.media)
    with effect(settings, shot_id, arguments, comparison.words) as opened:
        shot, trial = opened.get(Shot, shot_id), opened.get(Trial, arguments.trial)
        attempt, steps = _stored(opened, media, shot, place, outcome.solution, remedy, base, seconds, {})
        store_outcome(opened, media, trial, attempt, comparison, steps)
        count_change(opened, shot)


def _stored(
    opened: Session,
    media: Media,
    shot: Shot,
    place: _Place,
    solution: Solution,
    remedy: Remedy,
    base: int,
    seconds: float,
    known: dict[int, int],
) -> tuple[Attempt, list]:
    """Store what a remedy came to; return its attempt, and the edits that keeping it makes. `known` holds the ids in
    the database of tracks that remedies added, by theirs; those that it adds are put into it.
    """
    solution, added = with_stored_tracks(opened, shot, place.tracks, solution, known)
    attempt = store_attempt(opened, media, shot, solution, place.stamps, base, seconds)
    attempt.name = remedy.words[:80]
    return attempt, change_steps(place.tracks, solution, added, remedy.words[:180])


def movie(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Draw probe objects over the plate as the pinned attempt sees them."""
    media = Media(settings.media)
    with session(settings.database) as opened:
        base = opened.get(Attempt, opened.get(Shot, shot_id).pinned_id or 0)
        if base is None:
            raise KeelError("There is no camera to draw anything with.", "Solve the camera first.")
        number, shot = base.id, opened.get(Shot, shot_id)
        draw = movie_of(opened, media, shot, base, Fraction(shot.plate.fps))
    with TemporaryDirectory() as folder:
        made = Path(folder) / "probe.mp4"
        draw(made, span(progress, 0.0, 0.97))
        digest = media.put_file(made)
    with effect(settings, shot_id, arguments) as opened:
        attempt = opened.get(Attempt, number)
        attempt.figures = {**attempt.figures, "movie": digest}


def improve(settings: Settings, shot_id: int, arguments: Improve, progress: Progress) -> None:
    """Try remedies by themselves and keep what helps; each trial is in the casebook."""
    place, media = _place(settings, shot_id, None), Media(settings.media)
    found: list[tuple[Tried, Solution | None, float]] = []
    began = [time.monotonic()]

    def told(tried: Tried, best: Solution) -> None:
        found.append((tried, best if tried.kept else None, time.monotonic() - began[0]))
        began[0] = time.monotonic()

    base = place.base
    improved(place.ground, arguments.effort, measures_of(place.row), span(progress, 0.0, 0.97), told)
    kept = [tried.remedy.words for tried, *_ in found if tried.kept]
    said = f"Kept {len(kept)} of {len(found)} tried." if kept else f"{len(found)} tried; none made the camera better."
    with effect(settings, shot_id, arguments, said) as opened:
        shot, tracks, stamps = opened.get(Shot, shot_id), place.tracks, place.stamps
        apart = (shot.tracks_stamp, shot.pinned_id) != (stamps.tracks, base)
        if apart:
            opened.info["said"] = "The shot changed meanwhile: what was tried stands in the casebook, nothing is kept."
        known: dict[int, int] = {}
        for tried, solution, seconds in found:
            trial = _record(opened, shot, base, tried, stamps.tracks)
            if solution is None:
                continue
            own = replace(place, tracks=tracks, stamps=stamps)
            attempt, steps = _stored(opened, media, shot, own, solution, tried.remedy, base, seconds, known)
            store_outcome(opened, media, trial, attempt, tried.comparison, steps)
            opened.flush()
            base = attempt.id
            if apart:
                continue
            apply(opened, shot_id, "keep", steps_to_keep(opened, media, shot, trial.id))
            stamps = replace(stamps, tracks=shot.tracks_stamp)
            tracks = to_track_set(live_tracks(opened, shot), place.row)


def _record(opened: Session, shot: Shot, base: int, tried: Tried, stamp: int) -> Trial:
    """Write down a trial of the loop; one that was not kept has no attempt."""
    trial = Trial(
        shot_id=shot.id, base_id=base, finding="", remedy=asdict(tried.remedy), stamp=stamp, who="keel",
        verdict=tried.comparison.verdict if tried.comparison else "", decided="" if tried.kept else "dropped",
        comparison={"words": tried.comparison.words if tried.comparison else tried.failed},
    )  # fmt: skip
    opened.add(trial)
    opened.flush()
    return trial


def work_on(opened: Session, shot: Shot, effort: str) -> bool:
    """Let a shot be worked on in the background: followed and solved where it is not yet, then improved. Return whether
    it is; one whose plate is still coming in, or that is at work, is left alone.
    """
    busy = select(Job.id).where(Job.shot_id == shot.id, Job.state.in_(["queued", "running"])).limit(1)
    if not shot.plate.ready or opened.scalar(busy):
        return False
    todo = ["improve"]
    if not shot.pinned_id or is_stale(shot, opened.get(Attempt, shot.pinned_id)):
        todo = ["solve", *todo]
    if not live_tracks(opened, shot):
        todo = ["follow", *todo]
    own = {"effort": effort} if todo[0] == "improve" else {}
    add_job(opened, todo[0], shot.id, {**own, "then": todo[1:]}, background=True)
    return True
