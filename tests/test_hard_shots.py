"""SKL_030 and SKL_090 as an artist solves them: a pan with a long lens, and a small camera whose rows lag."""

import re
from dataclasses import replace
from io import BytesIO

import pytest
from desk import desk_page, poster, taken_in, until, wait_for
from plates import rendered, simulated
from playwright.sync_api import expect

from amberkeel.core.camera import ROW_PASSES
from amberkeel.core.sim.breakwater import FOCAL_MM
from amberkeel.core.sim.launch import READOUT
from amberkeel.core.sim.render import surface_points, truth
from amberkeel.store.held import hold_shot
from amberkeel.store.session import session

SOLVED_MS = 240_000


@pytest.fixture(scope="module")
def pan(service, database, once):
    return taken_in(database, rendered(once, "pan"), "MOLE_030 Breakwater")


@pytest.fixture(scope="module")
def boat():
    return simulated("boat")


@pytest.fixture(scope="module")
def run(service, database, once):
    return taken_in(database, rendered(once, "boat"), "QUAY_090 Launch")


def solve(page):
    page.get_by_role("button", name="Solve", exact=True).click()
    expect(page.locator("#verdict")).to_be_visible(timeout=SOLVED_MS)


def test_a_pan_is_solved_as_one_and_says_what_it_leaves_open(browser, service, client, pan):
    with desk_page(browser, service, pan, "solve") as page:
        expect(page.locator("#ledger")).to_contain_text("No attempts yet")
        solve(page)
        expect(page.locator("#findings")).to_contain_text("The camera only turns")
        attempt = client.get(f"/shots/{pan}/state.json").json["attempts"][0]
        figures = attempt["figures"]
        assert figures["camera_motion"] == "nodal"
        assert abs(figures["focal_mm"] - FOCAL_MM) < 3.0 * figures["focal_sigma_mm"]
        # What is not known is drawn: slip over the picture, bands of the camera's curves, ellipsoids in 3D.
        plain = page.locator("#plate").screenshot()
        page.get_by_role("button", name="Slip", exact=True).click()
        until(lambda: page.locator("#plate").screenshot() != plain)
        slip = client.get(f"/attempts/{attempt['id']}/slip/1001.json").json
        assert 0.0 < slip["median"] < 0.3 and client.get(f"/attempts/{attempt['id']}/slip/1.json").status_code == 404
        before = page.locator("#lanes").screenshot()
        page.locator("#lanekind").select_option("turn")
        until(lambda: page.locator("#lanes").screenshot() != before)
        sure = client.get(f"/attempts/{attempt['id']}/sure.json").json
        assert {curve["name"] for curve in sure["curves"]} >= {"pan", "tilt", "roll"} and not sure["points"]


def test_the_ledger_is_kept_by_name_and_note_and_loses_nothing(browser, service, client, pan):
    with desk_page(browser, service, pan, "solve") as page:
        page.locator("#camera > summary").click()
        page.locator("#motion").select_option("nodal")
        page.locator("#folds").select_option("5")
        page.get_by_role("button", name="Solve", exact=True).click()
        expect(page.locator("#ledger .attempt")).to_have_count(2, timeout=SOLVED_MS)
        expect(page.locator("#findings")).to_contain_text("Each track left out once, in 5 parts")
        expect(page.locator("#figures")).to_contain_text("In 5 folds")
        page.locator("#ledger .name").first.click()
        page.get_by_label("Name of attempt 2").fill("turns only")
        page.get_by_label("Name of attempt 2").press("Enter")
        expect(page.locator("#undo")).to_have_attribute("title", re.compile("Name attempt 2"))
        expect(page.locator("#ledger .name").first).to_contain_text("turns only")
        page.get_by_label("Note on attempt 2").fill("Asked for as nodal.")
        page.get_by_label("Note on attempt 2").blur()
        page.locator("#ledger .name").last.click()
        page.get_by_role("button", name="Delete", exact=True).click()
        expect(page.locator("#ledger .attempt")).to_have_count(1)
        page.get_by_role("button", name="Undo", exact=True).click()
        expect(page.locator("#ledger .attempt")).to_have_count(2)
        page.get_by_role("button", name="Go back to it").click()
        expect(page.locator("#ledger .attempt.pinned")).to_contain_text("Attempt 1")
        expect(page.locator("#undo")).to_have_attribute("title", re.compile("Back to what attempt 1 was made from"))


def test_rows_that_lag_are_found_on_a_running_launch(browser, service, client, run):
    with desk_page(browser, service, run, "solve") as page:
        solve(page)
        expect(page.locator("#findings")).to_contain_text("The shutter rolls")
        expect(page.locator("#ledger")).to_contain_text("readout 0.")
        attempt = client.get(f"/shots/{run}/state.json").json["attempts"][0]
        assert attempt["figures"]["readout"] == pytest.approx(READOUT, abs=0.05)
        assert attempt["figures"]["rms_px"] < 0.4
        page.keyboard.press("6")
        page.keyboard.press("Shift+U")
        expect(page.locator("#spacenote")).to_contain_text("One sigma of each point")


def test_a_path_of_a_file_is_held(client, run):
    table = "frame,x,y,z,pan,tilt,roll\n" + "\n".join(f"{f},0,0,{0.01 * f},0,0,0" for f in range(1001, 1011))

    def send(text, **more):
        form = {"file": (BytesIO(text.encode()), "dolly.csv"), **more}
        accept, kind = {"Accept": "application/json"}, "multipart/form-data"
        return client.post(f"/shots/{run}/constraints/path", data=form, content_type=kind, headers=accept)

    held = send(table, first="1003", last="1006").json["constraints"][-1]
    assert held["kind"] == "hold" and held["frames"] == [1003, 1004, 1005, 1006] and held["name"] == "dolly"
    assert send(table).json["constraints"][-1]["name"] == "dolly 2"
    assert "none of 1030–1031" in send(table, first="1030", last="1031").json["error"]
    assert "no camera path" in send("x,y\n1,2\n").json["error"]
    poster(client, run)("undo")


def test_a_solve_begins_from_a_path_that_was_brought_in(client, database, run):
    table = client.get(f"/shots/{run}/handoff/camera.csv").data
    form = {"file": (BytesIO(table), "found.csv")}
    held = client.post(f"/shots/{run}/constraints/path", data=form, headers={"Accept": "application/json"}).json
    number = len(held["constraints"]) - 1
    poster(client, run)("constraints/change", {"number": number, "on": False})
    focal = held["attempts"][0]["figures"]["focal_mm"]
    body = {"begin_path": "found", "motion": "free", "focal_mm": f"{focal:.2f}", "rows": "known", "readout": READOUT}
    assert wait_for(database, poster(client, run)("solve", body)["job"], ["done"], 200).error == ""
    newest = client.get(f"/shots/{run}/state.json").json["attempts"][0]
    assert newest["figures"]["rms_px"] < 0.4 and not newest["figures"]["measuring"]


def test_a_radius_and_axis_lines_are_taken_from_the_page(client, database, pan, loft_shot, loft_lines):
    ask = poster(client, pan)
    assert "no length" in ask("constraints", {"kind": "swing-radius", "length": "far"}, 400)["error"]
    assert (
        ask("constraints", {"kind": "swing-radius", "length": "20", "unit": "cm"})["constraints"][-1]["length"] == 0.2
    )
    failed = wait_for(database, ask("solve", {"motion": "nodal"})["job"], ["failed", "done"], 200)
    assert failed.state == "failed" and "does not swing" in failed.error
    ask("undo")
    lines = poster(client, loft_shot)
    assert "There are no lines" in lines("constraints", {"kind": "axes"}, 400)["error"]
    with session(database) as opened:
        hold_shot(opened, loft_shot).lens = {"lines": loft_lines}
    (row,) = lines("constraints", {"kind": "axes", "sigma": "0.5"})["constraints"]
    assert row["kind"] == "axis-lines" and len(row["lines"]) > 3 and {one["axis"] for one in row["lines"]} <= set("xyz")
    lines("undo")


def test_the_simulated_rows_are_those_of_the_true_camera(boat):
    shot = replace(boat, frames=boat.frames[:3])
    path, (points, seen) = truth(shot), surface_points(shot, 60)
    assert path.readout == READOUT and ROW_PASSES > 1 and seen.any(1).all()
    moved = path.project_read(points, 1) - path.project(points, 1)
    middle = abs(path.project(points, 1)[:, 1] - 180.0) < 16.0
    assert abs(moved[middle & seen[1]]).max() < 0.2 < abs(moved[seen[1]]).max()
