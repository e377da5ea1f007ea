"""Tracks through the application: what the views answer, the jobs, and the stage used with mouse and keyboard."""

import io
import json

import numpy as np
import pytest
from desk import desk_page, on_screen, poster
from pictures import Sliding, boards, calm
from playwright.sync_api import expect
from sqlalchemy import select
from test_hard_plates import with_tags

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.track_table import check_origin, read_tracks_csv, tracks_csv
from amberkeel.core.pictures.write import write_png
from amberkeel.core.plate.plate import open_plate
from amberkeel.jobs.kinds import work
from amberkeel.settings import from_environment
from amberkeel.store import edits, track_changes
from amberkeel.store.casebook import findings
from amberkeel.store.held import hold_shot
from amberkeel.store.models import Mask, Plate, Production, Shot, Track
from amberkeel.store.session import session
from amberkeel.store.tracks import add_run, live_tracks

TAGS = [(7, 140, 150, 48), (42, 300, 170, 64)]


@pytest.fixture(scope="module")
def sliding_folder(tmp_path_factory):
    """A short sliding plate with two tags, as files."""
    folder = tmp_path_factory.mktemp("sliding")
    plate = Sliding(with_tags(boards(), TAGS), calm, range(1001, 1017))
    for frame in plate.frames:
        write_png(folder / f"boards.{frame}.png", plate.read(int(frame)))
    return folder


def new_shot(database, folder, name, count=16):
    with session(database) as opened:
        production = opened.scalar(select(Production).where(Production.name == "Boards")) or Production(name="Boards")
        plate = Plate(
            source=str(folder / "boards.####.png"),
            label="boards.####.png",
            first=1001,
            last=1000 + count,
            width=480,
            height=270,
        )
        shot = Shot(production=production, plate=plate, name=name)
        opened.add(shot)
        opened.flush()
        return shot.id


@pytest.fixture(scope="module")
def shot_id(service, database, sliding_folder):
    """That plate as a shot, taken in and followed."""
    made = new_shot(database, sliding_folder, "Boards")
    work("ingest", from_environment(), made, {}, lambda *_: None)
    work("follow", from_environment(), made, {"count": 120}, lambda *_: None)
    return made


@pytest.fixture
def ask(client, shot_id):
    """Post JSON to the shot; returns the answer."""
    return poster(client, shot_id)


def rows_of(database, shot_id):
    with session(database) as opened:
        return {t.name: t for t in live_tracks(opened, opened.get(Shot, shot_id))}


def undo(ask, times=1):
    for _ in range(times):
        ask("undo")


def test_samples_are_cut_split_joined_and_filled_and_all_of_it_undone(ask, database, shot_id):
    before = rows_of(database, shot_id)
    long = [t for t in before.values() if len(t.frames) == 16][:3]
    a = long[0]
    ask("tracks/change", {"what": "cut", "samples": {a.id: [1005, 1006, 1007]}})
    assert len(rows_of(database, shot_id)[a.name].frames) == 13
    ask("tracks/change", {"what": "fill", "tracks": [a.id], "first": 1004, "last": 1008})
    filled = rows_of(database, shot_id)[a.name]
    at = filled.frames.index(1006)
    assert filled.x[at] == pytest.approx(a.x[5], abs=0.3) and filled.sigma[at] > 0.9 and filled.score[at] == 0.0
    ask("tracks/change", {"what": "split", "tracks": [a.id], "frame": 1010})
    pieces = rows_of(database, shot_id)
    later = next(t for name, t in pieces.items() if name.startswith(a.name) and t.id != a.id)
    assert pieces[a.name].frames[-1] == 1009 and later.frames[0] == 1010
    ask("tracks/change", {"what": "join", "tracks": [a.id, later.id]})
    assert len(rows_of(database, shot_id)[a.name].frames) == 16
    assert "same frames" in ask("tracks/change", {"what": "join", "tracks": [a.id, long[1].id]}, 400)["error"]
    ask("tracks/change", {"what": "trim", "tracks": [t.id for t in long], "first": 1003, "last": 1012})
    assert {len(rows_of(database, shot_id)[t.name].frames) for t in long} == {10}
    undo(ask, 5)
    after = rows_of(database, shot_id)
    assert {n: (t.frames, t.x, t.sigma) for n, t in after.items()} == {
        n: (t.frames, t.x, t.sigma) for n, t in before.items()
    }


def test_names_groups_and_locks(ask, database, shot_id):
    a, b = list(rows_of(database, shot_id).values())[:2]
    ask("tracks/change", {"what": "rename", "tracks": [a.id], "name": "mast head"})
    assert "already" in ask("tracks/change", {"what": "rename", "tracks": [b.id], "name": "mast head"}, 400)["error"]
    state = ask("tracks/change", {"what": "group", "tracks": [a.id, b.id], "name": "mast", "colour": "#8fd0a0"})
    assert state["groups"]["mast"]["colour"] == "#8fd0a0"
    assert ask("tracks/change", {"what": "hide", "name": "mast", "hidden": True})["groups"]["mast"]["hidden"]
    ask("tracks/change", {"what": "lock", "tracks": [a.id], "locked": True})
    assert "locked" in ask("tracks/change", {"what": "cut", "samples": {a.id: [1004]}}, 400)["error"]
    assert "locked" in ask("edit", {"kind": "tracks", "payload": {"remove": [a.id]}}, 400)["error"]
    undo(ask, 4)
    assert a.name in rows_of(database, shot_id) and not rows_of(database, shot_id)[a.name].locked


def test_a_track_is_placed_keyed_and_followed(ask, database, shot_id):
    placed = ask("tracks/place", {"frame": 1008, "x": 222.0, "y": 131.0, "settings": {"search": [20, 20]}})["track"]
    answer = ask(f"tracks/{placed}/follow", {"start": 1008, "stops": [1009]})
    assert "1 frames followed" in answer["said"]
    work("hand", from_environment(), shot_id, {"track": placed, "start": 1008, "stops": [1016, 1001]}, lambda *_: None)
    with session(database) as opened:
        row = opened.get(Track, placed)
        assert (
            row.kind == "hand"
            and row.keys == [1008]
            and len(row.frames) == 16
            and row.made["settings"]["search"] == [20, 20]
        )
        assert row.x[0] == pytest.approx(222.0 + 7 * 1.7, abs=0.15) and row.y[-1] == pytest.approx(
            131.0 - 8 * 0.9, abs=0.15
        )
    ask(f"tracks/{placed}/key", {"frame": 1012, "x": 216.0, "y": 128.0})
    work("hand", from_environment(), shot_id, {"track": placed, "start": 1012, "stops": [1016]}, lambda *_: None)
    with session(database) as opened:
        row = opened.get(Track, placed)
        assert row.keys == [1008, 1012] and row.x[row.frames.index(1012)] == 216.0
    ask(f"tracks/{placed}/key", {"frame": 1012, "remove": True})
    seen = ask("loupe", {"frame": 1004, "x": 228.9, "y": 134.5, "track": placed})
    assert seen["score"] > 0.9 and seen["reference"] and seen["here"]
    undo(ask, 6)
    assert placed not in {t.id for t in rows_of(database, shot_id).values()}


def test_bad_places_and_settings_change_nothing(ask, client, database, shot_id):
    with session(database) as opened:
        shot = opened.get(Shot, shot_id)
        mask = Mask(
            shot_id=shot_id,
            name="Sheet",
            kind="shape",
            keys={
                "1001": {
                    "points": [[x, y, 0, 0, 0, 0] for x, y in ((0, 0), (60, 0), (60, 60), (0, 60))],
                    "by": "hand",
                    "confidence": 1.0,
                }
            },
        )
        hold_shot(opened, shot_id)
        opened.add(mask)
        opened.flush()
        edits.apply(opened, shot_id, "masks", {"bring": [mask.id], "label": "Draw"})
        revision = shot.revision
    spot = {"frame": 1003, "x": 200, "y": 100}
    for path, body, words in [
        ("tracks/place", {**spot, "x": 900}, "off the picture"),
        ("tracks/place", {**spot, "frame": 1100}, "no frame 1100"),
        ("tracks/place", {**spot, "x": 30, "y": 30}, "masked"),
        ("tracks/place", {**spot, "settings": {"pattern": [20, 20], "search": [8, 8]}}, "smaller than the pattern"),
        ("tracks/place", {**spot, "x": "here"}, "“x” is no number"),
        ("tracks/999999/follow", {"start": 1003, "stops": [1004]}, "gone"),
        ("tracks/change", {"what": "melt"}, "no change"),
        ("tracks/change", {"what": "cut", "samples": {}}, "No track is selected"),
        ("surface", {"outline": [], "grid": [99, 3], "frame": 1003, "first": 1001, "last": 1016}, "grid of 2 to 30"),
        ("tags", {"family": "77h7"}, "no tag family"),
        ("tags", {"size_mm": "wide"}, "no number"),
        ("copy", {"stack": [{"name": "sparkle"}]}, "no operation"),
        ("replaced", {"path": "../../etc"}, "plate root"),
        ("follow", {"images": "copy2"}, "no images"),
        ("sightings", {"rows": [1], "of": "x"}, "gone"),
    ]:
        assert words in ask(path, body, 400)["error"], path
    placed = ask("tracks/place", spot)["track"]
    assert "no key on frame 1009" in ask(f"tracks/{placed}/follow", {"start": 1009, "stops": [1010]}, 400)["error"]
    undo(ask, 2)
    with session(database) as opened:
        assert opened.get(Shot, shot_id).revision == revision + 3


def test_sightings_surfaces_and_tags_become_tracks(ask, client, database, shot_id):
    settings = from_environment()
    work("sight", settings, shot_id, {"count": 100}, lambda *_: None)
    data = client.get(f"/shots/{shot_id}/sightings.json").json
    assert len(data["first"]) - 1 > 100
    of = client.get(f"/shots/{shot_id}/state.json").json["sightings"]
    assert "2 sightings" in ask("sightings", {"rows": [3, 5], "of": of})["said"]
    outline = [[250, 60], [400, 60], [400, 180], [250, 180]]
    work(
        "surface",
        settings,
        shot_id,
        {"outline": outline, "grid": [3, 3], "frame": 1006, "stops": [1001, 1010]},
        lambda *_: None,
    )
    work("tags", settings, shot_id, {"family": "36h11", "corners": True, "size_mm": 120.0}, lambda *_: None)
    names = rows_of(database, shot_id)
    assert {"s0001", "s0002", "surface1.01", "surface1.09", "36h11-0007", "36h11-0042.4"} <= set(names)
    assert names["surface1.01"].group == "surface1" and names["surface1.01"].made["surface"]["name"] == "surface1"
    report = client.get(f"/shots/{shot_id}/state.json").json["tags"]
    assert [r["name"] for r in report["found"]] == ["36h11-0007", "36h11-0042"] and report["size_mm"] == 120.0
    work("tags", settings, shot_id, {"family": "36h11"}, lambda *_: None)
    assert "36h11-0007" in rows_of(database, shot_id) and "36h11-0042.4" not in rows_of(database, shot_id)
    undo(ask, 4)
    assert not {"s0001", "surface1.01", "36h11-0007"} & set(rows_of(database, shot_id))


def test_filters_find_what_was_planted(client, database, shot_id, ask):
    rows = [t for t in rows_of(database, shot_id).values() if len(t.frames) == 16]
    jumper, steady = rows[0], rows[1]
    at = jumper.frames.index(1008)
    with session(database) as opened:
        put = {"frames": [1008], "x": [jumper.x[at] + 6.0], "y": [jumper.y[at]], "sigma": [0.1], "score": [0.9]}
        twin = {c: list(getattr(steady, c)) for c in ("frames", "x", "y", "sigma", "score")}
        shot = opened.get(Shot, shot_id)
        from amberkeel.core.tracks import from_pieces

        made = add_run(
            opened,
            shot,
            from_pieces(
                ["twin", "brief"],
                [
                    (
                        np.array(twin["frames"][:10]),
                        np.stack([twin["x"], twin["y"]], 1)[:10] + 0.4,
                        np.full(10, 0.1),
                        np.full(10, 0.5),
                    ),
                    (
                        np.array([1002, 1003, 1004]),
                        np.array([[400.0, 40], [401, 47], [380, 40]]),
                        np.full(3, 0.1),
                        np.ones(3),
                    ),
                ],
            ),
        )
        edits.apply(opened, shot_id, "samples", {"put": {str(jumper.id): put}, "bring": made, "label": "Plant"})
    j = client.get(f"/shots/{shot_id}/judgement.json").json
    row = {
        name: j["ids"].index(number)
        for name, number in (("jumper", jumper.id), ("steady", steady.id), ("twin", made[0]), ("brief", made[1]))
    }
    assert j["jump"][row["jumper"]] > 3.0 > 1.0 > j["jump"][row["steady"]]
    assert j["twin"][row["twin"]] == steady.id and j["twin"][row["steady"]] == 0
    assert j["length"][row["brief"]] == 3 and j["score"][row["twin"]] == 0.5
    assert j["restless"][row["brief"]] >= 1.0 and np.isfinite(j["stray"]).all()
    undo(ask)
    assert len(client.get(f"/shots/{shot_id}/judgement.json").json["ids"]) == len(rows_of(database, shot_id))


def test_pieces_that_came_back_are_proposed(client, database, shot_id, ask):
    whole = next(t for t in rows_of(database, shot_id).values() if len(t.frames) == 16)
    ask("tracks/change", {"what": "cut", "samples": {whole.id: [1007, 1008, 1009]}})
    ask("tracks/change", {"what": "split", "tracks": [whole.id], "frame": 1010})
    pairs = client.get(f"/shots/{shot_id}/judgement.json").json["returns"]
    assert any(a == whole.id and apart < 1.5 for a, _, apart in pairs)
    undo(ask, 2)


def test_tracks_leave_and_come_back_as_a_table(client, database, shot_id, sliding_folder, service):
    text = client.get(f"/shots/{shot_id}/tracks.csv").text
    assert text.splitlines()[0] == "name,frame,x,y,sigma,state"
    plate = open_plate(sliding_folder)
    tracks = read_tracks_csv(text, plate)
    assert tracks_csv(tracks) == text
    check_origin(tracks, plate, "top left")
    flipped = [line.split(",") for line in text.splitlines()]
    upside = "\n".join(
        [",".join(flipped[0])] + [",".join([*r[:3], f"{270 - float(r[3]):.4f}", *r[4:]]) for r in flipped[1:]]
    )
    with pytest.raises(KeelError, match="counted from the bottom"):
        check_origin(read_tracks_csv(upside, plate), plate, "top left")
    assert read_tracks_csv(upside, plate, "bottom left").xy == pytest.approx(tracks.xy, abs=2e-4)
    other = new_shot(database, sliding_folder, "Brought in")

    def bring(body, status, **form):
        answer = client.post(
            f"/shots/{other}/tracks.csv",
            data={"table": (io.BytesIO(body.encode()), "t.csv"), **form},
            headers={"Accept": "application/json"},
        )
        assert answer.status_code == status, answer.text
        return answer.json

    head = "name,frame,x,y\n"
    for body, words in [
        ("frame,x\n", "no column name, y"), (head + "a,1100,1,1\n", "line 2: frame 1100"), (head + "a,1001,nan,1\n",
          "not finite"),
        (head + "a,1001,x,1\n", "a number is none"), (head + "a,1001,1,1\na,1001,2,2\n", "twice"), (head, "no tracks"),
        (head + "a,1001,5000,1\na,1002,5000,1\n", "off the 480x270"), (upside, "bottom left"),
    ]:  # fmt: skip
        assert words in bring(body, 400)["error"]
    assert not rows_of(database, other)
    assert "Bring in" in bring(upside, 200, origin="bottom left")["said"]
    assert len(rows_of(database, other)) == len(tracks)
    assert "borne" in bring(text, 400)["error"]


def test_the_copy_is_shown_kept_and_followed(client, ask, database, shot_id, sliding_folder, service):
    assert "has no operation" in ask("preview", {"frame": 1003, "images": "copy"}, 400)["error"]
    stack = [{"name": "levels", "figures": {"black": 90, "white": 230}}, {"name": "crop", "figures": {"left": 200}}]
    shown = client.get(f"/shots/{shot_id}/copy/1003.jpg", query_string={"stack": json.dumps(stack)})
    assert shown.status_code == 200 and shown.mimetype == "image/jpeg"
    assert ask("copy", {"stack": stack})["stack"][0]["name"] == "levels"
    work("follow", from_environment(), shot_id, {"count": 60, "images": "copy"}, lambda *_: None)
    rows = rows_of(database, shot_id).values()
    assert (
        all(min(t.x) > 195 for t in rows)
        and {t.made["images"] for t in rows} == {"copy"}
        and next(iter(rows)).made["operations"][0]["name"] == "levels"
    )
    undo(ask, 2)
    assert client.get(f"/shots/{shot_id}/state.json").json["stack"] == []


def test_many_tracks_are_changed_at_once(database, sliding_folder, rng):
    from amberkeel.core.tracks import from_pieces

    crowd = new_shot(database, sliding_folder, "Crowd")
    frames = np.arange(1001, 1017)
    pieces = [
        (frames, rng.uniform([20, 20], [460, 250]) + 0.5 * np.arange(16)[:, None], np.full(16, 0.1), np.ones(16))
        for _ in range(600)
    ]
    with session(database) as opened:
        shot = opened.get(Shot, crowd)
        ids = add_run(opened, shot, from_pieces([f"c{k:04d}" for k in range(600)], pieces))
        edits.apply(opened, crowd, "tracks", {"bring": ids})
        track_changes.cut(opened, shot, {i: [1004, 1005] for i in ids})
        track_changes.group(opened, shot, ids, "crowd", "#8fd0a0")
    assert {len(t.frames) for t in rows_of(database, crowd).values()} == {14}
    with session(database) as opened:
        edits.undo(opened, crowd)
        edits.undo(opened, crowd)
    assert {len(t.frames) for t in rows_of(database, crowd).values()} == {16}


def test_frames_with_hardly_any_track_are_flagged(database, sliding_folder):
    thin = new_shot(database, sliding_folder, "Thin")
    with session(database) as opened:
        shot = opened.get(Shot, thin)
        assert findings(opened, shot, None) == []
        from amberkeel.core.tracks import from_pieces

        pieces = [
            (
                np.array([f for f in range(1001, 1017) if not 1006 <= f <= 1008]),
                np.full((13, 2), 10.0 * k),
                np.full(13, 0.1),
                np.ones(13),
            )
            for k in range(9)
        ]
        edits.apply(
            opened, thin, "tracks", {"bring": add_run(opened, shot, from_pieces([f"t{k}" for k in range(9)], pieces))}
        )
        assert (
            "1006-1008" in findings(opened, shot, None)[0]["text"]
            and "surface" in findings(opened, shot, None)[0]["text"]
        )
        shot.plate.blur = {"length": [0.0] * 5 + [14.0] * 3 + [0.0] * 8, "angle": [0.0] * 16}
        assert "blurred" in findings(opened, shot, None)[0]["text"]


@pytest.fixture(scope="module")
def page(browser, service, shot_id):
    with desk_page(browser, service, shot_id, "tracks") as opened:
        yield opened


def at(page, x, y):
    """Where a plate pixel lies on the page."""
    return on_screen(page, (480, 270), x, y)


def press(page, x, y, to=None, modifier=None):
    if modifier:
        page.keyboard.down(modifier)
    page.mouse.move(*at(page, x, y))
    page.mouse.down()
    if to:
        page.mouse.move(*at(page, *to), steps=4)
    page.mouse.up()
    if modifier:
        page.keyboard.up(modifier)


def test_place_follow_and_key_with_the_mouse(page, database, shot_id):
    page.keyboard.press("Home")
    page.get_by_role("button", name="Place", exact=True).click()
    press(page, 221, 130, to=(222, 131))
    expect(page.locator("#rows .row.sel")).to_contain_text("h01")
    expect(page.locator("#loupe")).to_be_visible()
    page.keyboard.press(".")
    expect(page.locator("#frame")).to_have_text("1002")
    page.get_by_role("button", name="Follow", exact=True).click()
    expect(page.locator("#toast")).to_contain_text("frames followed", timeout=60_000)
    expect(page.locator("#rows .row.sel")).to_contain_text("16 fr")
    page.keyboard.press("ArrowRight")
    track = rows_of(database, shot_id)["h01"]
    k = track.frames.index(1003)
    press(page, track.x[k], track.y[k], to=(track.x[k] + 3, track.y[k] + 2))
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Key h01 at 1003 (Ctrl Z)")
    moved = rows_of(database, shot_id)["h01"]
    assert moved.keys == [1001, 1003] and moved.x[k] == pytest.approx(track.x[k] + 3, abs=0.7)
    page.keyboard.press("Control+z")
    expect(page.locator("#toast")).to_contain_text("Undone: Key h01")
    press(page, 2, -9)
    expect(page.locator("#toast")).to_contain_text("off the picture")


def test_a_jump_is_boxed_in_the_curves_and_cut(page, database, shot_id):
    track = rows_of(database, shot_id)["h01"]
    with session(database) as opened:
        put = {"frames": [1009], "x": [track.x[8] + 25.0], "y": [track.y[8]], "sigma": [0.1], "score": [0.9]}
        edits.apply(opened, shot_id, "samples", {"put": {str(track.id): put}, "label": "Jump"})
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Jump (Ctrl Z)")
    page.locator("#curve").select_option("speed")
    lanes = page.locator("#lanes").bounding_box()
    left, width = lanes["x"] + 92, lanes["width"] - 104
    x = [left + width * (f + 0.5 - 0.5) / 16 for f in (8, 10.4)]
    page.mouse.move(x[0], lanes["y"] + 26)
    page.mouse.down()
    page.mouse.move(x[1], lanes["y"] + 60, steps=5)
    page.mouse.up()
    page.keyboard.press("Delete")
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Cut 2 samples from 1 track (Ctrl Z)")
    assert 1009 not in rows_of(database, shot_id)["h01"].frames
    page.keyboard.press("Control+z")
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Jump (Ctrl Z)")
    assert 1009 in rows_of(database, shot_id)["h01"].frames


def test_filters_select_with_a_live_count(page):
    page.get_by_role("button", name="Weed", exact=True).click()
    row = page.locator('[data-filter="jump"]')
    expect(row.get_by_role("button")).not_to_have_text("…", timeout=60_000)
    row.get_by_role("textbox").fill("10")
    expect(row.get_by_role("button")).to_have_text("1")
    row.get_by_role("button").click()
    expect(page.locator("#selected")).to_have_text("1 selected")
    page.get_by_role("button", name="Cut", exact=True).click()
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Cut 1 sample from 1 track (Ctrl Z)")
    page.get_by_role("button", name="Group", exact=True).click()
    page.locator("#askvalue").fill("mine")
    page.locator("#askvalue").press("Enter")
    expect(page.locator("#groups")).to_contain_text("mine")


def test_tags_sightings_and_the_copy_with_the_mouse(page):
    page.get_by_role("button", name="Tags", exact=True).click()
    page.get_by_role("button", name="Find tags").click()
    expect(page.locator("#tagreport")).to_contain_text("36h11-0042", timeout=60_000)
    # The report may be there a moment before the job is over; its word would come over the next one.
    expect(page.locator("#toast")).to_contain_text("searched for tags")
    page.get_by_role("button", name="Choose", exact=True).click()
    page.get_by_role("button", name="Choose all here").click()
    expect(page.locator("#sightcount")).not_to_have_text("0")
    chosen = int(page.locator("#sightcount").inner_text())
    assert chosen > 10
    page.get_by_role("button", name="Take them").click()
    expect(page.locator("#toast")).to_contain_text(f"Take {chosen} sightings")
    page.get_by_role("button", name="Copy", exact=True).click()
    page.locator("#addoperation").select_option("sharpen")
    expect(page.locator(".operation")).to_have_count(1)
    page.keyboard.press("Control+z")
    expect(page.locator(".operation")).to_have_count(0)
    page.locator("[data-layer=coverage]").click()
