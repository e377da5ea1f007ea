"""Starting and cancelling jobs, and the page of all of them; `news` tells open desks how theirs go."""

from datetime import UTC, timedelta

from flask import Blueprint, abort, jsonify, render_template
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.jobs.kinds import KINDS, read_arguments
from amberkeel.jobs.queue import wake
from amberkeel.store.jobs import ask_to_stop, submit
from amberkeel.store.models import Job, Shot
from amberkeel.store.pulse import trouble as trouble_of_watcher
from amberkeel.web.common import get_shot, open_session

blueprint = Blueprint("jobs", __name__)

MOST_ENDED = 60
"""Jobs that are over, the newest, which the page shows."""

BAD = ("failed", "interrupted")


@blueprint.get("/jobs")
def page():
    """Show the jobs of all shots: running, waiting, and what is over."""
    return render_template("jobs.html", groups=_groups(), trouble=_trouble())


@blueprint.get("/jobs/list")
def listed():
    """Send the list alone, for the page to draw anew."""
    return render_template("joblist.html", groups=_groups(), trouble=_trouble())


@blueprint.get("/health.json")
def health():
    """Send whether all is at work, for a monitor: 200 where it is, 503 with what is wrong where it is not."""
    trouble = _trouble()
    return jsonify(ok=not trouble, trouble=trouble), 503 if trouble else 200


def _trouble() -> str:
    with open_session() as opened:
        return trouble_of_watcher(opened)


def _groups() -> list[tuple[str, list[dict], str]]:
    with open_session() as opened:
        live = select(Job, Shot.name).join(Shot, Shot.id == Job.shot_id)
        going = opened.execute(live.where(Job.state == "running").order_by(Job.id)).all()
        waiting = opened.execute(live.where(Job.state == "queued").order_by(*Job.order())).all()
        over = live.where(Job.state.not_in(("queued", "running"))).order_by(Job.id.desc()).limit(MOST_ENDED)
        return [
            ("Running", [_row(*row) for row in going], "Nothing is being done."),
            ("Waiting", [_row(*row) for row in waiting], "Nothing waits."),
            ("Over", [_row(*row) for row in opened.execute(over).all()], "Nothing has been done yet."),
        ]


def _row(job: Job, shot: str) -> dict:
    bad, over = job.state in BAD, job.state not in ("queued", "running")
    said = {"queued": "Waiting for a worker", "cancelled": job.error or "Cancelled."}.get(job.state, job.doing)
    return {
        "id": job.id,
        "shot_id": job.shot_id,
        "shot": shot,
        "kind": KINDS[job.kind].name if job.kind in KINDS else job.kind,
        "background": job.background,
        "state": job.state,
        "progress": job.progress,
        "bad": bad,
        "said": job.error if bad else said,
        "log": job.result.get("log", []),
        "again": job.state in (*BAD, "cancelled"),
        "asked": job.created.replace(tzinfo=UTC).astimezone().strftime("%d %b %H:%M"),
        "took": _took((job.ended or job.heartbeat) - job.started) if job.started and over else "",
    }


def _took(time: timedelta) -> str:
    minutes, seconds = divmod(time.total_seconds(), 60)
    return f"{int(minutes)} min {int(seconds)} s" if minutes else f"{seconds:.1f} s"


@blueprint.get("/jobs/<int:number>.json")
def one(number: int):
    """Send how far a job is."""
    with open_session() as opened:
        job = opened.get(Job, number) or abort(404)
        return jsonify(state=job.state, progress=job.progress, doing=job.doing, error=job.error)


@blueprint.post("/jobs/<int:number>/again")
def again(number: int):
    """Ask for a job again that failed or was cancelled, as it was asked for."""
    with open_session() as opened:
        job = opened.get(Job, number)
        if job is None or job.state not in (*BAD, "cancelled"):
            raise KeelError("Only a job that failed or was cancelled can be done again.")
        read_arguments(job.kind, job.arguments)
        new = submit(opened, job.kind, job.shot_id, job.arguments).id
    wake()
    return jsonify(job=new)


def start(kind: str, number: int, arguments: dict):
    """Put a job of a shot on the queue, unless it has such a one already."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        if kind != "ingest" and not shot.plate.ready:
            raise KeelError("The plate is still coming in.", "Wait until its proxies are made.")
        read_arguments(kind, arguments)
        job = submit(opened, kind, number, arguments)
    wake()
    return jsonify(job=job.id)


@blueprint.post("/jobs/<int:number>/cancel")
def cancel(number: int):
    """Ask a job to stop."""
    with open_session() as opened:
        ask_to_stop(opened, number)
    return jsonify(ok=True)
