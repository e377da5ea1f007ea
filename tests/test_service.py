"""The application under bad input, and jobs under bad luck."""

import io
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import zipfile
from datetime import timedelta
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest
from desk import new_page, wait_for
from sqlalchemy import delete, func, select
from sqlalchemy.exc import OperationalError

from amberkeel.core.errors import KeelError
from amberkeel.jobs.claims import Lane, Superseded, claim_next, ending, finish, lost, reporter, working
from amberkeel.jobs.queue import wake
from amberkeel.services import Local, open_to_postgres
from amberkeel.settings import from_environment
from amberkeel.store import edits
from amberkeel.store.held import hold_shot
from amberkeel.store.jobs import add_job, bring_forward, submit
from amberkeel.store.media import Media
from amberkeel.store.migrate import upgrade
from amberkeel.store.models import Job, Plate, Production, SensorPreset, Shot, now
from amberkeel.store.session import session
from amberkeel.web import create_app


@pytest.fixture(scope="module")
def production(database, service):
    with session(database) as opened:
        row = opened.scalar(select(Production).where(Production.name == "Guards")) or Production(name="Guards")
        opened.add(row)
        opened.flush()
        return row.id


@pytest.fixture
def fresh_shot(database, production, service):
    root = Path(service.environment["AMBERKEEL_PLATE_ROOTS"]) / "SKL_010"
    with session(database) as opened:
        plate = Plate(
            source=str(root / "skl.####.png"), label="skl.####.png", first=1001, last=1040, width=640, height=360
        )
        shot = Shot(production_id=production, name=f"shot {time.monotonic_ns()}", plate=plate)
        opened.add(shot)
        opened.flush()
        return shot.id


def test_changes_need_the_pages_token(service):
    app = create_app(from_environment())
    answer = app.test_client().post("/productions", data={"name": "Forged"})
    assert answer.status_code == 400 and b"out of date" in answer.data


@pytest.mark.parametrize("path", ["../..", "/etc", "SKL_010/../../.."])
def test_no_path_leads_out_of_the_plate_roots(client, production, path):
    assert (
        b"leads out of the plate roots"
        in client.get(f"/productions/{production}/new", query_string={"root": 0, "path": path}).data
    )
    answer = client.get(f"/productions/{production}/confirm", query_string={"source": f"root:0:{path}/x.#.png"})
    assert answer.status_code == 400 and b"leads out" in answer.data


def test_links_do_not_lead_out_either(client, production, service):
    link = Path(service.environment["AMBERKEEL_PLATE_ROOTS"]) / "link"
    link.symlink_to("/usr")
    try:
        assert b">link<" not in client.get(f"/productions/{production}/new").data
        assert b"leads out" in client.get(f"/productions/{production}/new", query_string={"path": "link"}).data
    finally:
        link.unlink()


@pytest.fixture
def leading_out(service):
    """A folder of a plate root in which one thing after the other leads out of it; made and taken away."""
    folder = Path(service.environment["AMBERKEEL_PLATE_ROOTS"]) / "out"
    folder.mkdir()
    yield folder
    shutil.rmtree(folder)


def test_neither_the_last_part_of_a_path_nor_a_file_leads_out_of_the_roots(
    client, production, fresh_shot, leading_out, plate_folder, tmp_path
):
    (tmp_path / "secret.0001.png").write_bytes(sorted((plate_folder / "plate").iterdir())[0].read_bytes())
    for k in (1, 2):
        (leading_out / f"in.{k:04d}.png").symlink_to(tmp_path / "secret.0001.png")
    (leading_out / "there").symlink_to(tmp_path)
    (leading_out / "film.mov").symlink_to(tmp_path / "secret.0001.png")
    for where in ("out/in.####.png", "out/there", "out/there/secret.####.png", "out/film.mov", "out/../..", ".."):
        answer = client.get(f"/productions/{production}/confirm", query_string={"source": f"root:0:{where}"})
        assert answer.status_code == 400 and "leads out" in answer.text, where
        for path, body in (("replaced", {"path": where}),):
            answer = client.post(f"/shots/{fresh_shot}/{path}", json=body)
            assert answer.status_code == 400 and "plate root" in answer.json["error"], where
        for path, form in (("mattes", {"where": where}), ("lens/chart", {"where": where, "inner": "9x6"})):
            answer = client.post(f"/shots/{fresh_shot}/{path}", data=form, headers={"Accept": "application/json"})
            assert answer.status_code == 400 and "plate root" in answer.json["error"], where


def test_hostile_archives_are_refused_in_words(client, production, plate_folder):
    frames = [path.read_bytes() for path in sorted((plate_folder / "plate").iterdir())[:3]]
    plain = io.BytesIO()
    with zipfile.ZipFile(plain, "w") as archive:
        for k, frame in enumerate(frames):
            archive.writestr(f"a.{k:03d}.png", frame)
    locked = bytearray(plain.getvalue())
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        for found in re.finditer(re.escape(mark), bytes(locked)):
            locked[found.start() + at] |= 1
    twice = io.BytesIO()
    with zipfile.ZipFile(twice, "w") as archive:
        for folder in "ab":
            for k, frame in enumerate(frames):
                archive.writestr(f"{folder}/a.{k:03d}.png", frame)
    for blob, words in ((bytes(locked), "encrypted"), (twice.getvalue(), "2 files called"), (b"PK", "damaged")):
        answer = client.post(
            f"/productions/{production}/upload",
            data={"files": [(io.BytesIO(blob), "plate.zip")]},
            headers={"Accept": "application/json"},
        )
        assert answer.status_code == 400 and words in answer.json["error"]


READ = """
import sys
from pathlib import Path
from amberkeel.core.pictures.read import read_matte, read_picture
from benchmarks.peak import peak_bytes
before = peak_bytes()
assert read_picture(Path(sys.argv[1])).shape == (4096, 4096, 3)
assert read_matte(Path(sys.argv[1])).shape == (4096, 4096)
print((peak_bytes() - before) // 1024**2)
"""


@pytest.mark.parametrize("name", ["big.exr", "big.png"])
def test_a_small_file_of_a_large_picture_takes_little_more_than_its_pixels(tmp_path, name):
    spec = oiio.ImageSpec(4096, 4096, 4, "half" if name.endswith("exr") else "uint8")
    written = oiio.ImageOutput.create(str(tmp_path / name))
    written.open(str(tmp_path / name), spec)
    rows = np.zeros((64, 4096, 4), np.float16 if name.endswith("exr") else np.uint8)
    for y in range(0, 4096, 64):
        written.write_scanlines(y, y + 64, 0, rows)
    written.close()
    read = subprocess.run([sys.executable, "-c", READ, str(tmp_path / name)], capture_output=True, text=True)
    assert read.returncode == 0 and int(read.stdout) < 300, read.stderr


def test_uploads_are_judged_by_what_they_hold(client, production, plate_folder, service):
    def upload(files):
        return client.post(
            f"/productions/{production}/upload", data={"files": files}, headers={"Accept": "application/json"}
        )

    uploads = Path(service.environment["AMBERKEEL_MEDIA"]) / "uploads"
    before = set(uploads.iterdir()) if uploads.exists() else set()
    frames = sorted((plate_folder / "plate").iterdir())[:4]
    text = [(io.BytesIO(b"plainly text"), f"a.{k}.png") for k in (1, 2)]
    assert "cannot be read as a picture" in upload(text).json["error"]
    gap = [(io.BytesIO(frames[k].read_bytes()), f"../../a.{k}.png") for k in (0, 1, 3)]
    assert "no frame 2" in upload(gap).json["error"]
    assert "damaged or cut off" in upload([(io.BytesIO(b"PK\x03\x04 broken"), "plate.zip")]).json["error"]
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for k, frame in enumerate(frames):
            archive.writestr(f"deep/../er/b.{k:03d}.png", frame.read_bytes())
    half = packed.getvalue()[: len(packed.getvalue()) // 2]
    assert "damaged or cut off" in upload([(io.BytesIO(half), "plate.zip")]).json["error"]
    assert not uploads.exists() or set(uploads.iterdir()) == before
    answer = upload([(io.BytesIO(packed.getvalue()), "plate.zip")])
    assert answer.status_code == 200
    page = client.get(answer.json["next"]).data
    assert b'data-first="0" data-last="3"' in page
    source = re.search(rb'name="source" value="([^"]+)"', page).group(1).decode()
    form = {
        "source": source,
        "name": "zipped",
        "sensor": "typed",
        "sensor_width": "0.98",
        "sensor_unit": "in",
        "fps": "24/1",
    }
    for bad, words in [
        ({"sensor_width": "0"}, "more than zero"),
        ({"fps_typed": "x"}, "no frame rate"),
        ({"fps_typed": "1e9999999"}, "no frame rate"),
        ({"sensor_width": "nan"}, "no length"),
        ({"sensor_width": "-1e400"}, "no length"),
        ({"first": "2", "last": "1"}, "must not come before"),
        ({"name": ""}, "needs a name"),
    ]:
        assert words in client.post(f"/productions/{production}/confirm", data={**form, **bad}).text
    done = client.post(f"/productions/{production}/confirm", data={**form, "preset": "Yard camera"})
    assert done.status_code == 302
    with session(service.environment["AMBERKEEL_DATABASE"]) as opened:
        assert opened.scalar(select(SensorPreset.width_mm).where(SensorPreset.name == "Yard camera")) == pytest.approx(
            24.892
        )
    assert "is in already" in client.get(answer.json["next"]).text
    assert "Yard camera" in client.get(answer.json["next"]).text


def test_edits_on_an_old_state_are_refused(client, database, fresh_shot):
    with session(database) as opened:
        edits.apply(opened, fresh_shot, "datum", {"datum": {"origin": [1]}}, 0)
        edits.apply(opened, fresh_shot, "pin", {"attempt": None}, 0)
    pin = {"kind": "pin", "payload": {"attempt": None}, "revision": 0}
    answer = client.post(f"/shots/{fresh_shot}/edit", json=pin)
    assert answer.status_code == 409 and "has changed since" in answer.json["error"]
    with session(database) as opened:
        assert opened.get(Shot, fresh_shot).datum == {"origin": [1]}
        assert [edits.undo(opened, fresh_shot) for _ in range(2)] == ["Unpin", "Change the datum"]
        assert opened.get(Shot, fresh_shot).datum == {}
        with pytest.raises(KeelError, match="nothing to undo"):
            edits.undo(opened, fresh_shot)
        edits.redo(opened, fresh_shot)
        assert opened.get(Shot, fresh_shot).datum == {"origin": [1]}
    for body, words in [
        ({"kind": "states", "payload": {"states": {"active": []}}}, "No track is selected"),
        ({"kind": "what", "payload": {}}, "no edit"),
    ]:
        assert words in client.post(f"/shots/{fresh_shot}/edit", json=body).json["error"]


def test_a_killed_workers_job_runs_again(database, fresh_shot, service):
    with session(database) as opened:
        job = submit(opened, "ingest", fresh_shot)
    wake()
    wait_for(database, job.id, ["running"])
    parent = service.children["worker-all"].pid
    children = subprocess.run(["pgrep", "-P", str(parent)], capture_output=True, text=True).stdout.split()
    for number in children:
        os.kill(int(number), signal.SIGKILL)
    done = wait_for(database, job.id, ["done"])
    assert done.tries >= 2
    with session(database) as opened:
        assert opened.scalar(select(Plate).where(Plate.shot_id == fresh_shot)).ready


OWN = Lane(frozenset({"own"}))
"""A lane of jobs that no worker knows."""


def test_a_job_takes_effect_by_its_newest_claim_alone(database, fresh_shot):
    settings = from_environment()
    with session(database) as opened:
        job = submit(opened, "own", fresh_shot).id
    first = claim_next(settings, OWN)
    assert (first.job, first.token) == (job, 1) and claim_next(settings, OWN) is None
    with session(database) as opened:
        opened.get(Job, job).heartbeat = now() - timedelta(minutes=1)
    with session(database) as opened:
        assert [one.id for one in lost(opened)] == [job]
    second = claim_next(settings, OWN)
    assert second.token == 2
    with working(first), pytest.raises(Superseded), session(database) as opened:
        hold_shot(opened, fresh_shot).note = "by an older claim"
    with working(first), pytest.raises(Superseded), ending(settings) as opened:
        hold_shot(opened, fresh_shot).note = "by an older claim"
    with pytest.raises(Superseded):
        reporter(settings, first)(0.5, "on and on")
    finish(settings, first, "failed", "an older claim")
    with working(second), pytest.raises(KeyError), ending(settings) as opened:
        hold_shot(opened, fresh_shot).note = "half done when it died"
        raise KeyError
    with session(database) as opened:
        assert (opened.get(Job, job).state, opened.get(Shot, fresh_shot).note) == ("running", "")
    with working(second), ending(settings, said="That is done.") as opened:
        hold_shot(opened, fresh_shot).note = "by the newest"
    finish(settings, second, "failed", "after its end")
    with session(database) as opened:
        row = opened.get(Job, job)
        assert (row.state, row.error, row.doing, row.progress) == ("done", "", "That is done.", 1.0)
        assert opened.get(Shot, fresh_shot).note == "by the newest"


def test_what_somebody_waits_for_comes_first_and_a_shot_has_one_job_at_a_time(database, fresh_shot, solved_shot):
    settings = from_environment()
    with session(database) as opened:
        ids = [
            add_job(opened, kind, shot, background=hidden).id
            for kind, shot, hidden in (
                ("own", fresh_shot, True),
                ("own", fresh_shot, False),
                ("own", fresh_shot, False),
                ("own", solved_shot, True),
                ("aside", fresh_shot, False),
            )  # fmt: skip
        ]
    beside = Lane(frozenset({"own", "aside"}), beside=frozenset({"aside"}))
    foreground = Lane(frozenset({"own"}), False, frozenset({"aside"}))
    took = [claim_next(settings, beside) for _ in range(4)]
    assert [one and one.job for one in took] == [ids[1], ids[4], ids[3], None]
    assert claim_next(settings, foreground) is None
    finish(settings, took[0], "done")
    assert claim_next(settings, foreground).job == ids[2]
    with session(database) as opened:
        bring_forward(opened, fresh_shot)
        assert not opened.get(Job, ids[0]).background
        opened.execute(delete(Job).where(Job.kind.in_(("own", "aside"))))


def test_jobs_say_what_failed_and_can_be_cancelled(client, database, fresh_shot):
    assert "still coming in" in client.post(f"/shots/{fresh_shot}/solve", json={}).json["error"]
    with session(database) as opened:
        hold_shot(opened, fresh_shot).plate.proxies = ["0" * 64] * 40
    assert "no number" in client.post(f"/shots/{fresh_shot}/solve", json={"focal_mm": "wide"}).json["error"]
    started = client.post(f"/shots/{fresh_shot}/solve", json={})
    failed = wait_for(database, started.json["job"], ["failed"])
    assert "has no tracks to solve from." in failed.error
    started = client.post(f"/shots/{fresh_shot}/follow", json={"count": 300})
    assert "running already" in client.post(f"/shots/{fresh_shot}/follow", json={}).json["error"]
    client.post(f"/jobs/{started.json['job']}/cancel", json={})
    assert wait_for(database, started.json["job"], ["cancelled", "done"]).state == "cancelled"
    assert "between" in client.post(f"/shots/{fresh_shot}/follow", json={"count": 1}).json["error"]


def test_the_page_of_jobs_says_how_all_go_cancels_and_does_again(browser, service, client, database, fresh_shot):
    with session(database) as opened:
        name = opened.get(Shot, fresh_shot).name
        for kind, state, error in (("own", "queued", ""), ("aside", "failed", "The disk is full.")):
            job = add_job(opened, kind, fresh_shot)
            job.state, job.error = state, error
            job.started, job.ended = now() - timedelta(seconds=75), now()
    page = new_page(browser)
    page.set_default_timeout(30_000)
    page.goto(f"{service.address}/jobs")
    own = page.locator("tr", has_text=name)
    assert "The disk is full." in page.text_content("#jobs") and "1 min 15 s" in page.text_content("#jobs")
    own.filter(has_text="Waiting for a worker").get_by_role("button", name="Cancel").click()
    own.filter(has_text="Cancelled.").get_by_role("button", name="Do it again").wait_for()
    page.close()
    with session(database) as opened:
        failed = opened.scalar(select(Job.id).where(Job.shot_id == fresh_shot, Job.state == "failed"))
    assert "There is no job" in client.post(f"/jobs/{failed}/again", json={}).json["error"]
    with session(database) as opened:
        opened.get(Job, failed).kind = "ingest"
    again = client.post(f"/jobs/{failed}/again", json={}).json["job"]
    assert wait_for(database, again, ["done"]).kind == "ingest"


def test_media_and_downloads_give_nothing_away(client, fresh_shot, tmp_path, database):
    assert client.get("/frames/..%2f..%2fkeys.jpg").status_code == 404
    assert client.get(f"/frames/{'0' * 64}.jpg").status_code == 404
    assert "nothing to hand on" in client.get(f"/shots/{fresh_shot}/handoff/camera.usda").text
    assert client.get(f"/shots/{fresh_shot}/handoff/keys.json").status_code == 404
    media = Media(tmp_path)
    assert media.get(media.put(b"abc")) == b"abc" and media.put(b"abc") == media.put(b"abc")
    with session(database) as opened:
        opened.execute(delete(Job).where(Job.shot_id == fresh_shot))


def test_what_was_answered_survives_a_killed_database_and_all_is_started_again(tmp_path_factory, monkeypatch):
    for name in [name for name in os.environ if name.startswith("AMBERKEEL_")]:
        monkeypatch.setenv(name, os.environ[name])
    folder = tmp_path_factory.mktemp("killed")
    open_to_postgres(folder)
    local = Local(folder / "data")
    try:
        database = local.start([])["AMBERKEEL_DATABASE"]
        upgrade()
        for k in range(40):
            with session(database) as opened:
                opened.add(Production(name=f"edit {k}"))
        for name in ("postgres", "redis"):
            os.kill(local.children[name].pid, signal.SIGKILL)
            local.children[name].wait(10)
        until = time.monotonic() + 30
        while time.monotonic() < until:
            local.revive()
            try:
                with session(database) as opened:
                    kept = opened.scalar(select(func.count()).select_from(Production))
                break
            except OperationalError:
                time.sleep(0.3)
        assert kept == 40 and all(local.children[name].poll() is None for name in ("postgres", "redis"))
    finally:
        local.stop()
