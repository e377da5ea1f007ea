"""Profiles that are changed, shots that share a lens, boxes over the plate, and what a solve tells of its lens, on the
page.
"""

import numpy as np
import pytest
from desk import desk_page, on_screen, poster, until
from playwright.sync_api import expect
from sqlalchemy import select

from amberkeel.core.lens.box import BoxPose, new_box
from amberkeel.core.sim.render import truth
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.models import Attempt, LensProfile, Plate, Production, Shot
from amberkeel.store.session import session


def quiet(*_):
    """Progress that nobody watches."""


@pytest.fixture(scope="module")
def takes(loft_shot, database):
    """Two takes of one production through one lens: the loft's first and last frames, the second one followed."""
    made = []
    with session(database) as opened:
        source = opened.get(Shot, loft_shot).plate.source
        production = Production(name="Takes")
        for name, first, last in (("ONE_010 Beams", 1001, 1013), ("ONE_020 Floor", 1007, 1020)):
            plate = Plate(source=source, label="loft.####.png", first=first, last=last, width=640, height=360)
            shot = Shot(production=production, name=name, plate=plate)
            opened.add(shot)
            opened.flush()
            made.append(shot.id)
    for number in made:
        work("ingest", from_environment(), number, {}, quiet)
        work("follow", from_environment(), number, {"count": 200}, quiet)
    return made


@pytest.fixture
def ask(client, takes):
    """Post JSON to the first take; returns the answer."""
    return poster(client, takes[0])


def attempts(database, number):
    with session(database) as opened:
        return list(opened.scalars(select(Attempt).where(Attempt.shot_id == number).order_by(Attempt.id)))


def profiles(client, number):
    return client.get(f"/shots/{number}/lens.json").json["profiles"]


def test_two_takes_are_solved_with_one_lens_and_each_gets_an_attempt(ask, client, database, takes, loft):
    assert "not of this production" in ask("solve", {"share": [999999]}, 400)["error"]
    work("solve", from_environment(), takes[0], {"share": takes[1:]}, quiet)
    one, two = attempts(database, takes[0])[-1], attempts(database, takes[1])[-1]
    assert one.recipe["shared_with"] == ["ONE_020 Floor"] and two.recipe["shared_with"] == ["ONE_010 Beams"]
    assert one.figures["focal_px"] == two.figures["focal_px"] == pytest.approx(loft.lens.focal_px[0], rel=0.03)
    first, second = (client.get(f"/shots/{n}/state.json").json for n in takes)
    assert first["pinned"] == one.id and second["pinned"] is None


def test_a_changed_profile_marks_every_shot_that_uses_it_and_is_undone(ask, client, database, takes, loft_lines):
    ask("lens/edit", {"lines": loft_lines, "label": "Draw lines"})
    ask("lens/use")
    [profile] = profiles(client, takes[0])
    poster(client, takes[1])("lens/use", {"profile": profile["id"]})
    for number in takes:
        work("solve", from_environment(), number, {"distortion": "profile"}, quiet)
    body = {"id": profile["id"], "version": profile["version"]}
    ask("lens/profile", body | {"name": "Loft, wide"})
    assert profiles(client, takes[1])[0]["name"] == "Loft, wide"
    assert not any(client.get(f"/shots/{n}/state.json").json["attempts"][0]["stale"] for n in takes)
    assert "changed since" in ask("lens/profile", body | {"name": "Late"}, 409)["error"]
    body["version"] += 1
    for wrong, words in (
        ({"values": {"k1": ["-9", "0"]}}, "fold"),
        ({"values": {"k1": ["no", "0"]}}, "no number"),
        ({"values": {"k1": ["0", "-1"]}}, "sigma"),
        ({"values": {"division": ["0.1", "0"]}}, "has no division"),
        ({"focal_mm": "0"}, "more than zero"),
        ({"name": " "}, "no name"),
        ({"removed": True}, "in use by"),
    ):
        assert words in ask("lens/profile", body | wrong, 400)["error"]
    ask("lens/profile", body | {"values": {"k1": ["-0,12", "0.01"]}, "focal_mm": "16.5", "focal_sigma_mm": "0.2"})
    [changed] = profiles(client, takes[0])
    assert (
        changed["values"]["k1"] == [-0.12, 0.01]
        and changed["focal_mm"] == pytest.approx(16.5)
        and set(changed["sources"]) == {"k1", "focal"}
    )
    assert [client.get(f"/shots/{n}/state.json").json["attempts"][0]["stale"] for n in takes] == ["lens changed"] * 2
    ask("undo")
    assert not any(client.get(f"/shots/{n}/state.json").json["attempts"][0]["stale"] for n in takes)
    ask("lens/profile", {"id": profile["id"], "version": profiles(client, takes[0])[0]["version"], "focal_mm": ""})
    assert profiles(client, takes[0])[0]["focal_mm"] is None
    for number in takes:
        poster(client, number)("lens/use", {"none": True})
    ask("lens/profile", {"id": profile["id"], "version": profiles(client, takes[0])[0]["version"], "removed": True})
    assert profiles(client, takes[0]) == []
    with session(database) as opened:
        assert opened.get(LensProfile, profile["id"]).removed


def clear(ask, client, number):
    """Take all lines away."""
    lines = client.get(f"/shots/{number}/lens.json").json["lines"]
    if lines:
        ask("lens/edit", {"lines": dict.fromkeys(lines), "label": "Clear"})


def kept_box(client, number, page, count):
    """Wait until the shot keeps a box of which `count` corners were dragged; return its corners by number."""

    def found():
        lines = client.get(f"/shots/{number}/lens.json").json["lines"].values()
        corners = {k: p for line in lines for k, p in zip(line["ends"], line["points"])}
        if (
            len(corners) == 8
            and len({k for line in lines for k, fixed in zip(line["ends"], line["set"]) if fixed}) == count
        ):
            return corners
        return None

    return until(found)


def test_a_box_is_set_by_its_corners_and_tells_the_lens(ask, client, takes, loft, browser, service):
    clear(ask, client, takes[0])
    true = new_box(
        BoxPose(loft.lens, truth(loft).world_from_camera[0]), np.array([170.0, 285.0]), np.array([330.0, 190.0])
    )
    assert "spans no face" in ask("lens/box", {"frame": 1001, "from": [10, 10], "to": [300, 12]}, 400)["error"]
    with desk_page(browser, service, takes[0], "lens") as page:

        def drag(start, end):
            page.mouse.move(*on_screen(page, (640, 360), *start))
            page.mouse.down()
            page.mouse.move(*on_screen(page, (640, 360), *np.add(end, 6.0)), steps=3)
            page.mouse.move(*on_screen(page, (640, 360), *end), steps=3)
            page.mouse.up()

        page.keyboard.press("Shift+B")
        drag((200, 260), (300, 160))
        corners = kept_box(client, takes[0], page, 0)
        expect(page.locator("#linelist")).to_contain_text("0/8 corners")
        for count, corner in enumerate((0, 1, 2, 3, 4), 1):
            drag(corners[corner], true[corner])
            corners = kept_box(client, takes[0], page, count)
        expect(page.locator("#linelist")).to_contain_text("5/8")
        told = page.locator("#lensfound dd").first
        expect(told).to_contain_text("mm")
        lines = client.get(f"/shots/{takes[0]}/lens.json").json["lines"]
        assert len(lines) == 12 and sum(all(line["set"]) for line in lines.values()) == 5
        # The corners that were not dragged lie where the box has them.
        rest = {
            k: p
            for line in lines.values()
            for k, p, fixed in zip(line["ends"], line["points"], line["set"])
            if not fixed
        }
        assert set(rest) == {5, 6, 7} and max(np.hypot(*np.subtract(p, true[k])) for k, p in rest.items()) < 14.0
        page.locator("#linelist .linerow").click()
        page.keyboard.press("Delete")
        expect(page.locator("#linelist")).to_contain_text("No lines yet")
        page.keyboard.press("Control+z")
        expect(page.locator("#linelist")).to_contain_text("5/8")
    clear(ask, client, takes[0])
    assert (
        "no edge of a box"
        in ask(
            "lens/edit",
            {
                "lines": {
                    "B": {"points": [[1, 1], [90, 90]], "axis": "x", "box": "B", "ends": [0, 7], "set": [True, True]}
                }
            },
            400,
        )["error"]
    )


def test_the_page_says_what_the_solve_tells_of_its_lens_and_changes_a_profile(
    ask, client, takes, browser, service, database, loft_lines
):
    if not attempts(database, takes[0]):
        work("solve", from_environment(), takes[0], {}, quiet)
    ask("lens/edit", {"lines": loft_lines, "label": "Draw lines"})
    ask("lens/use")
    with desk_page(browser, service, takes[0], "solve") as page:
        report = page.locator("#lensreport")
        report.locator("summary").click()
        expect(report).to_contain_text("On tracks held out")
        expect(report).to_contain_text("What goes together")
        page.locator("#camera > summary").click()
        page.locator("#sharing summary").click()
        expect(page.locator("#sharing")).to_contain_text("ONE_020 Floor")
    with desk_page(browser, service, takes[0], "lens") as page:
        page.get_by_role("button", name="Profiles", exact=True).click()
        box = page.locator("#profilelist")
        box.get_by_role("button", name="change").click()
        box.get_by_label("k1", exact=True).fill("-0.111")
        box.get_by_role("button", name="Keep the change").click()
        expect(box).to_contain_text("k1 -0.1110")
        expect(box).to_contain_text("k1 typed")
        page.keyboard.press("Control+z")
        expect(box).not_to_contain_text("k1 typed")
