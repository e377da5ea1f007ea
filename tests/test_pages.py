"""Every page and every answer of the application, asked for as the browser asks."""

import csv
import io
import json
import re
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from jsonschema import validate
from simulated import lowest
from sqlalchemy import delete, event, select

from amberkeel.store.casebook.verdict import verdict
from amberkeel.store.held import free_of_shots, hold_shot
from amberkeel.store.models import Attempt, Plate, Production, Shot, now
from amberkeel.store.session import maker, session
from amberkeel.store.stages import stages
from amberkeel.web.plate.intake import show_rate
from amberkeel.web.solve import _rows as side_by_side

STAGES = ("plate", "masks", "tracks", "lens", "solve", "world", "ties", "handoff")


@pytest.fixture(scope="module")
def state(client, solved_shot):
    return client.get(f"/shots/{solved_shot}/state.json").json


def test_the_board_shows_shots_with_their_figures(client, solved_shot):
    page = client.get("/").text
    assert "Modules" in page and f"/shots/{solved_shot}" in page
    assert "px RMS" in page and "px check" in page and "640×360" in page
    assert page.count("Handoff") >= 1


def test_productions_need_a_name_of_their_own(client):
    for name, words in (("", "needs a name"), ("x" * 81, "needs a name"), ("Modules", "named Modules already")):
        answer = client.post("/productions", data={"name": name})
        assert answer.status_code == 400 and words in answer.text
    assert client.post("/productions", data={"name": "  Empty  ", "note": "n" * 900}).status_code == 302
    page = client.get("/").text
    assert "No shots yet" in page


@pytest.mark.parametrize("stage", STAGES)
def test_the_desk_opens_at_every_stage(client, solved_shot, stage):
    page = client.get(f"/shots/{solved_shot}/{stage}")
    assert page.status_code == 200
    assert f'data-stage="{stage}"' in page.text and page.text.count('class="stop') == 8
    for other in STAGES:
        assert f'data-panel="{other}"' in page.text


def test_addresses_that_are_none_say_so(client, solved_shot):
    for address in ("/shots/999999", f"/shots/{solved_shot}/nowhere", "/attempts/999999.json",
      "/productions/999999/new",
                    f"/shots/{solved_shot}/compare?a=1&b=999999", "/nothing"):  # fmt: skip
        assert client.get(address).status_code == 404
    assert "nothing at this address" in client.get("/nothing").text
    assert client.get(f"/shots/{solved_shot}").headers["Location"].endswith("/solve")


def test_pages_load_nothing_from_elsewhere(client, solved_shot):
    for address in ("/", f"/shots/{solved_shot}/solve"):
        answer = client.get(address)
        assert "default-src 'self'" in answer.headers["Content-Security-Policy"]
        assert answer.headers["X-Content-Type-Options"] == "nosniff"
        assert not [w for w in ('src="http', 'href="http', "url(http") if w in answer.text]
    fonts = client.get("/static/vendor/fonts.css").text
    assert "Barlow" in fonts and "http" not in fonts
    styles = client.get("/static/styles/desk.css").text
    assert "--color-amber" in styles and "@import" not in styles


def test_scripts_are_kept_for_good_as_long_as_they_are_the_same(client, solved_shot):
    page = client.get(f"/shots/{solved_shot}/solve").text
    address = re.search(r'src="(/static/v/\w+/desk/shell/main\.js)"', page)[1]
    kept = client.get(address)
    assert kept.status_code == 200 and "max-age=31536000" in kept.headers["Cache-Control"]
    for other in ("/static/desk/shell/main.js", "/static/v/another/desk/shell/main.js"):
        asked = client.get(other)
        assert asked.data == kept.data and "max-age=31536000" not in asked.headers["Cache-Control"]
        tag = {"If-None-Match": asked.headers["ETag"]}
        assert client.get(other, headers=tag).status_code == 304
    for out in ("/static/../__init__.py", "/static/v/x/%2e%2e/__init__.py", "/static/nothing.js"):
        assert client.get(out).status_code == 404


def test_state_names_all_that_changes(state):
    assert [s["key"] for s in state["stages"]] == list(STAGES)
    assert len(state["proxies"]) == 40 and state["pinned"] and state["undo"].startswith("Pin attempt")
    assert state["attempts"][0]["figures"]["tracks_used"] > 100
    assert {"kind", "severity", "confidence", "text", "frames", "tracks", "remedies"} < set(state["findings"][0])


def test_proxies_are_pictures_that_never_change(client, state):
    answer = client.get(f"/frames/{state['proxies'][3]}.jpg")
    assert answer.mimetype == "image/jpeg" and answer.data[:2] == b"\xff\xd8"
    assert "immutable" in answer.headers["Cache-Control"]


def test_preview_finds_features_without_keeping_them(client, solved_shot, state):
    few = client.post(f"/shots/{solved_shot}/preview", json={"frame": 1005, "count": 60}).json["features"]
    many = client.post(f"/shots/{solved_shot}/preview", json={"frame": 1005, "count": 240}).json["features"]
    assert 30 < len(few) <= 60 < len(many) <= 240
    wide = client.post(f"/shots/{solved_shot}/preview", json={"frame": 1005, "count": 240, "spacing": 40}).json[
        "features"
    ]
    xy = np.array(wide)
    assert (np.linalg.norm(xy[:, None] - xy[None], axis=2) + 1e3 * np.eye(len(xy))).min() >= 39.8
    for body, words in [({"frame": 7}, "no frame 7"), ({"frame": 1005, "count": "many"}, "no number"),
                        ({"frame": 1005, "threshold": 9}, "Threshold must lie"), ({"frame": 1005, "spacing": -3},
                          "Spacing must lie")]:  # fmt: skip
        assert words in client.post(f"/shots/{solved_shot}/preview", json=body).json["error"]
    assert client.get(f"/shots/{solved_shot}/state.json").json["revision"] == state["revision"]


def test_the_datum_is_tried_before_it_is_kept(client, solved_shot, state):
    sent = client.get(f"/shots/{solved_shot}/tracks.json").json
    attempt = client.get(f"/attempts/{state['pinned']}.json").json
    number = dict(zip(sent["names"], sent["ids"]))
    low = lowest(attempt["world"]["points"], 30)
    ids = [number[p["track"]] for p in low]
    assert attempt["card"] is None

    def datum(**body):
        return client.post(f"/shots/{solved_shot}/datum", json=body)

    for body, words in [
        ({"what": "ground", "tracks": ids[:2]}, "three tracks"),
        ({"what": "origin"}, "middle of several"),
        ({"what": "distance", "tracks": ids[:1], "distance": "2"}, "two tracks"),
        ({"what": "distance", "tracks": ids[:2], "distance": "far"}, "no length"),
        ({"what": "distance", "tracks": ids[:2], "distance": "-1"}, "more than zero"),
        ({"what": "distance", "tracks": ids[:2], "distance": "1", "unit": "mile"}, "mm, cm, m, in or ft"),
        ({"what": "distance", "tracks": [ids[0], ids[0]], "distance": "1"}, "one and the same"),
        ({"what": "heading", "tracks": ids[:2]}, "no part"),
        ({"what": "ground", "tracks": [ids[0], ids[1], 10**8]}, "another shot"),
    ]:
        answer = datum(**body)
        assert answer.status_code == 400 and words in answer.json["error"]
    assert client.get(f"/shots/{solved_shot}/state.json").json["datum"] == {}
    assert datum(what="ground", tracks=ids).json["datum"]["ground"] == ids
    assert datum(what="distance", tracks=ids[:2], distance="8,5", unit="ft").json["datum"]["distances"][0][
        "metres"
    ] == pytest.approx(2.5908)
    solved = client.get(f"/attempts/{state['pinned']}.json").json
    assert len(solved["card"]) == 40 and solved["told"]["ground"]["rms"] > 0
    position = {p["track"]: np.array(p["xyz"]) for p in solved["world"]["points"]}
    assert np.linalg.norm(position[low[0]["track"]] - position[low[1]["track"]]) == pytest.approx(2.5908)

    points = list(csv.DictReader(io.StringIO(client.get(f"/shots/{solved_shot}/handoff/points.csv").text)))
    assert float(next(p for p in points if p["track"] == low[0]["track"])["x"]) == pytest.approx(
        position[low[0]["track"]][0], abs=1e-5
    )
    assert datum(what="clear").json["datum"] == {}
    for _ in range(3):
        client.post(f"/shots/{solved_shot}/undo")
    assert client.get(f"/shots/{solved_shot}/state.json").json["datum"] == {}


def test_all_files_leave_whole(client, solved_shot):
    schema = json.loads((Path(__file__).parents[1] / "docs" / "solve.schema.json").read_text())
    for name in ("camera.usda", "solve.json", "points.csv", "camera.csv"):
        answer = client.get(f"/shots/{solved_shot}/handoff/{name}")
        assert answer.status_code == 200 and f"SKL_010_{name}" in answer.headers["Content-Disposition"]
        if name == "solve.json":
            validate(answer.json if answer.is_json else json.loads(answer.text), schema)
        if name == "camera.csv":
            assert len(answer.text.strip().splitlines()) == 41
        if name == "camera.usda":
            assert answer.text.startswith("#usda") and "1001" in answer.text


def test_two_attempts_are_compared(client, database, solved_shot, state):
    with session(database) as opened:
        hold_shot(opened, solved_shot)
        first = opened.get(Attempt, state["pinned"])
        figures = {**first.figures, "rms_px": first.figures["rms_px"] * 2}
        second = Attempt(
            shot_id=solved_shot,
            number=2,
            recipe={**first.recipe, "distortion": "none"},
            snapshot=first.snapshot,
            figures=figures,
            document=first.document,
            errors=first.errors,
        )
        opened.add(second)
        opened.flush()
        a, b = first.id, second.id
    page = client.get(f"/shots/{solved_shot}/compare?a={a}&b={b}").text
    assert f"{figures['rms_px']:.3f}" in page and "estimate" in page and "none" in page and "pinned" in page
    assert "Both are the same camera: paths differ by 0.00 %" in page and "Tracks that got worse" in page
    answer = client.post(f"/shots/{solved_shot}/edit", json={"kind": "pin", "payload": {"attempt": b}})
    assert answer.json["pinned"] == b
    assert client.post(f"/shots/{solved_shot}/undo").json["pinned"] == a


def test_solve_requests_are_checked_at_the_door(client, solved_shot):
    for body, words in [
        ({"motion": "spin"}, "auto, free, nodal, swing, plane or locked"),
        ({"distortion": "lots"}, "estimate, none or profile"),
        ({"focal_mm": "0.2"}, "between 1 and 5000"),
    ]:
        assert words in client.post(f"/shots/{solved_shot}/solve", json=body).json["error"]
    assert "no such job" in client.post("/jobs/999999/cancel", json={}).json["error"]


def test_a_video_comes_in_with_its_own_rate(client, database, tmp_path, plate):
    path = tmp_path / "take.mp4"
    with av.open(str(path), "w") as out:
        stream = out.add_stream("mpeg4", rate=Fraction(30000, 1001))
        stream.width, stream.height = 640, 360
        for k in range(8):
            out.mux(stream.encode(av.VideoFrame.from_ndarray(plate.read(1001 + k), format="rgb24")))
        out.mux(stream.encode())
    with session(database) as opened:
        production = opened.scalar(select(Production.id).where(Production.name == "Modules"))
    files = {"files": [(io.BytesIO(path.read_bytes()), "take.mp4")]}
    answer = client.post(f"/productions/{production}/upload", data=files, headers={"Accept": "application/json"})
    page = client.get(answer.json["next"]).text
    assert "29.97 (30000/1001)" in page and 'data-first="1" data-last="8"' in page
    cut = {"files": [(io.BytesIO(path.read_bytes()[: path.stat().st_size // 2]), "take.mp4")]}
    broken = client.post(f"/productions/{production}/upload", data=cut, headers={"Accept": "application/json"})
    assert broken.status_code == 400 and "take.mp4" in broken.json["error"]
    none = client.post(f"/productions/{production}/upload", data={}, headers={"Accept": "application/json"})
    assert "No files arrived" in none.json["error"]
    two = [(io.BytesIO(path.read_bytes()), n) for n in ("a.mp4", "b.mp4")]
    both = client.post(f"/productions/{production}/upload", data={"files": two}, headers={"Accept": "application/json"})
    assert "Confirm 2 plates" in client.get(both.json["next"]).text


def test_rates_are_written_as_people_write_them():
    assert [show_rate(r) for r in ("24/1", "24000/1001", "25/1", "30000/1001", "60/1")] == [
        "24",
        "23.976",
        "25",
        "29.97",
        "60",
    ]


def test_a_shot_without_anything_has_its_empty_words(database, service, client):
    with session(database) as opened:
        plate = Plate(source="x", label="x.#.png", first=1, last=9, width=100, height=80, focal_mm=27.0)
        shot = Shot(production=Production(name="Bare"), name="bare", plate=plate)
        opened.add(shot)
        opened.flush()
        facts = {s.key: (s.state, s.fact) for s in stages(opened, shot)}
        number = shot.id
    assert facts["plate"] == ("untouched", "9 frames") and facts["tracks"] == ("untouched", "none yet")
    assert facts["lens"][1] == "f 27 mm typed" and facts["handoff"][1] == "nothing yet"
    assert client.get(f"/shots/{number}").headers["Location"].endswith("/plate")
    assert client.get(f"/shots/{number}/tracks.json").json["ids"] == []
    assert (
        "no pinned attempt"
        in client.post(f"/shots/{number}/datum", json={"what": "origin", "tracks": [1]}).json["error"]
    )


def test_what_was_not_checked_is_said_and_never_the_better(client, database):
    figures = {"rms_px": 0.1, "focal_mm": 30.0, "focal_px": 800.0, "focal_sigma_px": 0.0, "tracks_used": 9}
    made = []
    with session(database) as opened:
        production = Production(name="Few")
        for check, sigma in ((None, 0.0), (0.0, 0.0), (0.2, 0.3)):
            plate = Plate(source="x", label="x.#.png", first=1, last=9, width=100, height=80, proxies=9 * ["0" * 64])
            shot = Shot(production=production, name=f"FEW_{len(made)}", plate=plate)
            opened.add(shot)
            opened.flush()
            own = figures | {"check_rms_px": check, "focal_sigma_mm": sigma}
            row = Attempt(shot_id=shot.id, number=1, recipe={}, snapshot={}, document="", errors="", figures=own)
            opened.add(row)
            opened.flush()
            shot.pinned_id = row.id
            made.append((row, verdict(row)))
        opened.flush()
        unchecked, old, checked = (row for row, _ in made)
        rows = {row["label"]: row for row in side_by_side(unchecked, checked)}
        assert [rows["Check residual"][k] for k in ("a", "b", "better")] == ["not checked", "0.200", ""]
        assert rows["Check residual"]["units"] == ["", "px"] and rows["RMS residual"]["units"] == ["px", "px"]
        assert [rows["Focal length, one sigma"][k] for k in ("a", "b", "better")] == ["held", "0.300", ""]
        assert {row["a"] for row in side_by_side(old, checked) if row["label"] == "Check residual"} == {"not checked"}
        assert not made[0][1]["good"] and "Not checked" in made[0][1]["words"] and made[2][1]["good"]
    page = client.get("/").text
    cards = {name: page.split(f'data-name="{name}"')[1].split("</article>")[0] for name in ("FEW_0", "FEW_1", "FEW_2")}
    worst = {name: float(re.search(r'data-check="([^"]+)"', card)[1]) for name, card in cards.items()}
    assert worst["FEW_0"] == worst["FEW_1"] > worst["FEW_2"] == 0.2, "the unknown comes before the good"
    assert all("not checked" in cards[name] and "held" in cards[name] for name in ("FEW_0", "FEW_1"))
    assert "0.200" in cards["FEW_2"] and "±0.30" in cards["FEW_2"]
    with session(database) as opened:
        opened.get(Production, production.id).deleted = now()


def test_a_board_of_hundreds_of_shots_asks_little(client, database):
    with session(database) as opened:
        production = Production(name="Three hundred")
        for k in range(300):
            plate = Plate(source="x", label="x.#.png", first=1, last=90, width=100, height=80, proxies=90 * ["0" * 64])
            shot = Shot(production=production, name=f"BIG_{k:03d}", plate=plate)
            opened.add(shot)
            opened.flush()
            made = Attempt(
                shot_id=shot.id, number=1, recipe={}, snapshot={"tracks_stamp": 1}, document="", errors="",
                figures={"rms_px": 0.1, "check_rms_px": 0.1, "focal_mm": 30.0, "focal_sigma_mm": 0.1},
            )  # fmt: skip
            opened.add(made)
            opened.flush()
            shot.pinned_id = made.id
        production_id = production.id
    asked = []
    engine = maker(database).kw["bind"]
    event.listen(engine, "before_cursor_execute", lambda *given: asked.append(given[2]))
    page = client.get("/").text
    assert page.count("BIG_") >= 300 and "Tracks changed after the last attempt." in page
    assert len(asked) < 20
    with session(database) as opened:
        ids = list(opened.scalars(select(Shot.id).where(Shot.production_id == production_id)))
        free_of_shots(opened)
        for table in (Attempt, Plate):
            opened.execute(delete(table).where(table.shot_id.in_(ids)))
        opened.execute(delete(Shot).where(Shot.id.in_(ids)))
        opened.execute(delete(Production).where(Production.id == production_id))
