"""Where there is almost nothing to follow, driven with mouse and keyboard: a still with six surveyed points, and bare
walls with a few crosses.
"""

import shutil
from pathlib import Path

import numpy as np
import pytest
from desk import desk_page, new_page, on_screen, one, until
from plates import rendered, simulated
from playwright.sync_api import expect
from pxr import Usd, UsdGeom
from sqlalchemy import select

from amberkeel.core.sim.net_loft import crosses
from amberkeel.core.sim.render import surface_points, truth
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.models import Attempt, Plate, Production, Shot, Track
from amberkeel.store.session import session


@pytest.fixture(scope="module")
def still(service, database, plate_folder):
    """The key of a production into which the first frame alone can be brought, from a folder under the plate root."""
    root = Path(service.environment["AMBERKEEL_PLATE_ROOTS"]) / "SKL_096"
    root.mkdir()
    shutil.copy(plate_folder / "plate" / "skl.1001.png", root / "still.0007.png")
    with session(database) as opened:
        row = Production(name="Stills")
        opened.add(row)
        opened.flush()
        return row.id


@pytest.fixture(scope="module")
def spots(shot, true_path):
    """Six points of the set that lie far apart on the first frame: (6, 3) metres, and (6, 2) pixels."""
    xyz, seen = surface_points(shot, 120, every=20)
    xyz = xyz[seen[0]]
    px = true_path.project(xyz, 0)
    inner = ((px > 40) & (px < [600, 320])).all(1)
    xyz, px = xyz[inner], px[inner]
    chosen = [int(np.argmin(px.sum(1)))]
    while len(chosen) < 6:
        chosen.append(int(np.linalg.norm(px[:, None] - px[chosen][None], axis=2).min(1).argmax()))
    return xyz[chosen], px[chosen]


def test_a_still_goes_from_its_folder_to_a_usd_camera(browser, service, database, still, spots, true_path, tmp_path):
    xyz, px = spots
    page = new_page(browser)
    troubles = []
    page.on("pageerror", lambda e: troubles.append(str(e)))
    page.goto(f"{service.address}/productions/{still}/new")
    page.get_by_role("link", name="SKL_096").last.click()
    page.get_by_role("link", name="still.####.png").click()
    expect(page.get_by_text("1 frame ·")).to_be_visible()
    page.get_by_label("Shot name").fill("SKL_096 Still")
    page.get_by_label("Sensor width", exact=True).select_option("24.0")
    page.get_by_role("button", name="Bring it in").click()
    page.wait_for_selector("body[data-ready]")
    number = one(database, select(Shot.id).where(Shot.name == "SKL_096 Still"))
    until(lambda: one(database, select(Plate).join(Shot).where(Shot.id == number)).proxies)
    page.goto(f"{service.address}/shots/{number}/tracks")
    page.wait_for_selector("body[data-ready]")
    page.wait_for_selector("#coming", state="hidden")

    page.get_by_role("button", name="Place", exact=True).click()
    expect(page.locator("#placereach")).to_contain_text("0 of 8 for a camera")
    for k, spot in enumerate(px):
        page.keyboard.press("Escape")
        page.mouse.click(*on_screen(page, (640, 360), *spot))
        row = select(Track).where(Track.shot_id == number).offset(k).limit(1)
        until(lambda row=row: one(database, row))
    names = []
    with session(database) as opened:
        for row in opened.scalars(select(Track).where(Track.shot_id == number).order_by(Track.id)):
            names.append(row.name)
            at = np.linalg.norm(px - [row.x[0], row.y[0]], axis=1)
            assert at.min() < 2.0, f"{row.name} was placed {at.min():.1f} px away"

    page.goto(f"{service.address}/shots/{number}/solve")
    page.wait_for_selector("body[data-ready]")
    expect(page.locator("#findings")).to_contain_text("A still tells its camera by known coordinates")
    page.locator("#known > summary").click()
    page.locator("#knownkind").select_option("table")
    table = "\n".join(f"{name}\t{x * 100:.2f}\t{y * 100:.2f}\t{z * 100:.2f}" for name, (x, y, z) in zip(names, xyz))
    page.locator("#surveytable").fill(table + "\nGate\t1\t2\t3")
    expect(page.locator("#knownhint")).to_contain_text("6 of 7 points are tracks; not Gate.")
    page.locator("#surveytable").fill(table)
    expect(page.locator("#knownhint")).to_contain_text("6 points, all of them tracks.")
    page.locator("#surveyunit").select_option("cm")
    page.locator('[data-act="state-known"]').click()
    expect(page.locator("#knowncount")).to_have_text("6 of 6 on")
    page.locator("[data-panel=solve] [data-act=solve]").click()
    page.locator(".attempt").wait_for()
    attempt = one(database, select(Attempt).where(Attempt.shot_id == number))
    assert attempt.figures["check_rms_px"] is None
    expect(page.locator("#figures")).to_contain_text("not checked")
    expect(page.locator("#findings")).not_to_contain_text("A still tells")

    page.goto(f"{service.address}/shots/{number}/handoff")
    page.wait_for_selector("body[data-ready]")
    page.locator('[data-act="handoff-files"]').click()
    with page.expect_download() as waiting:
        page.get_by_role("link", name="camera.usda").click()
    waiting.value.save_as(tmp_path / "camera.usda")
    stage = Usd.Stage.Open(str(tmp_path / "camera.usda"))
    camera = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/Camera"))
    at = camera.ComputeLocalToWorldTransform(7).ExtractTranslation()
    metres = np.array(at) * UsdGeom.GetStageMetersPerUnit(stage)
    # What a click on the screen is off by, two pixels, is what the camera may be off by.
    assert np.linalg.norm(metres - true_path.positions[0]) < 0.25
    assert troubles == []
    page.close()


@pytest.fixture(scope="module")
def bare(database, service, once):
    """The bare loft taken in, with nothing followed; the key of the shot."""
    folder = rendered(once, "bare")
    frames = sorted((folder / "plate").iterdir())
    with session(database) as opened:
        plate = Plate(
            source=str(folder / "plate" / "skl.####.png"), label="skl.####.png", first=1001,
            last=1000 + len(frames), width=640, height=360,
        )  # fmt: skip
        row = Shot(production=Production(name="Bare walls"), plate=plate, name="SKL_095 Net loft")
        opened.add(row)
        opened.flush()
        number = row.id
    work("ingest", from_environment(), number, {}, lambda *_: None)
    return number


def test_ten_crosses_led_by_hand_give_a_camera_that_is_judged(browser, service, database, client, bare):
    true, last = truth(simulated("bare")), 1000 + len(simulated("bare").frames)
    seen = np.array([true.project(crosses(), k) for k in range(len(true.frames))])
    inside = ((seen > 14) & (seen < [626, 346])).all(2).all(0)
    spots = seen[0, np.flatnonzero(inside)[:10]]
    assert len(spots) == 10
    with desk_page(browser, service, bare, "tracks") as page:
        page.get_by_role("button", name="Place", exact=True).click()
        for k, spot in enumerate(spots):
            page.keyboard.press("Escape")
            page.mouse.click(*on_screen(page, (640, 360), *spot))
            row = select(Track).where(Track.shot_id == bare).order_by(Track.id).offset(k).limit(1)
            until(lambda row=row: one(database, row))
            said = f"{k + 1} of 8 for a camera" if k < 7 else f"{k + 1} tracks: enough for a camera"
            expect(page.locator("#placereach")).to_contain_text(said)
            expect(page.locator("#placehint")).to_contain_text("F follows")
            page.keyboard.press("f")
            until(
                lambda row=row: one(database, row).frames[-1] == last,
                20,
                lambda row=row: f"{one(database, row).frames}: {page.locator('#toast').inner_text()}",
            )
        expect(page.locator("#placereach")).to_contain_text("on all frames")
    with desk_page(browser, service, bare, "solve") as page:
        page.locator("[data-panel=solve] [data-act=solve]").click()
        page.locator(".attempt").wait_for(timeout=120_000)
        expect(page.locator("#figures")).not_to_contain_text("not checked")
        figures = one(database, select(Attempt).where(Attempt.shot_id == bare)).figures
        assert figures["frames"] == len(true.frames) if "frames" in figures else True
        assert 0.02 < figures["check_rms_px"] < 1.0 and figures["folds"]["count"] == 10
        focal = true.lens.focal_px[0]
        assert abs(figures["focal_px"] - focal) < max(3.0 * figures["focal_sigma_px"], 0.02 * focal)
