"""SKL_040 as an artist settles it: a line is dragged, focal length and floor follow, and the profile is held by a
solve.
"""

import re

import numpy as np
import pytest
from desk import desk_page, on_screen, poster, taken_in, until
from plates import SIZE, rendered, simulated
from playwright.sync_api import expect

from amberkeel.core.lens.profile import read_lens
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.render import Renderer, truth
from amberkeel.core.sim.shed_doors import WALL_Z, edges
from amberkeel.core.world.planes import ray_of
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.keeping import duplicate_shot
from amberkeel.store.models import Shot
from amberkeel.store.scene import ASSUMED_HEIGHT
from amberkeel.store.session import session
from amberkeel.store.tracks import live_tracks

TRUE_MM = 32.0


@pytest.fixture(scope="module")
def doors():
    return simulated("doors")


@pytest.fixture(scope="module")
def shot_id(service, database, once):
    return taken_in(database, rendered(once, "doors"), "DOORS_040 Shed doors")


@pytest.fixture(scope="module")
def lines(doors):
    """Lines drawn on the first frame, by name, with a hand's noise."""
    rows = drawn_lines(doors, edges(), 1001)
    return {f"{row['axis'].upper()}{k}": row for k, row in enumerate(rows)}


@pytest.fixture
def page(browser, service, shot_id):
    with desk_page(browser, service, shot_id, "lens") as opened:
        yield opened


def floor_off(answer, rotation):
    """The worst angle in degrees between a stroke of the floor that an answer shows and the set's own X and Z."""
    lens = read_lens({"width": SIZE[0], "height": SIZE[1], "pixel_aspect": 1.0}, answer["lens"])
    worst = 0.0
    for stroke in answer["floor"]:
        rays = np.c_[lens.normalise(np.array(stroke)), np.ones(len(stroke))] @ rotation.T
        normal = np.cross(rays[0], rays[-1])
        # The stroke's plane holds the direction it runs along, and no other level one.
        away = [abs(normal[axis]) / np.linalg.norm(normal) for axis in (0, 2)]
        worst = max(worst, min(away))
    return np.degrees(np.arcsin(worst))


def test_a_dragged_line_settles_focal_length_and_floor_and_the_solve_holds_the_profile(
    page, client, shot_id, doors, lines
):
    ask = poster(client, shot_id)
    # One line along Z only, with two points: what is off would else be told from the others, and change little.
    deep = [n for n in lines if n.startswith("Z")]
    name, kept = deep[0], {n: row for n, row in lines.items() if n not in deep[1:]}
    true_end = lines[name]["points"][-1]
    pulled = {**lines[name], "points": [lines[name]["points"][0], [true_end[0] + 6.0, true_end[1] + 4.4]]}
    answers = []
    page.on("response", lambda r: answers.append(r) if r.url.endswith("lens/fit") and r.ok else None)
    ask("lens/edit", {"lines": {**kept, name: pulled}, "label": "Draw lines"})
    expect(page.locator("#linelist .linerow")).to_have_count(len(kept))
    expect(page.locator("#lensfound dd").first).to_contain_text("mm")
    page.get_by_label("Put lines onto the picture's edges").uncheck()
    page.mouse.move(*on_screen(page, SIZE, *pulled["points"][-1]))
    page.mouse.down()
    shown = {page.locator("#lensfound dd").first.inner_text()}
    for share in np.linspace(0.0, 1.0, 12)[1:]:
        page.mouse.move(*on_screen(page, SIZE, true_end[0] + 6.0 * (1 - share), true_end[1] + 4.4 * (1 - share)))
        # The pace of a hand, not a wait for something.
        page.wait_for_timeout(60)
        shown.add(page.locator("#lensfound dd").first.inner_text())
    page.mouse.up()
    expect(page.locator("#undo")).to_have_attribute("title", re.compile(f"Move a point of {name}"))
    expect(page.locator("#linelist .linerow.bad")).to_have_count(0)
    assert len(shown) >= 4 and min(float(text.split()[0]) for text in shown) < 0.93 * TRUE_MM
    told = float(page.locator("#lensfound dd").first.inner_text().split()[0])
    assert told == pytest.approx(TRUE_MM, rel=0.02)
    first, last = (r.json() for r in (next(a for a in answers if a.request.post_data_json.get("quick")), answers[-1]))
    rotation = truth(doors).world_from_camera[0]
    assert floor_off(last, rotation) < 0.5 < floor_off(first, rotation)
    still = page.locator("#plate").screenshot()
    page.get_by_role("button", name="Bent grid").click()
    until(lambda: page.locator("#plate").screenshot() != still)
    page.get_by_role("button", name="Use this lens").click()
    expect(page.locator("#toast")).to_contain_text("In use")
    page.locator('.stop[data-key="solve"]').click()
    page.get_by_role("button", name="Solve", exact=True).click()
    expect(page.locator("#ledger")).to_contain_text("profile held", timeout=120_000)
    attempt = client.get(f"/shots/{shot_id}/state.json").json["attempts"][0]
    assert attempt["figures"]["focal_mm"] == pytest.approx(TRUE_MM, rel=0.02) and attempt["recipe"]["lens_held"]
    world = client.get(f"/attempts/{attempt['id']}.json").json["world"]["frames"]
    assert np.degrees(np.arccos(np.clip(np.array(world[0]["world_from_camera"])[1] @ rotation[1], -1, 1))) < 0.5


def test_what_is_known_is_stated_on_the_page_and_refines_an_attempt(page, client, shot_id):
    page.locator('.stop[data-key="solve"]').click()
    page.locator("#known > summary").click()
    page.keyboard.press("2")
    box = page.locator("#plate").bounding_box()
    page.mouse.move(box["x"] + 0.06 * box["width"], box["y"] + 0.78 * box["height"])
    page.mouse.down()
    page.mouse.move(box["x"] + 0.5 * box["width"], box["y"] + 0.8 * box["height"])
    page.mouse.move(box["x"] + 0.55 * box["width"], box["y"] + 0.88 * box["height"])
    page.mouse.up()
    expect(page.locator("#knownhint")).to_contain_text("are selected")
    page.get_by_role("button", name="Add to what is known").click()
    expect(page.locator("#toast")).to_contain_text("distance needs two tracks")
    page.locator("#knownkind").select_option("level")
    page.get_by_role("button", name="Add to what is known").click()
    expect(page.locator("#constraints")).to_contain_text("Level ground 1")
    page.get_by_role("button", name="within", exact=True).click()
    expect(page.locator("#undo")).to_have_attribute("title", re.compile("Change “Level ground 1”"))
    page.locator("#begin").select_option(label="refine attempt 1")
    page.get_by_role("button", name="Solve", exact=True).click()
    expect(page.locator("#constraints")).to_contain_text("sigma", timeout=120_000)
    expect(page.locator("#verdict")).to_contain_text("tracks fit to")
    state = client.get(f"/shots/{shot_id}/state.json").json
    first = state["attempts"][0]
    assert first["recipe"]["evidence"][0]["exact"] and len(state["attempts"]) == 2
    assert first["parent"] == 1 and first["changes"] == ["with Level ground 1"]
    expect(page.locator("#ledger")).to_contain_text("refines attempt 1, with Level ground 1")
    assert any("With all constraints" in f["text"] for f in state["findings"])
    term = next(t for t in first["figures"]["terms"] if t["kind"] == "plane")
    assert term["found"] < 1e-4 and len(state["constraints"][0]["tracks"]) > 3

    ask = poster(client, shot_id)
    ids = state["constraints"][0]["tracks"]
    copied = ask("constraints", {"kind": "copied", "tracks": ids[:2], "attempt": first["id"]})["constraints"]
    assert [row["kind"] for row in copied] == ["plane", "anchor", "anchor"] and copied[1]["sigma"] > 0.0
    ask("constraints", {"kind": "smooth", "preset": "dolly", "frames": [1, 2]})
    for body, said in (
        ({"kind": "wish"}, "no constraint"),
        ({"kind": "anchor", "tracks": ids[:1]}, "at least one of X, Y and Z"),
        ({"kind": "distance", "tracks": ids[:2], "length": "-4"}, "distance"),
        ({"kind": "distance", "tracks": [ids[0], 999999], "length": "4"}, "not there any more"),
        ({"kind": "plane", "tracks": ids, "name": "Level ground 1"}, "already"),
        ({"kind": "hold", "attempt": 999999}, "attempt of this shot"),
    ):
        assert said in ask("constraints", body, status=400)["error"]
    assert len(ask("constraints/change", {"number": 1, "remove": True})["constraints"]) == 3
    assert "no such constraint" in ask("constraints/change", {"number": 9, "on": False}, status=400)["error"]
    for _ in range(3):
        ask("undo")
    assert client.get(f"/shots/{shot_id}/state.json").json["constraints"] == state["constraints"]


def test_two_lines_of_one_direction_say_what_is_missing(page, client, shot_id, lines):
    ask = poster(client, shot_id)
    kept = client.get(f"/shots/{shot_id}/lens.json").json["lines"]
    upright = {n: row for n, row in lines.items() if n.startswith("Y")}
    ask("lens/edit", {"lines": {n: None for n in kept} | upright, "label": "Only upright lines"})
    expect(page.locator("#lensnotes")).to_contain_text("second one")
    expect(page.locator("#lensfound dd").first).to_have_text("not told")
    single = dict(list(upright.items())[:1])
    ask("lens/edit", {"lines": {n: None for n in upright if n not in single}, "label": "One line"})
    expect(page.locator("#linelist .linerow")).to_have_count(1)
    expect(page.locator("#lensfound dd")).to_have_count(0)
    assert page.locator('[data-act="lens-use"]').is_disabled()
    ask("lens/edit", {"lines": {n: None for n in single}, "label": "No line"})
    expect(page.locator("#linelist")).to_contain_text("No lines yet")
    for _ in range(3):
        ask("undo")


def test_proxies_are_drawn_before_any_solve_and_tracks_dropped_on_them(client, database, shot_id, doors, lines):
    with session(database) as opened:
        bare = duplicate_shot(opened, opened.get(Shot, shot_id), "Doors before any solve").id
        frames = {t.id: (t.frames, t.x, t.y) for t in live_tracks(opened, opened.get(Shot, bare))}
    ask, path = poster(client, bare), truth(doors)
    ask("lens/edit", {"lines": lines, "label": "Draw lines"})
    ask("lens/use", {})
    before = client.get(f"/shots/{bare}/world/before.json").json["world"]
    assert before["frames"][0]["frame"] == 1001 and before["frames"][0]["position"][1] == ASSUMED_HEIGHT
    face = WALL_Z + 0.09
    foot = [path.project(np.array([xyz], float), 0)[0] for xyz in ([-2.6, 0, face], [2.4, 0, face], [2.4, 2.5, face])]
    clicks = ",".join(f"1001:{x:.2f}:{y:.2f}" for x, y in foot)
    wall = client.get(f"/shots/{bare}/world/draft.json?kind=wall&reach=0&clicks={clicks}").json["thing"]
    scale = ASSUMED_HEIGHT / path.positions[0][1]
    assert wall["size"][0] == pytest.approx(5.0 * scale, rel=0.02) and abs(wall["turn"][1]) < 1.0
    ask("world/scene", {"proxies": {"new": {**wall, "kind": "wall"}}, "label": "Wall"})
    depth = Renderer(doors).depth(1001)
    true = {}
    for track, (on, x, y) in frames.items():
        if on[0] == 1001:
            at = depth[int(y[0]), int(x[0])] * ray_of(path, 0, np.array([x[0], y[0]])) + path.positions[0]
            true[track] = at
    on_wall = [t for t, at in true.items() if abs(at[2] - face) < 0.03 and -2.5 < at[0] < 2.3 and at[1] < 2.4]
    on_floor = [t for t, at in true.items() if abs(at[1]) < 0.01]
    dropped = ask("world/drop", {"tracks": [*on_wall[:8], *on_floor[:8]], "frame": 1001})
    assert "anchored points" in dropped["said"] and len(dropped["constraints"]) >= 10
    work("solve", from_environment(), bare, {}, lambda *_: None)
    state = client.get(f"/shots/{bare}/state.json").json
    world = client.get(f"/attempts/{state['pinned']}/world.json").json
    assert world["told"]["from"]["scale"] == "anchors"
    assert world["told"]["facts"]["height"][1] == pytest.approx(ASSUMED_HEIGHT, rel=0.03)
    places = {p["id"]: np.array(p["xyz"]) for p in world["world"]["points"] if p["state"] == "active"}
    camera = np.array(world["world"]["frames"][0]["position"])
    rest = [t for t in true if t in places and t not in (*on_wall[:8], *on_floor[:8]) and np.isfinite(true[t]).all()]
    ratio = [np.linalg.norm(places[t] - camera) / np.linalg.norm(true[t] - path.positions[0]) / scale for t in rest]
    assert len(rest) > 15 and abs(np.median(ratio) - 1.0) < 0.03
