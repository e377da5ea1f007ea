"""The world stage as an artist goes through it: a datum seen before it is set, proxies and probe objects, slip
measured, the plate projected and painted; and what it says of bad input.
"""

import io

import cv2
import numpy as np
import pytest
from desk import desk_page, on_screen, poster, settled, until
from playwright.sync_api import expect
from simulated import lowest

from amberkeel.core.world.mesh_files import write_mesh
from amberkeel.core.world.solids import box
from amberkeel.core.world.world_file import read_world, world_schema, world_text
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store.models import Job
from amberkeel.store.session import session

SIZE = (640, 360)
JSON = {"Accept": "application/json"}


@pytest.fixture
def ask(client, solved_shot):
    return poster(client, solved_shot)


@pytest.fixture
def get(client, solved_shot):
    def fetch(path, status=200):
        answer = client.get(f"/shots/{solved_shot}/{path}", headers=JSON)
        assert answer.status_code == status, answer.text
        return answer.json

    return fetch


@pytest.fixture
def attempt(client, get):
    return client.get(f"/attempts/{get('state.json')['pinned']}.json").json


@pytest.fixture
def ground(ask, attempt, client, get):
    """The shot with its ground, origin and a length set; all taken back afterwards."""
    ask("datum", {"what": "clear"})
    ids = [p["id"] for p in lowest(attempt["world"]["points"], 40)]
    ask("datum", {"what": "ground", "tracks": ids})
    ask("datum", {"what": "origin", "tracks": ids[:1]})
    ask("datum", {"what": "distance", "tracks": [ids[2], ids[-1]], "distance": "2.45", "unit": "m"})
    yield ids
    scene = get("state.json")["scene"]
    gone = {part: {name: None for name in scene.get(part, {})} for part in ("proxies", "probes")}
    ask("world/scene", {**gone, "label": "Clear"})
    ask("datum", {"what": "clear"})


def painted_in(number):
    """Where a job's painted frame is kept."""
    with session(from_environment().database) as opened:
        return opened.get(Job, number).arguments["painted"]


def world_of(client, get):
    return client.get(f"/attempts/{get('state.json')['pinned']}/world.json").json


def test_the_ground_is_seen_under_the_pointer_and_taken(ask, get, client, attempt):
    found = get("world/under.json?frame=1010&x=250&y=300")
    assert len(found["planks"]) == 6 and found["rms_px"] < 6.0 and len(found["tracks"]) >= 5 and found["mast"]
    assert {"trouble", "planks"} & set(get("world/under.json?frame=1010&x=20&y=12"))
    ask("datum", {"what": "under", "tracks": found["tracks"], "frame": 1010, "x": 250, "y": 300})
    told = world_of(client, get)["told"]
    assert told["from"] == {"level": "ground", "heading": "", "origin": "spot", "scale": ""}
    again = get("world/under.json?frame=1010&x=250&y=300")
    assert again["slope"] < 1.0 and np.abs(again["at"]).max() < 1e-3 * max(again["distance"], 1.0)
    planes = get("world/planes.json?frame=1010")["planes"]
    assert planes[0]["kind"] == "ground" and len(planes[0]["tracks"]) >= 12
    for path, words in (("under.json?frame=7&x=1&y=1", "no camera"), ("under.json?frame=1010&x=far&y=1", "no number")):
        assert words in get(f"world/{path}", 400)["error"]
    ask("undo")
    assert get("state.json")["datum"] == {}


def test_each_part_of_the_datum_is_one_edit(ask, get, client, ground, solved_shot):
    told = world_of(client, get)["told"]
    assert told["ground"]["rms"] > 0.0 and told["facts"]["height"][1] > 0.0
    assert told["distances"]["0"]["share"] == pytest.approx(0.0, abs=1e-6)
    ask("datum", {"what": "direction", "tracks": ground[:2], "axis": "x"})
    ask("datum", {"what": "swap", "number": 0})
    assert get("state.json")["datum"]["directions"][0]["tracks"] == ground[1::-1]
    ask("datum", {"what": "undirect", "number": 0})
    ask(
        "datum",
        {
            "what": "distance",
            "tracks": [ground[2], ground[-1]],
            "distance": "16' 2 1/2\"",
            "unit": "ft",
            "sigma": "0.1",
        },
    )
    loud = world_of(client, get)["told"]["distances"]
    assert any(one["contradicts"] for one in loud.values())
    ask("datum", {"what": "change-distance", "number": 1})
    assert set(world_of(client, get)["told"]["distances"]) == {"0"}
    ask("datum", {"what": "drop-distance", "number": 1})
    before = world_of(client, get)["world"]["points"][0]["xyz"]
    ask("datum", {"what": "nudge", "axis": "y", "degrees": "90"})
    turned = world_of(client, get)["world"]["points"][0]["xyz"]
    assert turned == pytest.approx([before[2], before[1], -before[0]], abs=1e-4)
    ask("datum", {"what": "hand", "turn": ["0", "0,01", "0"], "move": ["0", "0", "1"], "scale": "1"})
    ask("datum", {"what": "hand", "turn": ["", "", ""], "move": ["", "", ""], "scale": ""})
    assert "hand" not in get("state.json")["datum"]
    ask("datum", {"what": "flip"})
    assert world_of(client, get)["told"]["under"]
    ask("undo")
    ask("datum", {"what": "exchange", "tracks": [ground[5], ground[6]]}, 200)
    ask("undo")
    ask("datum", {"what": "unground", "tracks": [ground[7]]})
    assert ground[7] not in get("state.json")["datum"]["ground"]
    ask("datum", {"what": "distance", "axis": "height", "frame": 1001, "distance": "170", "unit": "cm"})
    ask("datum", {"what": "drop-distance", "number": 1})
    sheet = b"name,length,unit\nslab,6.4,m\nhull,1' 2 1/2\",ft\n"
    sent = client.post(
        f"/shots/{solved_shot}/survey",
        data={"file": (io.BytesIO(sheet), "tape.csv")},
        content_type="multipart/form-data",
    )
    rows = sent.json["datum"]["distances"]
    assert [one["metres"] for one in rows[1:]] == pytest.approx([6.4, 0.3683])
    ask("datum", {"what": "change-distance", "number": 1, "tracks": ground[8:10]})
    for body, words in (
        ({"what": "swap", "number": 4}, "gone"),
        ({"what": "direction", "tracks": ground[:1], "axis": "x"}, "Select two"),
        ({"what": "direction", "tracks": ground[:2], "axis": "w"}, "no axis"),
        ({"what": "direction", "tracks": ground[:2], "axis": "y"}, "already says"),
        ({"what": "hand", "turn": ["x", "", ""], "move": ["", "", ""]}, "no number"),
        ({"what": "nudge", "axis": "y", "degrees": "much"}, "no number"),
        ({"what": "copy", "shot": solved_shot}, "another one"),
        ({"what": "unground", "tracks": ground}, "three tracks"), ({"what": "proxy", "name": "p9"}, "no longer"),
    ):  # fmt: skip
        assert words in ask("datum", body, 400)["error"]
    for data, words in ((b"\xff\xfe\x00", "no text"), (b"a,b\n1,2\n", "no survey sheet")):
        answer = client.post(
            f"/shots/{solved_shot}/survey",
            data={"file": (io.BytesIO(data), "x.csv")},
            content_type="multipart/form-data",
            headers=JSON,
        )
        assert answer.status_code == 400 and words in answer.json["error"]


def test_what_stands_in_the_scene_stays_on_the_picture(ask, get, client, ground):
    clicks = "1005:200:320,1005:330:325,1005:350:290,1005:350:230"
    made = get(f"world/draft.json?kind=box&reach=0&clicks={clicks}")
    assert made["thing"]["size"][1] > 0.05 and len(made["solid"]["faces"]) > 100
    ask("world/scene", {"proxies": {"new": {**made["thing"], "kind": "box"}}, "label": "Draw a box"})
    at = get("world/draft.json?kind=box&reach=6&clicks=1005:200:320")
    assert at["on"] in ("ground", "surface", "corner", "point", "edge")
    corner = np.array(get("world/solids.json")["solids"]["p1"]["vertices"]).reshape(-1, 3)[:4]
    world = world_of(client, get)["world"]
    ask("datum", {"what": "nudge", "axis": "y", "degrees": "30"})
    ask("datum", {"what": "nudge", "axis": "x", "degrees": "-3.5", "scale": "2", "move": ["0.2", "", "-0.1"]})
    after = np.array(get("world/solids.json")["solids"]["p1"]["vertices"]).reshape(-1, 3)[:4]
    assert not np.allclose(corner, after)
    now = world_of(client, get)["world"]

    def direction(xyz, w):
        frame = w["frames"][4]
        away = (np.array(xyz) - frame["position"]) @ np.array(frame["world_from_camera"])
        return away[:, :2] / away[:, 2:]

    assert np.allclose(direction(corner, world), direction(after, now), atol=1e-5)
    assert ask("undo")["said"] and ask("undo")["said"]
    assert np.allclose(np.array(get("world/solids.json")["solids"]["p1"]["vertices"]).reshape(-1, 3)[:4], corner)
    found = get("world/cast.json?frame=1005&x=265&y=300&reach=0")
    assert found["on"] == "surface" and found["id"] == "p1"
    ask("world/scene", {"proxies": {"p1": {"size": ["120 cm", 0.5, "2 ft"], "look": "checker"}}, "label": "Size"})
    assert get("state.json")["scene"]["proxies"]["p1"]["size"] == pytest.approx([1.2, 0.5, 0.6096])
    ask("world/scene", {"proxies": {"p1": {"position": [0.0, 0.5, -3.0]}}, "label": "Lift"})
    ask("datum", {"what": "edge", "name": "p1", "axis": "x"})
    turned = get("state.json")["scene"]["proxies"]["p1"].get("turn", [0, 0, 0])
    assert min(abs(turned[1]), abs(abs(turned[1]) - 180)) < 1e-6, "its front edge runs along X"
    ask("undo")
    side = {"what": "side", "name": "p1", "axis": "width", "distance": "240 cm"}
    told = world_of(client, get)["told"]
    assert told["distances"]["0"]["share"] == pytest.approx(0.0, abs=1e-9)
    ask("datum", side)
    kept = get("state.json")
    assert len(kept["datum"]["distances"][1]["ends"]) == 2 and kept["datum"]["distances"][1]["name"] == "Box 1, width"
    judged = world_of(client, get)["told"]["distances"]
    # Two lengths that disagree bear it between them, and the box grows with the scene.
    assert judged["0"]["share"] > 0.02 and judged["1"]["share"] < -0.02
    wide = kept["scene"]["proxies"]["p1"]["size"][0]
    assert wide == pytest.approx(2.4 * (1 + judged["1"]["share"]), rel=1e-6)
    ask("undo")
    for body, words in (
        ({"axis": "depth", "name": "p9"}, "Choose a plane"), ({**side, "axis": "girth"}, "no girth"),
        ({**side, "distance": "wide"}, "length"),
    ):  # fmt: skip
        assert words in ask("datum", {**body, "what": "side"}, 400)["error"]
    assert "Choose a wall" in ask("datum", {"what": "edge", "name": "p9", "axis": "x"}, 400)["error"]
    assert "X or Z" in ask("datum", {"what": "edge", "name": "p1", "axis": "y"}, 400)["error"]
    ask("datum", {"what": "proxy", "name": "p1"})
    assert get("state.json")["datum"]["hand"]["move"][1] == pytest.approx(-0.5)
    assert get("state.json")["scene"]["proxies"]["p1"]["position"][1] == pytest.approx(0.0, abs=1e-9)
    ask("undo")
    for body, words in (
        ({"proxies": {"p9": {"look": "wire"}}}, "no longer"), ({"proxies": {"p1": {"size": [0, 1, 1]}}}, "cannot be"),
        ({"proxies": {"p1": {"size": ["far", 1, 1]}}}, "no length"), ({"light": [1]}, "a bearing and a height"),
        ({"probes": {"new": {"kind": "sphere"}}}, "cannot be"),
    ):  # fmt: skip
        assert words in ask("world/scene", body, 400)["error"]
    for query, words in (
        ("kind=ball&reach=0&clicks=1005:1:1", "no proxy"),
        ("kind=box&reach=0&clicks=what", "cannot be read"),
    ):
        assert words in get(f"world/draft.json?{query}", 400)["error"]
    assert get("world/draft.json?kind=wall&reach=0&clicks=1005:300:2,1005:310:2")["trouble"]


def test_the_ground_is_meshed_and_a_mesh_brought_in(ask, get, client, ground, solved_shot, tmp_path):
    ask("world/mesh", {"tracks": ground, "extend": "10 cm", "smooth": True})
    told = get("world/mesh/p1.json")
    assert told["triangles"] > 20 and told["points"] > 20
    ask("world/mesh", {"id": "p1", "tracks": ground[:20], "longest": "5 m"})
    assert get("world/mesh/p1.json")["points"] <= 20
    assert "three" in ask("world/mesh", {"tracks": ground[:2]}, 400)["error"]
    shed = tmp_path / "shed.obj"
    write_mesh(box(1.0, 1.0, 1.0), shed)

    def bring(data, name, **more):
        form = {"file": (io.BytesIO(data), name), **more}
        return client.post(
            f"/shots/{solved_shot}/world/import", data=form, content_type="multipart/form-data", headers=JSON
        )

    assert bring(shed.read_bytes(), "shed.obj", unit="m").json["scene"]["proxies"]["p2"]["name"] == "shed"
    assert bring(b"nonsense", "shed.ply").status_code == 400
    shown = bring(shed.read_bytes(), "shed.obj", unit="ft", frame="1005").json["scene"]["probes"]
    assert list(shown) == ["p3"] and abs(shown["p3"]["position"][1]) < 1e-6
    ask("undo")
    ask("world/mesh", {"id": "p1", "tracks": ground, "seen_from": 1005})
    seen = get("state.json")["scene"]["proxies"]["p1"]["along"]
    frame = world_of(client, get)["world"]["frames"][4]
    assert np.allclose(seen, -np.array(frame["world_from_camera"])[:, 2], atol=1e-6)
    ask("datum", {"what": "nudge", "axis": "y", "degrees": "90"})
    turned = get("state.json")["scene"]["proxies"]["p1"]["along"]
    assert np.allclose(turned, [seen[2], seen[1], -seen[0]], atol=1e-6), "it goes along with the scene"
    ask("undo")
    assert "no camera" in ask("world/mesh", {"id": "p1", "seen_from": 9}, 400)["error"]
    points = world_of(client, get)["world"]["points"]
    three = [p for p in points if p["state"] == "active"][:40:10]
    pairs = [{"xyz": [v * 0.5 + 0.1 for v in p["xyz"]], "track": p["id"]} for p in three]
    said = ask("world/align", {"id": "p2", "pairs": pairs, "scaled": True})
    assert "Align shed" in said["said"] and said["scene"]["proxies"]["p2"]["size"][0] == pytest.approx(2.0, rel=1e-3)
    assert "RMS" in ask("world/align", {"id": "p2", "tracks": ground})["said"]
    assert "three pairs" in ask("world/align", {"id": "p2", "pairs": pairs[:2]}, 400)["error"]
    dropped = ask("world/drop", {"tracks": ground[:5], "frame": 1005})
    assert "anchored point" in dropped["said"] and any(c["kind"] == "anchor" for c in dropped["constraints"])
    assert "fight each other" in ask("world/drop", {"tracks": ground, "frame": 1005})["said"]
    ask("undo")
    assert "No track" in ask("world/drop", {"tracks": [], "frame": 1005}, 400)["error"]
    ask("undo")


def test_slip_is_measured_and_the_plate_projected(ask, get, client, ground, solved_shot):
    ask("world/probe", {"kind": "person", "frame": 1005, "x": 265, "y": 300})
    ask("world/probe", {"id": "q1", "frame": 1005, "x": 300, "y": 310})
    ask("world/posts")
    scene = get("state.json")["scene"]
    assert scene["probes"]["q1"]["size"][1] == 1.75 and len(scene["probes"]) == 8
    assert "no probe" in ask("world/probe", {"kind": "horse", "frame": 1005, "x": 9, "y": 300}, 400)["error"]
    work("slip", from_environment(), solved_shot, {}, lambda *_: None)
    state = get("state.json")
    measured = client.get(f"/attempts/{state['pinned']}/measured.json").json
    assert len(measured["places"]) > 8 and 0.0 < measured["usual"] < 0.4 and len(measured["by_frame"]) == 40
    assert any(one["kind"] in ("holds", "slips") for one in state["findings"])
    work("movie", from_environment(), solved_shot, {}, lambda *_: None)
    assert get("state.json")["attempts"][0]["figures"]["movie"]
    clicks = "1005:150:330,1005:480:330,1005:470:285"
    floor = get(f"world/draft.json?kind=plane&reach=0&clicks={clicks}")["thing"]
    ask("world/scene", {"proxies": {"new": {**floor, "kind": "plane"}}, "label": "Floor"})
    for mode, frames in (("one", [1005]), ("median", list(range(1001, 1041, 4)))):
        work("project", from_environment(), solved_shot, {"mode": mode, "frames": frames}, lambda *_: None)
    kept = get("state.json")["scene"]["proxies"]["p1"]
    assert kept["look"] == "picture"
    sent = client.get(f"/shots/{solved_shot}/world/texture/p1.png")
    picture = cv2.imdecode(np.frombuffer(sent.data, np.uint8), cv2.IMREAD_UNCHANGED)
    assert picture.shape[2] == 4 and (picture[..., 3] > 0).mean() > 0.2
    painted = cv2.imencode(".png", np.full((50, 70, 3), 200, np.uint8))[1].tobytes()

    def paint(data, name="p1"):
        form = {"file": (io.BytesIO(data), "x.png")}
        return client.post(
            f"/shots/{solved_shot}/world/texture/{name}", data=form, content_type="multipart/form-data", headers=JSON
        )

    assert paint(painted).json["scene"]["proxies"]["p1"]["texture"] != kept["texture"]
    assert "as a picture" in paint(b"nonsense").json["error"] and "no longer" in paint(painted, "p9").json["error"]
    assert "no way" in ask("world/project", {"mode": "magic"}, 400)["error"]
    over = np.zeros((SIZE[1], SIZE[0], 4), np.uint8)
    over[280:350, 200:400] = (0, 0, 255, 255)

    def lay(picture, frame="1005"):
        form = {"file": (io.BytesIO(cv2.imencode(".png", picture)[1].tobytes()), "x.png"), "frame": frame}
        return client.post(
            f"/shots/{solved_shot}/world/painted", data=form, content_type="multipart/form-data", headers=JSON
        )

    before = get("state.json")["scene"]["proxies"]["p1"]["texture"]
    number = lay(over).json["job"]
    arguments = {"mode": "one", "frames": [1005], "painted": painted_in(number)}
    work("project", from_environment(), solved_shot, arguments, lambda *_: None)
    assert get("state.json")["scene"]["proxies"]["p1"]["texture"] != before
    sent = client.get(f"/shots/{solved_shot}/world/texture/p1.png")
    picture = cv2.imdecode(np.frombuffer(sent.data, np.uint8), cv2.IMREAD_UNCHANGED)
    assert (np.abs(picture.astype(int) - [0, 0, 255, 255]).max(2) < 4).mean() > 0.05, "red, as it was painted"
    assert "differ in shape" in lay(over[:, :360]).json["error"] and "no camera" in lay(over, "9").json["error"]
    assert client.get(f"/shots/{solved_shot}/world/texture/p1.exr").status_code == 404
    assert ask("world/scene", {"behind": True, "label": "Behind"})["scene"]["behind"] is True
    assert ask("undo")["said"]
    masked = client.get(f"/shots/{solved_shot}/masked/1005.png")
    assert cv2.imdecode(np.frombuffer(masked.data, np.uint8), cv2.IMREAD_UNCHANGED).shape == (SIZE[1], SIZE[0])
    assert client.get(f"/shots/{solved_shot}/masked/9.png").status_code == 404
    ask("undo")


def test_a_shot_without_a_camera_says_what_it_lacks(client, loft_shot):
    ask = poster(client, loft_shot)
    answer = client.get(f"/shots/{loft_shot}/world/cast.json?frame=1001&x=1&y=1&reach=0", headers=JSON)
    assert "no camera yet" in answer.json["error"]
    assert client.get(f"/shots/{loft_shot}/world/before.json").json == {"world": None}
    assert "no pinned attempt" in ask("datum", {"what": "ground", "tracks": [1, 2, 3]}, 400)["error"]


def test_the_world_is_set_built_and_checked_with_the_pointer(browser, service, solved_shot, ask):
    ask("datum", {"what": "clear"})
    with desk_page(browser, service, solved_shot, "world") as page:
        page.keyboard.press("Shift+V")
        page.mouse.move(*on_screen(page, SIZE, 240, 300))
        with page.expect_response(lambda r: "/world/under.json" in r.url):
            page.mouse.move(*on_screen(page, SIZE, 250, 300))
        page.mouse.down()
        page.mouse.up()
        expect(page.locator("#groundfrom")).to_have_text("points on it")
        expect(page.locator("#originfact")).to_have_text("a spot on the plate")
        the_axes_are_dragged(page)
        page.locator("[data-act=planes]").click()
        expect(page.locator("#planelist .linerow").first).to_contain_text("like a ground")
        page.locator("[data-act=world-proxies]").click()
        page.locator("[data-act=proxy-box]").click()
        for x, y in ((200, 320), (330, 325), (350, 290), (350, 230)):
            page.mouse.move(*on_screen(page, SIZE, x, y), steps=3)
            page.mouse.down()
            page.mouse.up()
        expect(page.locator("#proxylist .thingrow")).to_have_count(1)
        page.keyboard.press("Escape")
        page.locator("[data-act=world-painting]").click()
        page.locator("[data-act=project-look]").click()
        expect(page.locator("#lentsays")).to_contain_text("show frame 1001")
        page.keyboard.press("End")
        settled(page.locator("#platepane"))
        lent = picture_of(page)
        page.locator("[data-act=project-look]").click()
        # The first frame's picture is seen at the other end of the shot.
        until(lambda: (np.abs(picture_of(page) - lent).max(2) > 16).mean() > 0.004)
        page.keyboard.press("Home")
        page.locator("[data-act=world-probes]").click()
        page.locator("[data-act=probe-person]").click()
        page.mouse.move(*on_screen(page, SIZE, 430, 315))
        page.mouse.down()
        page.mouse.up()
        expect(page.locator("#probelist .thingrow")).to_have_count(1)
        assert page.locator("#overglass").is_visible()
        page.keyboard.press("Shift+Q")
        page.locator("[data-act=world-points]").click()
        page.keyboard.press("5")
        page.keyboard.press("2")
        pane = page.locator("#space").bounding_box()
        settled(page.locator("#space"))
        page.mouse.move(pane["x"] + 10, pane["y"] + 60)
        page.mouse.down()
        page.mouse.move(pane["x"] + pane["width"] - 10, pane["y"] + pane["height"] - 10, steps=4)
        page.mouse.up()
        expect(page.locator("#selected")).to_contain_text("selected")
        page.keyboard.press("Shift+I")
        expect(page.locator("#onlysays")).to_contain_text("shown alone")
        for key in ("Shift+A", "Shift+W", "a"):
            page.keyboard.press(key)
        page.locator("[data-act=everything]").click()
        page.locator("[data-act=world-slip]").click()
        page.locator("[data-act=measure-slip]").click()
        expect(page.locator("#sliplist .linerow").first).to_be_visible()
        page.locator("#sliplist .linerow").first.click()
        page.keyboard.press("Shift+K")
        expect(page.locator("[data-act=slip-still]")).to_have_class("button tight on")
        page.keyboard.press("Escape")
        page.keyboard.press("1")
        page.locator("[data-act=view-plate]").click()
    scene = ask("world/scene", {"proxies": {"p1": None}, "probes": {"q1": None}, "label": "Clear"})["scene"]
    assert scene == {"proxies": {}, "probes": {}}
    ask("datum", {"what": "clear"})


def the_axes_are_dragged(page):
    """Take hold of the world's axes on the plate: along X, undone, and turned finely about Y."""
    page.keyboard.press("Shift+T")
    middle = on_screen(page, SIZE, 250, 300)
    taken_hold_of(page, [1.0, 0.0, 0.0], lambda x, y: (x + 0.4 * (x - middle[0]), y + 0.4 * (y - middle[1])))
    assert float(page.locator("#movex").input_value()) < -0.01 and page.locator("#turny").input_value() == "0"
    page.locator("#undo").click()
    expect(page.locator("#handfact")).to_have_text("")
    page.keyboard.down("Shift")
    taken_hold_of(page, [0.5234, 0.0, 0.5234], lambda x, y: (x - 30, y))
    page.keyboard.up("Shift")
    turned = float(page.locator("#turny").input_value())
    assert 0.05 < abs(turned) < 10.0 and round(turned, 2) == pytest.approx(turned, abs=1e-3)
    page.locator("#undo").click()
    expect(page.locator("#handfact")).to_have_text("")
    page.keyboard.press("Escape")


def taken_hold_of(page, part, to):
    """Drag a part of the handles; tried again where the page still showed the world before."""
    for left in (3, 2, 1, 0):
        x, y = page.evaluate(WHERE, part)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(*to(x, y), steps=3)
        page.mouse.up()
        try:
            expect(page.locator("#handfact")).to_have_text("· set", timeout=8000)
            return
        except AssertionError:
            if not left:
                raise


WHERE = """async ([x, y, z]) => {
  const { seenBy } = await import("/static/desk/viewport/seen_by.js");
  const shot = document.querySelector("#desk").dataset.shot;
  const state = await (await fetch(`/shots/${shot}/state.json`)).json();
  const { world } = await (await fetch(`/attempts/${state.pinned}/world.json`)).json();
  const frame = Number(document.querySelector("#frame").textContent);
  const seen = seenBy(world, world.frames.find((one) => one.frame === frame));
  const box = document.querySelector("#plate").getBoundingClientRect();
  const k = 0.985 * Math.min(box.width / world.image.width, box.height / world.image.height);
  const at = (xyz) => seen(xyz).map((v, n) => v - [world.image.width, world.image.height][n] / 2)
    .map((v, n) => [box.left + box.width / 2, box.top + box.height / 2][n] + k * v);
  const step = 1e-4, middle = at([0, 0, 0]);
  const long = Math.max(...[[step, 0, 0], [0, step, 0], [0, 0, step]].map((d) => {
    const p = at(d);
    return Math.hypot(p[0] - middle[0], p[1] - middle[1]) / step;
  }));
  return at([x, y, z].map((v) => (92 * 0.97 * v) / long));
}"""
"""Where a part of the handles lies on the screen: a place in lengths of a spar, near its end."""


def picture_of(page):
    """What the plate's pane shows, (H, W, 3)."""
    shot = page.locator("#platepane").screenshot()
    return cv2.imdecode(np.frombuffer(shot, np.uint8), cv2.IMREAD_COLOR).astype(int)


def test_world_json_reads_back_as_it_was_written():
    text = (
        '{"format": "amberkeel-world", "version": 1, "metric": true, "datum": {"scale": 2.0, "rotation": '
        '[[1,0,0],[0,1,0],[0,0,1]], "translation": [0,0,0]}, "stated": {"ground": ["a1","a2","a3"]}, '
        '"proxies": {"p1": {"kind": "box"}}}'
    )
    world = read_world(text)
    assert read_world(world_text(world)) == world and "stated" in world_schema()
    with pytest.raises(Exception, match=r"no world\.json"):
        read_world("{}")
