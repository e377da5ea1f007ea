"""What the desk's panels show of a shot: all that changes with edits and jobs."""

from flask import Blueprint, Response, jsonify

from amberkeel.core.handoff.evidence_wording import fights
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.solve.terms import Figure
from amberkeel.store import edits
from amberkeel.store.casebook import findings
from amberkeel.store.casebook.verdict import verdict
from amberkeel.store.ledger_words import changes
from amberkeel.store.lens import camera_of
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.solve import ledger
from amberkeel.store.stages import is_stale, lens_changed, masks_changed, pinned, placed_by_lines, stages
from amberkeel.store.trials import trials_of
from amberkeel.web.common import get_shot, open_session

blueprint = Blueprint("state", __name__)


@blueprint.get("/shots/<int:number>/state.json")
def state(number: int):
    """Send what changes with edits and jobs."""
    with open_session() as opened:
        return jsonify(shot_state(opened, get_shot(opened, number)))


def edited(opened, number: int, kind: str, payload: dict, revision: int | None) -> Response:
    """Make an edit of a shot and answer with its state then."""
    edits.apply(opened, number, kind, payload, revision)
    return jsonify(shot_state(opened, get_shot(opened, number)))


def shot_state(opened, shot: Shot) -> dict:
    """Return what the desk's panels show of a shot."""
    undo, redo = edits.next_steps(opened, shot.id)
    plate, attempt = shot.plate, pinned(opened, shot)
    return {
        "revision": shot.revision,
        "tracks_stamp": shot.tracks_stamp,
        "masks_stamp": shot.masks_stamp,
        "undo": undo,
        "redo": redo,
        "proxies": plate.proxies if plate.ready else [],
        "stages": [{"key": s.key, "state": s.state, "words": s.words, "fact": s.fact} for s in stages(opened, shot)],
        "pinned": shot.pinned_id,
        "attempts": _attempts(ledger(opened, shot), shot),
        "datum": shot.datum,
        "scene": shot.scene,
        "constraints": shot.constraints,
        "verdict": verdict(attempt),
        "lacks": _lacks(attempt),
        "placed": placed_by_lines(shot.datum or {}),
        "groups": shot.groups,
        "sightings": shot.sightings,
        "tags": shot.tags,
        "blur": plate.blur,
        "odd": plate.odd,
        "files": [plate.label, plate.first, plate.last],
        "stack": plate.stack,
        "replaced": plate.replaced,
        "lens_stamp": shot.lens_stamp,
        "camera": camera_of(shot),
        "findings": findings(opened, shot, attempt),
        "trials": trials_of(opened, shot),
        "undiagnosed": attempt is not None and "findings" not in attempt.figures,
    }


def _attempts(rows: list[Attempt], shot: Shot) -> list[dict]:
    """Return the attempts, newest first, each with what it changed against the one it came from or that before it."""
    by_id = {row.id: row for row in rows}
    before = [*rows[1:], None]
    return [
        _attempt(row, shot, by_id.get(row.snapshot.get("parent") or 0), earlier) for row, earlier in zip(rows, before)
    ]


def _lacks(attempt: Attempt | None) -> dict[str, list[str]]:
    """Return what each file cannot say of the camera of an attempt, by its name."""
    if attempt is None:
        return {}
    distorted, readout = bool(attempt.figures.get("k1")), attempt.figures.get("readout", 0.0)
    return {one.name: one.lacking(distorted, readout) for one in FORMATS.values()}


def _judged(terms: list[dict]) -> list[dict]:
    """Return what constraints say with whether each fights the tracks or another one."""
    return [{**term, "fights": fights(Figure(**term))} for term in terms]


def _attempt(attempt: Attempt, shot: Shot, parent: Attempt | None, earlier: Attempt | None) -> dict:
    return {
        "parent": parent.number if parent else None,
        "changes": changes(attempt, parent or earlier),
        "id": attempt.id,
        "number": attempt.number,
        "slip": attempt.slip,
        "name": attempt.name,
        "note": attempt.note,
        "figures": {**attempt.figures, "terms": _judged(attempt.figures.get("terms", []))},
        "recipe": attempt.recipe,
        "masks": attempt.snapshot.get("masks", 0),
        "stale": "tracks changed"
        if is_stale(shot, attempt)
        else "masks changed"
        if masks_changed(shot, attempt)
        else "lens changed"
        if lens_changed(shot, attempt)
        else "",
        "created": attempt.created.isoformat(timespec="minutes"),
    }
