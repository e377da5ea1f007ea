"""Subjects masked on the desk with the mouse: a rough box carried, corrected, checked and cut, and a click that gives
one of two who cross over the whole shot.
"""

import re

import numpy as np
import pytest
from desk import desk_page, new_production, on_screen, pull
from playwright.sync_api import expect
from test_subjects import COUNT, HEIGHT, WIDTH, crossing, walkers  # noqa: F401

from amberkeel.core.masks.raster import shape_mask
from amberkeel.core.masks.shape import shape_from_json
from amberkeel.core.pictures.write import write_png
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.masks import get_matte, live_masks, mask_json
from amberkeel.store.media import Media
from amberkeel.store.models import Plate, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import live_tracks


@pytest.fixture(scope="module")
def street(service, database, crossing, tmp_path_factory):  # noqa: F811
    """A shot of two who cross, taken in and followed."""
    plate, truth = crossing
    folder = tmp_path_factory.mktemp("street")
    for frame, picture in enumerate(plate.pictures, start=1):
        write_png(folder / f"street.{frame:04d}.png", picture)
    with session(database) as opened:
        row = Plate(
            source=str(folder / "street.####.png"), label="street.####.png", first=1, last=COUNT, width=WIDTH,
            height=HEIGHT,
        )  # fmt: skip
        shot = Shot(production=new_production(opened, "Street"), plate=row, name="SKL_015")
        opened.add(shot)
        opened.flush()
        number = shot.id
    work("ingest", from_environment(), number, {}, lambda *_: None)
    work("follow", from_environment(), number, {"count": 200}, lambda *_: None)
    return number, truth


@pytest.fixture
def page(browser, service, street):
    with desk_page(browser, service, street[0], "masks") as opened:
        opened.at = lambda x, y: on_screen(opened, (WIDTH, HEIGHT), x, y)
        yield opened


def go_to(page, frame):
    """Step to a frame by the keyboard."""
    page.keyboard.press("Home")
    for _ in range((frame - 1) // 10):
        page.keyboard.press("Shift+ArrowRight")
    for _ in range((frame - 1) % 10):
        page.keyboard.press("ArrowRight")
    expect(page.locator("#frame")).to_have_text(str(frame))


def shapes(database, number):
    with session(database) as opened:
        return [mask_json(m) for m in live_masks(opened, opened.get(Shot, number))]


def covered(mask, true):
    return float((mask & true).sum() / max(true.sum(), 1))


def test_a_rough_box_is_carried_corrected_checked_and_cut(page, database, client, street):
    number, truth = street
    (x, y), (w, h) = walkers(4)[0]
    go_to(page, 5)
    page.locator("[data-act=mask-rectangle]").click()
    pull(page, (x - 10, y - 10), (x + w + 10, y + h + 8))
    expect(page.locator(".maskrow")).to_have_count(1)
    expect(page.locator("#carrymodel")).to_have_value("the subject in it")
    page.locator("[data-act=mask-on]").click()
    expect(page.locator("#toast")).to_contain_text("follows its subject from 5 to 40", timeout=90_000)
    [made] = shapes(database, number)
    assert len(made["keys"]) == 36 and made["keys"]["12"]["by"] == "followed"
    for frame in (6, 20, 38):
        inside = shape_mask(shape_from_json(made), frame, HEIGHT, WIDTH)
        assert covered(inside, truth[frame - 1, 0]) > 0.95 and inside.sum() < 2.4 * truth[frame - 1, 0].sum()
    expect(page.locator("#frame")).to_have_text("5")
    page.locator("[data-act=mask-back]").click()
    expect(page.locator("#toast")).to_contain_text("follows its subject from 1 to 5", timeout=60_000)
    expect(page.locator("#leaks")).to_be_hidden()

    # pulled aside on one frame by hand it lets the subject out; that frame is found, and mended by undo
    go_to(page, 12)
    (x, y), (w, h) = walkers(11)[0]
    pull(page, (x + 12, y + 25), (x + 44, y + 25))
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Move Shape 1 (Ctrl Z)")
    expect(page.locator("#leaktext")).to_contain_text("leaves its mask on")
    go_to(page, 3)
    page.keyboard.press("n")
    expect(page.locator("#frame")).to_have_text("12")
    page.keyboard.press("Control+z")
    expect(page.locator("#leaks")).to_be_hidden()

    # corrected by a key that stays, and carried again from both
    go_to(page, 20)
    page.keyboard.press("k")
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Key Shape 1 at 20 (Ctrl Z)")
    corrected = shapes(database, number)[0]["keys"]["20"]["points"]
    go_to(page, 5)
    page.locator("[data-act=mask-on]").click()
    expect(page.locator("#undo")).to_have_attribute(
        "title", "Undo: Follow Shape 1 from 5 to 40 (Ctrl Z)", timeout=60_000
    )
    [made] = shapes(database, number)
    assert np.allclose(made["keys"]["20"]["points"], corrected) and made["keys"]["20"]["by"] == "hand"
    with session(database) as opened:
        before = sum(len(t.frames) for t in live_tracks(opened, opened.get(Shot, number)))
    page.locator("[data-act=mask-cut]").click()
    expect(page.locator("#undermasks")).to_be_hidden()
    with session(database) as opened:
        assert sum(len(t.frames) for t in live_tracks(opened, opened.get(Shot, number))) < before


def test_a_click_gives_one_of_two_who_cross_everywhere(page, database, service, street):
    number, truth = street
    (x, y), (w, h) = walkers(7)[1]
    expect(page.locator("#masklist")).to_be_visible()
    go_to(page, 8)
    page.locator("[data-act=mask-is]").click()
    page.mouse.click(*page.at(x + w / 2, y + h / 2))
    expect(page.locator("#tried")).to_contain_text("Frame 8", timeout=60_000)
    page.locator("[data-act=mask-learn]").click()
    expect(page.locator("#toast")).to_contain_text("is found on", timeout=90_000)
    made = shapes(database, number)[-1]
    media = Media(service.environment["AMBERKEEL_MEDIA"])
    for frame in (3, 8, 16, 36):
        mask = get_matte(media, made["mattes"][str(frame)])
        assert covered(mask, truth[frame - 1, 1]) > 0.9 and covered(mask, truth[frame - 1, 0]) < 0.35, frame

    # a stroke that is not it is kept as spots along the drag, and one undo takes it away
    page.locator("[data-act=mask-isnot]").click()
    pull(page, (40, 30), (140, 40))
    expect(page.locator("#spotcount")).not_to_have_text("1 are, 0 are not")
    expect(page.locator("#undo")).to_have_attribute("title", re.compile("Sample"))
    spots = shapes(database, number)[-1]["samples"]
    assert len(spots) > 4 and not any(s[3] for s in spots[1:])
    page.keyboard.press("Control+z")
    expect(page.locator("#spotcount")).to_have_text("1 are, 0 are not")

    # what stands still is no subject, and that is said
    page.locator("[data-act=mask-delete]").click()
    page.locator("[data-act=mask-is]").click()
    page.mouse.click(*page.at(240, 20))
    expect(page.locator("#toast")).to_contain_text("Nothing moves by itself there")
