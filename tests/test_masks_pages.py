"""Masks through the application: the pages' answers, the jobs, and the desk used with the mouse."""

import io
import re
import time
import zipfile

import cv2
import numpy as np
import pytest
from desk import desk_page, on_screen, poster, pull
from playwright.sync_api import expect
from sqlalchemy import select

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.mattes import trace
from amberkeel.core.masks.raster import fill
from amberkeel.core.masks.shape import flatten, shape_from_json
from amberkeel.core.pictures.write import encode_jpeg
from amberkeel.core.plate.plate import matte_reader
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store import edits
from amberkeel.store.held import count_change, hold_shot
from amberkeel.store.masks import live_masks, put_matte
from amberkeel.store.media import Media
from amberkeel.store.models import Job, Mask, Plate, Production, Proposal, Shot
from amberkeel.store.motion import keep_bodies
from amberkeel.store.session import session
from amberkeel.store.stages import stages
from amberkeel.store.tracks import add_run, live_tracks

BOX = [[300, 60, 0, 0, 0, 0], [420, 60, 0, 0, 0, 0], [420, 260, 0, 0, 0, 0], [300, 260, 0, 0, 0, 0]]


@pytest.fixture(scope="module")
def masked_shot(service, database, plate_folder, plate, tracks):
    """A followed shot of its own, and an empty one of another size beside it."""
    media = Media(service.environment["AMBERKEEL_MEDIA"])
    with session(database) as opened:
        production = Production(name="Masked")
        row = Plate(
            source=str(plate_folder / "plate"), label="skl.####.png", first=1001, last=1040, width=640, height=360
        )
        row.proxies = [media.put(encode_jpeg(plate.read(int(f)))) for f in plate.frames]
        made = Shot(production=production, name="SKL_010", plate=row)
        small = Shot(
            production=production,
            name="Small",
            plate=Plate(source="x", label="x", first=1, last=2, width=320, height=180),
        )
        twin = Shot(
            production=production,
            name="Twin",
            plate=Plate(source="x", label="x", first=1001, last=1040, width=640, height=360),
        )
        opened.add_all([made, small, twin])
        opened.flush()
        edits.apply(
            opened, made.id, "tracks", {"remove": [], "bring": add_run(opened, made, tracks), "label": "Follow"}
        )
        return made.id


@pytest.fixture
def ask(client, masked_shot):
    """Post JSON to the shot; returns the answer."""
    return poster(client, masked_shot)


@pytest.fixture
def all_masks(client, masked_shot):
    return lambda: client.get(f"/shots/{masked_shot}/masks.json").json


@pytest.fixture(autouse=True)
def clean(database, masked_shot):
    """Each test starts without masks and leaves none."""
    yield
    with session(database) as opened:
        for row in live_masks(opened, opened.get(Shot, masked_shot)):
            edits.apply(opened, masked_shot, "masks", {"remove": [row.id], "label": "Clear"})


def test_a_shape_is_drawn_keyed_changed_and_undone(ask, all_masks, client, masked_shot):
    assert all_masks()["masks"] == [] and max(all_masks()["cover"]) == 0
    number = ask("masks", {"points": BOX, "frame": 1005})["mask"]
    [mask] = all_masks()["masks"]
    assert mask["id"] == number and mask["keys"]["1005"]["by"] == "hand"
    assert all_masks()["cover"][0] == pytest.approx(120 * 200 / (640 * 360), rel=0.03)
    moved = [[x + 40, *rest] for x, *rest in BOX]
    keys = {**mask["keys"], "1015": {"points": moved, "by": "hand", "confidence": 1.0}}
    ask(f"masks/{number}", {"values": {"keys": keys, "margin": 5}, "label": "Move Shape 1"})
    assert all_masks()["cover"][0] > 0.11
    stale = ask(f"masks/{number}", {"values": {"name": "x"}, "label": "x", "revision": 0}, 409)
    assert "changed since" in stale["error"]
    assert ask("undo")["said"] == "Move Shape 1" and list(all_masks()["masks"][0]["keys"]) == ["1005"]
    assert ask("redo")["said"] == "Move Shape 1" and len(all_masks()["masks"][0]["keys"]) == 2
    ask(f"masks/{number}/delete")
    assert all_masks()["masks"] == []
    ask("undo")
    assert len(all_masks()["masks"]) == 1
    assert "gone" in ask(f"masks/{number + 999}", {"values": {}, "label": "x"}, 400)["error"]


@pytest.mark.parametrize(
    "body, words",
    [
        ({"points": BOX[:2], "frame": 1001}, "three points"),
        ({"points": [BOX[0], BOX[2], BOX[1], BOX[3]], "frame": 1001}, "crosses itself"),
        ({"points": [[x + 5000, *r] for x, *r in BOX], "frame": 1001}, "outside the picture"),
    ],
)
def test_bad_shapes_are_refused_in_words(ask, body, words):
    assert words in ask("masks", body, 400)["error"]


def test_bad_properties_are_refused_in_words(ask):
    number = ask("masks", {"points": BOX, "frame": 1005})["mask"]
    for values, words in (
        ({"margin": -3}, "margin lies between"), ({"purpose": "eat"}, "to ignore or to keep"), ({"first": 9,
          "last": 3}, "before its first"),
        ({"keys": {}}, "needs a key"), ({"name": " "}, "needs a name"), ({"shot_id": 3}, "“shot_id” is not"),
        ({"keys": {"1001": {"points": BOX}, "1002": {"points": BOX[:3]}}}, "same number of points"),
    ):  # fmt: skip
        assert words in ask(f"masks/{number}", {"values": values, "label": "x"}, 400)["error"]
    assert "Choose how" in ask(f"masks/{number}/carry", {"start": 1005, "stop": 1010, "model": "wobble"}, 400)["error"]


def test_a_mask_over_everything_says_that_nothing_is_left(ask, all_masks, masked_shot):
    whole = [[-5, -5, 0, 0, 0, 0], [700, -5, 0, 0, 0, 0], [700, 400, 0, 0, 0, 0], [-5, 400, 0, 0, 0, 0]]
    number = ask("masks", {"points": whole, "frame": 1001})["mask"]
    assert all_masks()["full"] == "1001-1040"
    with pytest.raises(MaskError, match="whole picture on 1001-1040"):
        work("follow", from_environment(), masked_shot, {}, lambda share, doing: None)
    ask(f"masks/{number}", {"values": {"first": 1010, "last": 1012}, "label": "Shorten"})
    assert all_masks()["full"] == "1010-1012"
    ask(f"masks/{number}", {"values": {"purpose": "keep"}, "label": "Keep"})
    assert all_masks()["full"] == ""


def test_tracks_under_a_mask_are_named_and_only_their_covered_frames_cut(ask, all_masks, client, database, masked_shot):
    with session(database) as opened:
        before = {t.id: len(t.frames) for t in live_tracks(opened, opened.get(Shot, masked_shot))}
    assert not all_masks()["changed"]
    assert "no track runs under" in ask("cut", {}, 400)["error"].lower()
    ask("masks", {"points": BOX, "frame": 1005})
    assert all_masks()["changed"]
    under = client.get(f"/shots/{masked_shot}/affected.json").json
    assert 0 < len(under["tracks"]) < len(before)
    with session(database) as opened:
        course = {s.key: s.state for s in stages(opened, opened.get(Shot, masked_shot))}
    assert course["tracks"] == "look" and course["masks"] == "settled"
    said = ask("cut")["said"]
    assert said == f"Cut {under['samples']} covered frames from {len(under['tracks'])} tracks"
    assert client.get(f"/shots/{masked_shot}/affected.json").json["samples"] == 0 and not all_masks()["changed"]
    with session(database) as opened:
        after = live_tracks(opened, opened.get(Shot, masked_shot))
        lost = sum(before.values()) - sum(len(t.frames) for t in after)
        assert under["samples"] <= lost < under["samples"] + 3 * len(under["tracks"])
    assert ask("undo")["said"] == said and all_masks()["changed"]
    with session(database) as opened:
        assert {t.id: len(t.frames) for t in live_tracks(opened, opened.get(Shot, masked_shot))} == before


def test_shapes_and_mattes_become_each_other(ask, all_masks, client):
    number = ask("masks", {"points": BOX, "frame": 1005})["mask"]
    share = all_masks()["cover"][3]
    matte = ask(f"masks/{number}/convert")["mask"]
    first, second = all_masks()["masks"]
    assert not first["on"] and second["id"] == matte and len(second["mattes"]) == 40
    assert all_masks()["cover"][3] == pytest.approx(share, abs=1e-6)
    picture = client.get(f"/mattes/{second['mattes']['1003']}.png").data
    pixels = cv2.imdecode(np.frombuffer(picture, np.uint8), cv2.IMREAD_UNCHANGED)
    assert pixels.shape == (360, 640, 4) and pixels[100, 350].tolist() == [255] * 4 and pixels[5, 5, 3] == 0
    back = ask(f"masks/{matte}/convert")["mask"]
    traced = next(m for m in all_masks()["masks"] if m["id"] == back)
    assert traced["kind"] == "shape" and all_masks()["cover"][3] == pytest.approx(share, rel=0.05)
    ask("undo")
    assert [m["on"] for m in all_masks()["masks"]] == [False, True]
    assert client.get("/mattes/nothing.png").status_code == 404


def test_a_mask_is_copied_to_a_shot_of_the_same_size_only(ask, client, database):
    number = ask("masks", {"points": BOX, "frame": 1005})["mask"]
    assert "same size only" in ask(f"masks/{number}/copy", {"shot": "Small"}, 400)["error"]
    assert "no other shot" in ask(f"masks/{number}/copy", {"shot": "Elsewhere"}, 400)["error"]
    ask(f"masks/{number}/copy", {"shot": "Twin"})
    with session(database) as opened:
        twin = opened.scalar(select(Shot).join(Production).where(Shot.name == "Twin", Production.name == "Masked"))
        [copied] = live_masks(opened, twin)
        assert copied.keys["1005"]["points"] == BOX and copied.source == "copied from SKL_010"


def test_proposals_are_masked_or_dismissed_for_good(
    ask, all_masks, database, service, masked_shot, plate_folder, plate
):
    mattes = matte_reader(plate_folder / "mattes", plate)
    media = Media(service.environment["AMBERKEEL_MEDIA"])
    frames = list(range(1010, 1020))
    with session(database) as opened:
        hold_shot(opened, masked_shot)
        rows = [
            Proposal(
                shot_id=masked_shot,
                kind="moving",
                frames=frames,
                mattes=[put_matte(media, mattes(f)) for f in frames],
                evidence={"share": 0.03},
            )
            for _ in range(2)
        ]
        opened.add_all(rows)
        opened.flush()
        first, second = (r.id for r in rows)
        assert next(s for s in stages(opened, opened.get(Shot, masked_shot)) if s.key == "masks").fact == "2 to decide"
    ask(f"proposals/{first}", {"to": "mask"})
    found = all_masks()
    assert [p["state"] for p in found["proposals"]] == ["accepted", "open"] and found["masks"][0][
        "name"
    ] == "Moves 1010-1019"
    assert found["cover"][12] == pytest.approx(mattes(1013).mean(), abs=0.005) and found["cover"][2] == 0
    number = found["masks"][0]["id"]
    ask(f"masks/{number}", {"values": {"last": 1014}, "label": "Shorten"})
    assert not all_masks()["looked"]
    with session(database) as opened:
        spots = {f: cv2.resize(mattes(f).astype(np.uint8), (128, 72), interpolation=cv2.INTER_AREA) > 0 for f in frames}
        keep_bodies(opened, media, hold_shot(opened, masked_shot), spots)
    found = all_masks()
    assert found["looked"] and found["leaks"][0][0] == 1015 and 0 < found["leaks"][0][1] < 0.2
    ask(f"masks/{number}", {"values": {"last": 1019}, "label": "Lengthen"})
    assert all_masks()["leaks"] == []
    ask("undo")
    ask(f"proposals/{second}", {"to": "dismissed"})
    assert len(all_masks()["proposals"]) == 1
    for _ in range(3):
        ask("undo")
    assert {p["state"] for p in all_masks()["proposals"]} == {"open"} and all_masks()["masks"] == []
    with session(database) as opened:
        hold_shot(opened, masked_shot).plate.motion = ""
        for p in opened.query(Proposal).filter_by(shot_id=masked_shot):
            opened.delete(p)


def test_mattes_come_in_from_files_and_leave_as_a_sequence(
    client, ask, all_masks, database, masked_shot, plate_folder, plate
):
    paths = sorted((plate_folder / "mattes").iterdir())[:6]
    form = {
        "files": [(io.BytesIO(p.read_bytes()), p.name) for p in paths],
        "name": "Roto",
        "channel": "luma",
        "offset": "3",
    }
    number = client.post(f"/shots/{masked_shot}/mattes", data=form, headers={"Accept": "application/json"}).json["job"]
    job = wait(database, number)
    assert job.state == "done" and "nothing for 1001-1003, 1010-1040" in job.doing
    [mask] = all_masks()["masks"]
    assert sorted(mask["mattes"]) == [str(f) for f in range(1004, 1010)] and mask["name"] == "Roto"
    for kind in ("png", "exr"):
        packed = zipfile.ZipFile(io.BytesIO(client.get(f"/shots/{masked_shot}/mattes.zip?kind={kind}").data))
        assert len(packed.namelist()) == 40 and packed.namelist()[0] == f"skl_010_matte/skl_010_matte.1001.{kind}"
    true = matte_reader(plate_folder / "mattes", plate)(1002)
    packed = zipfile.ZipFile(io.BytesIO(client.get(f"/shots/{masked_shot}/mattes.zip").data))
    sent = cv2.imdecode(
        np.frombuffer(packed.read("skl_010_matte/skl_010_matte.1005.png"), np.uint8), cv2.IMREAD_GRAYSCALE
    )
    assert np.array_equal(sent > 127, true)
    headers = {"Accept": "application/json"}
    for bad, words in (
        ({"where": "../../etc/x.####.png"}, "not under a plate root"),
        ({}, "Choose the files"),
        ({"where": "x", "offset": "z"}, "no number"),
        ({"where": "x", "channel": "heat"}, "no channel"),
    ):
        assert words in client.post(f"/shots/{masked_shot}/mattes", data=bad, headers=headers).json["error"]
    number = client.post(
        f"/shots/{masked_shot}/mattes", data={"where": "SKL_010", "offset": "900"}, headers=headers
    ).json["job"]
    job = wait(database, number)
    assert job.state == "failed" and "offset in frames" in job.error


def wait(database, number, seconds=90):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        with session(database) as opened:
            job = opened.get(Job, number)
            if job.state not in ("queued", "running"):
                return job
        time.sleep(0.2)
    raise AssertionError("the job did not end")


def test_spots_are_tried_on_a_frame_and_learned_over_a_range(
    ask, all_masks, database, masked_shot, plate_folder, plate
):
    mattes = matte_reader(plate_folder / "mattes", plate)
    number = ask("masks")["mask"]
    assert "not the subject" in ask(f"masks/{number}/try", {"frame": 1012}, 400)["error"]
    assert "needs a spot" in ask(f"masks/{number}/learn", {}, 400)["error"]
    true = mattes(1012)
    deep = cv2.distanceTransform(true.astype(np.uint8), cv2.DIST_L2, 5)
    inside, outside = (
        np.argwhere(deep > 3),
        np.argwhere(cv2.distanceTransform((~true).astype(np.uint8), cv2.DIST_L2, 5) > 12),
    )
    rng = np.random.default_rng(3)
    samples = [[1012, x + 0.5, y + 0.5, True] for y, x in inside[rng.choice(len(inside), 8)].tolist()]
    samples += [[1012, x + 0.5, y + 0.5, False] for y, x in outside[rng.choice(len(outside), 9)].tolist()]
    ask(f"masks/{number}", {"values": {"samples": samples}, "label": "Sample"})
    if not ask("look", {"frame": 1012})["known"]:
        with session(database) as opened:
            job = opened.query(Job).filter_by(shot_id=masked_shot, kind="look").order_by(Job.id.desc()).first().id
        assert wait(database, job).state == "done"
    assert ask("look", {"frame": 1012})["known"] and "no frame 99" in ask("look", {"frame": 99}, 400)["error"]
    found = ask(f"masks/{number}/try", {"frame": 1012})
    assert found["share"] == pytest.approx(true.mean(), rel=0.6) and all_masks()["masks"][0]["mattes"] == {}
    work(
        "learn",
        from_environment(),
        masked_shot,
        {"mask": number, "first": 1011, "last": 1013},
        lambda share, doing: None,
    )
    assert (
        sorted(all_masks()["masks"][0]["mattes"]) == ["1011", "1012", "1013"]
        and all_masks()["masks"][0]["mattes"]["1012"] == found["matte"]
    )
    ask("undo")
    assert all_masks()["masks"][0]["mattes"] == {}


def test_what_moves_is_proposed_by_a_job_and_accepted(all_masks, ask, database, masked_shot):
    job = wait(database, ask("propose")["job"])
    assert job.state == "done" and re.match(r"Found \d+ regions? that moves? by", job.doing), job.doing
    found = all_masks()["proposals"]
    assert (
        found
        and found[0]["kind"] == "moving"
        and found[0]["tracks"]
        and found[0]["evidence"]["tails"]
        and found[0]["evidence"]["speed"] > 1
    )
    for p in found:
        ask(f"proposals/{p['id']}", {"to": "dismissed"})
    assert wait(database, ask("propose")["job"]).state == "done"
    assert len(all_masks()["proposals"]) < len(found)
    work("accept", from_environment(), masked_shot, {}, lambda share, doing: None)
    with session(database) as opened:
        hold_shot(opened, masked_shot)
        for p in opened.query(Proposal).filter_by(shot_id=masked_shot):
            opened.delete(p)


def test_a_shape_bends_to_its_subject_by_a_job(ask, all_masks, database, masked_shot, plate_folder, plate):
    # On the fourth frame legs part from what stands behind: whether it holds there hangs on hundredths of a pixel.
    mattes = matte_reader(plate_folder / "mattes", plate)
    before = 1020

    def seen(frame):
        parts, label, stats, _ = cv2.connectedComponentsWithStats(mattes(frame).astype(np.uint8))
        return label == 1 + int(np.argmax(stats[1:, cv2.CC_STAT_AREA]))

    key = trace(seen, [before], points=40)[before]
    number = ask("masks", {"points": key.points.tolist(), "frame": before})["mask"]
    assert (
        wait(
            database,
            ask(f"masks/{number}/carry", {"start": before, "stop": before + 3, "model": "bending to the subject"})[
                "job"
            ],
        ).state
        == "done"
    )
    shape = shape_from_json(all_masks()["masks"][0])
    found, true = fill(flatten(shape.keys[before + 3].points), 360, 640), seen(before + 3)
    assert list(shape.keys) == list(range(before, before + 4)) and (found & true).sum() / (found | true).sum() > 0.7
    words = ask(f"masks/{number}/carry", {"start": before, "stop": before + 3, "model": "wobble"}, 400)["error"]
    assert "bending to the subject" in words


@pytest.fixture
def page(browser, service, masked_shot):
    """The shot's masks stage at 1280x800, and `at`, which turns plate pixels into positions on it."""
    with desk_page(browser, service, masked_shot, "masks") as opened:
        opened.at = lambda x, y: on_screen(opened, (640, 360), x, y)
        yield opened


def draw(page, tool, *positions):
    page.locator(f"[data-act=mask-{tool}]").click()
    for position in positions:
        page.mouse.click(*page.at(*position))


def undone(page, words):
    expect(page.locator("#undo")).to_have_attribute("title", f"Undo: {words} (Ctrl Z)")


def stored(database, masked_shot):
    with session(database) as opened:
        return live_masks(opened, opened.get(Shot, masked_shot))


def test_a_mask_is_drawn_keyed_followed_and_sampled_with_the_mouse(page, database, masked_shot):
    rows = page.locator(".maskrow")
    page.locator("[data-act=mask-polygon]").click()
    for x, y in ((100, 100), (180, 100), (180, 250), (100, 250)):
        page.mouse.click(*page.at(x, y))
    page.mouse.click(*page.at(100, 100))
    expect(rows).to_have_count(1)
    expect(page.locator("[data-act=mask-shape]")).to_have_class("button on")
    for _ in range(8):
        page.keyboard.press("ArrowRight")
    pull(page, (140, 200), (170, 200))
    expect(rows.first.locator(".fig")).to_have_text("2 keys")
    pull(page, (210, 100), (220, 90))
    pull(page, (170, 250), (170, 270))
    page.keyboard.press("Delete")
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Remove a point of Shape 1 (Ctrl Z)")
    page.keyboard.press("Control+z")
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Insert a point in Shape 1 (Ctrl Z)")
    with session(database) as opened:
        [mask] = live_masks(opened, opened.get(Shot, masked_shot))
        assert sorted(mask.keys) == ["1001", "1009"] and len(mask.keys["1001"]["points"]) == 5
        assert mask.keys["1009"]["points"][1][:2] == pytest.approx([220, 90], abs=1.5)
    page.locator("#maskmargin").fill("6")
    page.locator("#maskmargin").press("Tab")
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Change Shape 1 (Ctrl Z)")

    # a still subject is followed over a range brushed in the lanes
    page.locator("[data-act=mask-rectangle]").click()
    pull(page, (330, 60), (420, 150))
    expect(rows).to_have_count(2)
    lanes = page.locator("#lanes").bounding_box()
    here = lanes["x"] + 92 + (8.5 / 40) * (lanes["width"] - 104)
    page.keyboard.down("Shift")
    page.mouse.move(here, lanes["y"] + 60)
    page.mouse.down()
    page.mouse.move(here + 150, lanes["y"] + 60, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    for _ in range(9):
        if page.locator("#frame").inner_text() == "1009":
            break
        page.keyboard.press("ArrowLeft")
    page.locator("[data-act=mask-on]").click()
    expect(page.locator("#toast")).to_contain_text("is followed to frame")
    with session(database) as opened:
        carried = live_masks(opened, opened.get(Shot, masked_shot))[-1]
        assert len(carried.keys) >= 5 and {k["by"] for k in carried.keys.values()} == {"hand", "followed"}

    page.locator("[data-act=mask-is]").click()
    page.mouse.click(*page.at(500, 200))
    page.locator("[data-act=mask-isnot]").click()
    page.mouse.click(*page.at(60, 300))
    page.mouse.click(*page.at(300, 330))
    expect(rows).to_have_count(3)
    expect(page.locator("#spotcount")).to_have_text("1 are, 2 are not")
    expect(page.locator("#tried")).to_contain_text("Frame 1009", timeout=60_000)
    assert page.evaluate("document.querySelector('#plate').width") > 500
    with session(database) as opened:
        assert opened.get(Mask, live_masks(opened, opened.get(Shot, masked_shot))[-1].id).samples[0][3] is True


def test_proposals_say_what_they_are_and_select_their_tracks(page, database, masked_shot):
    with session(database) as opened:
        ids = [t.id for t in live_tracks(opened, opened.get(Shot, masked_shot)) if 1012 in t.frames][:3]
        tails = [[ids[0], [1010, 1012], [[50, 50], [60, 50]]]]
        for kind, gap in (("moving", 3), ("reflection", None), ("crossing", None)):
            evidence = {
                "speed": None if kind == "reflection" else 1.5,
                "share": 0.01,
                "background": "free",
                "gap": gap,
                "tails": tails,
            }
            hold_shot(opened, masked_shot)
            opened.add(
                Proposal(
                    shot_id=masked_shot, kind=kind, frames=[1010, 1011, 1012], mattes=[], tracks=ids, evidence=evidence
                )
            )
        count_change(opened, hold_shot(opened, masked_shot))
    page.reload()
    page.wait_for_selector("body[data-ready]")
    for kind, words in (
        ("Moves by itself", "another way"),
        ("Reflection", "mirror images"),
        ("False corners", "slide along an edge"),
    ):
        card = page.locator(".proposal", has_text=f"{kind}, 1010-1012")
        expect(card).to_contain_text(words)
        card.get_by_role("button", name="Select its tracks").click()
        expect(page.locator("#selected")).to_contain_text("3")
        page.locator(".stop[data-key=masks]").click()
    page.locator(".proposal", has_text="False corners").get_by_role("button", name="Dismiss").click()
    expect(page.locator(".proposal")).to_have_count(2)
    with session(database) as opened:
        hold_shot(opened, masked_shot)
        for p in opened.query(Proposal).filter_by(shot_id=masked_shot):
            opened.delete(p)


def test_curves_close_with_enter_and_escape_gives_up(page, database, masked_shot):
    draw(page, "curve", (100, 100), (200, 90), (220, 200))
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    assert page.locator(".maskrow").count() == 0
    draw(page, "curve", (100, 100), (200, 90), (220, 200), (110, 210))
    page.keyboard.press("Enter")
    undone(page, "Draw Shape 1")
    [mask] = stored(database, masked_shot)
    points = np.array(mask.keys["1001"]["points"])
    assert len(points) == 4 and np.abs(points[:, 2:]).min(1).max() >= 0 and np.abs(points[:, 2:]).sum() > 20
    draw(page, "polygon", (300, 100), (330, 100))
    page.keyboard.press("Enter")
    expect(page.locator("#toast")).to_contain_text("three points")
    draw(page, "polygon", (300, 100), (400, 200), (400, 100), (300, 200))
    page.keyboard.press("Enter")
    expect(page.locator("#toast")).to_contain_text("crosses itself")
    assert len(stored(database, masked_shot)) == 1


def test_shapes_are_turned_scaled_bent_and_made_round(page, database, masked_shot):
    page.locator("[data-act=mask-rectangle]").click()
    pull(page, (200, 120), (300, 220))
    undone(page, "Draw Shape 1")

    def points():
        return np.array(stored(database, masked_shot)[0].keys["1001"]["points"])

    x, y = page.at(300, 220)
    page.mouse.move(x + 10, y + 10)
    page.mouse.down()
    page.mouse.move(x + 40, y + 40, steps=4)
    page.mouse.up()
    undone(page, "Scale Shape 1")
    assert np.ptp(points()[:, 0]) > 112 and points()[:, :2].mean(0) == pytest.approx([250, 170], abs=1)
    page.keyboard.press("Control+z")
    undone(page, "Draw Shape 1")
    x, y = page.at(250, 120)
    page.keyboard.down("Shift")
    page.mouse.move(x, y - 26)
    page.mouse.down()
    cx, cy = page.at(250, 170)
    page.mouse.move(cx + 80, cy - 78, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    undone(page, "Turn Shape 1")
    edge = points()[1, :2] - points()[0, :2]
    assert np.degrees(np.arctan2(edge[1], edge[0])) == pytest.approx(45, abs=0.1)
    page.keyboard.press("Control+z")
    undone(page, "Draw Shape 1")
    page.keyboard.down("Alt")
    page.mouse.click(*page.at(200, 120))
    page.keyboard.up("Alt")
    undone(page, "Round a point of Shape 1")
    tangent = points()[0, 4:6]
    assert np.linalg.norm(tangent) > 10
    pull(page, tuple(points()[0, :2] + tangent), (240, 90))
    undone(page, "Bend Shape 1")
    (ax, ay), (bx, by) = points()[0, 2:4], points()[0, 4:6]
    assert (bx, by) == pytest.approx((40, -30), abs=1.5) and ax * by - ay * bx == pytest.approx(0, abs=1)


def test_keys_move_in_their_lane_and_fields_change_the_mask(page, database, masked_shot):
    page.locator("[data-act=mask-ellipse]").click()
    pull(page, (200, 100), (300, 220))
    undone(page, "Draw Shape 1")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("k")
    undone(page, "Key Shape 1 at 1011")
    lanes = page.locator("#lanes").bounding_box()

    def x(frame):
        return lanes["x"] + 92 + (frame - 1000.5) / 40 * (lanes["width"] - 104)

    page.mouse.move(x(1011) + 3, lanes["y"] + 50)
    page.mouse.down()
    page.mouse.move(x(1020), lanes["y"] + 50, steps=4)
    page.mouse.up()
    undone(page, "Move the key from 1011 to 1020")
    assert sorted(stored(database, masked_shot)[0].keys) == ["1001", "1020"]
    page.locator("[data-act=mask-unkey]").click()
    undone(page, "Remove the key at 1020")
    page.locator("#maskname").fill("Yard hand")
    page.locator("#maskname").press("Tab")
    undone(page, "Change Shape 1")
    page.locator("#maskpurpose").select_option("keep")
    page.locator("#masklast").fill("1030")
    page.locator("#masklast").press("Tab")
    page.locator(".maskrow button").click()
    undone(page, "Switch Yard hand off")
    [mask] = stored(database, masked_shot)
    assert (mask.name, mask.purpose, mask.last, mask.on) == ("Yard hand", "keep", 1030, False)
    page.locator("#maskfirst").fill("1035")
    page.locator("#maskfirst").press("Tab")
    expect(page.locator("#toast")).to_contain_text("before its first")
    page.locator("#plate").focus()
    page.keyboard.press("Delete")
    undone(page, "Delete Yard hand")
    expect(page.locator("#masklist")).to_contain_text("Nothing is masked")


def test_the_number_of_what_is_masked_is_the_same_for_the_same_masks(ask, database, masked_shot):
    def stamp():
        with session(database) as opened:
            return opened.get(Shot, masked_shot).masks_stamp

    assert stamp() == 0
    number = ask("masks", {"points": BOX, "frame": 1005})["mask"]
    drawn = stamp()
    assert drawn > 0
    ask(f"masks/{number}", {"values": {"name": "Other"}, "label": "Rename"})
    assert stamp() == drawn
    ask(f"masks/{number}", {"values": {"margin": 4}, "label": "Widen"})
    assert stamp() not in (0, drawn)
    ask("undo")
    assert stamp() == drawn
    ask(f"masks/{number}", {"values": {"on": False}, "label": "Off"})
    assert stamp() == 0
