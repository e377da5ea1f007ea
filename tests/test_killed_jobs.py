"""Every kind of job, killed when all its files are in place and its last transaction is written but not committed, and
run again: nothing has changed in between, it takes effect once, and nothing is left over.
"""

import io
import json
import os
import signal
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
import sqlalchemy as sa
from desk import poster, solved_in
from killed import died, killed
from test_lens_evidence import grids

from amberkeel.core.lens import Lens
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.jobs import claims, queue, ties
from amberkeel.jobs.kinds import BESIDE, KINDS, work
from amberkeel.settings import from_environment
from amberkeel.store import storage as stored
from amberkeel.store.held import hold_shot
from amberkeel.store.jobs import submit
from amberkeel.store.media import Media
from amberkeel.store.models import Base, Job, Package, Plate, now
from amberkeel.store.session import session

BOX = [[300, 60, 0, 0, 0, 0], [420, 60, 0, 0, 0, 0], [420, 260, 0, 0, 0, 0], [300, 260, 0, 0, 0, 0]]

APART = ("job", "pulse")
"""Tables that a job writes while it goes on."""


class Desk:
    """Shots in a database and a media folder of their own, and the pages' doors to them."""

    def __init__(self, database: str, client, shot: int, mattes: Path):
        self.database, self.client, self.shot, self.mattes, self.other = database, client, shot, mattes, None

    def ask(self, path, body=None, shot=None):
        """Post to a shot."""
        return poster(self.client, shot or self.shot)(path, body)

    def get(self, path, shot=None):
        """What a page of a shot reads."""
        return self.client.get(f"/shots/{shot or self.shot}/{path}").json

    def tracks(self):
        """The shot's tracks by number, those in use."""
        sent = self.get("tracks.json")
        return [t for t, state in zip(sent["ids"], sent["states"]) if state == "active"]

    def said(self, number):
        """What a job says of its end."""
        with session(self.database) as opened:
            job = opened.get(Job, number)
            return job.state, job.error

    def submit(self, kind, shot=None, **arguments):
        """Put a job on the queue that no page asks for as such."""
        with session(self.database) as opened:
            return submit(opened, kind, shot or self.shot, arguments).id

    def second(self):
        """A duplicate of the shot, tied to a set that the shot made; made once."""
        if self.other is None:
            self.ask("ties/set", {"name": "Slip", "tracks": self.tracks()[:40]})
            self.ask("ties/set/change", {"frozen": False})
            self.other = self.ask("duplicate", {"name": "SKL_010 Again"})["shot"]
            points = [one["name"] for one in self.get("ties.json")["set"]["points"]]
            tracks = self.get("tracks.json", self.other)
            own = dict(zip(tracks["names"], tracks["ids"]))
            for name in points:
                self.ask("ties", {"what": "tie", "track": own[name], "point": name}, self.other)
            work("solve", from_environment(), self.other, {}, lambda *_: None)
        return self.other


def of_this(path, **body):
    """A job that the shot's page asks for."""
    return lambda desk: desk.ask(path, body)["job"]


def of_second(path, **body):
    """A job that the page of a shot tied to the first one asks for."""

    def asked(desk):
        other = desk.second()
        return desk.ask(path, body, other)["job"]

    return asked


def carry(desk):
    number = desk.ask("masks", {"points": BOX, "frame": 1005})["mask"]
    return desk.ask(f"masks/{number}/carry", {"start": 1005, "stop": 1007, "model": "translation"})["job"]


def learn(desk):
    number = desk.ask("masks")["mask"]
    spots = [[1012, 100.5, 100.5, True], [1012, 400.5, 200.5, False], [1012, 500.5, 80.5, False]]
    desk.ask(f"masks/{number}", {"values": {"samples": spots}, "label": "Sample"})
    return desk.ask(f"masks/{number}/learn", {"first": 1011, "last": 1013})["job"]


def matte(desk):
    files = [(io.BytesIO(path.read_bytes()), path.name) for path in sorted(desk.mattes.glob("*.png"))]
    sent = {"files": files, "name": "Hands", "channel": "luma", "offset": ""}
    return desk.client.post(f"/shots/{desk.shot}/mattes", data=sent).json["job"]


def hand(desk):
    placed = desk.ask("tracks/place", {"frame": 1010, "x": 200.0, "y": 150.0})
    track = placed.get("track") or placed["tracks"][0]
    return desk.ask(f"tracks/{track}/follow", {"start": 1010, "stops": [1013]})["job"]


def chart(desk):
    made = grids(Lens.centred(640, 360, 600.0), 5, np.random.default_rng(1))
    files = [(io.BytesIO(cv2.imencode(".png", gray)[1].tobytes()), f"{name}.png") for name, gray in made]
    sent = {"files": files, "inner": "9x6", "square": "25", "name": "Wide"}
    there = {"Accept": "application/json"}
    answer = desk.client.post(f"/shots/{desk.shot}/lens/chart", data=sent, headers=there)
    assert answer.status_code == 200, answer.text
    return answer.json["job"]


def straighten(desk):
    desk.ask("lens/use", {"attempt": desk.get("state.json")["pinned"]})
    return desk.ask("lens/straighten", {"overscan": "crop", "format": "png"})["job"]


def trial(desk):
    desk.ask("repair", {"code": "limit", "value": "4", "unit": "sigma"})
    with session(desk.database) as opened:
        return opened.scalar(sa.select(sa.func.max(Job.id)).where(Job.kind == "trial"))


def project(desk):
    with session(desk.database) as opened:
        hold_shot(opened, desk.shot).scene = {"proxies": {"p1": {"kind": "box", "name": "Crate", "size": [1, 1, 1]}}}
    return desk.ask("world/project", {"mode": "one", "frames": [1010]})["job"]


def body(desk):
    desk.ask("bodies", {"what": "add", "tracks": desk.tracks()[:60], "name": "Set"})
    (made,) = desk.get("bodies.json")["bodies"]
    return desk.ask("bodies/solve", {"key": made["key"], "follow": False})["job"]


def adopt(desk):
    text = desk.client.get(f"/shots/{desk.shot}/handoff/camera.usda").data
    sent = {"file": (io.BytesIO(text), "camera.usda")}
    answer = desk.client.post(f"/shots/{desk.shot}/handoff/adopt", data=sent)
    assert answer.status_code == 200, answer.text
    return answer.json["job"]


def demo(desk):
    folder = Path(os.environ["AMBERKEEL_MEDIA"]).parent / "sail_loft"
    folder.mkdir(exist_ok=True)
    (folder / "truth.json").write_text("{}")
    return desk.submit("demo", name="loft", folder=str(folder))


def quay(desk):
    with session(desk.database) as opened:
        hold_shot(opened, desk.shot).name = "SKL_060 Quay"
    return desk.submit("quay")


CASES = {
    "ingest": (of_this("ingest"), {}),
    "follow": (of_this("follow", count=120), {"edit": 1}),
    "sight": (of_this("sight", count=60), {}),
    "hand": (hand, {"edit": 1}),
    "surface": (
        of_this("surface", outline=[[100, 100], [300, 100], [300, 250], [100, 250]], grid=[3, 3], frame=1010,
                first=1008, last=1012, images="plate"), {"edit": 1},
    ),
    "tags": (of_this("tags", family="36h11"), {}),
    "look": (lambda desk: desk.submit("look"), {}),
    "propose": (of_this("propose"), {}),
    "accept": (lambda desk: desk.submit("accept"), {"edit": 1}),
    "carry": (carry, {"edit": 1}),
    "learn": (learn, {"edit": 1}),
    "matte": (matte, {"edit": 1, "mask": 1}),
    "solve": (of_this("solve"), {"attempt": 1, "edit": 1}),
    "diagnose": (of_this("diagnose"), {}),
    "trial": (trial, {"trial": 0, "attempt": 1}),
    "movie": (of_this("movie"), {}),
    "slip": (of_this("world/slip"), {}),
    "project": (project, {"edit": 1}),
    "chart": (chart, {"lens_profile": 1}),
    "straighten": (straighten, {"edit": 0}),
    "body": (body, {"edit": 1}),
    "package": (of_this("handoff/package", recipient="layout"), {"package": 1}),
    "adopt": (adopt, {"attempt": 1}),
    "align": (of_second("ties/align"), {"attempt": 1, "edit": 1}),
    "tiepictures": (of_second("ties/pictures"), {}),
    "together": (of_second("ties/together"), {"attempt": 2}),
    "tie": (lambda desk: desk.submit("tie", desk.second()), {"attempt": 1}),
    "improve": (of_this("improve", effort="quick"), {}),
    "demo": (demo, {}),
    "rest": (lambda desk: desk.submit("rest"), {}),
    "quay": (quay, {}),
}  # fmt: skip
"""How each kind is asked for, in an order in which one prepares the next, and how many rows it adds."""


LONG = (
    "follow", "sight", "hand", "surface", "tags", "look", "propose", "carry", "solve", "slip", "diagnose", "trial",
    "body", "tiepictures", "together", "align", "tie", "improve",
)  # fmt: skip
"""Kinds that load many loops and keep no files but those by their content."""

MEANWHILE = {"improve": {"trial"}}
"""Tables that some kinds write before they end, as they go along."""


def spots(_own, fixed, progress=None):
    """Spots as a search of the pictures would give them: it takes long, and what is killed is what is made of it."""
    frames = np.array([1005, 1006, 1007])
    xy, ones = np.array([[100.0, 90.0], [101.0, 90.0], [102.0, 90.0]]), np.ones(3)
    return [
        SimpleNamespace(track=track, frames=frames, xy=xy, sigma=0.1 * ones, score=0.9 * ones, fixed_frame=1005,
                        fixed_xy=xy[0], located=SimpleNamespace(rms=0.2))
        for track in np.flatnonzero(np.isfinite(fixed.xyz).all(1))[-4:].tolist()
    ]  # fmt: skip


@pytest.fixture(scope="module")
def few(tracks, plate):
    """Each second track, and what is solved of them."""
    kept = tracks.take(np.arange(0, len(tracks), 2))
    return kept, solve_tracks(kept, plate.frames, plate.width, plate.height)


@pytest.fixture(scope="module")
def desk(store, service, plate_folder, plate, few, client, tmp_path_factory):
    """A solved shot with pages of its own."""
    from amberkeel.web import create_app

    folder = tmp_path_factory.mktemp("killed")
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("AMBERKEEL_MEDIA", str(folder / "media"))
        patch.setattr(queue, "wake", lambda: None)
        patch.setattr(ties, "found_in", spots)
        shot = solved_in(store, Media(folder / "media"), plate_folder, plate, *few, "Killed")
        app = create_app(from_environment())
        app.config["WTF_CSRF_ENABLED"] = False
        yield Desk(store, app.test_client(), shot, plate_folder / "mattes")


def rows(database):
    """Every row of every table that a job may change, as text, by table."""
    with session(database) as opened:
        return {
            name: sorted(json.dumps(list(row), default=str) for row in opened.execute(sa.select(table)))
            for name, table in Base.metadata.tables.items()
            if name not in APART
        }


@contextmanager
def nothing_is_young():
    """Have a clean-up take what it would spare for a day."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(stored, "YOUNG_S", -1.0)
        yield


def left_over(database, folder):
    """Files of the media folder that nothing refers to, once it was tidied."""
    with nothing_is_young(), session(database) as opened:
        stored.clean_up(opened, folder)
        named = {digest for _, digest in stored._named(opened)}
        packages = {(row.shot_id, row.version) for row in opened.scalars(sa.select(Package))}
        sources = [Path(plate.source) for plate in opened.scalars(sa.select(Plate))]
    out = []
    for path in (path for path in folder.rglob("*") if path.is_file()):
        parts = path.relative_to(folder).parts
        if parts[0] == stored.PACKAGES:
            kept = any(parts[1] == str(shot) and f"v{version:03d}" in parts[2] for shot, version in packages)
        elif parts[0] == stored.STRAIGHTENED:
            kept = parts[1].isdigit()
        elif parts[0] == stored.UPLOADS:
            kept = any(source.parent in path.parents for source in sources)
        else:
            kept = path.name in named
        if not kept:
            out.append(path.relative_to(folder))
    return out


def test_each_kind_of_job_is_killed_here():
    assert set(CASES) == set(KINDS)


@pytest.mark.parametrize("kind", CASES)
def test_a_job_killed_at_its_end_takes_effect_once(kind, desk, tmp_path):
    ask, expected = CASES[kind]
    with session(desk.database) as opened:
        opened.execute(sa.update(Job).values(state="cancelled"))
    number = ask(desk)
    settings, lane = from_environment(), claims.Lane(frozenset((kind,)), beside=BESIDE)
    before = rows(desk.database)
    claim = claims.claim_next(settings, lane)
    assert claim == claims.Claim(number, 1)
    came = died(claim) if kind in LONG else killed(claim, tmp_path) == -signal.SIGKILL
    assert came, desk.said(number)
    between = rows(desk.database)
    assert {name for name in before if before[name] != between[name]} <= MEANWHILE.get(kind, set())
    with session(desk.database) as opened:
        job = opened.get(Job, number)
        assert job.state == "running"
        job.heartbeat = now() - timedelta(minutes=1)
    with session(desk.database) as opened:
        assert [one.id for one in claims.lost(opened)] == [number]
    claim = claims.claim_next(settings, lane)
    assert claim == claims.Claim(number, 2)
    queue.run(settings, claim)
    with session(desk.database) as opened:
        job = opened.get(Job, number)
        assert (job.state, job.error) == ("done", ""), kind
        for other in opened.scalars(sa.select(Job).where(Job.state == "queued")):
            other.state = "cancelled"
    after = rows(desk.database)
    added = {name: len(after[name]) - len(before[name]) for name in expected}
    assert added == expected
    assert claims.claim_next(settings, lane) is None
    assert left_over(desk.database, settings.media) == [] and list(tmp_path.rglob("*")) == []
