"""The casebook as a person uses it: trials kept and dropped, repairs, a signed verdict; and what it refuses."""

import re

import numpy as np
import pytest
from desk import desk_page, poster, taken_in, wait_for
from plates import rendered, simulated
from playwright.sync_api import expect

from amberkeel.settings import from_environment
from amberkeel.store.models import Attempt, Shot, Trial
from amberkeel.store.session import session


@pytest.fixture(scope="module")
def run_shot(service, database, once):
    """SKL_050's beginning with a burst of blur, taken in, followed and solved by the jobs."""
    from amberkeel.jobs.kinds import work

    number = taken_in(database, rendered(once, "run"), "RUN_050 Gangway")
    work("solve", from_environment(), number, {}, lambda *_: None)
    return number


def state(client, number):
    """The shot's state as its page has it."""
    return client.get(f"/shots/{number}/state.json").json


def newest(client, number):
    """The newest trial as the page shows it."""
    return state(client, number)["trials"][0]


def test_from_the_first_solve_to_a_signed_verdict(browser, service, database, client, run_shot):
    with desk_page(browser, service, run_shot, "solve") as page:
        box = page.locator("#findings")
        expect(box).to_contain_text("worst first")
        page.keyboard.press("Shift+C")
        measure = box.get_by_role("button", name="Measure blurred frames anew").first
        measure.click()
        expect(box.locator(".trial").first).to_contain_text("Measure blurred frames anew")
        expect(box.locator(".trial.better")).to_be_visible(timeout=240_000)
        before = page.locator("#figures").inner_text()
        box.get_by_role("button", name="Overlay").first.click()
        expect(page.locator("#spacenote")).to_contain_text("the path before")
        box.get_by_role("button", name="Keep", exact=True).first.click()
        expect(page.locator("#undo")).to_have_attribute("title", re.compile("Keep: Measure blurred frames anew"))
        expect(page.locator("#figures")).not_to_have_text(before)
        page.keyboard.press("Control+z")
        expect(page.locator("#redo")).to_have_attribute("title", re.compile("Keep: Measure"))
        page.keyboard.press("Control+y")
        expect(page.locator("#undo")).to_have_attribute("title", re.compile("Keep: Measure"))
        page.keyboard.press("Shift+C")
        page.locator("#repairbox summary").click()
        for name in ("Bridge", "Smooth"):
            page.locator("#lanes").click(position={"x": 500, "y": 60})
            page.locator("#repairbox").get_by_role("button", name=name, exact=True).click()
            card = page.locator("#findings .trial").filter(has_text=f"{name} ")
            expect(card.locator(".versus").first).to_be_attached(timeout=120_000)
    with desk_page(browser, service, run_shot, "solve") as page:
        page.goto(f"{service.address}/shots/{run_shot}/verdict")
        page.wait_for_selector("body[data-ready]")
        assert page.locator(".report svg").count() >= 6
        page.locator("textarea[name=note]").fill("Holds on the deck.")
        if page.locator("textarea[name=reason]").count():
            page.get_by_role("button", name="Sign it off").click()
            expect(page.get_by_role("alert")).to_contain_text("reason")
            page.locator("textarea[name=reason]").fill("The knock is real.")
        page.get_by_role("button", name="Sign it off").click()
        expect(page.locator(".said")).to_contain_text("Holds on the deck.")
        page.get_by_role("button", name="Draw the movie").click()
        expect(page.locator("video")).to_be_attached(timeout=120_000)
        page.goto(service.address)
        expect(page.locator(f'[data-shot="{run_shot}"] .signed')).to_be_visible()


def test_what_was_kept_is_in_the_tracks_and_a_changed_shot_refuses_the_rest(database, client, run_shot):
    post = poster(client, run_shot)
    answer = post("repair", {"code": "bridge", "frames": [1006, 1007]})
    number = answer["trials"][0]["id"]
    wait_for(database, answer["trials"][0]["job"], ("done",), 240)
    trial = newest(client, run_shot)
    assert trial["id"] == number and trial["comparison"]["words"] and trial["who"] == "artist"
    some = client.get(f"/shots/{run_shot}/tracks.json").json["ids"][:2]
    post("edit", {"kind": "states", "payload": {"states": {"excluded": some}}})
    assert newest(client, run_shot)["stale"]
    refused = post("keep", {"trial": number}, 400)
    assert "changed since this was tried" in refused["error"]
    post("undo")
    assert not newest(client, run_shot)["stale"]
    redone = post("again", {"trial": number})["trials"][0]
    wait_for(database, redone["job"], ("done",), 240)
    assert redone["words"] == trial["words"] and redone["id"] != number
    post("drop", {"trial": redone["id"]})
    post("drop", {"trial": number})
    with session(database) as opened:
        row = opened.get(Trial, number)
        assert row.decided == "dropped" and opened.get(Attempt, row.attempt_id).removed
    post("undo")
    with session(database) as opened:
        assert opened.get(Trial, number).decided == ""
    assert "no such trial" in post("keep", {"trial": 10_000_000}, 400)["error"]


def test_repairs_refuse_what_cannot_be(database, client, run_shot):
    post = poster(client, run_shot)
    for body, words in (
        ({"code": "dance"}, "no repair"),
        ({"code": "bridge"}, "No frames are chosen"),
        ({"code": "bridge", "frames": [1004, 1005], "channels": "smell"}, "no channels"),
        ({"code": "bridge", "frames": [1, 5000]}, "too many"),
        ({"code": "smooth", "value": ""}, "strength"),
        ({"code": "smooth", "value": "-3"}, "strength"),
        ({"code": "limit", "value": "nothing"}, "limit"),
        ({"code": "limit", "value": "0"}, "limit"),
    ):
        assert words in post("repair", body, 400)["error"], body
    first = post("repair", {"code": "bridge", "frames": [1001]})
    job = wait_for(database, first["trials"][0]["job"], ("done", "failed"))
    assert job.state == "failed" and "nothing on one side" in job.error
    assert "nothing on one side" in newest(client, run_shot)["error"]
    attempt = state(client, run_shot)["pinned"]
    over = client.get(f"/attempts/{attempt}/limit.json?value=3&unit=sigma").json
    assert over["measurements"] and not over["luck"] and over["touched"]
    assert client.get(f"/attempts/{attempt}/limit.json?value=0.5&unit=sigma").json["luck"]
    assert client.get(f"/attempts/{attempt}/limit.json?value=1e-9&unit=px").status_code == 400
    assert "That finding is gone" in post("try", {"picks": [{"kind": "ghost", "remedy": 3}]}, 400)["error"]


def test_a_cancelled_trial_says_so_and_changes_nothing(database, client, run_shot):
    post = poster(client, run_shot)
    before = state(client, run_shot)["pinned"]
    answer = post("repair", {"code": "add"})
    job = answer["trials"][0]["job"]
    client.post(f"/jobs/{job}/cancel", json={})
    wait_for(database, job, ("cancelled", "done"), 120)
    now = state(client, run_shot)
    assert now["pinned"] == before
    assert client.get(f"/jobs/{job}.json").json["state"] in ("cancelled", "done")


def test_sending_back_needs_a_note(client, run_shot):
    form = {"word": "back", "note": "", "frames": "", "reason": ""}
    answer = client.post(f"/shots/{run_shot}/review", data=form)
    assert answer.status_code == 409 and "needs a note" in answer.text
    answer = client.post(f"/shots/{run_shot}/review", data={**form, "note": "The floor slides.", "frames": "1018-1023"})
    assert answer.status_code == 302
    page = client.get(f"/shots/{run_shot}/verdict").text
    assert "Sent back" in page and "1018-1023" in page
    whole = client.get(f"/shots/{run_shot}/verdict.html")
    assert whole.status_code == 200 and "<script" not in whole.text and "http" not in whole.text.split("</style>")[1]
    assert "The floor slides." in whole.text and whole.text.count("<svg") >= 6


def test_a_shot_is_worked_on_by_itself_and_the_board_says_what_is_left(database, client, run_shot):
    from amberkeel.jobs.kinds import work

    work("improve", from_environment(), run_shot, {"effort": "quick"}, lambda *_: None)
    with session(database) as opened:
        rows = opened.query(Trial).filter(Trial.shot_id == run_shot, Trial.who == "keel").all()
        assert rows and all(row.comparison["words"] and row.decided in ("kept", "dropped") for row in rows)
        shot = opened.get(Shot, run_shot)
        pinned = opened.get(Attempt, shot.pinned_id)
        assert pinned.snapshot["tracks_stamp"] == shot.tracks_stamp
    assert client.get("/").status_code == 200
    answer = client.post("/work", json={"shots": [run_shot], "effort": "heroic"})
    assert answer.status_code == 400
    started = client.post("/work", json={"shots": [run_shot], "effort": "quick"})
    assert started.json["count"] == 1
    again = client.post("/work", json={"shots": [run_shot], "effort": "quick"})
    assert again.status_code == 400 and "worked on" in again.json["error"]
    with session(database) as opened:
        from amberkeel.store.models import Job

        job = opened.query(Job).filter(Job.shot_id == run_shot).order_by(Job.id.desc()).first()
        assert job.kind == "improve" and job.background
    client.post(f"/jobs/{job.id}/cancel", json={})
    wait_for(database, job.id, ("cancelled", "done"), 120)


def test_a_pan_solved_as_a_move_is_found_and_mended(database, client, service, once):
    from amberkeel.jobs.kinds import work

    number = taken_in(database, rendered(once, "pan"), "PAN_030 Breakwater")
    work("solve", from_environment(), number, {"motion": "free"}, lambda *_: None)
    found = state(client, number)["findings"]
    assert found[0]["kind"] == "no-parallax" and found[0]["severity"] == "serious"
    post = poster(client, number)
    answer = post("try", {"picks": [{"kind": "no-parallax", "remedy": 0}]})
    wait_for(database, answer["trials"][0]["job"], ("done",), 240)
    post("keep", {"trial": answer["trials"][0]["id"]})
    now = state(client, number)
    assert now["attempts"][0]["figures"]["camera_motion"] == "nodal"
    assert "no-parallax" not in [one["kind"] for one in now["findings"]]
    true = simulated("pan").lens.focal_px[0]
    assert abs(now["attempts"][0]["figures"]["focal_px"] / true - 1.0) < 0.02
    assert np.isfinite(now["attempts"][0]["figures"]["focal_sigma_px"])
