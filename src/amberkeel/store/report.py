"""The verdict on a shot's attempt: all that its page is made of, reviews, and the movie."""

from collections.abc import Sequence
from dataclasses import replace
from html import escape
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import SERIOUS
from amberkeel.core.errors import KeelError
from amberkeel.core.report.page import Made, Report, Tried
from amberkeel.core.solve.solution import Solution
from amberkeel.core.world.datum import Datum
from amberkeel.store.casebook import casebook
from amberkeel.store.casebook.verdict import verdict
from amberkeel.store.held import count_change
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Review, Shot
from amberkeel.store.solve import ledger, solution_of
from amberkeel.store.trials import trials_of
from amberkeel.store.world import datum_where_found

FONTS = Path(__file__).parents[1] / "web" / "static" / "vendor" / "fonts"
"""Where the typeface's files are, which a PDF takes along."""


def pinned_attempt(session: Session, shot: Shot) -> Attempt:
    """Return the attempt in use; raises KeelError where there is none."""
    attempt = session.get(Attempt, shot.pinned_id) if shot.pinned_id else None
    if attempt is None:
        raise KeelError("There is no verdict yet.", "Solve the shot and pin an attempt.")
    return attempt


def report_of(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Report:
    """Return what a verdict on an attempt of a shot is made of, in the shot's world where its datum can be found."""
    datum, _ = datum_where_found(session, media, shot, attempt)
    mm = shot.plate.sensor_width_mm / shot.plate.width
    said = verdict(attempt)
    when = attempt.created.strftime("%d %b %Y, %H:%M")
    name = attempt.name or f"Attempt {attempt.number}"
    return Report(
        shot.name, f"{shot.production.name} · {name} of {when} UTC · {shot.plate.label}", said["words"] if said else "",
        in_world(solution_of(media, attempt), datum), mm, casebook(session, shot, attempt), _tried(session, shot),
        _made(session, shot),
    )  # fmt: skip


def in_world(solution: Solution, datum: Datum) -> Solution:
    """Return a solution in a datum's world: path, points, and how both move."""
    return replace(
        solution,
        path=datum.camera(solution.path),
        points=datum.points(solution.points),
        position_sigma=solution.position_sigma * datum.scale,
        shifts=solution.shifts and solution.shifts.moved(datum.scale, datum.rotation),
    )


def _tried(session: Session, shot: Shot) -> list[Tried]:
    return [
        Tried(
            one["words"], one["who"], one["when"].replace("T", " "),
            one["comparison"].get("words") or one["error"] or one["state"], one["decided"],
        )
        for one in trials_of(session, shot)
    ]  # fmt: skip


def _made(session: Session, shot: Shot) -> list[Made]:
    return [
        Made(
            f"{row.number}: {row.name}" if row.name else f"Attempt {row.number}", row.figures["rms_px"],
            row.figures["check_rms_px"], f"{row.figures['focal_mm']:.2f} mm", row.figures["tracks_used"],
            row.id == shot.pinned_id,
        )
        for row in ledger(session, shot)
    ]  # fmt: skip


def reviews_of(session: Session, shot: Shot) -> list[Review]:
    """Return what reviewers said of a shot's attempts, newest first."""
    return list(session.scalars(select(Review).where(Review.shot_id == shot.id).order_by(Review.id.desc())))


def reviews_said(session: Session, shot: Shot) -> str:
    """Return what reviewers said as HTML, after a report's sections; texts that came from people are escaped."""
    rows = [(row, session.get(Attempt, row.attempt_id)) for row in reviews_of(session, shot)]
    said = "".join(
        f"<li>{'Signed off' if row.signed else 'Sent back'} by {escape(row.who)}, {row.created:%d %b %Y %H:%M}, "
        f"attempt {attempt.number if attempt else '–'}. {escape(row.note)} {escape(row.reason)}</li>"
        for row, attempt in rows
    )
    return f"<h2>Reviews</h2><ul>{said}</ul>" if said else ""


def signed_shots(session: Session, shots: Sequence[Shot]) -> set[int]:
    """Return the numbers of those shots whose attempt in use was signed off, by the last word on it."""
    pinned = {shot.pinned_id: shot.id for shot in shots if shot.pinned_id}
    last = select(func.max(Review.id)).where(Review.attempt_id.in_(pinned)).group_by(Review.attempt_id)
    rows = session.execute(select(Review.attempt_id, Review.signed).where(Review.id.in_(last)))
    return {pinned[attempt] for attempt, signed in rows if signed}


def review(session: Session, shot: Shot, signed: bool, note: str, frames: str, reason: str, who: str) -> Review:
    """Keep a reviewer's word on the attempt in use.

    Parameters
    ----------
    session, shot : open, and of which. signed : off, or sent back. note : to the artist. frames : that it is about.
    reason : why it is signed off with serious findings open. who : says so.

    Raises
    ------
    KeelError : it is sent back without a note, or signed off with serious findings open and no reason.
    """
    attempt = pinned_attempt(session, shot)
    open_ = [one.text for one in casebook(session, shot, attempt) if one.severity == SERIOUS]
    if not signed and not note.strip():
        raise KeelError("Say what is to be done.", "A shot that is sent back needs a note.")
    if signed and open_ and not reason.strip():
        many = "A serious finding is" if len(open_) == 1 else f"{len(open_)} serious findings are"
        raise KeelError(f"{many} open: {open_[0]}", "Give a reason to sign it off all the same; it is kept.")
    row = Review(
        shot_id=shot.id, attempt_id=attempt.id, signed=signed, note=note.strip()[:2000], frames=frames.strip()[:200],
        reason=reason.strip()[:1000], findings=open_, who=who,
    )  # fmt: skip
    session.add(row)
    count_change(session, shot)
    session.flush()
    return row
