"""The demo: services on loopback, the made-up production Skerry Light, and its first shot followed and solved."""

import json
import os
import signal
import time
from pathlib import Path

from rich.console import Console
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.services import Local

SHOT = {
    "name": "SKL_010 Slipway",
    "note": "Hand-held walk-in beside a hull on its cradle; two yard hands cross the frame.",
}
FRESH = {"name": "SKL_010 Slipway, untouched", "note": "The same plate with nothing done yet, to try everything on."}


def add_demo(settings, folder: Path) -> list[int]:
    """Add the demo production where there is none; return the numbers of jobs to put on the queue."""
    from amberkeel.core.sim.slipway import FIRST_FRAME, FRAME_COUNT, SENSOR_WIDTH_MM
    from amberkeel.store.jobs import add_job
    from amberkeel.store.models import Plate, Production, Shot
    from amberkeel.store.session import session

    with session(settings.database) as opened:
        if opened.scalar(select(Production).where(Production.name == "Skerry Light")):
            return []
        note = "A ghost story set at a boatyard on an island. Everything in it is made up."
        production = Production(name="Skerry Light", note=note)
        opened.add(production)
        ids = []
        for words in (SHOT, FRESH):
            plate = Plate(
                source=str(folder / "plate" / "skl_010.####.png"), label="skl_010.####.png", first=FIRST_FRAME,
                last=FIRST_FRAME + FRAME_COUNT - 1, width=960, height=540, fps="24/1", sensor_width_mm=SENSOR_WIDTH_MM,
            )  # fmt: skip
            shot = Shot(production=production, plate=plate, **words)
            opened.add(shot)
            opened.flush()
            ids.append(shot.id)
        arguments = {"name": "SKL_010", "folder": str(folder), "then": ["ingest", "follow", "solve", "propose", "accept", "follow", "solve"], "also": ids[1:]}
        return [add_job(opened, "demo", ids[0], arguments).id]


def run_demo(folder: Path, port: int) -> None:
    """Start everything, load the demo, print the address, and stop it all on Ctrl-C."""
    console = Console(stderr=True, highlight=False)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.default_int_handler)
    running = folder / "running.json"
    if running.exists() and _alive(json.loads(running.read_text())["pid"]):
        console.print(f"The demo runs already: {json.loads(running.read_text())['address']}")
        return
    local = Local(folder)
    plates = folder / "plates"
    plates.mkdir(exist_ok=True)
    try:
        console.print("Starting PostgreSQL and Redis")
        local.start([plates])
        from amberkeel.jobs.queue import send
        from amberkeel.settings import from_environment
        from amberkeel.store.migrate import upgrade

        upgrade()
        settings = from_environment()
        console.print("Starting the worker and the web server")
        local.start_worker()
        address = local.start_web(port)
        running.write_text(json.dumps({"pid": os.getpid(), "address": address}))
        jobs = add_demo(settings, plates / "SKL_010")
        for number in jobs:
            send(number)
        console.print(f"\n  Amber Keel is at [bold]{address}[/bold]   (Ctrl-C stops it)\n")
        if jobs:
            _watch_demo(settings, console, local)
        while True:
            time.sleep(1.0)
            local.revive()
    except KeyboardInterrupt:
        console.print("\nStopping")
    finally:
        running.unlink(missing_ok=True)
        local.stop()


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except OSError:
        return False
    return True


def _watch_demo(settings, console: Console, local: Local) -> None:
    """Show the demo's first jobs until they end."""
    from amberkeel.store.models import Job
    from amberkeel.store.session import session

    began = time.monotonic()
    with console.status("Preparing the demo shot") as status:
        while True:
            local.revive()
            with session(settings.database) as opened:
                jobs = list(opened.scalars(select(Job).order_by(Job.id)))
            live = [j for j in jobs if j.state in ("queued", "running")]
            failed = [j for j in jobs if j.state in ("failed", "interrupted")]
            if failed:
                raise KeelError(f"The demo could not be prepared: {failed[0].error}", "Delete var/demo and try again.")
            if not live:
                break
            current = next((j for j in live if j.state == "running"), live[0])
            status.update(f"Demo shot: {current.doing or current.kind} ({100 * current.progress:.0f} %)")
            time.sleep(0.5)
    console.print(f"The demo shot is followed and solved ({time.monotonic() - began:.0f} s).")
