"""What was answered is kept, and what died half way leaves nothing in the way."""

import asyncio
import os
import re
import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path

import pytest

from amberkeel import running
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.package import Package as Written
from amberkeel.jobs import queue
from amberkeel.jobs.claims import lost
from amberkeel.settings import from_environment
from amberkeel.store import edits, keeping
from amberkeel.store.handoff import folder_of, put_package
from amberkeel.store.held import NotHeld, hold_shot
from amberkeel.store.jobs import add_job
from amberkeel.store.media import Media
from amberkeel.store.models import Job, LensProfile, Package, Plate, Production, Shot, now
from amberkeel.store.pulse import trouble
from amberkeel.store.session import session
from amberkeel.store.storage import clean_up
from amberkeel.web import bodies

SOURCE = Path(queue.__file__).parents[1]


@pytest.fixture
def shot(store, request):
    """A shot of a production of its own."""
    with session(store) as opened:
        plate = Plate(source="nowhere", label="x", first=1, last=2, width=8, height=8)
        made = Shot(production=Production(name=f"Kept {request.node.name}"), name="KEP_010", plate=plate)
        opened.add(made)
        opened.flush()
        return made.id


def test_a_shot_that_is_not_held_is_not_written(store, shot):
    with pytest.raises(NotHeld), session(store) as opened:
        opened.get(Shot, shot).note = "unheld"
    with pytest.raises(NotHeld), session(store) as opened:
        opened.get(Shot, shot).plate.label = "unheld"
    with session(store) as opened:
        before = hold_shot(opened, shot).revision
        hold_shot(opened, shot).note = "held"
    with session(store) as opened:
        kept = opened.get(Shot, shot)
        assert (kept.note, kept.revision, kept.plate.label) == ("held", before + 1, "x")


def test_revisions_are_counted_in_one_place():
    counted = re.compile(r"\brevision\s*\+=|shot\.revision\s*=(?!=)")
    found = [
        path.relative_to(SOURCE).as_posix()
        for path in SOURCE.rglob("*.py")
        if "migrations" not in path.parts and counted.search(path.read_text())
    ]
    assert found == ["store/held.py"]


def written(home: Path, version: int) -> Written:
    folder = home / f".being-made-{version}"
    folder.mkdir(parents=True)
    (folder / "README.txt").write_text("whole")
    return Written(folder, version, (), (), home / f"kep_v{version:03d}")


def test_a_package_without_a_row_is_in_nobodys_way(store, shot):
    with session(store) as opened:
        home = folder_of(Media(from_environment().media), hold_shot(opened, shot))
        left = home / "kep_v001"
        left.mkdir(parents=True)
        (left / "half").write_text("by a worker that died")
        made = put_package(opened, opened.get(Shot, shot), written(home, 1))
        assert [one.name for one in made.folder.iterdir()] == ["README.txt"] and made.folder == left
        opened.add(Package(shot_id=shot, recipient="r", version=1, folder=left.name, manifest={}, made_of={}))
    with session(store) as opened:
        held = hold_shot(opened, shot)
        with pytest.raises(HandoffError, match="made meanwhile"):
            put_package(opened, held, written(home, 1))
        again = written(home, 2)
        with pytest.raises(HandoffError, match="there already"):
            put_package(opened, held, Written(again.folder, 2, (), (), left))
        assert (left / "README.txt").read_text() == "whole"


def test_a_file_that_is_wanted_again_outlives_a_clean_up(store, tmp_path):
    media = Media(tmp_path)
    (tmp_path / "large").write_bytes(os.urandom(3 << 20))
    digest = media.put_file(tmp_path / "large")
    assert media.get(digest) == (tmp_path / "large").read_bytes() and media.put(media.get(digest)) == digest
    old = 0.0
    os.utime(media.path(digest), (old, old))
    assert media.put(media.get(digest)) == digest
    with session(store) as opened:
        assert clean_up(opened, tmp_path) == 0
        os.utime(media.path(digest), (old, old))
        assert clean_up(opened, tmp_path) == 3 << 20
    media.put_file(tmp_path / "large")
    assert media.path(digest).exists() and not list(media.path(digest).parent.glob("*.*"))


def test_a_moved_shots_lens_outlives_the_production_it_came_from(store, shot):
    with session(store) as opened:
        held = hold_shot(opened, shot)
        old, new = held.production, Production(name="Where it went")
        profile = LensProfile(production_id=old.id, name="30 mm", document={"image": 1, "lens": 2, "sigma": 3,
                              "focal_known": 4})  # fmt: skip
        opened.add_all([new, profile])
        opened.flush()
        edits.apply(opened, shot, "lens", {"profile": profile.id, "label": "Use it"})
        edits.apply(opened, shot, "lens", {"profile": None, "label": "Use none"})
        keeping.move_shot(opened, held, new)
        numbers = old.id, new.id
    with session(store) as opened:
        edits.undo(opened, shot)
        used = opened.get(LensProfile, opened.get(Shot, shot).profile_id)
        assert (used.production_id, used.name) == (numbers[1], "30 mm")
        opened.get(Production, numbers[0]).deleted = now() - keeping.KEPT_FOR - timedelta(hours=1)
    keeping.purge(store)
    with session(store) as opened:
        assert opened.get(Production, numbers[0]) is None and opened.get(Shot, shot).profile_id == used.id


def test_the_watcher_survives_what_it_does_and_says_so(store, monkeypatch):
    stop, rounds = threading.Event(), []

    def broken(settings):
        rounds.append(1)
        stop.set()
        raise KeyError("purged too much")

    monkeypatch.setattr(queue, "CHORES", {"Tidying": (0.0, broken)})
    queue.watch_over(from_environment(), stop)
    with session(store) as opened:
        assert rounds == [1] and "Tidying failed" in trouble(opened)
    stop.clear()
    monkeypatch.setattr(queue, "CHORES", {"Tidying": (0.0, lambda settings: stop.set())})
    queue.watch_over(from_environment(), stop)
    with session(store) as opened:
        assert trouble(opened) == ""


def test_a_heartbeat_from_the_future_is_none(store, shot):
    with session(store) as opened:
        jobs = [add_job(opened, "own", shot) for _ in range(2)]
        for job, away in zip(jobs, (timedelta(hours=2), timedelta(0))):
            job.state, job.heartbeat = "running", now() + away
        opened.flush()
        assert jobs[0].id in [job.id for job in lost(opened)] and jobs[1].state == "running"
        for job in jobs:
            opened.get(Job, job.id).state = "cancelled"


def test_one_application_runs_with_a_folder(tmp_path):
    lock = running.Lock(tmp_path)
    record = tmp_path / running.RECORD
    for broken in ("", "{", "[]", '{"address": 7}', '{"address": "http://127.0.0.1:1"}', '{"address": "http://x:y"}'):
        record.write_text(broken)
        with pytest.raises(running.RunsAlready, match="under way"):
            running.Lock(tmp_path)
    assert running.held(tmp_path)
    lock.release()
    lock.release()
    assert not running.held(tmp_path)
    running.write_record(record, {"address": "a"})
    assert running.read_record(record) == {"address": "a"} and record.stat().st_mode & 0o077 == 0


def served(pieces, wait=None):
    """Return what a request of pieces comes to: whether the pages saw it, what they read, and what was answered."""
    seen, sent, left = [], [], list(pieces)

    async def receive():
        if not left:
            await asyncio.sleep(3600.0)
        return left.pop(0)

    async def send(message):
        sent.append(message)

    async def pages(scope, receive, send):
        more = True
        while more:
            piece = await receive()
            more = piece.get("more_body", False)
            seen.append(piece.get("body"))

    scope = {"type": "http", "headers": [(b"content-length", b"9")]}
    # In a thread of its own: that of the tests may run a browser's loop.
    with ThreadPoolExecutor(1) as pool:
        pool.submit(lambda: asyncio.run(bodies.Bodies().serve(scope, receive, send, pages))).result()
    return seen, sent


def test_a_body_that_never_comes_takes_no_thread(monkeypatch):
    monkeypatch.setattr(bodies, "IDLE_S", 0.05)
    piece = {"type": "http.request", "body": b"abc", "more_body": True}
    last = {"type": "http.request", "body": b"d", "more_body": False}
    assert served([piece, last]) == ([b"abc", b"d"], [])
    for held in ([], [piece]):
        seen, sent = served(held)
        assert seen == [] and sent[0]["status"] == 408
    assert served([{"type": "http.disconnect"}]) == ([], [])
    monkeypatch.setattr(bodies, "GATHERED", 2)
    assert served([piece, piece, last])[0] == [b"abc", b"abc", b"d"]
    assert served([piece])[0] == [b"abc", None], "whoever sends no more has gone"
