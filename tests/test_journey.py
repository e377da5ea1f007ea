"""A person's way through the application: from an empty production to a downloaded USD, with mouse and keyboard."""

import pytest
from desk import one, settled, until
from playwright.sync_api import expect
from pxr import Usd
from sqlalchemy import select

from amberkeel.store.models import Attempt, Job, Plate, Production, Shot, Track
from amberkeel.store.session import session


@pytest.fixture(scope="module")
def page(browser, service):
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    opened = context.new_page()
    opened.set_default_timeout(60_000)
    opened.troubles = []
    opened.on("pageerror", lambda e: opened.troubles.append(str(e)))
    yield opened
    context.close()


SHOT = select(Shot.id).where(Shot.name == "SKL_010 Slipway")


def job_done(database, shot_id, kind):
    def check():
        job = one(
            database, select(Job).where(Job.shot_id == shot_id, Job.kind == kind).order_by(Job.id.desc()).limit(1)
        )
        assert job is None or job.state not in ("failed", "interrupted"), job.error
        return job is not None and job.state == "done"

    return check


def test_from_an_empty_production_to_usd(page, service, database, tmp_path):
    page.goto(service.address)
    assert not page.get_by_role("heading", name="Skerry Light").is_visible()
    page.get_by_label("Name of the new production").fill("Skerry Light")
    page.get_by_role("button", name="Add production").click()
    section = page.locator("section", has_text="Skerry Light")
    section.get_by_text("No shots yet").wait_for()

    section.get_by_role("link", name="Bring in plates").first.click()
    page.get_by_role("link", name="SKL_010").last.click()
    page.get_by_role("link", name="skl.####.png").click()
    assert page.get_by_label("First frame").input_value() == "1001"
    page.get_by_label("Shot name").fill("SKL_010 Slipway")
    page.get_by_label("Sensor width", exact=True).select_option("24.0")
    page.get_by_role("button", name="Bring it in").click()
    page.wait_for_selector("body[data-ready]")
    shot_id = one(database, SHOT)
    until(job_done(database, shot_id, "ingest"))
    page.wait_for_selector("#coming", state="hidden")

    # play, step, and find an action by its name
    frame = page.locator("#frame")
    page.keyboard.press("ArrowRight")
    assert frame.inner_text() == "1002"
    page.keyboard.press("Space")
    until(lambda: int(frame.inner_text()) > 1006, 10)
    page.keyboard.press("Space")
    page.keyboard.press("Control+k")
    page.keyboard.type("go to tracks")
    page.keyboard.press("Enter")
    page.locator("#count").wait_for()
    assert page.url.endswith("/tracks")

    page.locator("#count").fill("220")
    page.locator("#preview").check()
    until(lambda: "found" in page.locator("#previewed").inner_text(), 15)
    page.get_by_role("button", name="Follow features").click()
    until(job_done(database, shot_id, "follow"))
    until(lambda: page.locator("#rows .row").count() > 10, 15)

    page.keyboard.press("Control+k")
    page.keyboard.type("go to solve")
    page.keyboard.press("Enter")
    page.locator("[data-panel=solve] [data-act=solve]").click()
    until(job_done(database, shot_id, "solve"))
    page.locator(".attempt").wait_for()
    figures = one(database, select(Attempt).where(Attempt.shot_id == shot_id)).figures
    assert figures["rms_px"] < 0.5 and abs(figures["focal_mm"] - 27.0) < 1.5

    page.keyboard.press("Control+k")
    page.keyboard.type("go to handoff")
    page.keyboard.press("Enter")
    page.locator('[data-act="handoff-files"]').click()
    with page.expect_download() as waiting:
        page.get_by_role("link", name="camera.usda").click()
    waiting.value.save_as(tmp_path / "camera.usda")
    stage = Usd.Stage.Open(str(tmp_path / "camera.usda"))
    assert stage.GetPrimAtPath("/Shot/Camera").IsValid() and stage.GetStartTimeCode() == 1001
    assert page.troubles == []


def test_select_exclude_undo_and_compare(page, service, database):
    shot_id = one(database, SHOT)
    page.goto(f"{service.address}/shots/{shot_id}/solve")
    page.wait_for_selector("body[data-ready]")
    box = page.locator("#plate").bounding_box()
    page.keyboard.press("2")
    page.mouse.move(box["x"] + 0.55 * box["width"], box["y"] + 0.45 * box["height"])
    page.mouse.down()
    page.mouse.move(box["x"] + 0.85 * box["width"], box["y"] + 0.8 * box["height"], steps=6)
    page.mouse.up()
    assert "selected" in page.locator("#selected").inner_text()
    chosen = int(page.locator("#selected").inner_text().split()[0])
    assert chosen > 3

    def excluded():
        with session(database) as opened:
            return len(
                opened.scalars(
                    select(Track.id).where(Track.shot_id == shot_id, Track.state == "excluded", ~Track.removed)
                ).all()
            )

    page.keyboard.press("x")
    until(lambda: excluded() == chosen, 10)
    until(lambda: page.locator(".stop[data-key=solve]").get_attribute("data-state") == "look", 10)
    page.locator("[data-panel=solve] [data-act=solve]").click()
    until(lambda: one(database, select(Attempt).where(Attempt.shot_id == shot_id, Attempt.number == 2)))
    until(lambda: page.locator(".attempt").count() == 2, 15)
    before = page.locator("#undo").get_attribute("title")
    page.keyboard.press("Control+z")
    expect(page.locator("#undo")).not_to_have_attribute("title", before)
    page.keyboard.press("Control+z")
    until(lambda: excluded() == 0, 10)
    page.keyboard.press("Control+y")
    until(lambda: excluded() == chosen, 10)
    page.keyboard.press("Control+z")
    until(lambda: excluded() == 0, 10)
    page.locator(".attempt input").nth(0).click()
    page.locator(".attempt input").nth(1).click()
    page.get_by_text("side by side").wait_for()
    assert page.get_by_role("cell", name="Check residual", exact=True).is_visible()
    assert page.troubles == []


def test_world_from_selected_tracks_and_the_scene_in_3d(page, service, database):
    shot_id = one(database, SHOT)
    page.goto(f"{service.address}/shots/{shot_id}/world")
    page.wait_for_selector("body[data-ready]")
    box = page.locator("#plate").bounding_box()
    page.locator("[data-act=datum-ground]").click()
    page.get_by_text("A ground needs three tracks").wait_for()
    page.keyboard.press("3")
    corners = [(0.3, 0.86), (0.48, 0.86), (0.48, 0.7), (0.3, 0.7)]
    page.mouse.move(box["x"] + corners[0][0] * box["width"], box["y"] + (0.1 + 0.8 * corners[0][1]) * box["height"])
    page.mouse.down()
    for x, y in corners[1:]:
        page.mouse.move(box["x"] + x * box["width"], box["y"] + (0.1 + 0.8 * y) * box["height"], steps=4)
    page.mouse.up()
    page.locator("[data-act=datum-ground]").click()
    until(lambda: "ground" in one(database, select(Shot.datum).where(Shot.id == shot_id)), 10)
    rows = page.locator("#rows .row")
    rows.nth(4).click()
    rows.nth(6).click(modifiers=["Control"])
    page.get_by_text("2 selected", exact=True).wait_for()
    page.locator("#distance").fill("2.45")
    page.locator("[data-act=datum-distance]").click()
    until(
        lambda: (
            one(database, select(Shot.datum).where(Shot.id == shot_id)).get("distances", [{}])[0].get("metres") == 2.45
        ),
        10,
    )
    page.locator("[data-layer=card]").wait_for(state="visible")
    page.keyboard.press("5")
    settled(page.locator("#space"))
    page.keyboard.press("7")
    settled(page.locator("#space"))
    assert page.troubles == []


def test_upload_from_the_browser(page, service, database, plate_folder, tmp_path):
    (tmp_path / "note.txt").write_text("no plate")
    production = one(database, select(Production.id).where(Production.name == "Skerry Light"))
    page.goto(f"{service.address}/productions/{production}/new")
    page.locator("#files").set_input_files([str(tmp_path / "note.txt")])
    page.get_by_text("There is no plate in what arrived").wait_for()
    page.locator("#files").set_input_files([str(p) for p in sorted((plate_folder / "plate").iterdir())[:6]])
    page.get_by_text("Confirm the plate").first.wait_for()
    page.get_by_label("Shot name").fill("SKL_010 uploaded")
    page.get_by_role("button", name="Bring it in").click()
    page.wait_for_selector("body[data-ready]")
    assert one(database, select(Plate).where(Plate.first == 1001, Plate.last == 1006)).width == 640
