"""Keeping productions in order: names, duplicates, what is put aside, deleted and restored, and what is stored."""

from flask import Blueprint, current_app, jsonify, redirect, render_template, request, url_for
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store import edits, keeping
from amberkeel.store.held import hold_shot
from amberkeel.store.models import Production, Shot, now
from amberkeel.store.storage import clean_up, storage
from amberkeel.web.common import get_production, open_session, shot_to_change
from amberkeel.web.sent import Body, Flag, Whole, Word, sent

blueprint = Blueprint("keeping", __name__)


class Named(Body):
    """A name, and a note on what bears it."""

    name: Word
    note: Word | None = None


class Aside(Body):
    """Whether to put something aside."""

    on: Flag = True


class Moved(Body):
    """The production to move to."""

    production: Whole


@blueprint.post("/shots/<int:number>/name")
def name_shot(number: int):
    """Rename a shot, and change its note; both can be undone on its desk."""
    asked = sent(Named)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        wanted = {"name": asked.name.strip(), **({} if asked.note is None else {"note": asked.note.strip()[:400]})}
        changed = {key: value for key, value in wanted.items() if getattr(shot, key) != value}
        if changed:
            edits.apply(opened, number, "named", changed, asked.revision)
    return jsonify(ok=True)


@blueprint.post("/shots/<int:number>/duplicate")
def duplicate_shot(number: int):
    """Make a duplicate of a shot."""
    asked = sent(Named)
    with open_session() as opened:
        made = keeping.duplicate_shot(opened, shot_to_change(opened, number), asked.name.strip())
        return jsonify(shot=made.id)


@blueprint.post("/shots/<int:number>/move")
def move_shot(number: int):
    """Move a shot to another production."""
    asked = sent(Moved)
    with open_session() as opened:
        keeping.move_shot(opened, shot_to_change(opened, number), get_production(opened, asked.production))
    return jsonify(ok=True)


@blueprint.post("/shots/<int:number>/archive")
@blueprint.post("/productions/<int:number>/archive")
def archive(number: int):
    """Put a shot or a production aside, or take it up again."""
    with open_session() as opened:
        _meant(opened, number).archived = sent(Aside).on
    return jsonify(ok=True)


@blueprint.post("/shots/<int:number>/delete")
@blueprint.post("/productions/<int:number>/delete")
def delete(number: int):
    """Delete a shot, or a production with its shots; they can be restored for some days."""
    with open_session() as opened:
        keeping.delete_row(opened, _meant(opened, number))
    return jsonify(ok=True)


def _meant(opened: Session, number: int) -> Shot | Production:
    """Return the shot or the production that the request's address means."""
    return (shot_to_change if request.path.startswith("/shots/") else get_production)(opened, number)


@blueprint.post("/shots/<int:number>/restore")
def restore_shot(number: int):
    """Bring a deleted shot back."""
    return _restored(Shot, number)


@blueprint.post("/productions/<int:number>/name")
def name_production(number: int):
    """Rename a production, and change its note."""
    asked = sent(Named)
    with open_session() as opened:
        production, name = get_production(opened, number), asked.name.strip()
        keeping.check_production_name(opened, name, number)
        production.name = name
        if asked.note is not None:
            production.note = asked.note.strip()[:400]
    return jsonify(ok=True)


@blueprint.post("/productions/<int:number>/duplicate")
def duplicate_production(number: int):
    """Make a duplicate of a production with all its shots."""
    asked = sent(Named)
    with open_session() as opened:
        made = keeping.duplicate_production(opened, get_production(opened, number), asked.name.strip())
        return jsonify(production=made.id)


@blueprint.post("/productions/<int:number>/restore")
def restore_production(number: int):
    """Bring a deleted production back."""
    return _restored(Production, number)


def _restored(table: type[Shot] | type[Production], number: int):
    with open_session() as opened:
        row = hold_shot(opened, number) if table is Shot else opened.get(table, number)
        if row is None:
            raise KeelError("That is gone for good.")
        keeping.restore(opened, row)
        return jsonify(name=row.name)


@blueprint.get("/storage")
def page():
    """Show what is stored by shot, what was deleted, and what could be cleaned up."""
    with open_session() as opened:
        held = storage(opened, current_app.settings.media)
        productions = list(opened.scalars(select(Production).order_by(Production.name)))
        rows = [_row(shot, held.shots.get(shot.id, 0)) for shot in opened.scalars(select(Shot))]
        rows.sort(key=lambda row: -row["bytes"])
        return render_template(
            "storage.html",
            total=size_words(held.total),
            most=max((row["bytes"] for row in rows), default=1) or 1,
            rows=[row for row in rows if not row["days"]],
            deleted=[row for row in rows if row["days"]],
            productions=[(p, _days_left(p)) for p in productions if p.deleted],
            loose=size_words(held.loose_bytes),
            loose_count=len(held.loose),
        )


@blueprint.post("/storage/clean")
def clean():
    """Remove what nothing refers to, and what was deleted long ago."""
    keeping.purge(current_app.settings.database)
    with open_session() as opened:
        clean_up(opened, current_app.settings.media)
    return redirect(url_for("keeping.page"))


def _days_left(row: Shot | Production) -> int:
    """Return for how many days something deleted is kept still, 0 for what is not deleted."""
    return max(1, (row.deleted + keeping.KEPT_FOR - now()).days) if row.deleted else 0


def _row(shot: Shot, size: int) -> dict:
    return {
        "shot": shot,
        "production": shot.production.name,
        "bytes": size,
        "size": size_words(size),
        "days": _days_left(shot),
    }


def size_words(size: int) -> str:
    """Return a number of bytes as people read it."""
    if size < 1e6:
        return f"{size / 1e3:.0f} kB"
    return f"{size / 1e6:.1f} MB" if size < 1e9 else f"{size / 1e9:.2f} GB"
