"""Trials of remedies: asked for, stored with what came of them, kept or dropped."""

import json
from collections.abc import Sequence
from dataclasses import asdict, replace

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import Remedy, read_remedy
from amberkeel.core.errors import KeelError
from amberkeel.core.repair.compare import Comparison
from amberkeel.core.repair.remedies import REMEDIES
from amberkeel.core.solve.compare_paths import departure
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED, TrackSet
from amberkeel.store.held import count_change
from amberkeel.store.jobs import add_job
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Job, Shot, Trial
from amberkeel.store.solve import path_of
from amberkeel.store.tracks import add_run
from amberkeel.store.world import datum_where_found

KEPT, DROPPED = "kept", "dropped"

RUNNING = ("queued", "running")

SAME_PX = 5e-5
"""Difference of a position, or of its noise, up to which it counts as unchanged, pixels."""

MOST_TRIED = 12
"""Remedies that can be tried at once."""


def begin_trials(session: Session, shot: Shot, remedies: Sequence[tuple[str, Remedy]], who: str) -> list[Trial]:
    """Ask for trials of remedies on the shot's pinned attempt, each a job of its own.

    Parameters
    ----------
    session : open. shot : with a pinned attempt. remedies : each with the kind of the finding that it is for.
    who : asks.

    Raises
    ------
    KeelError : nothing is solved, there is nothing to try, or too much at once.
    """
    if not shot.pinned_id:
        raise KeelError("There is no attempt to try anything on.", "Solve the camera first.")
    tried = [(kind, one) for kind, one in remedies if one.code in REMEDIES]
    if not tried:
        raise KeelError("There is nothing among these that could be tried.", "The advice is for a person to follow.")
    if len(tried) > MOST_TRIED:
        raise KeelError(f"{len(tried)} trials at once are too many.", f"Choose up to {MOST_TRIED}.")
    out = []
    for kind, one in tried:
        trial = Trial(
            shot_id=shot.id, base_id=shot.pinned_id, finding=kind, remedy=asdict(one), stamp=shot.tracks_stamp, who=who
        )
        session.add(trial)
        session.flush()
        trial.job_id = add_job(session, "trial", shot.id, {"trial": trial.id}).id
        out.append(trial)
    count_change(session, shot)
    return out


def store_outcome(
    session: Session, media: Media, trial: Trial, attempt: Attempt, comparison: Comparison, steps: list
) -> None:
    """Put into a trial what came of it: its attempt, how it compares, and the edits that keeping it makes."""
    trial.attempt_id, trial.verdict, trial.comparison = attempt.id, comparison.verdict, _clean(asdict(comparison))
    trial.change = media.put(json.dumps(steps).encode())


def _clean(values: dict) -> dict:
    """Return values for JSON, what is no number as null."""
    return json.loads(json.dumps(values), parse_constant=lambda _: None)


def with_stored_tracks(
    session: Session, shot: Shot, before: TrackSet, solution: Solution, known: dict[int, int]
) -> tuple[Solution, list[int]]:
    """Store the tracks that a remedy added, hidden until it is kept.

    Parameters
    ----------
    session, shot : open, and whose tracks they are. before : the shot's tracks. solution : of the remedy. known : ids
        in the database by those of the solution, of tracks that remedies before it added; what is stored is put in.

    Returns
    -------
    The solution with the database's ids, and those of the tracks stored now.
    """
    solution = renumbered(solution, known)
    fresh = ~np.isin(solution.tracks.ids, before.ids)
    if not fresh.any():
        return solution, []
    added = add_run(session, shot, solution.tracks.take(fresh), {"remedy": "more features"})
    own = dict(zip(solution.tracks.ids[fresh].tolist(), added))
    known |= own
    return renumbered(solution, own), added


def renumbered(solution: Solution, numbers: dict[int, int]) -> Solution:
    """Return a solution with other ids of its tracks, by the ones it has."""
    if not numbers:
        return solution

    def new(ids: np.ndarray) -> np.ndarray:
        return np.array([numbers.get(int(i), int(i)) for i in ids], np.int64)

    tracks = replace(solution.tracks, ids=new(solution.tracks.ids))
    reasons = {numbers.get(i, i): reason for i, reason in solution.reasons.items()}
    points = replace(solution.points, ids=new(solution.points.ids))
    return replace(solution, tracks=tracks, points=points, reasons=reasons)


def change_steps(before: TrackSet, solution: Solution, added: list[int], label: str) -> list:
    """Return the edits that make a shot's tracks those that a trial solved: kinds with their payloads.

    Parameters
    ----------
    before : the shot's tracks that the trial began from. solution : what came of it. added : ids of tracks that it
        made. label : what is done, for the history.
    """
    after = solution.tracks
    rows = {int(i): t for t, i in enumerate(after.ids)}
    put, drop, out = {}, {}, []
    for t, number in enumerate(before.ids.tolist()):
        own = rows.get(int(number))
        if own is None:
            continue
        if after.states[own] == EXCLUDED and number not in solution.reasons and before.states[t] != EXCLUDED:
            out.append(int(number))
        new, gone = _difference(before, before.rows(t), after, after.rows(own))
        if new:
            put[str(number)] = new
        if gone:
            drop[str(number)] = gone
    steps: list = []
    if put or drop or added:
        steps.append(["samples", {"label": label, "put": put, "drop": drop, "bring": added}])
    if out:
        steps.append(["states", {"states": {EXCLUDED: out}}])
    return steps


def _difference(before: TrackSet, a: slice, after: TrackSet, b: slice) -> tuple[dict, list[int]]:
    """Return the samples that a track has anew or elsewhere, as an edit puts them in, and the frames that it lost."""
    old, new = before.frames[a], after.frames[b]
    gone = np.setdiff1d(old, new).tolist()
    at = np.searchsorted(old, new)
    there = (at < len(old)) & (old[np.minimum(at, len(old) - 1)] == new) if len(old) else np.zeros(len(new), bool)
    rows = np.minimum(at, max(len(old) - 1, 0))
    same = there.copy()
    if len(old):
        moved = np.abs(after.xy[b] - before.xy[a][rows]).max(1, initial=0.0)
        same &= (moved < SAME_PX) & (np.abs(after.sigma[b] - before.sigma[a][rows]) < SAME_PX)
    k = np.nonzero(~same)[0]
    if not len(k):
        return {}, gone
    part = {
        "frames": new[k].tolist(),
        "x": after.xy[b][k, 0].round(4).tolist(),
        "y": after.xy[b][k, 1].round(4).tolist(),
        "sigma": after.sigma[b][k].round(4).tolist(),
        "score": after.score[b][k].round(4).tolist(),
    }
    return part, gone


def trials_of(session: Session, shot: Shot, most: int = 40) -> list[dict]:
    """Return a shot's trials, newest first, as the casebook shows them: what was tried, by whom, with what result."""
    own = select(Trial, Job.state, Job.error, Job.progress).outerjoin(Job, Job.id == Trial.job_id)
    rows = session.execute(own.where(Trial.shot_id == shot.id).order_by(Trial.id.desc()).limit(most)).all()
    numbers = dict(session.execute(select(Attempt.id, Attempt.number).where(Attempt.shot_id == shot.id)).all())
    return [_row(shot, numbers, *row) for row in rows]


def _row(shot: Shot, numbers: dict, trial: Trial, state: str | None, error: str | None, progress: float | None) -> dict:
    done = trial.attempt_id is not None
    return {
        "id": trial.id,
        "finding": trial.finding,
        "words": trial.remedy["words"],
        "code": trial.remedy["code"],
        "base": numbers.get(trial.base_id),
        "attempt": trial.attempt_id,
        "number": numbers.get(trial.attempt_id),
        "state": "done" if done else state or "failed",
        "progress": progress or 0.0,
        "error": "" if done else error or "",
        "verdict": trial.verdict,
        "comparison": trial.comparison,
        "decided": trial.decided,
        "job": trial.job_id,
        "stale": not trial.decided and (trial.stamp != shot.tracks_stamp or trial.base_id != shot.pinned_id),
        "who": trial.who,
        "when": trial.created.isoformat(timespec="minutes"),
    }


def own_trial(session: Session, shot: Shot, number: int) -> Trial:
    """Return a shot's trial; raises KeelError when there is no such one."""
    trial = session.get(Trial, number)
    if trial is None or trial.shot_id != shot.id:
        raise KeelError("There is no such trial of this shot.")
    return trial


def departure_of(session: Session, media: Media, shot: Shot, trial: Trial) -> dict:
    """Return where a trial's camera goes otherwise than that of its base, in the base's world, as plain values.

    Raises
    ------
    KeelError : the trial has come to no camera, or the two have no frames in common.
    """
    base, own = (session.get(Attempt, k) if k else None for k in (trial.base_id, trial.attempt_id))
    if base is None or own is None:
        raise KeelError("This trial has no camera to lay over another.", "Wait for it, or try again.")
    datum, _ = datum_where_found(session, media, shot, base)
    apart = departure(datum.camera(path_of(media, base)), path_of(media, own))
    return {
        "frames": apart.frames.tolist(), "before": apart.before.tolist(), "after": apart.after.tolist(),
        "factor": apart.factor,
    }  # fmt: skip


def steps_to_keep(session: Session, media: Media, shot: Shot, number: int) -> dict:
    """Return the payload of the edit that keeps a trial.

    Raises
    ------
    KeelError : it has come to nothing yet, was decided, or the shot changed underneath.
    """
    trial = own_trial(session, shot, number)
    if trial.attempt_id is None:
        raise KeelError("This trial has come to nothing yet.", "Wait for it, or try again.")
    if trial.decided == KEPT:
        raise KeelError("This trial is kept already.")
    if trial.stamp != shot.tracks_stamp:
        raise KeelError("The shot's tracks changed since this was tried.", "Try it again on what is there now.")
    return {"trial": trial.id, "attempt": trial.attempt_id, "steps": json.loads(media.get(trial.change))}


def remedy_of(trial: Trial) -> Remedy:
    """Return what a trial tries."""
    return read_remedy(trial.remedy)
