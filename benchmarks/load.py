"""Many people on one shot: streams that stay open, edits that must not get lost, and how long pages take meanwhile."""

import http.client
import json
import re
import socket
import tempfile
import threading
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from sqlalchemy import func, select

from amberkeel.core.tracks import TrackSet
from amberkeel.services import Local, open_to_postgres
from amberkeel.store import edits
from amberkeel.store.migrate import upgrade
from amberkeel.store.models import Edit, Plate, Production, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import add_run

TRACKS, FRAMES = 400, 60
THINK_S = 1.0
"""Seconds between two edits of one person, about."""

PATIENCE_S = 120.0
"""Seconds by which work goes on where too few edits were answered in its time."""

PAGES_EVERY = 8
"""Every how many edits a person opens the desk and the board anew."""


@dataclass
class Outcome:
    """Answers by status, seconds that each took by kind, edits that were answered, and those that are kept."""

    statuses: Counter = field(default_factory=Counter)
    seconds: dict[str, list[float]] = field(default_factory=dict)
    answered: int = 0
    kept: int = 0
    told: int = 0

    def percentile(self, share: float, kind: str = "") -> float:
        """Return the seconds within which a share in % of all answers came, or of those of one kind."""
        taken = self.seconds[kind] if kind else [s for many in self.seconds.values() for s in many]
        return float(np.percentile(taken, share))


@dataclass(frozen=True)
class _End:
    """When work ends: at a time, and not before so many edits were answered, unless they do not come."""

    at: float
    least: int
    done: Outcome

    def reached(self) -> bool:
        now = time.monotonic()
        return now > self.at and (self.done.answered >= self.least or now > self.at + PATIENCE_S)


def run() -> None:
    """Print how 300 streams and 20 people editing one shot for a minute fare."""
    with tempfile.TemporaryDirectory() as folder:
        done = under_load(Path(folder), streams=300, people=20, seconds=60.0)
    print(
        f"\n300 streams, 20 people, 60 s: {done.answered} edits answered, {done.kept} kept (target: all); answers by "
        f"status {dict(done.statuses)} (target: no 500); 95th percentile {1000 * done.percentile(95):.0f} ms (target "
        f"300), median {1000 * done.percentile(50):.0f} ms; {done.told} news told"
    )
    for kind, taken in sorted(done.seconds.items()):
        print(f"  {kind:8s} {len(taken):5d} answers, 95th percentile {1000 * done.percentile(95, kind):.0f} ms")


def under_load(folder: Path, streams: int, people: int, seconds: float, least: int = 0) -> Outcome:
    """Return what came of people who edit one shot while streams of its news are open.

    Parameters
    ----------
    folder : for data. streams : open streams. people : each edits, reads the state, and opens pages now and then.
    seconds : for how long. least : edits that are answered before it ends, on a machine that is busy with others.
    """
    open_to_postgres(folder)
    local, done, lock = Local(folder / "data"), Outcome(), threading.Lock()
    try:
        database = local.start([folder])["AMBERKEEL_DATABASE"]
        upgrade()
        shot, tracks = _prepared(database)
        port = int(local.start_web().rsplit(":", 1)[1])
        until = _End(time.monotonic() + seconds, least, done)
        listening = [_stream(port, shot) for _ in range(streams)]
        hearing = threading.Thread(target=_hear, args=(listening, until, done))
        hearing.start()
        at_work = [
            threading.Thread(target=_work, args=(port, shot, tracks[k::people], until, k, done, lock))
            for k in range(people)
        ]
        for one in at_work:
            one.start()
        for one in (*at_work, hearing):
            one.join()
        for link in listening:
            link.close()
        with session(database) as opened:
            made = select(func.count()).select_from(Edit).where(Edit.shot_id == shot, Edit.kind == "states")
            done.kept = opened.scalar(made)
        return done
    finally:
        local.stop()


def _prepared(database: str) -> tuple[int, list[int]]:
    """Add a shot with tracks; return its number and theirs."""
    frames = np.tile(np.arange(1, FRAMES + 1), TRACKS)
    ones = np.ones(len(frames))
    first = np.arange(TRACKS + 1) * FRAMES
    xy = np.random.default_rng(0).uniform(0, 600, (len(frames), 2))
    names = [f"a{k:04d}" for k in range(TRACKS)]
    with session(database) as opened:
        plate = Plate(source="x.#.png", label="x.#.png", first=1, last=FRAMES, width=640, height=360)
        plate.proxies = FRAMES * ["0" * 64]
        shot = Shot(production=Production(name="Load"), plate=plate, name="LOAD_010")
        opened.add(shot)
        opened.flush()
        new = add_run(opened, shot, TrackSet(names, first, frames, xy, 0.1 * ones, ones))
        edits.apply(opened, shot.id, "tracks", {"remove": [], "bring": new, "label": "Follow"})
        return shot.id, new


def _stream(port: int, shot: int) -> socket.socket:
    link = socket.create_connection(("127.0.0.1", port), timeout=30)
    link.sendall(f"GET /events?shots={shot} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n\r\n".encode())
    return link


def _hear(links: list[socket.socket], until: _End, done: Outcome) -> None:
    """Read all streams until the end, so that none is held up."""
    import selectors

    with selectors.DefaultSelector() as waiting:
        for link in links:
            link.setblocking(False)
            waiting.register(link, selectors.EVENT_READ)
        while not until.reached():
            for key, _ in waiting.select(0.5):
                done.told += key.fileobj.recv(65536).count(b"data: ")


class _Person:
    """A browser of its own: a connection, a session, and a page's token."""

    def __init__(self, port: int, done: Outcome, lock: threading.Lock):
        self.link = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        self.done, self.lock, self.cookie, self.token = done, lock, "", ""

    def ask(self, kind: str, method: str, path: str, body: dict | None = None) -> tuple[int, bytes]:
        """Ask for something; return status and answer, and remember how long it took."""
        headers = {"Accept": "application/json", "Cookie": self.cookie, "X-CSRFToken": self.token}
        if body is not None:
            headers["Content-Type"] = "application/json"
        began = time.monotonic()
        self.link.request(method, path, json.dumps(body) if body is not None else None, headers)
        answer = self.link.getresponse()
        text = answer.read()
        with self.lock:
            self.done.seconds.setdefault(kind, []).append(time.monotonic() - began)
            self.done.statuses[answer.status] += 1
        if found := answer.getheader("Set-Cookie"):
            self.cookie = found.split(";")[0]
        return answer.status, text

    def enter(self, shot: int) -> None:
        """Open the shot's desk, as a browser does first."""
        _, page = self.ask("desk", "GET", f"/shots/{shot}/tracks")
        self.token = re.search(rb'csrf-token" content="([^"]+)', page)[1].decode()


def _work(port: int, shot: int, tracks: list[int], until: _End, seed: int, done: Outcome, lock: threading.Lock) -> None:
    """Edit own tracks until the end; a refusal because somebody was faster is tried again on the newest state."""
    chance, person, count = np.random.default_rng(seed), _Person(port, done, lock), 0
    time.sleep(float(chance.uniform(0, THINK_S)))
    person.enter(shot)
    while not until.reached():
        count += 1
        _, text = person.ask("state", "GET", f"/shots/{shot}/state.json")
        word = "excluded" if count % 2 else "active"
        states = {word: [tracks[count % len(tracks)]]}
        body = {"kind": "states", "payload": {"states": states}, "revision": json.loads(text)["revision"]}
        status, _ = person.ask("edit", "POST", f"/shots/{shot}/edit", body)
        with lock:
            done.answered += status == 200
        if status == 409:
            continue
        if count % PAGES_EVERY == 0:
            person.ask("board", "GET", "/")
            person.ask("tracks", "GET", f"/shots/{shot}/tracks.json")
        time.sleep(float(chance.uniform(0.5, 1.5)) * THINK_S)
