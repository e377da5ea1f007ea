"""Help inside the application: the artists' pages of the documents, opened at the place the user is at."""

import re
from functools import cache
from pathlib import Path

from flask import Blueprint, abort, redirect, render_template, request, send_from_directory, url_for
from markdown_it import MarkdownIt
from markdown_it.token import Token

blueprint = Blueprint("help", __name__)

PAGES = {
    "desk": "The desk and the board",
    "plate": "Plates",
    "masks": "Masks",
    "tracks": "Tracks",
    "lens": "Lens",
    "casebook": "The casebook",
    "hard-shots": "Shots that will not solve",
    "constraints": "Constraints",
    "world": "World",
    "ties": "One world for many shots",
    "handoff": "Handoff",
    "glossary": "Glossary",
}
"""Pages for artists by the name of their document, in the order of the work."""

OF_STAGE = {"solve": "casebook"}
"""The page of a stage that has none of its own name."""

_DOCS = Path(__file__).parents[3] / "docs"


@cache
def _page(name: str, _changed: float) -> str:
    """Return a document as HTML; its headings bear names, and its links lead to other pages of help."""
    parser = MarkdownIt("commonmark").enable("table")
    tokens = parser.parse((_DOCS / f"{name}.md").read_text())
    for k, token in enumerate(tokens):
        if token.type == "heading_open":
            token.attrSet("id", _anchor(tokens[k + 1].content))
        for part in token.children or []:
            if part.type == "link_open":
                _lead(part)
            elif part.type == "image":
                part.attrSet("src", f"/help/{part.attrGet('src')}")
    return parser.renderer.render(tokens, parser.options, {})


@blueprint.get("/help/pictures/<name>.svg")
def picture(name: str):
    """Send a drawing of the documents."""
    return send_from_directory(_DOCS / "pictures", f"{name}.svg", mimetype="image/svg+xml")


def _anchor(heading: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", heading.lower()).strip("-")


def _lead(link: Token) -> None:
    """Let a link between documents lead to the page of help; others are no links here."""
    name, _, part = str(link.attrGet("href") or "").partition("#")
    stem = name.removesuffix(".md")
    if stem in PAGES:
        link.attrSet("href", f"/help/{stem}{'#' + part if part else ''}")
    else:
        link.tag = "span"
        link.attrs.pop("href", None)


@blueprint.get("/help/")
@blueprint.get("/help/<name>")
def page(name: str = "desk"):
    """Show a page, alone where a drawer asks for it."""
    if name not in PAGES:
        abort(404)
    text = _page(name, (_DOCS / f"{name}.md").stat().st_mtime)
    if request.args.get("part"):
        return text
    return render_template("help.html", pages=PAGES, name=name, text=text)


@blueprint.get("/help/for/<stage>")
def for_stage(stage: str):
    """Lead to the page of a stage."""
    name = stage if stage in PAGES else OF_STAGE.get(stage, "desk")
    part = {"part": "1"} if request.args.get("part") else {}
    return redirect(url_for("help.page", name=name, **part))
