"""The desk's data: tracks, attempts and points as JSON, and the edits that change them."""

import numpy as np
from flask import Blueprint, abort, jsonify, request, send_file

from amberkeel.core.errors import KeelError
from amberkeel.core.follow.detect import DetectSettings, find_features
from amberkeel.core.handoff.document import document_in_world, read_path
from amberkeel.core.handoff.wording import sentence
from amberkeel.core.units import METRES
from amberkeel.core.world.datum import IDENTITY
from amberkeel.core.world.probe import card_outlines
from amberkeel.jobs.plates import followed_images
from amberkeel.store import edits
from amberkeel.store.findings import findings
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.solves import arrays_of, datum_of, document_of, ledger, reasons_of
from amberkeel.store.stages import is_stale, lens_changed, masks_changed, pinned, placed_by_lines, stages
from amberkeel.store.tracks import live_tracks
from amberkeel.web.camera import camera_of
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.sent import sent

blueprint = Blueprint("data", __name__)

FROM_PAGES = ("states", "tracks", "pin")
"""Edits that a page may ask for as they are; all others have views of their own."""


@blueprint.get("/frames/<digest>.jpg")
def frame(digest: str):
    """Send a proxy; it never changes, so the browser may keep it."""
    try:
        answer = send_file(media().path(digest), mimetype="image/jpeg", conditional=True, etag=False)
    except (KeelError, FileNotFoundError):
        abort(404)
    answer.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@blueprint.get("/shots/<int:number>/state.json")
def state(number: int):
    """Send what changes with edits and jobs."""
    with open_session() as opened:
        return jsonify(shot_state(opened, get_shot(opened, number)))


def shot_state(opened, shot: Shot) -> dict:
    """Return what the desk's panels show of a shot."""
    past = edits.history(opened, shot.id)
    undo = next((e.label for e in past if not e.undone), None)
    redo = next((e.label for e in reversed(past) if e.undone), None)
    plate = shot.plate
    return {
        "revision": shot.revision,
        "tracks_stamp": shot.tracks_stamp,
        "undo": undo,
        "redo": redo,
        "history": [{"label": e.label, "undone": e.undone, "at": e.created.isoformat()} for e in past],
        "proxies": plate.proxies if plate.ready else [],
        "stages": [{"key": s.key, "state": s.state, "words": s.words, "fact": s.fact} for s in stages(opened, shot)],
        "pinned": shot.pinned_id,
        "attempts": [_attempt(a, shot) for a in ledger(opened, shot)],
        "datum": shot.datum,
        "placed": placed_by_lines(shot.datum or {}),
        "groups": shot.groups,
        "sightings": shot.sightings,
        "tags": shot.tags,
        "blur": plate.blur,
        "stack": plate.stack,
        "replaced": plate.replaced,
        "lens_stamp": shot.lens_stamp,
        "camera": camera_of(shot),
        "findings": findings(opened, shot, pinned(opened, shot)),
    }


def _attempt(attempt: Attempt, shot: Shot) -> dict:
    return {
        "id": attempt.id,
        "number": attempt.number,
        "figures": attempt.figures,
        "recipe": attempt.recipe,
        "masks": attempt.snapshot.get("masks", 0),
        "stale": "tracks changed" if is_stale(shot, attempt) else "masks changed" if masks_changed(shot, attempt) else "lens changed" if lens_changed(shot, attempt) else "",
        "created": attempt.created.isoformat(timespec="minutes"),
    }


@blueprint.get("/shots/<int:number>/tracks.json")
def tracks(number: int):
    """Send a shot's tracks in columns: samples of track k are first[k] to first[k + 1]."""
    with open_session() as opened:
        rows = live_tracks(opened, get_shot(opened, number))
    first = np.concatenate([[0], np.cumsum([len(t.frames) for t in rows])]).astype(int)
    return jsonify(
        ids=[t.id for t in rows],
        names=[t.name for t in rows],
        kinds=[t.kind for t in rows],
        states=[t.state for t in rows],
        first=first.tolist(),
        frames=[f for t in rows for f in t.frames],
        x=[round(v, 3) for t in rows for v in t.x],
        y=[round(v, 3) for t in rows for v in t.y],
        sigma=[round(v, 3) for t in rows for v in t.sigma],
        score=[round(v, 3) for t in rows for v in t.score],
        keys=[t.keys for t in rows],
        groups=[t.group for t in rows],
        locked=[t.id for t in rows if t.locked],
        images=[t.made.get("images", "") for t in rows],
        settings={t.id: t.made["settings"] for t in rows if "settings" in t.made},
    )


@blueprint.get("/attempts/<int:number>.json")
def attempt(number: int):
    """Send an attempt: residuals in columns, points and cameras in the shot's world, and the checker card."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        shot = get_shot(opened, row.shot_id)
        kept, document = arrays_of(media(), row), document_of(media(), row)
        trouble = ""
        try:
            datum = datum_of(opened, media(), shot, row)
        except KeelError as error:
            datum, trouble = IDENTITY, str(error)
    world = document_in_world(document, datum)
    residual = np.nan_to_num(kept["residual"], nan=0.0)
    return jsonify(
        id=row.id,
        number=row.number,
        trouble=trouble,
        reasons={track: sentence(reason) for track, reason in reasons_of(row).items()},
        states=row.snapshot["states"],
        track_ids=kept["track_id"].tolist(),
        track_rms=[None if not np.isfinite(v) else round(float(v), 4) for v in kept["track_rms"]],
        track=kept["track"].tolist(),
        frame=kept["frame"].tolist(),
        dx=residual[:, 0].round(3).tolist(),
        dy=residual[:, 1].round(3).tolist(),
        sigma=np.hypot(kept["sigma"], 0.05).round(3).tolist(),
        aside=(kept["outlier"] | ~np.isfinite(kept["residual"][:, 0])).astype(int).tolist(),
        frame_rms=[None if not np.isfinite(v) else round(float(v), 4) for v in kept["frame_rms"]],
        world=world,
        ground_rms=datum.ground_rms,
        card=_card(shot, world),
    )


def _card(shot: Shot, world: dict) -> list | None:
    """Return the checker card's outlines by frame, for a shot whose ground is known: from tracks, or from lines with a scale."""
    kept = shot.datum or {}
    placed = placed_by_lines(kept)
    if "ground" not in kept and not placed:
        return None
    path = read_path(world)
    xyz = np.array([p["xyz"] for p in world["points"] if p["state"] != "excluded"])
    low = xyz[np.abs(xyz[:, 1]) < 0.15 * np.median(np.abs(xyz))]
    centre = np.zeros(3)
    if "origin" not in kept and not placed and len(low):
        centre = np.array([np.median(low[:, 0]), 0.0, np.median(low[:, 2])])
    reach = float(np.linalg.norm(path.positions[0] - centre))
    outlines = card_outlines(path, centre, 0.28 * reach)
    return [[np.round(p, 2).tolist() for p in frame] for frame in outlines]


@blueprint.post("/shots/<int:number>/preview")
def preview(number: int):
    """Find features on one frame with settings that are not run yet."""
    asked = sent()
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    at = asked.whole("frame")
    if not plate.first <= at <= plate.last:
        raise KeelError(f"The plate has no frame {at}.")
    images, _ = followed_images(plate, str(asked.get("images", "plate")))
    found = find_features(images.gray(at), detect_settings(asked))
    return jsonify(features=found.round(1).tolist())


def detect_settings(asked: dict) -> DetectSettings:
    """Return settings for finding features, within their limits."""

    def number(name: str, default: float, low: float, high: float) -> float:
        try:
            value = float(asked.get(name, default) or default)
        except (TypeError, ValueError):
            raise KeelError(f"“{asked.get(name)}” is no number.") from None
        if not low <= value <= high:
            raise KeelError(f"{name.capitalize()} must lie between {low:g} and {high:g}.")
        return value

    return DetectSettings(int(number("count", 400, 20, 5000)), number("spacing", 0.0, 0, 300), number("threshold", 0.08, 0.005, 1.0))


@blueprint.post("/shots/<int:number>/edit")
def edit(number: int):
    """Make an edit; refuse one made on an older state."""
    asked = sent()
    if asked.get("kind") not in FROM_PAGES:
        raise KeelError(f"There is no edit “{asked.get('kind')}”.")
    with open_session() as opened:
        edits.apply(opened, number, str(asked["kind"]), asked.part("payload"), asked.get("revision"))
        return jsonify(shot_state(opened, get_shot(opened, number)))


@blueprint.post("/shots/<int:number>/undo")
@blueprint.post("/shots/<int:number>/redo")
def step(number: int):
    """Undo or redo one edit."""
    with open_session() as opened:
        move = edits.undo if request.path.endswith("undo") else edits.redo
        label = move(opened, number)
        return jsonify({**shot_state(opened, get_shot(opened, number)), "said": label})


@blueprint.post("/shots/<int:number>/datum")
def datum(number: int):
    """Set ground, origin or scale from selected tracks, after trying it on the pinned attempt."""
    asked = sent()
    what, ids = asked.word("what"), asked.wholes("tracks")
    with open_session() as opened:
        shot = get_shot(opened, number)
        chosen = dict(shot.datum or {})
        if what == "clear":
            chosen, label = {}, "Clear the datum"
        else:
            chosen[what], label = _datum_part(what, ids, asked)
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        if row is None:
            raise KeelError("There is no pinned attempt.", "Solve first; the datum is set on solved points.")
        before, shot.datum = shot.datum, chosen
        datum_of(opened, media(), shot, row)
        shot.datum = before
        edits.apply(opened, number, "datum", {"datum": chosen, "label": label}, asked.get("revision"))
        return jsonify(shot_state(opened, get_shot(opened, number)))


def _datum_part(what: str, ids: list[int], asked: dict):
    if what == "ground":
        if len(ids) < 3:
            raise KeelError("A ground needs three tracks or more.", "Select them on the plate or in the list.")
        return ids, f"Ground from {len(ids)} tracks"
    if what == "origin":
        if len(ids) != 1:
            raise KeelError("The origin is one track.", "Select just one.")
        return ids, "Origin from a track"
    if what == "scale":
        if len(ids) != 2:
            raise KeelError("A scale needs two tracks.", "Select the two whose distance was measured.")
        unit = asked.get("unit", "m")
        try:
            typed = float(str(asked.get("distance", "")).replace(",", "."))
        except ValueError:
            raise KeelError(f"“{asked.get('distance')}” is no distance.", "Type a number, such as 2.45.") from None
        if unit not in METRES or not 0.0 < typed < 1e6:
            raise KeelError("The distance must be more than zero, in mm, cm, m, in or ft.")
        return {"tracks": ids, "metres": typed * METRES[unit], "typed": typed, "unit": unit}, f"Scale {typed:g} {unit}"
    raise KeelError(f"There is no part “{what}” of the datum.")

