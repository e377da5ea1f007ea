"""Starting, following and cancelling jobs."""

import json
import math
import time

from flask import Blueprint, Response, current_app, jsonify
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.solve.lens_plan import FIXED, FREE, SOFT
from amberkeel.core.solve.radial_lens import LENS_NAMES
from amberkeel.jobs.plates import IMAGES
from amberkeel.jobs.queue import send
from amberkeel.store.jobs import submit
from amberkeel.store.models import Job, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import live_tracks
from amberkeel.web.camera import KNOWN, UNKNOWN, checked_state, sigma_mm
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.data import detect_settings
from amberkeel.web.sent import sent

blueprint = Blueprint("jobs", __name__)

START_SHARE = 0.1
"""One sigma of a start value for the focal length where none is typed, as a share of it."""

STREAM_S = 600
"""Longest life of one event stream in seconds; browsers connect again by themselves."""


@blueprint.post("/shots/<int:number>/follow")
def follow(number: int):
    """Start finding and following features."""
    return start("follow", number, follow_arguments(sent()))


def follow_arguments(given: dict) -> dict:
    """Return what a run of following is asked for, within its limits."""
    asked = detect_settings(given)
    if given.get("images", "plate") not in IMAGES:
        raise KeelError(f"There are no images “{given['images']}”.")
    bridge = str(given.get("bridge", 8) or 0)
    if not bridge.isdigit() or int(bridge) > 60:
        raise KeelError("A burst of blur can be bridged over 0 to 60 frames.")
    return {"count": asked.count, "spacing": asked.spacing, "threshold": asked.threshold, "images": given.get("images", "plate"), "bridge": int(bridge)}


@blueprint.post("/shots/<int:number>/solve")
def solve(number: int):
    """Start a solve; it becomes a new attempt beside the others."""
    asked = sent()
    if asked.get("motion", "auto") not in ("auto", "free", "nodal"):
        raise KeelError("The camera motion is auto, free or nodal.")
    if asked.get("distortion", "estimate") not in ("estimate", "none", "profile"):
        raise KeelError("Distortion is estimate, none or profile.")
    terms = solve_terms(asked.part("terms"))
    arguments = {"focal_mm": None, "motion": asked.get("motion", "auto"), "distortion": asked.get("distortion", "estimate")}
    arguments |= _focal(number, asked, terms)
    arguments |= {"terms": terms, "zoom": bool(asked.get("zoom", False)), "share": sharing(number, asked.wholes("share"))}
    return start("solve", number, arguments)


def _focal(number: int, asked: dict, terms: dict) -> dict:
    """Return a known focal length in mm for a solve's arguments; a start value goes into the terms, in pixels, unless one is there."""
    text, state = str(asked.get("focal_mm") or "").strip().replace(",", "."), checked_state(asked.get("focal_state", KNOWN))
    try:
        value = float(text) if text else None
    except ValueError:
        raise KeelError(f"Focal length: “{text}” is no number.") from None
    if value is not None and not 1.0 <= value <= 5000.0:
        raise KeelError("The focal length must lie between 1 and 5000 mm.")
    if value is None or state == UNKNOWN:
        return {}
    if state == KNOWN:
        return {"focal_mm": value}
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    px = plate.width / plate.sensor_width_mm
    sigma = sigma_mm(asked.get("focal_sigma_mm")) or START_SHARE * value
    terms.setdefault("focal", {"state": SOFT, "value": value * px, "sigma": sigma * px})
    return {}


def sharing(number: int, given: list[int]) -> list[int]:
    """Return the other shots that are solved with the same lens, checked."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        others = {s.id: s for s in shot.production.shots if s.id != number}
        chosen = [others.get(k) for k in given]
        for other in chosen:
            if other is None:
                raise KeelError("That shot is not of this production.")
            if not live_tracks(opened, other):
                raise KeelError(f"{other.name} has no tracks to solve from.", "Follow features there first.")
        return [other.id for other in chosen]


def solve_terms(given: dict) -> dict:
    """Return what of the lens is free, soft or fixed, checked."""
    out = {}
    for name, term in given.items():
        if name not in LENS_NAMES or not isinstance(term, dict) or term.get("state") not in (FREE, SOFT, FIXED):
            raise KeelError(f"“{name}” is no value of the lens that can be free, soft or fixed.")
        try:
            value = float(term["value"]) if term.get("value") not in (None, "") else None
            sigma = float(term.get("sigma") or 0.0)
        except (TypeError, ValueError):
            raise KeelError(f"{name}: “{term.get('value')}” is no number.") from None
        if not all(math.isfinite(v) for v in (value or 0.0, sigma)):
            raise KeelError(f"{name} must be a finite number.")
        if term["state"] == SOFT and (value is None or sigma <= 0.0):
            raise KeelError(f"{name} held softly needs a value and a sigma above 0.")
        if term["state"] == FIXED and value is None:
            raise KeelError(f"{name} fixed needs a value.")
        out[name] = {"state": term["state"], "value": value, "sigma": sigma}
    return out


@blueprint.post("/shots/<int:number>/ingest")
def ingest(number: int):
    """Make the proxies again."""
    return start("ingest", number, {})


def start(kind: str, number: int, arguments: dict):
    """Put a job of a shot on the queue, unless it has such a one already."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        if kind != "ingest" and not shot.plate.ready:
            raise KeelError("The plate is still coming in.", "Wait until its proxies are made.")
        job = submit(opened, kind, number, arguments)
    send(job.id)
    return jsonify(job=job.id)


@blueprint.post("/jobs/<int:number>/cancel")
def cancel(number: int):
    """Ask a job to stop."""
    with open_session() as opened:
        job = opened.get(Job, number)
        if job is None:
            raise KeelError("There is no such job.")
        job.cancel = True
        if job.state == "queued":
            job.state = "cancelled"
    return jsonify(ok=True)


@blueprint.get("/shots/<int:number>/events")
def events(number: int):
    """Send the shot's jobs and revision whenever they change, as server-sent events."""
    database = current_app.settings.database

    def stream():
        last, until = None, time.monotonic() + STREAM_S
        while time.monotonic() < until:
            news = json.dumps(_news(database, number))
            yield f"data: {news}\n\n" if news != last else ": still here\n\n"
            last = news
            time.sleep(0.4)

    return Response(stream(), mimetype="text/event-stream", headers={"Cache-Control": "no-cache"})


def _news(database: str, number: int) -> dict:
    with session(database) as opened:
        revision = opened.scalar(select(Shot.revision).where(Shot.id == number))
        jobs = opened.scalars(select(Job).where(Job.shot_id == number).order_by(Job.id.desc()).limit(4))
        rows = [
            {"id": j.id, "kind": j.kind, "state": j.state, "progress": round(j.progress, 3), "doing": j.doing, "error": j.error}
            for j in jobs
        ]
    return {"revision": revision, "jobs": rows}
