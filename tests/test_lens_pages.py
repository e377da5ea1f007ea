"""The lens through the application: what the views answer and refuse, its jobs, and lines drawn with the mouse."""

import io
import json
import re
import time
import zipfile

import cv2
import numpy as np
import pytest
from desk import desk_page, on_screen, poster, until, wait_for
from playwright.sync_api import expect
from sqlalchemy import select

from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.render import truth
from amberkeel.core.sim.sail_loft import edges
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.models import Attempt, Job, LensProfile
from amberkeel.store.session import session

SIZE = (640, 360)


@pytest.fixture(scope="module")
def shot_id(loft_shot):
    """The sail loft, taken in and followed."""
    return loft_shot


@pytest.fixture
def ask(client, shot_id):
    """Post JSON to the shot; returns the answer."""
    return poster(client, shot_id)


def test_lines_are_kept_told_undone_and_used_in_a_solve(ask, client, database, shot_id, loft, loft_lines):
    true = loft.lens.focal_px[0] * 24.0 / SIZE[0]
    ask("lens/edit", {"lines": loft_lines, "label": "Draw lines"})
    ask("lens/edit", {"wanted": {"model": "radial", "radial": 2}, "label": "Two coefficients"})
    kept = client.get(f"/shots/{shot_id}/lens.json").json
    assert kept["lines"] == {name: {k: row[k] for k in ("frame", "axis", "points")} for name, row in loft_lines.items()}
    told = ask(
        "lens/fit",
        {
            "lines": kept["lines"],
            "wanted": kept["wanted"],
            "frame": 1001,
            "measured": {"line": "X0", "length": "6.8 m"},
        },
    )
    assert told["focal_known"] and told["focal_mm"] == pytest.approx(true, rel=0.03)
    assert (
        set(told["bent"]) == set(loft_lines) and told["horizon"] and told["floor"] and told["place"]["distance"] > 1.0
    )
    assert len(told["straight_floor"]) == len(told["floor"]) and np.shape(told["straight_horizon"]) == np.shape(
        told["horizon"]
    )
    again = ask("lens/fit", {"lines": kept["lines"], "wanted": kept["wanted"], "frame": 1001, "quick": True})
    assert again["focal_mm"] == pytest.approx(told["focal_mm"], rel=2e-3)
    ask("lens/edit", {"lines": {"X0": None}, "label": "Delete X0"})
    assert "X0" not in client.get(f"/shots/{shot_id}/lens.json").json["lines"]
    ask("undo")
    assert "X0" in client.get(f"/shots/{shot_id}/lens.json").json["lines"]
    state = ask("lens/use")
    assert {s["key"]: s["state"] for s in state["stages"]}["lens"] == "settled"
    work("solve", from_environment(), shot_id, {"distortion": "profile"}, lambda *_: None)
    with session(database) as opened:
        attempt = opened.scalar(select(Attempt).where(Attempt.shot_id == shot_id).order_by(Attempt.id.desc()))
        assert attempt.recipe["lens_held"] and attempt.figures["focal_mm"] == pytest.approx(true, rel=0.03)
        assert attempt.figures["rms_px"] < 0.5
        number = attempt.id
    turned = np.array(client.get(f"/attempts/{number}.json").json["world"]["frames"][0]["world_from_camera"])
    true_axes = truth(loft).world_from_camera[0]
    assert np.degrees(np.arccos(np.clip((turned * true_axes).sum(1), -1, 1))).max() < 1.0
    ask("lens/use", {"none": True})
    state = client.get(f"/shots/{shot_id}/state.json").json
    assert state["attempts"][0]["stale"] == "lens changed"
    ask("undo")
    assert client.get(f"/shots/{shot_id}/state.json").json["attempts"][0]["stale"] == ""
    solved = ask("lens/use", {"attempt": number})
    profile = client.get(f"/shots/{shot_id}/lens.json").json
    row = next(p for p in profile["profiles"] if p["id"] == profile["profile"])
    assert (
        row["source"] == "solve"
        and row["focal_mm"] == pytest.approx(true, rel=0.03)
        and solved["datum"]["axes"]["rotations"]
    )
    assert profile["solved"]["focal_mm"] == pytest.approx(row["focal_mm"], abs=1e-3)
    assert "ledger" in ask("lens/use", {"attempt": 99999}, 400)["error"]
    ask("undo")


def test_an_origin_and_a_measured_line_place_the_camera(ask, client, shot_id, loft, loft_lines):
    path, ends = truth(loft), np.array([[-1.2, 0.0, -3.0], [1.2, 0.0, -3.0]])
    line = {"frame": 1001, "axis": "x", "points": path.project(ends, 0).tolist()}
    ask("lens/edit", {"lines": {**loft_lines, "X9": line}, "label": "Lines"})
    ask(
        "lens/edit",
        {"origin": {"line": "X9", "end": 0}, "measured": {"line": "X9", "length": "2.4 m"}, "label": "Measure"},
    )
    kept = client.get(f"/shots/{shot_id}/lens.json").json
    assert kept["origin"] == {"line": "X9", "end": 0} and kept["measured"]["length"] == "2.4 m"
    asked = {"lines": kept["lines"], "frame": 1001, "measured": kept["measured"], "origin": kept["origin"]}
    told = ask("lens/fit", asked)["place"]
    quick = ask("lens/fit", {**asked, "quick": True})["place"]
    off = np.abs(np.array(told["xyz"]) - (path.positions[0] - ends[0]))
    assert (off < 4.0 * np.array(told["sigma"]) + 0.01).all() and off.max() < 0.15
    assert told["distance_sigma"] > 0.0 and quick["xyz"] == pytest.approx(told["xyz"], abs=0.05)
    elsewhere = ask(
        "lens/fit",
        {**asked, "origin": {"frame": 1001, "point": path.project(np.array([[0.5, 0.0, -2.0]]), 0)[0].tolist()}},
    )["place"]
    assert elsewhere["xyz"] == pytest.approx(path.positions[0] - [0.5, 0.0, -2.0], abs=0.15)
    assert "horizon" in ask("lens/fit", {**asked, "origin": {"frame": 1001, "point": [320.0, 5.0]}})["place"]["trouble"]
    state = ask("lens/use")
    assert state["datum"]["axes"]["place"]["xyz"] == pytest.approx(told["xyz"], abs=1e-6)
    assert not (ask("undo")["datum"].get("axes") or {}).get("place")
    for bad, words in (
        ({"origin": {"frame": 1001, "point": "here"}}, "no place"),
        ({"measured": {"line": "X9", "length": "far"}}, "no length"),
    ):
        assert words in ask("lens/edit", bad, 400)["error"]
    for _ in range(2):
        ask("undo")


def test_a_camera_s_facts_and_presets_are_kept(ask, client, shot_id):
    facts = {"sensor": "0.98 in", "crop": 0.5, "pixel_aspect": 1.0, "focal_state": "known", "focal_mm": "8"}
    ask("lens/edit", {"facts": facts, "label": "Facts"})
    kept = client.get(f"/shots/{shot_id}/lens.json").json
    assert (
        kept["sensor_width_mm"] == pytest.approx(12.446) and kept["focal_mm"] == 8.0 and kept["focal_state"] == "known"
    )
    assert kept["pixel_formats"][0]["aspect"] == 1.0 and any("Full frame" in f["name"] for f in kept["formats"])
    ask("lens/preset", {"name": "Loft sensor", "width": "23.1 mm"})
    assert {"name": "Loft sensor", "width_mm": 23.1} in client.get(f"/shots/{shot_id}/lens.json").json["presets"]
    ask("undo")
    assert client.get(f"/shots/{shot_id}/lens.json").json["sensor_width_mm"] == 24.0


def test_a_focal_length_is_known_or_a_start_value_with_its_source(ask, client, shot_id, database):
    typed = {"focal_state": "start", "focal_mm": "16.5", "focal_sigma_mm": "0,4", "sources": {"focal": "metadata"}}
    camera = ask("lens/edit", {"facts": typed, "label": "Facts"})["camera"]
    assert camera["focal_mm"] == 16.5 and camera["focal_sigma_mm"] == 0.4 and camera["sources"] == {"focal": "metadata"}
    solves = (
        (
            {"focal_mm": "16", "focal_state": "start", "focal_sigma_mm": "0.5"},
            None,
            {"state": "soft", "value": 16 * 640 / 24, "sigma": 0.5 * 640 / 24},
        ),
        (
            {"focal_mm": "16", "focal_state": "start"},
            None,
            {"state": "soft", "value": 16 * 640 / 24, "sigma": 1.6 * 640 / 24},
        ),
        ({"focal_mm": "16", "focal_state": "known"}, 16.0, None),
        ({"focal_mm": "16", "focal_state": "unknown"}, None, None),
    )
    for body, known, term in solves:
        job = ask("solve", body)["job"]
        with session(database) as opened:
            arguments = opened.get(Job, job).arguments
        assert arguments["focal_mm"] == known and arguments["terms"].get("focal") == (term and pytest.approx(term))
        ask_cancelled(client, job)
    ask("undo")


def ask_cancelled(client, job):
    """Cancel a job and wait until the worker has let go of it: one of a kind runs at a time."""
    client.post(f"/jobs/{job}/cancel")
    wait_for_job(job, "cancelled", "done", "failed")


def wait_for_job(job, *states):
    """Wait until a job has come to one of these states."""
    for _ in range(300):
        with session(from_environment().database) as opened:
            state = opened.get(Job, job).state
        if state in states:
            return
        time.sleep(0.2)
    raise AssertionError(f"job {job} is {state}")


@pytest.mark.parametrize(
    "path, body, words",
    [
        ("lens/fit", {"lines": {"X1": {"points": [[10, 10], [10, 10]], "axis": "x"}}}, "no length"),
        ("lens/fit", {"lines": {"X1": {"points": [[10, 10], [90, 40]], "axis": "x"}}}, "One line only"),
        ("lens/edit", {"lines": {"X1": {"points": "no"}}}, "no numbers"),
        ("lens/edit", {"facts": {"sensor": "0 mm"}}, "more than zero"),
        ("lens/edit", {"facts": {"pixel_aspect": 0}}, "pixel aspect"),
        ("lens/edit", {"facts": {"crop": 0}}, "crop"),
        ("lens/edit", {"facts": {"focal_state": "known", "focal_mm": ""}}, "no focal length"),
        ("lens/edit", {"facts": {"focal_state": "guessed"}}, "start value"),
        ("lens/edit", {"facts": {"focal_state": "start", "focal_mm": "30", "focal_sigma_mm": "wide"}}, "no number"),
        ("lens/edit", {"facts": {"sources": {"focal": "hearsay"}}}, "comes from"),
        ("solve", {"focal_mm": "30", "focal_state": "guessed"}, "start value"),
        ("lens/use", {"profile": 99999}, "gone"),
        ("lens/use", {"hand": -3.0}, "fold"),
        ("lens/hand", {"k1": -3.0}, "fold"),
        ("lens/snap", {"frame": 5, "points": [[1, 1], [90, 90]]}, "no frame"),
        ("lens/straighten", {"overscan": "wide"}, "overscan"),
        ("solve", {"terms": {"k1": {"state": "soft", "value": ""}}}, "sigma"),
        ("solve", {"terms": {"zoomy": {"state": "free"}}}, "no value of the lens"),
    ],
)
def test_what_cannot_be_is_refused_in_words(ask, path, body, words):
    assert words.lower() in ask(path, body, 400)["error"].lower()


def test_edges_snap_and_the_plate_is_straightened_and_handed_on(ask, client, shot_id, loft, database):
    found = ask("lens/snap", {"frame": 1001, "points": loft_ends(loft)})["points"]
    assert len(found) >= 3
    pushed = [list(p) for p in found]
    pushed[1][1] += 2.0
    back = ask("lens/snap", {"frame": 1001, "points": pushed, "point": 1})["points"]
    assert np.hypot(*np.subtract(back[1], found[1])) < 1.0
    seen = ask("lens/hand", {"k1": -0.1, "lines": {"e": {"points": found, "axis": "", "frame": 1001}}, "frame": 1001})
    assert seen["lens"]["radial"][0] == -0.1 and seen["lines"]["e"]["after"] != seen["lines"]["e"]["before"]
    answer = client.get(f"/shots/{shot_id}/lens/straight/1001.jpg", query_string={"lens": json.dumps(seen["lens"])})
    assert answer.mimetype == "image/jpeg" and len(answer.data) > 4000
    assert client.get(f"/shots/{shot_id}/lens/straight/1001.jpg?lens=x").status_code == 400
    ask("lens/use", {"hand": -0.1})
    asked = {"overscan": "all", "filter": "linear", "format": "jpg"}
    work("straighten", from_environment(), shot_id, asked, lambda *_: None)
    packed = zipfile.ZipFile(io.BytesIO(client.get(f"/shots/{shot_id}/lens/files/plate").data))
    assert len([n for n in packed.namelist() if n.endswith(".jpg")]) == 20
    assert len(zipfile.ZipFile(io.BytesIO(client.get(f"/shots/{shot_id}/lens/files/st").data)).namelist()) == 2
    assert client.get(f"/shots/{shot_id}/lens/files/profile").json["source"] == "typed"
    ask("undo")


def loft_ends(loft):
    """The ends of a beam's lower edge as clicked, a little beside it."""
    row = next(r for r in drawn_lines(loft, edges(), 1001, noise_px=0.0) if r["axis"] == "x")
    return [
        [row["points"][0][0] + 30.0, row["points"][0][1] - 4.0],
        [row["points"][-1][0] - 60.0, row["points"][-1][1] + 6.0],
    ]


def test_a_filmed_grid_becomes_a_profile(ask, client, database, shot_id, rng):
    from test_lens_evidence import grids

    from amberkeel.core.lens import Lens

    files = [
        (io.BytesIO(cv2.imencode(".png", gray)[1].tobytes()), f"{name}.png")
        for name, gray in grids(Lens.centred(*SIZE, 600.0), 5, rng)
    ]
    asked = client.post(
        f"/shots/{shot_id}/lens/chart",
        data={"files": files, "inner": "9x6", "square": "25", "name": "Wide"},
        headers={"Accept": "application/json"},
    )
    assert asked.status_code == 200, asked.text
    wrong = client.post(f"/shots/{shot_id}/lens/chart", data={"inner": "nine"}, headers={"Accept": "application/json"})
    assert wrong.status_code == 400 and "9x6" in wrong.json["error"]
    wait_for(database, asked.json["job"], ["done"])
    with session(database) as opened:
        row = opened.scalar(select(LensProfile).where(LensProfile.name == "Wide").order_by(LensProfile.id.desc()))
        assert row.document["lens"]["focal_px"][0] == pytest.approx(600.0, rel=0.01) and row.document["coverage"]
    ask("undo")


def test_a_profile_and_an_st_map_come_in_and_are_used(ask, client, shot_id, tmp_path):
    from amberkeel.core.lens import Lens
    from amberkeel.core.lens.picture import canvas_for
    from amberkeel.core.lens.profile import LensProfile as Profile
    from amberkeel.core.lens.profile import profile_document
    from amberkeel.core.lens.straighten import write_st_maps

    lens = Lens.centred(*SIZE, 610.0, -0.08)
    write_st_maps(lens, canvas_for(lens, "all"), tmp_path)
    whole = json.dumps(profile_document(Profile("Theirs", lens, "typed"))).encode()
    accept = {"Accept": "application/json"}

    def bring(data, name, **more):
        sent = {"file": (io.BytesIO(data), name), **more}
        return client.post(f"/shots/{shot_id}/lens/bring", data=sent, headers=accept)

    assert bring(whole, "theirs.json").status_code == 200
    mapped = (tmp_path / "undistort_st.exr").read_bytes()
    assert bring(mapped, "map.exr").status_code == 400
    assert bring(mapped, "map.exr", way="undistort").status_code == 200
    kept = client.get(f"/shots/{shot_id}/lens.json").json
    used = next(one for one in kept["profiles"] if one["id"] == kept["profile"])
    assert used["source"] == "map" and "0.000 px RMS" in used["notes"][0] and used["focal_mm"] is None
    assert used["radial"][0] * (610.0 / SIZE[0]) ** 2 == pytest.approx(-0.08, abs=1e-3)
    for data, name, said in ((b"{}", "x.json", "not complete"), (b"x", "x.json", "no lens profile")):
        assert said in bring(data, name).json["error"]
    for _ in range(2):
        ask("undo")


@pytest.fixture
def page(browser, service, shot_id):
    with desk_page(browser, service, shot_id, "lens") as opened:
        yield opened


def at(page, x, y):
    """Where a plate pixel lies on the page."""
    return on_screen(page, SIZE, x, y)


def settles(page, focal_mm):
    """Wait until the page shows a focal length within 3 %: answers to a drag come one after the other."""
    told = page.locator("#lensfound dd").first
    until(lambda: float(told.inner_text().split()[0]) == pytest.approx(focal_mm, rel=0.03))


def test_two_clicks_draw_the_origin_is_put_and_the_camera_placed(page, ask, loft, loft_lines):
    kept = page.evaluate("async () => Object.keys((await (await fetch(location.pathname + '.json')).json()).lines)")
    ask("lens/edit", {"lines": dict.fromkeys(kept) | loft_lines, "label": "Draw these lines"})
    # The page must show just these: a press on what earlier tests left would take hold of it.
    expect(page.locator("#undo")).to_have_attribute("title", re.compile("Draw these lines"))
    expect(page.locator("#linelist .linerow")).to_have_count(len(loft_lines))
    expect(page.locator("#lensfound")).to_contain_text("mm")
    page.get_by_label("Put lines onto the picture's edges").uncheck()
    ends = truth(loft).project(np.array([[-1.2, 0.0, -3.0], [1.2, 0.0, -3.0]]), 0)
    page.keyboard.press("Shift+X")
    page.mouse.click(*at(page, *ends[0]))
    page.mouse.move(*at(page, *(ends.mean(0))))
    page.mouse.click(*at(page, *ends[1]))
    page.keyboard.press("Escape")
    expect(page.locator("#undo")).to_have_attribute("title", re.compile("Draw X"))
    names = page.evaluate("async () => Object.keys((await (await fetch(location.pathname + '.json')).json()).lines)")
    drawn = next(n for n in names if n not in loft_lines)
    page.locator("#measureline").select_option(drawn)
    page.locator("#measurelength").fill("2.4 m")
    page.locator("#measurelength").press("Enter")
    expect(page.locator("#lensplace")).to_contain_text("Camera's height")
    height, distance = (float(page.locator("#lensplace dd").nth(k).inner_text().split()[0]) for k in range(2))
    position = truth(loft).positions[0]
    assert height == pytest.approx(position[1], abs=0.15) and distance == pytest.approx(
        np.linalg.norm(position - [-1.2, 0.0, -3.0]), rel=0.05
    )
    page.keyboard.press("Shift+O")
    page.mouse.click(*at(page, *ends[1]))
    expect(page.locator("#undo")).to_have_attribute("title", re.compile("Set the origin"))
    kept = page.evaluate("async () => (await (await fetch(location.pathname + '.json')).json()).origin")
    assert kept == {"line": drawn, "end": 1}
    page.get_by_role("button", name="Camera", exact=True).click()
    row = page.locator("#evidence .evidence", has_text="lines").first
    row.click()
    expect(page.locator("#focalsource")).to_have_text("lines")
    assert (
        float(page.locator("#focalmm").input_value()) == pytest.approx(16.0, rel=0.03)
        and page.locator("#focalsigma").is_visible()
    )
    page.locator("#pixelaspect").fill("2")
    page.get_by_role("button", name="Keep these facts").click()
    expect(page.locator("#undo")).to_have_attribute("title", re.compile("camera's facts"))
    # Twice as wide: the whole plate still fits, so it is lower.
    page.wait_for_function(
        "() => { const c = document.querySelector('#plate').getContext('2d'); const s = devicePixelRatio; const v = "
        "document.querySelector('#plate'); const p = c.getImageData(v.clientWidth / 2 * s, v.clientHeight / 2 * s - "
        "v.clientWidth * s * 0.25, 1, 1).data; return p[0] === 11 && p[1] === 16 && p[2] === 20; }"
    )
    page.keyboard.press("Control+z")
    expect(page.locator("#pixelaspect")).to_have_value("1")
    for _ in range(4):
        ask("undo")


def test_k1_is_turned_by_hand_finely_and_the_plate_is_handed_on(page, ask, client, shot_id):
    page.get_by_role("button", name="Through", exact=True).click()
    page.locator("#handvalue").click()
    for key in ("ArrowDown", "ArrowDown", "ArrowDown", "Shift+ArrowDown"):
        page.keyboard.press(key)
    expect(page.locator("#lensnotes")).to_contain_text("turned by hand: -0.0065")
    assert page.locator("#handvalue").input_value() == "-0.0065"
    page.locator("#handvalue").fill("-3")
    page.keyboard.press("Enter")
    expect(page.locator("#lensnotes")).to_contain_text("fold")
    page.get_by_role("button", name="Back to the lines").click()
    expect(page.locator("#lensnotes")).not_to_contain_text("turned by hand")
    page.locator("#handvalue").fill("-0,1")
    page.keyboard.press("Enter")
    expect(page.locator("#lensnotes")).to_contain_text("turned by hand: -0.1000")
    shot = page.locator("#plate").screenshot()
    with page.expect_response(lambda answer: "/lens/straight/" in answer.url and answer.ok):
        page.keyboard.press("Shift+S")
    until(lambda: page.locator("#plate").screenshot() != shot)
    page.keyboard.press("Shift+S")
    page.get_by_role("button", name="Use it", exact=True).click()
    expect(page.locator("#toast")).to_contain_text("In use")
    page.locator("#overscan").select_option("larger by…")
    page.get_by_label("by so many percent").fill("15")
    page.locator("#straightformat").select_option("jpg")
    with page.expect_response(lambda answer: answer.url.endswith("/lens/straighten")) as asked:
        page.get_by_role("button", name="Write the straightened plate").click()
    assert asked.value.ok and asked.value.request.post_data_json["overscan"] == "15"
    wait_for_job(asked.value.json()["job"], "done")
    packed = zipfile.ZipFile(io.BytesIO(client.get(f"/shots/{shot_id}/lens/files/plate").data))
    assert sum(name.endswith(".jpg") for name in packed.namelist()) == 20
    page.get_by_role("button", name="Profiles", exact=True).click()
    expect(page.locator("#profilelist .pinned")).to_contain_text("by hand")
    page.keyboard.press("Control+z")
    expect(page.locator("#profilelist .pinned", has_text="by hand")).to_have_count(0)


def test_lines_are_drawn_dragged_and_looked_through_with_the_mouse(page, ask, loft, loft_lines):
    kept = {
        name: None
        for name in ask("lens/edit", {"label": "nothing"})
        and page.evaluate("async () => Object.keys((await (await fetch(location.pathname + '.json')).json()).lines)")
    }
    ask(
        "lens/edit",
        {"lines": kept | {n: row for n, row in loft_lines.items() if n != "X0"}, "label": "Draw the others"},
    )
    # What earlier tests left must be gone from the page: else the press would take hold of a line instead of drawing
    # one.
    expect(page.locator("#linelist .linerow", has_text="X0")).to_have_count(0)
    expect(page.locator("#linelist")).to_contain_text("X1")
    expect(page.locator("#lensfound")).to_contain_text("mm")
    before = page.locator("#lensfound dd").first.inner_text()
    page.get_by_label("Put lines onto the picture's edges").uncheck()
    page.keyboard.press("Shift+X")
    ends = loft_lines["X0"]["points"]
    page.mouse.move(*at(page, *ends[0]))
    page.mouse.down()
    page.mouse.move(*at(page, ends[-1][0] - 20, ends[-1][1]), steps=4)
    page.mouse.move(*at(page, ends[-1][0], ends[-1][1] + 14), steps=4)
    page.mouse.up()
    expect(page.locator("#toast")).to_be_hidden()
    page.keyboard.press("Escape")
    fresh = page.locator("#linelist .linerow", has_text="X4")
    expect(fresh).to_be_visible()
    expect(page.locator("#lensfound dd").first).not_to_have_text(before)
    skewed = page.locator("#lensfound dd").first.inner_text()
    page.mouse.move(*at(page, ends[-1][0], ends[-1][1] + 14))
    page.mouse.down()
    page.mouse.move(*at(page, *ends[-1]), steps=6)
    expect(page.locator("#lensfound dd").first).not_to_have_text(skewed)
    page.mouse.up()
    settles(page, loft.lens.focal_px[0] * 24.0 / SIZE[0])
    page.get_by_role("button", name="Use this lens", exact=True).click()
    expect(page.locator("#toast")).to_contain_text("In use")
    assert page.locator("#distortion").input_value() == "profile"
    page.get_by_role("button", name="Bent grid", exact=True).click()
    page.keyboard.press("Shift+S")
    expect(page.get_by_role("button", name="Straightened", exact=True)).to_have_class("button quiet on")
    expect(page.locator('[data-layer="tracks"]')).to_be_hidden()
    page.get_by_role("button", name="Profiles", exact=True).click()
    expect(page.locator("#profilelist .pinned")).to_contain_text("from lines")
    page.get_by_role("button", name="Lines", exact=True).click()
    fresh.click()
    page.keyboard.press("Delete")
    expect(fresh).to_be_hidden()
    page.keyboard.press("Control+z")
    expect(fresh).to_be_visible()
