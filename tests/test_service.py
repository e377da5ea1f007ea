"""The application under bad input, and jobs under bad luck."""

import io
import os
import re
import signal
import subprocess
import time
import zipfile
from contextlib import nullcontext
from datetime import timedelta
from pathlib import Path

import pytest
from desk import wait_for
from sqlalchemy import delete, func, select
from sqlalchemy.exc import OperationalError

from amberkeel.core.errors import KeelError
from amberkeel.jobs.queue import Superseded, claim, finish, held, reporter, send
from amberkeel.services import Local
from amberkeel.settings import from_environment
from amberkeel.store import edits
from amberkeel.store.jobs import submit
from amberkeel.store.media import Media
from amberkeel.store.migrate import upgrade
from amberkeel.store.models import Job, Plate, Production, SensorPreset, Shot, now
from amberkeel.store.session import fence, session
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
    assert b"0-3" in page
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
        ({"last": "0"}, "must come after"),
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
    answer = client.post(f"/shots/{fresh_shot}/edit", json={"kind": "pin", "payload": {"attempt": None}, "revision": 0})
    assert answer.status_code == 409 and "has changed since" in answer.json["error"]
    with session(database) as opened:
        assert opened.get(Shot, fresh_shot).datum == {"origin": [1]}
        assert edits.undo(opened, fresh_shot) == "Change the datum"
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
    send(job.id)
    wait_for(database, job.id, ["running"])
    parent = service.children["worker"].pid
    children = subprocess.run(["pgrep", "-P", str(parent)], capture_output=True, text=True).stdout.split()
    for number in children:
        os.kill(int(number), signal.SIGKILL)
    done = wait_for(database, job.id, ["done"])
    assert done.tries >= 2
    with session(database) as opened:
        assert opened.scalar(select(Plate).where(Plate.shot_id == fresh_shot)).ready


def test_a_job_takes_effect_by_its_newest_claim_alone(database, fresh_shot):
    settings = from_environment()
    with session(database) as opened:
        job = submit(opened, "ingest", fresh_shot)
    first = claim(settings, job.id)
    assert first == 1 and claim(settings, job.id) is None
    with session(database) as opened:
        opened.get(Job, job.id).heartbeat = now() - timedelta(minutes=1)
    second = claim(settings, job.id)
    assert second == 2
    for token, kept in ((first, ""), (second, "by the newest")):
        fenced = fence.set(lambda opened, token=token: held(opened, job.id, token))
        try:
            with nullcontext() if token == second else pytest.raises(Superseded):
                with session(database) as opened:
                    opened.get(Shot, fresh_shot).note = "by the newest" if token == second else "by an older one"
        finally:
            fence.reset(fenced)
        with session(database) as opened:
            assert opened.get(Shot, fresh_shot).note == kept
    with pytest.raises(Superseded):
        reporter(settings, job.id, first)(0.5, "on and on")
    finish(settings, job.id, first, "failed", "an older claim")
    finish(settings, job.id, second, "done")
    with session(database) as opened:
        assert (opened.get(Job, job.id).state, opened.get(Job, job.id).error) == ("done", "")


def test_jobs_say_what_failed_and_can_be_cancelled(client, database, fresh_shot):
    assert "still coming in" in client.post(f"/shots/{fresh_shot}/solve", json={}).json["error"]
    with session(database) as opened:
        opened.scalar(select(Plate).where(Plate.shot_id == fresh_shot)).proxies = ["0" * 64] * 40
    assert "no number" in client.post(f"/shots/{fresh_shot}/solve", json={"focal_mm": "wide"}).json["error"]
    started = client.post(f"/shots/{fresh_shot}/solve", json={})
    failed = wait_for(database, started.json["job"], ["failed"])
    assert "has no tracks to solve from." in failed.error
    started = client.post(f"/shots/{fresh_shot}/follow", json={"count": 300})
    assert "running already" in client.post(f"/shots/{fresh_shot}/follow", json={}).json["error"]
    client.post(f"/jobs/{started.json['job']}/cancel", json={})
    assert wait_for(database, started.json["job"], ["cancelled", "done"]).state == "cancelled"
    assert "between" in client.post(f"/shots/{fresh_shot}/follow", json={"count": 1}).json["error"]


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
    for above in (folder, folder.parent, folder.parent.parent):
        above.chmod(above.stat().st_mode | 0o011)
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
