"""A production kept in order: shots renamed, duplicated, moved, archived, deleted and restored; plates cut and
relinked; the history walked; the board sifted; the desk's space shared out.
"""

import io
import os
import shutil
import time
from datetime import timedelta
from pathlib import Path

import pytest
from desk import desk_page, new_page, new_production, poster, wait_for
from playwright.sync_api import expect
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.pictures.write import write_png
from amberkeel.store import edits, keeping
from amberkeel.store.held import hold_shot
from amberkeel.store.media import Media
from amberkeel.store.models import FilmSet, Job, Plate, Production, Shot, Track, now
from amberkeel.store.session import session
from amberkeel.store.storage import YOUNG_S, clean_up, storage


@pytest.fixture
def own(database, service):
    """A function that adds a bare shot in a production of its own."""

    def add(name: str, production: str = "Kept", proxies=()) -> tuple[int, int]:
        with session(database) as opened:
            plate = Plate(
                source=str(Path(service.environment["AMBERKEEL_PLATE_ROOTS"]) / "SKL_010" / "skl.####.png"),
                label="skl.####.png", first=1001, last=1040, width=640, height=360, proxies=list(proxies),
            )  # fmt: skip
            shot = Shot(production=new_production(opened, production), plate=plate, name=name)
            opened.add(shot)
            opened.flush()
            return shot.id, shot.production_id

    return add


@pytest.fixture
def ask(client, solved_shot):
    return poster(client, solved_shot)


def test_names_are_edits_and_must_be_free(client, own, database):
    shot, production = own("NAME_010")
    ask = poster(client, shot)
    ask("name", {"name": "NAME_020", "note": "Low sun."})
    steps = client.get(f"/shots/{shot}/history.json").json["steps"]
    assert [s["label"] for s in steps] == ["Rename to NAME_020"] and steps[0]["who"] == "artist"
    assert "low sun" in client.get("/").text.lower()
    ask("undo")
    with session(database) as opened:
        assert (opened.get(Shot, shot).name, opened.get(Shot, shot).note) == ("NAME_010", "")
        opened.add(Shot(production_id=production, name="TAKEN", plate=Plate(source="", label="", first=1, last=2,
                                                                            width=8, height=8)))  # fmt: skip
    assert "named TAKEN already" in ask("name", {"name": "TAKEN"}, 400)["error"]
    for bad in ("", "x" * 81):
        assert "name of 1 to 80" in ask("name", {"name": bad}, 400)["error"] or bad
    assert "named TAKEN already" in ask("duplicate", {"name": "TAKEN"}, 400)["error"]


def test_a_duplicate_has_its_own_tracks(client, database, solved_shot, ask):
    state = client.get(f"/shots/{solved_shot}/state.json").json
    tracks = client.get(f"/shots/{solved_shot}/tracks.json").json
    held = {"kind": "distance", "tracks": tracks["ids"][:2], "length": "2.5", "unit": "m"}
    ask("constraints", held)
    copy = ask("duplicate", {"name": "SKL_010 again"})["shot"]
    ask("undo")
    again = client.get(f"/shots/{copy}/tracks.json").json
    assert again["names"] == tracks["names"] and not set(again["ids"]) & set(tracks["ids"])
    assert again["x"] == tracks["x"] and client.get(f"/shots/{copy}/state.json").json["attempts"] == []
    with session(database) as opened:
        made = opened.get(Shot, copy)
        assert made.constraints[0]["tracks"] == again["ids"][:2] and made.plate.proxies == state["proxies"]
        production = made.production_id
    whole = client.post(f"/productions/{production}/duplicate", json={"name": "Modules twice"}).json["production"]
    with session(database) as opened:
        names = [s.name for s in opened.get(Production, whole).shots]
        assert {"SKL_010", "SKL_010 again"} <= set(names)
        keeping.delete_row(opened, opened.get(Production, whole))
        keeping.delete_row(opened, opened.get(Shot, copy))


def test_deleted_shots_are_kept_a_while(client, own, database, service):
    shot, production = own("GONE_010")
    ask = poster(client, shot)
    with session(database) as opened:
        job = Job(kind="nothing", shot_id=shot)
        opened.add(job)
        opened.flush()
        waiting = job.id
    ask("delete")
    refused = client.get(f"/shots/{shot}/plate")
    assert refused.status_code == 400 and "GONE_010 was deleted" in refused.text
    assert "GONE_010" not in client.get("/").text and "GONE_010" in client.get("/storage").text
    with session(database) as opened:
        assert opened.get(Job, waiting).state == "cancelled"
        plate = Plate(source="", label="", first=1, last=2, width=8, height=8)
        opened.add(Shot(production_id=production, name="GONE_010", plate=plate))
    assert ask("restore")["name"] == "GONE_010 (2)"
    assert "is not deleted" in ask("restore", status=400)["error"]
    ask("delete")
    with session(database) as opened:
        assert keeping.purge(database) == 0
        hold_shot(opened, shot).deleted = now() - keeping.KEPT_FOR - timedelta(hours=1)
    with session(database) as opened:
        assert keeping.purge(database) == 1 and opened.get(Shot, shot) is None
        quay = FilmSet(production_id=production, name="Quay", document={})
        opened.add(quay)
        opened.flush()
        kept, tied = hold_shot(opened, opened.scalar(select(Shot.id).where(Shot.production_id == production))), quay.id
        ties = {"t1": {"track": 1, "point": "P", "by": "hand", "on": True}}
        kept.ties = {"set": tied, "ties": ties, "aligned": {"attempt": 1}}
        assert keeping.duplicate_shot(opened, kept, "TWIN_010").ties == {"set": tied, "ties": {}}
        opened.get(Production, production).deleted = now() - keeping.KEPT_FOR - timedelta(hours=1)
    with session(database) as opened:
        keeping.purge(database)
        assert opened.get(Production, production) is None and opened.get(FilmSet, tied) is None
    assert "gone for good" in client.post(f"/shots/{shot}/restore", json={}).json["error"]


def test_productions_are_kept_in_order(client, own, database):
    shot, production = own("MOVED_010", "Source")
    _, other = own("STAYS_010", "Target")

    def do(what, body=None, status=200):
        answer = client.post(f"/productions/{production}/{what}", json=body or {})
        assert answer.status_code == status, answer.text
        return answer.json

    do("name", {"name": "Source, renamed", "note": "n"})
    assert "named Source, renamed already" in client.post("/productions", data={"name": "Source, renamed"}).text
    do("archive")
    assert 'data-archived="yes"' in client.get("/").text
    do("archive", {"on": False})
    poster(client, shot)("move", {"production": other})
    assert "is in Target" in poster(client, shot)("move", {"production": other}, 400)["error"]
    do("delete")
    with session(database) as opened:
        assert opened.get(Shot, shot).production_id == other
    assert client.get(f"/productions/{production}/new").status_code == 400
    assert do("restore")["name"] == "Source, renamed"


def test_the_history_goes_to_any_step(client, own, database):
    shot, _ = own("WALK_010")
    ask = poster(client, shot)
    for k in range(4):
        ask("name", {"name": f"WALK_{k}"})
    steps = client.get(f"/shots/{shot}/history.json").json["steps"]
    assert "steps" in ask("history", {"edit": steps[2]["id"]})["said"]
    with session(database) as opened:
        assert opened.get(Shot, shot).name == "WALK_1"
    assert [s["undone"] for s in client.get(f"/shots/{shot}/history.json").json["steps"]] == [True, True, False, False]
    ask("history", {"edit": steps[0]["id"]})
    revision = client.get(f"/shots/{shot}/state.json").json["revision"]
    assert "has changed" in ask("history", {"edit": 0, "revision": revision - 1}, 409)["error"]
    ask("history", {"edit": 0, "revision": revision})
    assert "stands there already" in ask("history", {"edit": 0}, 400)["error"]
    assert "no longer holds" in ask("history", {"edit": 10**8}, 400)["error"]
    with session(database) as opened:
        assert opened.get(Shot, shot).name == "WALK_010"
        assert edits.history(opened, shot)[0].who == "artist"


def test_two_people_are_refused_only_what_the_other_one_changed(client, database, solved_shot, ask):
    seen = client.get(f"/shots/{solved_shot}/state.json").json["revision"]
    one, other, third = client.get(f"/shots/{solved_shot}/tracks.json").json["ids"][:3]

    def exclude(*tracks, status=200):
        payload = {"states": {"excluded": list(tracks)}}
        return ask("edit", {"kind": "states", "payload": payload, "revision": seen}, status)

    exclude(one)
    exclude(other)
    assert "has changed" in exclude(other, third, status=409)["error"]
    ask("name", {"name": "SKL_010 b", "revision": seen})
    exclude(third)
    ask("undo")
    assert "has changed" in exclude(third, status=409)["error"]
    for _ in range(3):
        ask("undo")


def test_other_frames_lose_no_track(client, database, solved_shot, ask):
    before = client.get(f"/shots/{solved_shot}/tracks.json").json
    proxies = client.get(f"/shots/{solved_shot}/state.json").json["proxies"]
    for bad, words in (
        ((1010, 1009), "must not come before"),
        ((1001, 1040), "used already"),
        ((990, 1040), "no frames|no f"),
    ):
        body = dict(zip(("first", "last"), bad))
        assert any(w in ask("plate/range", body, 400)["error"] for w in words.split("|"))
    state = ask("plate/range", {"first": 1010, "last": 1030})
    assert state["files"][1:] == [1010, 1030] and state["proxies"] == proxies[9:30]
    cut = client.get(f"/shots/{solved_shot}/tracks.json").json
    assert set(cut["frames"]) <= set(range(1010, 1031)) and len(cut["frames"]) == len(cut["x"]) == cut["first"][-1]
    with session(database) as opened:
        kept = opened.scalars(select(Track.frames).where(Track.shot_id == solved_shot, ~Track.removed))
        assert sorted(f for row in kept for f in row) == sorted(before["frames"])
    job = ask("solve", {"motion": "free"})["job"]
    assert wait_for(database, job, ["done", "failed"], 200).state == "done"
    newest = client.get(f"/shots/{solved_shot}/state.json").json
    assert client.get(f"/shots/{solved_shot}/history.json").json["steps"][0]["who"] == "solve"
    attempt = client.get(f"/attempts/{newest['pinned']}.json").json
    assert len(attempt["world"]["frames"]) == 21 and len(attempt["frame_rms"]) == 21
    # More frames again: they are read in by a job; undone, nothing is missing.
    wider = ask("plate/range", {"first": 1005, "last": 1030})
    assert wider["proxies"] == []
    with session(database) as opened:
        ingest = opened.scalar(select(Job.id).where(Job.shot_id == solved_shot, Job.kind == "ingest"))
    assert wait_for(database, ingest, ["done", "failed"], 120).state == "done"
    assert client.get(f"/shots/{solved_shot}/state.json").json["proxies"] == proxies[4:30]
    steps = client.get(f"/shots/{solved_shot}/history.json").json["steps"]
    first = next(k for k, s in enumerate(steps) if s["label"] == "Use frames 1010-1030")
    ask("history", {"edit": steps[first + 1]["id"]})
    assert client.get(f"/shots/{solved_shot}/tracks.json").json["frames"] == before["frames"]
    assert client.get(f"/shots/{solved_shot}/state.json").json["proxies"] == proxies


def test_a_plate_that_moved_is_relinked(client, own, database, service, plate, tmp_path):
    roots = Path(service.environment["AMBERKEEL_PLATE_ROOTS"])
    media = Media(service.environment["AMBERKEEL_MEDIA"])
    from amberkeel.core.pictures.write import encode_jpeg

    shot, _ = own("LINK_010", proxies=[media.put(encode_jpeg(plate.read(int(f)))) for f in plate.frames])
    ask = poster(client, shot)
    moved, wrong = roots / "elsewhere" / "plate", roots / "wrong"
    shutil.copytree(roots / "SKL_010", moved)
    wrong.mkdir()
    for frame in plate.frames.tolist():
        write_png(wrong / f"skl.{frame}.png", 255 - plate.read(frame))
    try:
        with session(database) as opened:
            hold_shot(opened, shot).plate.source = str(tmp_path / "gone" / "skl.####.png")
        page = client.get(f"/shots/{shot}/plate").text
        assert "not where they were" in page and str(tmp_path) not in page
        found = client.get(f"/shots/{shot}/plate/found.json").json["found"]
        assert "elsewhere/plate/skl.####.png" in found and "SKL_010/skl.####.png" in found
        assert "looks otherwise" in ask("plate/relink", {"path": "wrong/skl.####.png"}, 400)["error"]
        assert "not under a plate root" in ask("plate/relink", {"path": "../../etc"}, 400)["error"]
        ask("plate/relink", {"path": "elsewhere/plate/skl.####.png"})
        assert "not where they were" not in client.get(f"/shots/{shot}/plate").text
        for frame in (1020, 1021):
            (moved / f"skl.{frame}.png").unlink()
        assert "no frame 1020-1021" in ask("plate/relink", {"path": "elsewhere/plate"}, 400)["error"]
        ask("plate/relink", {"path": "wrong/skl.####.png", "anyway": True})
        ask("undo")
        with session(database) as opened:
            assert "elsewhere" in opened.get(Shot, shot).plate.source
    finally:
        shutil.rmtree(moved.parent)
        shutil.rmtree(wrong)


def test_a_moved_plate_is_relinked_on_its_page(browser, service, client, database, own, plate):
    from amberkeel.core.pictures.write import encode_jpeg

    media = Media(service.environment["AMBERKEEL_MEDIA"])
    shot, _ = own("LINK_020", proxies=[media.put(encode_jpeg(plate.read(int(f)))) for f in plate.frames])
    with session(database) as opened:
        hold_shot(opened, shot).plate.source = "/nowhere/skl.####.png"
    with desk_page(browser, service, shot, "plate") as page:
        expect(page.locator("[data-panel=plate] .say")).to_contain_text("not where they were")
        page.click("[data-act=plate-relink]")
        expect(page.locator("#relinkpath")).to_have_value("SKL_010/skl.####.png")
        page.click("#relinkbox .main")
        expect(page.locator("#toast")).to_contain_text("Relinked")
        page.reload()
        page.wait_for_selector("body[data-ready]")
        expect(page.locator("[data-panel=plate] .say")).to_have_count(0)
        page.click("[data-act=history]")
        expect(page.locator("#steps .here")).to_contain_text("Relink to skl.####.png")


def test_only_what_nothing_refers_to_is_cleaned_up(own, database, service, tmp_path):
    media, old = Media(tmp_path), time.time() - YOUNG_S - 60
    used, loose, young = (media.put(word.encode() * 5000) for word in ("used", "loose", "young"))
    shot, _ = own("KEEP_010", proxies=[used])
    (tmp_path / "straightened" / str(shot)).mkdir(parents=True)
    (tmp_path / "straightened" / str(shot) / "a.png").write_bytes(b"x" * 700)
    for name in ("uploads/0123456789abcdef", "grid_lost", "straightened/99999999"):
        (tmp_path / name).mkdir(parents=True)
        (tmp_path / name / "a.png").write_bytes(b"x" * 300)
        os.utime(tmp_path / name, (old, old))
    for digest in (used, loose):
        os.utime(media.path(digest), (old, old))
    with session(database) as opened:
        held = storage(opened, tmp_path)
        assert held.shots[shot] == 20_700 and held.loose_bytes == 25_000 + 900
        assert clean_up(opened, tmp_path) == 25_900
        assert storage(opened, tmp_path).loose == ()
    assert media.get(used) and media.get(young) and not media.path(loose).exists()
    assert (tmp_path / "straightened" / str(shot) / "a.png").exists()
    media.path(used).parent.chmod(0o500)
    if os.getuid():
        with pytest.raises(KeelError, match="media folder cannot be written"):
            media.put(b"more")


def test_the_board_is_sifted_and_ordered_with_the_mouse(browser, service, client, own):
    shot, _ = own("SIFT_010 Gate", "Sifted")
    page = new_page(browser)
    page.goto(f"{service.address}/")
    card = page.locator(f"[data-shot='{shot}']")
    page.fill("#seek", "gate sift")
    expect(page.locator(".shot:visible")).to_have_count(1)
    page.click("button[data-look=rows]")
    expect(page.locator("#board")).to_have_attribute("data-look", "rows")

    def choose(words: str):
        card.locator("[data-menu]").click()
        page.get_by_role("menuitem", name=words).click()

    choose("Rename")
    page.fill("#newname", "SIFT_020 Gate")
    with page.expect_navigation():
        page.click("#doit")
    expect(card.locator("h2")).to_contain_text("SIFT_020")
    expect(page.locator("#seek")).to_have_value("gate sift")
    choose("Duplicate")
    page.fill("#newname", "SIFT_020 Gate")
    page.click("#doit")
    expect(page.locator("#refusal")).to_contain_text("already")
    page.fill("#newname", "SIFT_030 Gate")
    with page.expect_navigation():
        page.click("#doit")
    expect(page.locator(".shot:visible")).to_have_count(2)
    with page.expect_navigation():
        choose("Archive")
    expect(page.locator(".shot:visible")).to_have_count(1)
    page.click("[data-show=archived]")
    expect(page.locator(".shot:visible")).to_have_count(1)
    with page.expect_navigation():
        choose("Take up again")
    page.click("[data-show='']")
    choose("Delete")
    with page.expect_navigation():
        page.click("#doit")
    expect(card).to_have_count(0)
    page.goto(f"{service.address}/storage")
    page.locator("tr", has_text="SIFT_020").get_by_role("button", name="Restore").click()
    expect(page.locator("#toast")).to_contain_text("SIFT_020 Gate is back")
    page.goto(f"{service.address}/")
    expect(card).to_be_visible()
    page.close()


def test_a_range_is_chosen_on_the_strip_at_intake(browser, service, client, database, own):
    _, production = own("STRIP_010")
    page = new_page(browser)
    page.goto(f"{service.address}/productions/{production}/new?root=0&path=SKL_010")
    page.get_by_role("link", name="skl.####.png").click()
    page.wait_for_selector("body[data-ready]")
    strip = page.locator(".strip").bounding_box()
    handle = page.locator("[data-end=first]").bounding_box()
    page.mouse.move(handle["x"] + 4, handle["y"] + 20)
    page.mouse.down()
    page.mouse.move(strip["x"] + 0.26 * strip["width"], handle["y"] + 20, steps=4)
    page.mouse.up()
    expect(page.locator("[name=first]")).to_have_value("1011")
    page.locator("[data-end=last]").focus()
    page.keyboard.press("Shift+ArrowLeft")
    expect(page.locator("[name=last]")).to_have_value("1030")
    page.click("[data-play]")
    expect(page.locator(".peek .at")).not_to_have_text("1011")
    page.click("[data-play]")
    page.fill("[name=name]", "STRIP_020")
    page.get_by_role("button", name="Bring it in").click()
    page.wait_for_selector("body[data-ready]")
    with session(database) as opened:
        made = opened.scalar(select(Shot).where(Shot.name == "STRIP_020"))
        assert (made.plate.first, made.plate.last) == (1011, 1030)
        job = opened.scalar(select(Job.id).where(Job.shot_id == made.id))
    wait_for(database, job, ["done"])
    page.close()


def test_several_plates_come_in_together_or_not_at_all(client, database, own, plate):
    _, production = own("MANY_010")
    sent = []
    for name in ("a", "b"):
        for k in range(3):
            data = io.BytesIO(client.get("/").data and _png(plate.read(1001 + k)))
            sent.append((data, f"{name}.{k + 1:03d}.png"))
    accept = {"Accept": "application/json"}
    where = client.post(f"/productions/{production}/upload", data={"files": sent}, headers=accept).json["next"]
    assert "Confirm 2 plates" in client.get(where).text
    from urllib.parse import parse_qs, urlsplit

    sources = parse_qs(urlsplit(where).query)["source"]
    form = {"source": sources, "name": ["MANY_020", "MANY_020"], "sensor": ["24.0", "24.0"], "fps": ["24/1", "25/1"]}
    refused = client.post(f"/productions/{production}/confirm", data=form)
    assert refused.status_code == 400 and "already" in refused.text
    with session(database) as opened:
        assert len(opened.get(Production, production).shots) == 1
    form["name"] = ["MANY_020", "MANY_030"]
    assert client.post(f"/productions/{production}/confirm", data=form).status_code == 302
    with session(database) as opened:
        made = {s.name: s.plate.fps for s in opened.get(Production, production).shots}
        assert made["MANY_020"] == "24/1" and made["MANY_030"] == "25/1"
    picture = client.get(f"/productions/{production}/peek.jpg", query_string={"source": sources[0], "frame": 2})
    assert picture.mimetype == "image/jpeg" and picture.data[:2] == b"\xff\xd8"
    for bad in ({"frame": 9}, {"source": "root:9:x"}, {"source": "upload:../../x:y"}):
        query = {"source": sources[0], "frame": 2, **bad}
        assert client.get(f"/productions/{production}/peek.jpg", query_string=query).status_code == 400


def _png(picture) -> bytes:
    from amberkeel.core.pictures.write import encode_png

    return encode_png(picture)


def test_the_desks_space_is_shared_out_and_remembered(browser, service, solved_shot):
    with desk_page(browser, service, solved_shot, "solve") as page:
        side, lanes = page.locator(".side"), page.locator(".lanes")
        before, low = side.bounding_box()["width"], lanes.bounding_box()["height"]
        for name, way in (("side", (-90, 0)), ("lanes", (0, -70)), ("case", (0, -60))):
            box = page.locator(f".divider[data-name={name}]").bounding_box()
            at = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
            page.mouse.move(*at)
            page.mouse.down()
            page.mouse.move(at[0] + way[0], at[1] + way[1], steps=4)
            page.mouse.up()
        assert side.bounding_box()["width"] == pytest.approx(before + 90, abs=6)
        assert lanes.bounding_box()["height"] == pytest.approx(low + 70, abs=6)
        page.reload()
        page.wait_for_selector("body[data-ready]")
        assert side.bounding_box()["width"] == pytest.approx(before + 90, abs=6)
        page.keyboard.press("Shift+C")
        assert page.locator("#findings").bounding_box()["height"] > 0 and not page.locator(".stagebox").is_visible()
        page.keyboard.press("Shift+C")
        page.keyboard.press("Shift+L")
        assert page.locator("#rows").bounding_box()["height"] > 200
        page.keyboard.press("Shift+L")
        page.keyboard.press("w")
        expect(page.locator(".lanes")).to_be_hidden()
        page.keyboard.press("Escape")
        expect(page.locator(".lanes")).to_be_visible()
        page.locator(".divider[data-name=side]").dblclick()
        assert side.bounding_box()["width"] == before
        page.evaluate("localStorage.removeItem('keel-room')")


def test_help_and_history_open_where_the_user_is(browser, service, client, solved_shot):
    with desk_page(browser, service, solved_shot, "tracks") as page:
        expect(page.locator("[data-first-line=tracks]")).to_be_visible()
        page.locator("[data-first-line=tracks] [data-read]").click()
        page.keyboard.press("F1")
        expect(page.locator("#helptext h1")).to_have_text("Good tracks, for artists")
        page.keyboard.press("Escape")
        expect(page.locator("#help")).to_be_hidden()
        page.click("[data-act=history]")
        expect(page.locator("#steps li").first).to_be_visible()
        expect(page.locator("#steps li").last).to_contain_text("The plate as it came in")
        page.reload()
        page.wait_for_selector("body[data-ready]")
        expect(page.locator("[data-first-line=tracks]")).to_be_hidden()
    index = client.get("/help/").text
    from amberkeel.web.help import PAGES

    for name, title in PAGES.items():
        assert title in index and client.get(f"/help/{name}").status_code == 200
    assert client.get("/help/architecture").status_code == 404
    assert 'src="/help/pictures/conventions.svg"' in client.get("/help/handoff").text
    assert client.get("/help/pictures/conventions.svg").mimetype == "image/svg+xml"
    assert client.get("/help/for/solve").location.endswith("/help/casebook")
