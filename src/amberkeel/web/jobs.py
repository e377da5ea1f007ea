"""Starting, following and cancelling jobs."""

import json
import time

from flask import Blueprint, Response, current_app, jsonify
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.jobs.kinds import read_arguments
from amberkeel.jobs.queue import send
from amberkeel.store.jobs import submit
from amberkeel.store.models import Job, Shot
from amberkeel.store.session import session
from amberkeel.web.common import get_shot, open_session

blueprint = Blueprint("jobs", __name__)

STREAM_S = 600
"""Longest life of one event stream in seconds; browsers connect again by themselves."""


def start(kind: str, number: int, arguments: dict):
    """Put a job of a shot on the queue, unless it has such a one already."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        if kind != "ingest" and not shot.plate.ready:
            raise KeelError("The plate is still coming in.", "Wait until its proxies are made.")
        read_arguments(kind, arguments)
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
            {
                "id": j.id,
                "kind": j.kind,
                "state": j.state,
                "progress": round(j.progress, 3),
                "doing": j.doing,
                "error": j.error,
            }
            for j in jobs
        ]
    return {"revision": revision, "jobs": rows}
