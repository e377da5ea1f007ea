"""The demo: services on loopback, the made-up production Skerry Light, and its first shot followed and solved."""

import os
import signal
import time
from pathlib import Path

from rich.console import Console
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from amberkeel import running
from amberkeel.core.errors import KeelError
from amberkeel.services import Local

SHOTS = [
    ("SKL_010", "SKL_010 Slipway", "Hand-held walk-in beside a hull on its cradle; two yard hands cross the frame."),
    ("SKL_010", "SKL_010 Slipway, untouched", "The same plate with nothing done yet, to try everything on."),
    (
        "SKL_020",
        "SKL_020 Sail loft",
        "Wide push-in under timber beams: strong barrel distortion, focal length not written down.",
    ),
    ("SKL_030", "SKL_030 Breakwater", "Long-lens pan on a tripod: nodal, so the tracks hold no depth at all."),
    ("SKL_040", "SKL_040 Shed doors", "Slow creep towards planked doors and paving: almost no parallax."),
    ("SKL_050", "SKL_050 Gangway", "Hand-held run along a jetty: three bursts of motion blur and one knocked frame."),
    (
        "SKL_060",
        "SKL_060 Quay, clean pass",
        "A walk along the quay, nobody on it, tags about: it makes the set.",
    ),
    ("SKL_061", "SKL_061 Quay, live pass", "The same quay with a longer lens, a yard hand crossing: tied to the set."),
    ("SKL_070", "SKL_070 Lamp room", "Night interior: heavy grain, low contrast."),
    ("SKL_080", "SKL_080 Shingle", "Camera held low over a beach: ridges and boulders, no flat ground to level by."),
    (
        "SKL_090",
        "SKL_090 Launch",
        "A deckhand's small camera on a running launch: rolling shutter, so each row has a camera of its own.",
    ),
    (
        "SKL_095",
        "SKL_095 Net loft",
        "Bare walls and boards, a few weak chalk crosses: nothing to follow but what is placed by hand.",
    ),
]
"""Rendered plate, name and note of each shot."""

FIRST = ["ingest", "follow", "solve", "propose", "accept", "follow", "solve", "rest"]
"""What happens to the first shot once its plate is rendered; the rest of the shots come after it."""


def add_demo(settings, folder: Path) -> list[int]:
    """Add the demo production where there is none; return the numbers of jobs to put on the queue.

    `folder` is where the plates lie, one folder a plate.
    """
    from amberkeel.core.sim.shots import FACTS
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
        for key, name, words in SHOTS:
            first, count, sensor = FACTS[key]
            label = f"{key.lower()}.####.png"
            plate = Plate(
                source=str(folder / key / "plate" / label), label=label, first=first, last=first + count - 1,
                width=960, height=540, fps="24/1", sensor_width_mm=sensor,
            )  # fmt: skip
            shot = Shot(production=production, plate=plate, name=name, note=words)
            opened.add(shot)
            opened.flush()
            ids.append(shot.id)
        arguments = {"name": "SKL_010", "folder": str(folder / "SKL_010"), "then": FIRST, "also": ids[1:2]}
        return [add_job(opened, "demo", ids[0], arguments, background=True).id]


def run_demo(folder: Path, port: int) -> None:
    """Start everything, load the demo, print the address, and stop it all on Ctrl-C."""
    console = Console(stderr=True, highlight=False)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.default_int_handler)
    local, plates = Local(folder), folder / "plates"
    try:
        local.hold()
    except running.RunsAlready as error:
        if not error.address:
            raise
        console.print(f"The demo runs already: {error.address}")
        return
    plates.mkdir(exist_ok=True)
    record = folder / running.RECORD
    try:
        console.print("Starting PostgreSQL and Redis")
        local.start([plates])
        from amberkeel.jobs.queue import wake
        from amberkeel.settings import from_environment
        from amberkeel.store.migrate import upgrade

        upgrade()
        settings = from_environment()
        console.print("Starting the workers and the web server")
        local.start_workers()
        address = local.start_web(port)
        running.write_record(record, {"pid": os.getpid(), "address": address})
        jobs = add_demo(settings, plates)
        wake()
        console.print(f"\n  Amber Keel is at [bold]{address}[/bold]   (Ctrl-C stops it)\n")
        if jobs:
            _watch_demo(settings, console, local)
        while True:
            time.sleep(1.0)
            local.revive()
    except KeyboardInterrupt:
        console.print("\nStopping")
    finally:
        record.unlink(missing_ok=True)
        local.stop()


def _watch_demo(settings, console: Console, local: Local) -> None:
    """Show the demo's first jobs until they end."""
    from amberkeel.store.models import Job
    from amberkeel.store.session import session

    began = time.monotonic()
    with console.status("Preparing the demo shots") as status:
        while True:
            local.revive()
            try:
                with session(settings.database) as opened:
                    jobs = list(opened.scalars(select(Job).order_by(Job.id)))
            except OperationalError:
                time.sleep(0.5)
                continue
            live = [j for j in jobs if j.state in ("queued", "running")]
            failed = [j for j in jobs if j.state in ("failed", "interrupted")]
            if failed:
                raise KeelError(f"The demo could not be prepared: {failed[0].error}", "Delete var/demo and try again.")
            if not live:
                break
            current = next((j for j in live if j.state == "running"), live[0])
            status.update(f"Demo shots: {current.doing or current.kind} ({100 * current.progress:.0f} %)")
            time.sleep(0.5)
    console.print(f"The demo shots are followed and solved ({time.monotonic() - began:.0f} s).")
