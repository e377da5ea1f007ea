"""The verdict page: figures and charts of the attempt in use, what was tried, sign-off, and the movie."""

from flask import Blueprint, Response, abort, redirect, render_template, request, send_file, url_for
from markupsafe import Markup

from amberkeel.core.errors import KeelError
from amberkeel.core.report.page import section_style, sections, whole_page
from amberkeel.core.report.pdf import pdf_of
from amberkeel.store.models import Attempt, Review
from amberkeel.store.report import FONTS, pinned_attempt, report_of, review, reviews_of, reviews_said
from amberkeel.web.common import get_shot, media, open_session, send_text, shot_to_change, stem_of, who
from amberkeel.web.jobs import start

blueprint = Blueprint("verdict", __name__)


@blueprint.get("/shots/<int:number>/verdict")
def show(number: int):
    """Show the verdict on a shot's attempt in use."""
    return _page(number)


def _page(number: int, trouble: str = "", typed: dict | None = None):
    with open_session() as opened:
        shot = get_shot(opened, number)
        attempt = pinned_attempt(opened, shot)
        report = report_of(opened, media(), shot, attempt)
        return render_template(
            "verdict.html", shot=shot, production=shot.production, attempt=attempt, report=report,
            body=Markup(sections(report)), style=Markup(section_style()),
            reviews=_said(reviews_of(opened, shot), opened), trouble=trouble, typed=typed or {},
            serious=[f for f in report.findings if f.severity == "serious"],
        )  # fmt: skip


def _said(rows: list[Review], opened) -> list[dict]:
    """Return reviews as the page shows them."""
    return [
        {
            "signed": row.signed, "note": row.note, "frames": row.frames, "reason": row.reason, "who": row.who,
            "when": row.created.strftime("%d %b %Y %H:%M"), "attempt": opened.get(Attempt, row.attempt_id).number,
            "attempt_id": row.attempt_id, "findings": row.findings,
        }
        for row in rows
    ]  # fmt: skip


@blueprint.post("/shots/<int:number>/review")
def say(number: int):
    """Sign the attempt in use off, or send it back with a note."""
    typed = {key: request.form.get(key, "") for key in ("note", "frames", "reason")}
    try:
        with open_session() as opened:
            shot = shot_to_change(opened, number)
            review(opened, shot, request.form.get("word") == "sign", **typed, who=who())
    except KeelError as error:
        return _page(number, str(error), typed), 409
    return redirect(url_for("verdict.show", number=number) + "#said")


@blueprint.get("/shots/<int:number>/verdict.<string:kind>")
def download(number: int, kind: str):
    """Send the verdict as one file that needs nothing beside it: HTML, or PDF."""
    if kind not in ("html", "pdf"):
        abort(404)
    with open_session() as opened:
        shot = get_shot(opened, number)
        page = whole_page(report_of(opened, media(), shot, pinned_attempt(opened, shot)), reviews_said(opened, shot))
        name = f"{stem_of(shot.name)}_verdict"
    if kind == "html":
        return send_text(page, "text/html", f"{name}.html")
    answer = Response(pdf_of(page, FONTS), mimetype="application/pdf")
    answer.headers["Content-Disposition"] = f'attachment; filename="{name}.pdf"'
    return answer


@blueprint.post("/shots/<int:number>/movie")
def movie(number: int):
    """Draw probe objects over the plate as a movie, in the background."""
    return start("movie", number, {})


@blueprint.get("/attempts/<int:number>/movie.mp4")
def watch(number: int):
    """Send an attempt's movie."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        get_shot(opened, row.shot_id)
        digest = row.figures.get("movie") or abort(404)
    return send_file(media().path(digest), mimetype="video/mp4", conditional=True)
