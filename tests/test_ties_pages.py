"""The ties stage as a person uses it: a set made of one pass, another tied to it, a wrong tie found, refusals."""

import io
import json
import re
import time
from pathlib import Path

import cv2
import numpy as np
import pytest
from desk import desk_page, poster, taken_in
from plates import crate, rendered
from playwright.sync_api import expect

from amberkeel.core.sim.render import Renderer
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.edits import apply
from amberkeel.store.held import hold_shot
from amberkeel.store.masks import put_matte
from amberkeel.store.media import Media
from amberkeel.store.models import Job, Mask, Shot
from amberkeel.store.session import session


@pytest.fixture(scope="module")
def passes(service, database, once):
    """Both passes of the quay in one production: the clean one solved with its tags, the live one just followed."""
    clean, live = (
        taken_in(database, rendered(once, plate), name, 200)
        for plate, name in (("clean", "QUAY_060 Clean"), ("live", "QUAY_061 Live"))
    )
    with session(database) as opened:
        hold_shot(opened, live).production_id = opened.get(Shot, clean).production_id
    for kind in ("tags", "solve"):
        work(kind, from_environment(), clean, {}, lambda *_: None)
    return clean, live


def known(client, number):
    """What the page knows of a shot's ties."""
    return client.get(f"/shots/{number}/ties.json").json


def test_one_pass_makes_the_set_and_the_other_is_brought_to_it(browser, service, database, client, passes):
    clean, live = passes
    with session(database) as opened:
        crate = {"kind": "box", "name": "Crate", "size": [1.0, 1.0, 1.0]}
        apply(opened, clean, "scene", {"proxies": {"p1": crate}})
    before = client.get(f"/shots/{clean}/state.json").json
    with desk_page(browser, service, clean, "ties") as page:
        page.locator('[data-act="set-make"]').click()
        expect(page.locator("#toast")).to_contain_text("Call the set")
        page.locator("#setname").fill("Quay")
        page.locator('[data-act="set-make"]').click()
        expect(page.locator("#setfacts")).to_contain_text("This shot made it")
        assert page.locator("#setpoints .tierow").count() > 20
        page.locator('[data-act="ties-ties"]').click()
        expect(page.locator('[data-act="tie-align"]')).to_be_disabled()
    with desk_page(browser, service, live, "ties") as page:
        page.locator("#setchoice").select_option(index=1)
        expect(page.locator("#setfacts")).to_contain_text("QUAY_060 Clean made it")
        page.locator('[data-act="ties-ties"]').click()
        page.locator('[data-act="tie-whole"]').click()
        expect(page.locator("#tiesays")).to_have_text("In the world of Quay.", timeout=240_000)
        expect(page.locator("#tiealigned")).to_contain_text("The shot's own fit")
        assert page.locator("#tielist .tierow").count() >= 3
        page.keyboard.press("Shift+P")
        expect(page.locator("#othername")).to_have_text("QUAY_060 Clean")
        page.locator('[data-act="tie-pictures"]').click()
        expect(page.locator("#tieproposed .proposed").first).to_be_visible(timeout=240_000)
        page.keyboard.press("p")
        expect(page.locator("#tiehand")).to_contain_text("there")
        page.get_by_role("button", name="Take all").click()
        expect(page.locator("#tieproposed .proposed")).to_have_count(0)
        page.keyboard.press("y")
        expect(page.locator("#tielist .tierow .fig").nth(7)).to_be_visible(timeout=240_000)
        page.locator('[data-act="ties-seen"]').click()
        expect(page.locator("#otherlist")).to_contain_text("the reference")
        page.locator('[data-act="ties-space"]').click()
        expect(page.locator("#spacepane")).to_be_visible()
    after = client.get(f"/shots/{clean}/state.json").json
    assert after["pinned"] == before["pinned"] and after["attempts"] == before["attempts"]
    state = client.get(f"/shots/{live}/state.json").json
    assert any(name.startswith("set-") for name in state["scene"]["proxies"])
    assert sum(one["name"].startswith("tie ") for one in state["constraints"]) >= 6
    assert state["stages"][6]["state"] == "settled"


def test_a_spot_is_sought_along_its_line_and_tied_by_hand(browser, service, client, passes):
    """Without a place to look at, the epipolar line leads to where the aligned camera has the spot."""
    _, live = passes
    beside = client.get(f"/shots/{live}/ties/other.json?frame=1010").json
    tied = {one["point"] for one in known(client, live)["ties"]}
    spots = [one for one in beside["spots"] if one["name"] not in tied and 80 < one["x"] < 560 and 60 < one["y"] < 300]
    off, found = [], None
    for spot in spots[::2][:24]:
        at = client.get(f"/shots/{live}/ties/where.json?track={spot['track']}").json["at"].get("1010")
        if at is None:
            continue
        asked = {"x": spot["x"], "y": spot["y"], "there": 1010, "frame": 1010}
        sought = client.get(f"/shots/{live}/ties/seek.json", query_string=asked).json
        if sought.get("at"):
            off.append(np.hypot(sought["at"][0] - at[0], sought["at"][1] - at[1]))
            found = found or (off[-1] < 2.0 and spot)
            assert len(sought["line"]) > 10 and all(p.startswith("data:image/png") for p in sought["patches"])
    assert len(off) >= 4 and np.median(off) < 1.0 and np.mean(np.array(off) < 3.0) > 0.7, off
    with desk_page(browser, service, live, "ties") as page:
        page.locator('[data-act="ties-ties"]').click()
        expect(page.locator("#tiesays")).to_have_text("In the world of Quay.")
        for _ in range(9):
            page.keyboard.press("ArrowRight")
        page.keyboard.press("Shift+P")
        expect(page.locator("#othername")).to_have_text("QUAY_060 Clean")
        page.locator("#otherframe").fill("1010")
        expect(page.locator("#otherat")).to_have_text("1010")
        box = page.locator("#other").bounding_box()
        k = min(box["width"] / 640, box["height"] / 360) * 0.985
        page.mouse.click(
            box["x"] + box["width"] / 2 + (found["x"] - 320) * k, box["y"] + box["height"] / 2 + (found["y"] - 180) * k
        )
        expect(page.locator("#tiehand")).to_contain_text("Found, match")
        expect(page.locator("#tiehand img")).to_have_count(2)
        page.keyboard.press("Shift+M")
        expect(page.locator("#tielist")).to_contain_text(found["name"])
    (made,) = [one for one in known(client, live)["ties"] if one["point"] == found["name"]]
    assert made["by"] == "hand"
    nowhere = client.get(f"/shots/{live}/ties/seek.json?frame=1010", headers={"Accept": "application/json"})
    assert nowhere.status_code == 400 and "no spot to seek" in nowhere.json["error"]
    post = poster(client, live)
    taken = {"point": found["name"], "frame": 1010, "x": 100.0, "y": 100.0}
    assert "tied already" in post("ties/spot", taken, 400)["error"]
    assert "off the picture" in post("ties/spot", {**taken, "point": "new", "x": 999.0}, 400)["error"]
    post("ties", {"what": "drop", "keys": [made["key"]]})


def test_shots_of_a_free_set_are_adjusted_together(browser, service, client, database, passes):
    clean, live = passes
    before = [client.get(f"/shots/{n}/state.json").json["pinned"] for n in passes]
    assert "is frozen" in poster(client, live)("ties/together", {}, 400)["error"]
    with desk_page(browser, service, live, "ties") as page:
        page.locator('[data-act="ties-seen"]').click()
        expect(page.locator("#togethersays")).to_contain_text("is frozen")
        page.locator('[data-act="ties-set"]').click()
        page.locator("#setfreeze").click()
        expect(page.locator("#setfacts")).to_contain_text("free")
        page.locator('[data-act="ties-seen"]').click()
        page.locator('[data-act="ties-together"]').click()
        page.locator('[data-act="ties-set"]').click()
        expect(page.locator("#setfacts")).to_contain_text("Version 2", timeout=240_000)
    with desk_page(browser, service, clean, "ties") as page:
        page.locator('[data-act="ties-ties"]').click()
        expect(page.locator("#tiesays")).to_contain_text("This shot made Quay")
        page.keyboard.press("Shift+P")
        expect(page.locator("#othername")).to_have_text("QUAY_061 Live")
        expect(page.locator("#othernote")).to_contain_text("Diamonds are points of the set")
    beside = client.get(f"/shots/{clean}/ties/other.json?shot={live}&frame=1010").json
    assert not beside["reference"] and len(beside["points"]) > 8
    after = [client.get(f"/shots/{n}/state.json").json["pinned"] for n in passes]
    assert all(a != b for a, b in zip(before, after))
    now = known(client, live)
    assert now["stale"] == "" and now["aligned"]["version"] == 2 and now["aligned"]["rms"] < 0.02
    assert known(client, clean)["set"]["reference"]["id"] == clean and not known(client, clean)["set"]["behind"]
    # A copy of the coordinates says from when it is, and holds without the set.
    poster(client, live)("ties", {"what": "copy"})
    with session(database) as opened:
        names = [one["name"] for one in opened.get(Shot, live).constraints]
    assert known(client, live)["set"] is None
    assert len(names) >= 8 and all(" of Quay, version 2, copied " in name for name in names)
    poster(client, live)("undo")
    assert known(client, live)["aligned"]["version"] == 2
    assert "not in the world" in poster(client, clean)("ties", {"what": "copy"}, 400)["error"]
    poster(client, clean)("undo")
    assert client.get(f"/shots/{clean}/state.json").json["pinned"] == before[0]
    assert "Renew the set" in known(client, live)["stale"] or "another attempt" in known(client, live)["stale"]
    poster(client, clean)("redo")


def test_a_plate_comes_in_with_its_set_chosen(client, database, passes):
    _, live = passes
    number = known(client, live)["set"]["id"]
    with session(database) as opened:
        shot = opened.get(Shot, live)
        production, folder = shot.production_id, Path(shot.plate.source).parent
    files = [(io.BytesIO(one.read_bytes()), one.name) for one in sorted(folder.glob("skl.*.png"))]
    sent = client.post(f"/productions/{production}/upload", data={"files": files}, content_type="multipart/form-data")
    where = sent.json["next"]
    assert ">Quay</option>" in client.get(where).text
    (source,) = re.findall(r'name="source" value="([^"]+)"', client.get(where).text)
    form = {"source": source, "name": "QUAY_062 Dusk", "fps": "24/1", "sensor": "24.0", "set": str(number)}
    assert client.post(f"/productions/{production}/confirm", data={**form, "set": "99999"}).status_code == 400
    assert client.post(f"/productions/{production}/confirm", data=form).status_code == 302
    with session(database) as opened:
        shot = opened.query(Shot).filter_by(name="QUAY_062 Dusk").one()
        assert shot.ties["set"] == number
        dusk = shot.id
    # Masked, followed, tags, solved, tied and aligned by itself, one job after the other.
    for _ in range(480):
        with session(database) as opened:
            jobs = opened.query(Job).filter_by(shot_id=dusk).order_by(Job.id).all()
            done = [(job.kind, job.state, job.error) for job in jobs]
        if done[-1][0] == "tie" and done[-1][1] == "done" or any(state == "failed" for _, state, _ in done):
            break
        time.sleep(0.5)
    kinds = ["ingest", "propose", "accept", "follow", "tags", "solve", "tie"]
    assert done == [(kind, "done", "") for kind in kinds], done
    assert known(client, dusk)["aligned"]["rms"] < 0.02


def test_a_wrong_tie_is_found_and_what_cannot_be_is_said(browser, service, client, database, passes):
    _, live = passes
    post = poster(client, live)
    ties = known(client, live)["ties"]
    assert len(ties) >= 8
    at = {one["name"]: np.array(one["xyz"]) for one in known(client, live)["set"]["points"]}
    one = next(one for one in ties if one["point"] in at)
    # Far from it: an auto track may lie on a tag's corner, and is no wrong tie of that.
    there = [tie for tie in ties if tie["point"] in at]
    other = max(there, key=lambda tie: np.linalg.norm(at[tie["point"]] - at[one["point"]]))
    post("ties", {"what": "drop", "keys": [one["key"], other["key"]]})
    post("ties", {"what": "tie", "track": one["track"], "point": other["point"]})
    with desk_page(browser, service, live, "ties") as page:
        page.locator('[data-act="ties-ties"]').click()
        page.locator('[data-act="tie-align"]').click()
        drop = page.get_by_role("button", name=f"Drop the tie of {other['point']}", exact=True)
        row = page.locator("#tielist .tierow").filter(has=drop)
        expect(row).to_contain_text("wrong", timeout=240_000)
        expect(page.locator("#tiealigned")).to_contain_text(other["point"])
        drop.click()
        expect(page.locator("#tielist").get_by_text(other["point"], exact=True)).to_have_count(0)
        page.keyboard.press("Control+z")
        expect(page.locator("#redo")).to_have_attribute("title", re.compile("Drop 1 tie"))
    for body, said in (
        ({"what": "tie", "track": one["track"], "point": "nowhere"}, "no point “nowhere”"),
        ({"what": "tie", "track": 99999999, "point": other["point"]}, "No track"),
        ({"what": "names"}, "bears the name"),
        ({"what": "take"}, "nothing proposed"),
        ({"what": "choose", "set": 99999}, "tied to no set"),
        ({"what": "drop", "keys": ["t1"]}, "None of these"),
        ({"what": "bend"}, "cannot “bend”"),
    ):
        assert said in post("ties", body, 400)["error"], body
    assert "made the set" in poster(client, passes[0])("ties", {"what": "tie", "track": 1, "point": "x"}, 400)["error"]
    post("edit", {"kind": "tracks", "payload": {"remove": [ties[1]["track"]]}})
    assert known(client, live)["lost"] == [ties[1]["point"]]
    from amberkeel.core.errors import KeelError
    from amberkeel.jobs.kinds import work

    with pytest.raises(KeelError, match="deleted track"):
        work("align", from_environment(), live, {}, lambda *_: None)


def test_sets_are_handed_on_brought_in_renewed_and_deleted(client, passes):
    clean, live = passes
    post = poster(client, clean)
    number = known(client, clean)["set"]["id"]
    text = client.get(f"/sets/{number}/set.json").text
    document = json.loads(text)
    assert document["format"] == "amberkeel-set" and document["proxies"]["p1"]["kind"] == "box"
    assert client.get(f"/sets/{number}/points.csv").text.startswith("name,x,y,z")
    survey = io.BytesIO(b"name,x,y,z\nBollard,1000,0,2500\nPost,0,0,1\nRing,3,4,5\n")
    sent = {"file": (survey, "Jetty.csv"), "unit": "mm"}
    answer = client.post(f"/shots/{live}/ties/bring", data=sent, content_type="multipart/form-data")
    assert answer.status_code == 200, answer.text
    brought = known(client, live)["set"]
    assert brought["name"] == "Jetty" and brought["points"][0]["xyz"][0] == 1.0 and brought["reference"] is None
    again = {"file": (io.BytesIO(text.encode()), "set.json")}
    asked = {"content_type": "multipart/form-data", "headers": {"Accept": "application/json"}}
    taken = client.post(f"/shots/{live}/ties/bring", data=again, **asked)
    assert taken.status_code == 400 and "a set Quay already" in taken.json["error"]
    poster(client, live)("ties", {"what": "choose", "set": number})
    assert "is free" in post("ties/set/change", {"frozen": False})["said"]
    before = known(client, live)["set"]["version"]
    assert "attempt" in post("ties/set/change", {"renew": True})["said"]
    assert known(client, live)["set"]["version"] == before + 1
    assert "not in the world" in poster(client, live)("ties/set/change", {"grow": [1]}, 400)["error"]
    assert "is called Harbour" in post("ties/set/change", {"name": "Harbour"})["said"]
    assert "stays where it is" in post("ties/set/change", {"remove": True})["said"]
    assert known(client, live)["set"]["removed"] and "was deleted" in post("ties", {"what": "names"}, 400)["error"]


@pytest.fixture(scope="module")
def crate_shot(service, database, once):
    """A crate carried past a camera that walks, solved with the crate masked roughly: the shot, and the truth."""
    truth = crate()
    number = taken_in(database, rendered(once, "crate"), "CRATE_010 Carried", 200)
    media, renderer = Media(from_environment().media), Renderer(truth.shot)
    rough = [cv2.dilate(renderer.actor_matte(float(f), 0).astype(np.uint8), np.ones((15, 15), np.uint8)) > 0
             for f in truth.shot.frames]  # fmt: skip
    with session(database) as opened:
        frames, mattes = truth.shot.frames.tolist(), [put_matte(media, one) for one in rough]
        hold_shot(opened, number)
        opened.add(Mask(shot_id=number, name="Crate", kind="matte", removed=False, frames=frames, mattes=mattes))
    work("follow", from_environment(), number, {"count": 200}, lambda *_: None)
    work("solve", from_environment(), number, {}, lambda *_: None)
    return number, truth


def test_a_body_is_solved_beside_the_camera_and_its_size_told(browser, service, client, crate_shot):
    number, truth = crate_shot
    post = poster(client, number)
    before = client.get(f"/shots/{number}/state.json").json
    with desk_page(browser, service, number, "ties") as page:
        page.locator('[data-act="ties-bodies"]').click()
        expect(page.locator("#bodylist")).to_contain_text("Mask what moves as one piece")
        page.locator('[data-act="body-add"]').click()
        expect(page.locator("#bodylist")).to_contain_text("not solved")
        page.locator('[data-act="body-solve"]').click()
        expect(page.locator("#bodyfacts")).to_contain_text("Residual", timeout=240_000)
        expect(page.locator("#bodytold")).not_to_be_empty()
        worst = page.locator("#bodytracks .tierow").first
        expect(worst).to_contain_text("px")
        worst.click()
        page.locator('[data-act="body-out"]').click()
        expect(page.locator("#bodycount")).to_have_text("1 out, once solved again")
        page.locator('[data-act="body-again"]').click()
        expect(page.locator("#bodytries")).to_be_visible(timeout=240_000)
        expect(page.locator('[data-act="body-out"]')).to_have_text("Let in again")
        one = client.get(f"/shots/{number}/bodies.json").json["bodies"][0]
        page.locator("#bodysize").select_option("length")
        page.locator('[data-act="body-tell"]').click()
        expect(page.locator("#toast")).to_contain_text("Click two of its points")
        for _ in range(one["frames"][0] - 1001):
            page.keyboard.press("ArrowRight")
        spots = [p for p in one["seen"][str(one["frames"][0])] if 5 < p[0] < 635 and 5 < p[1] < 355]
        box, far = page.locator("#plate").bounding_box(), lambda p: (p[0], p[1])
        scale = min(box["width"] / 640, box["height"] / 360) * 0.985
        for k, (x, y) in enumerate((min(spots, key=far), max(spots, key=far))):
            at = box["x"] + box["width"] / 2 + (x - 320) * scale, box["y"] + box["height"] / 2 + (y - 180) * scale
            page.keyboard.down("Shift")
            page.mouse.click(*at)
            page.keyboard.up("Shift")
            assert k or page.locator("#bodyhint").inner_text()
        expect(page.locator("#bodyhint")).to_contain_text("Picked:")
        page.locator("#bodyvalue").fill("0,9")
        page.locator('[data-act="body-tell"]').click()
        expect(page.locator("#bodytold")).to_have_text("Told by a length on it.")
        # It shows what the shot has, which may come anew between the click and the answer.
        page.locator("#bodyprobe").click()
        expect(page.locator("#bodyprobe")).to_be_checked()
        page.locator('[data-act="body-origin"]').click()
        expect(page.locator("#bodyaxes")).to_contain_text("Origin at")
        page.locator('[data-act="body-upright"]').click()
        expect(page.locator("#bodyaxes")).to_contain_text("on frame")
        page.locator('[data-act="body-sheet"]').click()
        expect(page.locator("#toast")).to_contain_text("A sheet takes 3 points")
        page.keyboard.press("6")
        expect(page.locator("#spacepane")).to_be_visible()
    after = client.get(f"/shots/{number}/state.json").json
    assert after["pinned"] == before["pinned"]
    one = client.get(f"/shots/{number}/bodies.json").json["bodies"][0]
    turns = np.array(one["turns"])
    true = truth.world_from_body[np.array(one["frames"]) - 1001]
    turned = [np.degrees(np.arccos((np.trace(t[0].T @ t[-1]) - 1.0) / 2.0)) for t in (turns, true)]
    assert turned[0] == pytest.approx(turned[1], abs=1.0)
    origin = one["points"][one["names"].index(one["axes"]["origin"])]
    assert np.linalg.norm(origin) < 1e-4 and len(one["box"]) == 48
    assert len(one["over"][str(one["frames"][0])]) == 48 and [a["used"] for a in one["attempts"]] == [False, True]
    out = next(t for t in one["tracks"] if t["name"] == one["out"][0])
    assert out["state"] == "excluded" and out["name"] not in one["names"]
    post("bodies", {"what": "proxy", "key": one["key"], "kind": "box", "names": one["names"]})
    boxed = client.get(f"/shots/{number}/bodies.json").json["bodies"][0]
    assert [p["name"] for p in boxed["proxies"]] == ["Box 1"] and len(boxed["box"]) > 48
    document = client.get(f"/shots/{number}/bodies/{one['key']}/body.json").json
    assert document["format"] == "amberkeel-body" and len(document["frames"]) == len(one["frames"])
    corners = np.array(document["proxies"][0]["vertices"])
    assert np.ptp(corners, axis=0).max() > 0.8 * np.ptp(np.array(one["points"]), axis=0).max()
    assert 'def Xform "Body"' in client.get(f"/shots/{number}/bodies/{one['key']}/body.usda").text
    for body, said in (
        ({"what": "size", "key": one["key"], "size": "length=nobody,me,1"}, "no track “nobody”"),
        ({"what": "size", "key": one["key"], "size": "weight=3"}, "does not tell a size"),
        ({"what": "add", "mask": 99999}, "gone"),
        ({"what": "name", "key": "none", "name": "x"}, "body is gone"),
        ({"what": "attempt", "key": one["key"], "attempt": 7}, "no such attempt"),
        ({"what": "add", "tracks": [1]}, "A body takes 8 tracks"),
        ({"what": "proxy", "key": one["key"], "kind": "ball", "names": []}, "has no proxy “ball”"),
        ({"what": "no proxy", "key": one["key"], "proxy": "none"}, "proxy is gone"),
        ({"what": "serve", "key": one["key"], "names": []}, "No track of the body is picked"),
        ({"what": "axes", "key": one["key"], "frame": 5}, "not solved on frame 5"),
        ({"what": "size", "key": one["key"], "size": f"tie={one['names'][0]},1005,Bollard"}, "tied to no set"),
        ({"what": "stretch"}, "cannot “stretch”"),
    ):
        assert said in post("bodies", body, 400)["error"], body
    post("bodies", {"what": "remove", "key": one["key"]})
    assert not client.get(f"/shots/{number}/bodies.json").json["bodies"]
    # Of tracks that the shot has: the set itself, which stands still in its own world.
    tracks = client.get(f"/shots/{number}/tracks.json").json
    chosen = [t for t, state in zip(tracks["ids"], tracks["states"]) if state == "active"]
    post("bodies", {"what": "add", "tracks": chosen, "name": "Set"})
    (made,) = client.get(f"/shots/{number}/bodies.json").json["bodies"]
    assert made["name"] == "Set" and made["chosen"] == len(chosen) and made["solved"] is None
    work("body", from_environment(), number, {"body": made["key"]}, lambda *_: None)
    (made,) = client.get(f"/shots/{number}/bodies.json").json["bodies"]
    turns = np.array(made["turns"])
    still = [np.degrees(np.arccos(np.clip((np.trace(turns[0].T @ t) - 1.0) / 2.0, -1.0, 1.0))) for t in turns]
    assert max(still) < 0.3 and made["solved"]["tracks"] > 0.6 * len(chosen)
    post("bodies", {"what": "remove", "key": made["key"]})
