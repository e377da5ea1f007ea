"""Workers, database, broker and web server killed in the middle of work: nothing is lost, nothing done twice."""

import os
import random
import signal
import subprocess
import tempfile
import time
import urllib.request
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError

from amberkeel.services import Local, open_to_postgres
from amberkeel.store.jobs import add_job
from amberkeel.store.migrate import upgrade
from amberkeel.store.models import Edit, Job, Plate, Production, Shot
from amberkeel.store.session import session

FRAMES, SIZE = 14, (240, 136)
EVERY_S = (3.0, 6.0)
"""Pause before each kill, from and to."""

PATIENCE_S = 900.0


@dataclass(frozen=True)
class Outcome:
    """How many jobs ended in each state, how often each shot's effect counts too few or too many, and how many answered
    edits are gone.
    """

    states: Counter
    wrong: int
    lost: int


def run() -> None:
    """Print what 30 jobs, 200 edits and five kills of everything leave behind."""
    victims = [*(5 * ["worker-all"]), *(5 * ["worker-people"]), *(5 * ["postgres"]), *(5 * ["redis"]), *(5 * ["web"])]
    with tempfile.TemporaryDirectory() as folder:
        done = with_kills(Path(folder), jobs=30, shots=6, edits=200, victims=victims)
    print(
        f"\n30 jobs and 200 edits through {len(victims)} kills: {dict(done.states)}; shots whose effect counts wrongly "
        f"{done.wrong} (target 0), answered edits lost {done.lost} (target 0)"
    )


def with_kills(folder: Path, jobs: int, shots: int, edits: int, victims: list[str], seed: int = 1) -> Outcome:
    """Return what is left of jobs and edits when services are killed one after the other, in a random order.

    Parameters
    ----------
    folder : for data and plates. jobs : follows of small plates, spread over `shots`. edits : productions added, each
        answered before the next. victims : names of services. seed : of the order.
    """
    chance = random.Random(seed)
    open_to_postgres(folder)
    local = Local(folder / "data")
    try:
        database = local.start([folder])["AMBERKEEL_DATABASE"]
        upgrade()
        numbers = _prepared(database, folder, jobs, shots)
        local.start_workers(tuple(sorted({name.removeprefix("worker-") for name in victims if "worker" in name})))
        address = local.start_web()
        answered = _kill(local, address, database, chance.sample(victims, len(victims)), chance, edits)
        states = _ended(local, database, numbers)
        with session(database) as opened:
            done = Counter(opened.scalars(select(Job.shot_id).where(Job.id.in_(numbers), Job.state == "done")))
            made = Counter(opened.scalars(select(Edit.shot_id)))
            kept = opened.scalar(select(func.count()).select_from(Production).where(Production.name.like("edit %")))
        return Outcome(states, sum(done[shot] != made[shot] for shot in {*done, *made}), answered - kept)
    finally:
        local.stop()


def _prepared(database: str, folder: Path, jobs: int, shots: int) -> list[int]:
    """Add small shots whose plates are in, and jobs that follow them; return the jobs."""
    noise = cv2.GaussianBlur(np.random.default_rng(3).uniform(0, 255, (200, 320)).astype(np.float32), (0, 0), 2.0)
    noise = cv2.normalize(noise, None, 0, 255, cv2.NORM_MINMAX).astype(np.uint8)
    plate = folder / "plate"
    plate.mkdir()
    for k in range(FRAMES):
        cv2.imwrite(str(plate / f"p.{k + 1:03d}.png"), noise[k : k + SIZE[1], 2 * k : 2 * k + SIZE[0]])
    with session(database) as opened:
        production, ids = Production(name="Faults"), []
        for k in range(shots):
            row = Plate(
                source=str(plate / "p.###.png"), label="p.###.png", first=1, last=FRAMES, width=SIZE[0], height=SIZE[1],
                proxies=FRAMES * ["0" * 64],
            )  # fmt: skip
            shot = Shot(production=production, name=f"F_{k:03d}", plate=row)
            opened.add(shot)
            opened.flush()
            ids.append(shot.id)
        return [add_job(opened, "follow", ids[k % shots], {"count": 60}).id for k in range(jobs)]


def _kill(local: Local, address: str, database: str, victims: list[str], chance: random.Random, edits: int) -> int:
    """Kill services, a pause before each, while edits are made; return how many edits were answered."""
    answered, due = 0, time.monotonic() + chance.uniform(*EVERY_S)
    while victims or answered < edits:
        if victims and time.monotonic() > due:
            _end(local, victims.pop())
            due = time.monotonic() + chance.uniform(*EVERY_S)
        local.revive()
        if answered < edits:
            answered += _edited(database, answered)
        _asked(address)
        time.sleep(0.05)
    return answered


def _end(local: Local, name: str) -> None:
    """Kill a service; of a worker by turns the child that works."""
    process = local.children[name].pid
    children = subprocess.run(["pgrep", "-P", str(process)], capture_output=True, text=True).stdout.split()
    if "worker" in name and children and process % 2:
        os.kill(int(children[-1]), signal.SIGKILL)
        return
    # What serves is a process of its own below the one that was started: all of it goes.
    for number in (*map(int, children), process) if name in ("web", "postgres") else (process,):
        try:
            os.kill(number, signal.SIGKILL)
        except ProcessLookupError:
            continue
    local.children[name].wait(10)


def _edited(database: str, count: int) -> int:
    try:
        with session(database) as opened:
            opened.add(Production(name=f"edit {count}"))
    except OperationalError:
        return 0
    return 1


def _asked(address: str) -> None:
    """Ask for a page; it may be away, for a moment."""
    try:
        urllib.request.urlopen(address, timeout=2).read()
    except OSError:
        return


def _ended(local: Local, database: str, numbers: list[int]) -> Counter:
    """Wait until all jobs have ended; return how many in each state."""
    until = time.monotonic() + PATIENCE_S
    while time.monotonic() < until:
        local.revive()
        try:
            with session(database) as opened:
                states = Counter(opened.scalars(select(Job.state).where(Job.id.in_(numbers))))
        except OperationalError:
            time.sleep(0.5)
            continue
        if not states["queued"] + states["running"]:
            break
        time.sleep(0.5)
    return states
