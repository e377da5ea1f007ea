"""The desk's modules in the browser: colours, look-ups, caching, playback, lanes, list and palette."""

import json

import numpy as np
import pytest
from desk import module, settled, until
from playwright.sync_api import expect
from sqlalchemy import select

from amberkeel.store import edits
from amberkeel.store.models import Job, Plate, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import live_tracks


@pytest.fixture(scope="module")
def page(solved_page):
    return solved_page


def frame(page):
    return int(page.locator("#frame").inner_text())


def test_the_ramp_goes_from_fine_to_attention(page):
    colours = module(page, "shell/colour", "return [0, 1.5, 3, 5, 50, -1].map(m.ramp)")
    assert colours == [
        "rgb(79, 179, 165)".replace(" ", ""),
        "rgb(235,229,216)",
        "rgb(242,163,58)",
        "rgb(213,85,154)",
        "rgb(213,85,154)",
        "rgb(79,179,165)",
    ]


def test_tracks_and_errors_are_looked_up_by_frame_and_id(page):
    data = {
        "ids": [7, 9],
        "names": ["a", "b"],
        "kinds": ["auto", "hand"],
        "states": ["active", "active"],
        "first": [0, 2, 5],
        "frames": [1001, 1002, 1001, 1002, 1003],
        "x": [1, 2, 3, 4, 5],
        "y": [1, 2, 3, 4, 5],
    }
    body = (
        "const t = m.indexTracks(a, 1001, 1004); return [Array.from(t.live), Array.from(t.samples[1]), "
        "t.row.get(9), Array.from(t.track)]"
    )
    assert module(page, "tracks/index", body, data) == [[2, 2, 1, 0], [1, 3], 1, [0, 0, 1, 1, 1]]
    attempt = {"track": [7, 7], "frame": [1001, 1002], "dx": [3, 0], "dy": [4, 1], "sigma": [0.5, 1], "aside": [0, 1],
               "track_ids": [7], "track_rms": [2.5], "states": {"7": "check"},
               "world": {"frames": [{"position": [0, 0, 1]}],
                         "points": [{"id": 7, "xyz": [0, 3, 5], "sigma_along": 0.1},
                                    {"id": 9, "xyz": [1, 1, 1], "sigma_along": None}]}}  # fmt: skip
    body = (
        "const e = m.indexAttempt(a); return [e.errors.get(7).get(1001), e.rms.get(7), e.depth.get(7), e.depth.has(9), "
        "m.standing({states: ['active'], ids: [7]}, 0, e), m.standing({states: ['excluded'], ids: [7]}, 0, e)]"
    )
    assert module(page, "tracks/index", body, attempt) == [
        [3, 4, 10, 0], 2.5, 0.02, False, "check", "excluded"
    ]  # fmt: skip


def test_frames_are_cached_ahead_and_within_a_budget(page, database, solved_shot):
    with session(database) as opened:
        hashes = opened.scalar(select(Plate.proxies).where(Plate.shot_id == solved_shot))
    body = """
      const seen = [];
      const f = new m.Frames(1001, (n) => seen.push(n));
      f.room = 5;
      f.use(a);
      while (seen.length < 5) await new Promise((r) => setTimeout(r, 20));
      f.room = 5;
      const bitmap = f.want(1001);
      return [Math.min(...seen), Math.max(...seen.slice(0, 5)), bitmap.width, f.want(1030) === null];
    """
    low, high, width, later = module(page, "viewport/frames", body, hashes)
    assert (low, width) == (1001, 640) and high <= 1012 and later in (True, False)


def test_the_store_tells_only_what_changed(page):
    body = """
      const s = m.createStore({ a: 1, b: 2 });
      const told = [];
      s.on((keys) => told.push([...keys]));
      s.set({ a: 1 }); s.set({ a: 3, b: 2 }); s.set({ a: 4, b: 5 });
      return told;
    """
    assert module(page, "shell/store", body) == [["a"], ["a", "b"]]


def test_keys_step_jump_and_play_within_a_range(page):
    page.keyboard.press("Home")
    assert frame(page) == 1001
    page.keyboard.press("ArrowLeft")
    assert frame(page) == 1001
    page.keyboard.press("Shift+ArrowRight")
    assert frame(page) == 1011
    page.keyboard.press("End")
    assert frame(page) == 1040
    box = page.locator("#lanes").bounding_box()
    start = box["x"] + 92 + 0.5 * (box["width"] - 104)
    page.keyboard.down("Shift")
    page.mouse.move(start, box["y"] + 60)
    page.mouse.down()
    page.mouse.move(start + 130, box["y"] + 60, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    low, high = map(int, page.locator("#rangelabel").inner_text().removeprefix("frames ").split("-"))
    assert 1015 <= low < high <= 1030
    page.locator("#plate").focus()
    page.keyboard.press("Space")
    seen = set()
    until(lambda: seen.add(frame(page)) or len(seen) > 3)
    page.keyboard.press("Space")
    assert low <= min(seen) and max(seen) <= high
    page.mouse.dblclick(start, box["y"] + 60)
    assert page.locator("#rangelabel").inner_text() == ""


def test_list_plate_and_lanes_share_the_selection(page):
    page.keyboard.press("Escape")
    page.locator("#search").fill("a00")
    names = page.locator("#rows .row span:nth-child(2)").all_inner_texts()
    assert names and all(n.startswith("a00") for n in names)
    rows = page.locator("#rows .row")
    rows.nth(0).click()
    assert page.locator("#selected").inner_text() == "1 selected"
    rows.nth(3).click(modifiers=["Shift"])
    assert page.locator("#selected").inner_text() == "4 selected"
    rows.nth(1).click(modifiers=["Control"])
    assert page.locator("#selected").inner_text() == "3 selected"
    page.locator("#search").fill("")
    page.locator("#sort").select_option("long")
    lengths = [int(t.split()[0]) for t in page.locator("#rows .row span:nth-child(3)").all_inner_texts()]
    assert lengths == sorted(lengths, reverse=True)
    page.locator("#sort").select_option("worst")
    page.locator("#plate").focus()
    page.keyboard.press("Control+a")
    assert int(page.locator("#selected").inner_text().split()[0]) > 200
    page.keyboard.press("Escape")
    assert "tracks" in page.locator("#selected").inner_text()


def test_clicking_a_track_on_the_plate_selects_it(page, tracks):
    page.keyboard.press("Home")
    page.keyboard.press("0")
    page.keyboard.press("1")
    box = page.locator("#plate").bounding_box()
    scale = min(box["width"] / 640, box["height"] / 360) * 0.985
    on_first = tracks.xy[tracks.frames == 1001]
    apart = np.linalg.norm(on_first[:, None] - on_first[None], axis=2) + 1e3 * np.eye(len(on_first))
    x, y = on_first[np.argmax(apart.min(1))]
    page.mouse.click(box["x"] + box["width"] / 2 + (x - 320) * scale, box["y"] + box["height"] / 2 + (y - 180) * scale)
    assert page.locator("#selected").inner_text() == "1 selected"
    page.mouse.click(box["x"] + 4, box["y"] + 4)
    assert "tracks" in page.locator("#selected").inner_text()


def different(page, other):
    """Share of the plate's pixels that differ from an earlier picture, and the picture now."""
    body = """(other) => { const c = document.querySelector('#plate');
      const now = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
      const before = window[other]; window[other] ??= now;
      let n = 0; if (before) for (let k = 0; k < now.length;
        k += 4) n += now[k] !== before[k] || now[k + 1] !== before[k + 1];
      return n / (now.length / 4); }"""
    return page.evaluate(body, other)


def test_zoom_keeps_the_place_under_the_pointer_and_overlays_are_held_off(page):
    page.locator("#plate").focus()
    page.keyboard.press("Escape")
    page.keyboard.press("Home")
    expect(page.locator("#cached")).to_have_text("")
    settled(page.locator("#plate"))
    assert different(page, "plain") == 0
    box = page.locator("#plate").bounding_box()
    page.mouse.move(box["x"] + 200, box["y"] + 200)
    page.mouse.wheel(0, -600)
    until(lambda: different(page, "plain") > 0.2)
    page.keyboard.press("0")
    until(lambda: different(page, "plain") == 0)
    page.keyboard.down("h")
    until(lambda: 0.005 < different(page, "plain") < 0.5)
    page.keyboard.up("h")
    until(lambda: different(page, "plain") == 0)
    page.locator("#exaggerate").fill("80")
    assert page.locator("#factor").inner_text() == "×100"


def test_every_action_is_found_by_name(page):
    page.keyboard.press("Control+k")
    page.keyboard.type("residual sticks")
    assert page.locator("#palette li").count() == 1
    page.keyboard.press("Enter")
    assert "on" not in page.locator("[data-layer=sticks]").get_attribute("class").split()
    page.locator("[data-layer=sticks]").click()
    page.keyboard.press("Control+k")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    assert page.locator("#palette li.here").inner_text().startswith("One frame on")
    page.keyboard.press("Escape")
    page.locator("#plate").focus()
    page.keyboard.press("?")
    assert page.locator("#keys").is_visible()
    assert page.locator("#keylist").inner_text().count("\n") > 30
    keys = page.locator("#keylist .kbd").all_inner_texts()
    assert len(keys) == len(set(keys))
    page.keyboard.press("Escape")


def test_stages_change_without_leaving_the_page_and_back_works(page):
    for key in ("plate", "masks", "tracks", "lens", "world", "ties", "handoff"):
        page.locator(f".stop[data-key={key}]").click()
        assert page.url.endswith(key)
        assert page.locator(f"[data-panel={key}]").is_visible()
        assert page.locator("[data-panel]:visible").count() == 1
    page.go_back()
    assert page.locator("[data-panel=ties]").is_visible()
    page.locator(".stop[data-key=solve]").click()
    assert page.locator(".attempt.pinned").count() == 1
    assert page.locator(".finding").count() >= 2


def test_an_edit_made_elsewhere_shows_by_itself(page, database, solved_shot):
    with session(database) as opened:
        ids = [t.id for t in live_tracks(opened, opened.get(Shot, solved_shot))][:5]
        edits.apply(opened, solved_shot, "states", {"states": {"excluded": ids}})
    page.wait_for_selector(".stop[data-key=solve][data-state=look]")
    expect(page.locator("#findings")).to_contain_text("Tracks changed after this attempt")
    with session(database) as opened:
        edits.undo(opened, solved_shot)


def test_columns_sent_to_the_page_agree_with_the_store(page, service, database, solved_shot, tracks):
    sent = json.loads(page.evaluate(f"fetch('/shots/{solved_shot}/tracks.json').then((r) => r.text())"))
    assert len(sent["ids"]) == len(tracks) and sent["first"][-1] == len(tracks.frames)
    k = sent["names"].index(tracks.names[4])
    rows = slice(sent["first"][k], sent["first"][k + 1])
    assert sent["frames"][rows] == tracks.frames[tracks.rows(4)].tolist()
    assert np.allclose(sent["x"][rows], tracks.xy[tracks.rows(4), 0], atol=1e-3)
    state = json.loads(page.evaluate(f"fetch('/shots/{solved_shot}/state.json').then((r) => r.text())"))
    attempt = json.loads(page.evaluate(f"fetch('/attempts/{state['pinned']}.json').then((r) => r.text())"))
    assert len(attempt["track"]) == len(tracks.frames) == len(attempt["dx"]) and len(attempt["frame_rms"]) == 40
    counted = [np.hypot(x, y) for x, y, off in zip(attempt["dx"], attempt["dy"], attempt["aside"]) if not off]
    assert np.sqrt(np.mean(np.square(counted))) < 1.0
    with session(database) as opened:
        assert opened.scalar(select(Job).where(Job.shot_id == solved_shot, ~Job.background)) is None


def test_evidence_of_a_focal_length_stands_side_by_side(page):
    kept = {
        "found": {"focal_mm": 24.0, "equivalent_mm": 36, "sensor_width_mm": 24.0},
        "sensor_mm": 24.0,
        "profile": 3,
        "solved": {"number": 2, "focal_mm": 24.4, "focal_sigma_mm": 0.05},
        "profiles": [
            {"id": 3, "source": "chart", "name": "Wide", "focal_mm": 24.3, "focal_sigma_mm": 0.02},
            {"id": 4, "source": "lines", "name": "Other", "focal_mm": 30.0},
        ],
    }
    fit = {"focal_known": True, "focal_mm": 24.2, "focal_sigma_mm": 0.3}
    rows = module(page, "lens/camera", "return m.evidence(a.kept, a.fit)", {"kept": kept, "fit": fit})
    assert [(r["source"], r["mm"], r.get("sigma")) for r in rows] == [
        ("metadata", 24.0, None),
        ("lines", 24.2, 0.3),
        ("chart", 24.3, 0.02),
        ("solve", 24.4, 0.05),
    ]
    bare = {
        "found": {"focal_mm": None, "equivalent_mm": 50},
        "sensor_mm": 24.0,
        "profiles": [],
        "profile": None,
        "solved": None,
    }
    rows = module(
        page,
        "lens/camera",
        "return m.evidence(a.kept, a.fit)",
        {"kept": bare, "fit": {"focal_known": False, "focal_mm": 1}},
    )
    assert len(rows) == 1 and rows[0]["mm"] == pytest.approx(50 * 24 / 36)


def test_what_lines_tell_is_put_into_rows(page):
    fit = {
        "focal_known": True,
        "focal_mm": 32.2,
        "focal_sigma_mm": 0.11,
        "values": {"k1": [-0.0656, 0.0153]},
        "roll": 0.04,
        "tilt": -3.58,
        "angle_sigma": 0.07,
        "place": {
            "xyz": [1.0, 1.49, 5.0],
            "sigma": [0.1, 0.002, 0.1],
            "distance": 5.3,
            "distance_sigma": 0.04,
            "cell_m": 1,
        },
    }
    found, placed = module(page, "lens/found", "return [m.foundRows(a), m.placeRows(a)]", fit)
    assert found == [
        ["Focal length", "32.20 ±0.11", "mm"],
        ["k1", "-0.0656 ±0.0153"],
        ["Roll, tilt", "0.04, -3.58 ±0.07", "°"],
    ]
    assert placed == [["Camera's height", "1.49 ±0.01", "m"], ["From the origin", "5.30 ±0.04", "m"]]
    empty = module(
        page,
        "lens/found",
        "return [m.foundRows(null), m.placeRows(null), m.placeRows({ place: { trouble: 'x' } }), m.foundRows(a)]",
        {**fit, "focal_known": False},
    )
    assert empty[:3] == [[], [], []] and empty[3][0] == ["Focal length", "not told", ""]


def test_a_box_is_kept_as_its_edges(page):
    lines = {
        "Box 1 X1": {
            "frame": 5,
            "axis": "x",
            "box": "Box 1",
            "points": [[0, 0], [10, 0]],
            "ends": [0, 1],
            "set": [True, False],
        },
        "Box 1 Y1": {
            "frame": 5,
            "axis": "y",
            "box": "Box 1",
            "points": [[0, 0], [0, -8]],
            "ends": [0, 2],
            "set": [True, False],
        },
        "X1": {"frame": 5, "axis": "x", "points": [[1, 1], [2, 2]]},
    }
    body = """
      const corners = m.cornersOf(a, 'Box 1');
      const moved = m.withCorners(a, 'Box 1', { 0: [3, 4] }, true);
      const free = m.withCorners(a, 'Box 1', { 1: [11, 1] }, true);
      const after = m.followed(a, { 'Box 1': [[9, 9], [12, 2], [1, -9]] });
      return [corners.map((c) => c.set), m.boxesOf(a), moved['Box 1 Y1'].points, free['Box 1 X1'].set,
        Object.keys(moved), after['Box 1 X1'].points, after['Box 1 Y1'].points, after.X1.points];
    """
    sets, boxes, moved, fixed, names, x1, y1, plain = module(page, "lens/boxes", body, lines)
    assert (
        sets == [True, False, False]
        and boxes == [["Box 1", 1, 5]]
        and moved == [[3, 4], [0, -8]]
        and fixed == [True, True]
    )
    assert names == ["Box 1 X1", "Box 1 Y1"]
    # A corner that was dragged stays; those that were not go where the answer puts them.
    assert x1 == [[0, 0], [12, 2]] and y1 == [[0, 0], [1, -9]] and plain == [[1, 1], [2, 2]]


def test_lines_are_hit_and_an_origin_joins_an_axis_line_s_end(page):
    lens = {
        "lines": {
            "X1": {"frame": 5, "axis": "x", "points": [[10, 10], [50, 10], [90, 10]]},
            "edge 1": {"frame": 5, "axis": "", "points": [[10, 80], [90, 80]]},
            "Z1": {"frame": 6, "axis": "z", "points": [[10, 40], [90, 40]]},
        },
        "origin": None,
        "tool": None,
        "chosen": None,
    }
    body = """
      const said = [];
      const state = { lens: a, frame: 5, stage: 'lens' };
      const store = { state, set: (patch) => { Object.assign(state, patch); said.push(Object.keys(patch).join()); } };
      const viewport = { toScreen: (x, y) => [2 * x, 2 * y], toPlate: (x, y) => [x / 2, y / 2], redraw() {}, canvas: {
        style: {} } };
      const sent = [];
      const send = { draw: (f, t) => sent.push(['draw', f, t]), box: (f, t) => sent.push(['box', f, t]), origin: (o,
        done) => sent.push(['origin', o, done]), drag: (l) => sent.push(['drag', Object.keys(l)]), settle: (n,
          k) => sent.push(['settle', n, k]), keep: (l, w) => sent.push(['keep', w]) };
      const d = new m.LineDraw(viewport, store, send);
      const hits = [d.hit([20, 20]), d.hit([60, 21]), d.hit([60, 160]), d.hit([60, 80])];
      const joined = [d.originUnder([181, 22]), d.originUnder([20, 160])];
      state.lens = { ...a, tool: 'x' };
      const event = { detail: 1 };
      d.down(event, [40, 100]); d.up(); d.move(event, [100, 100]); const waiting = Boolean(d.first); d.down(event,
        [140, 100]);
      d.down(event, [20, 20]); d.move(event, [30, 40]); const dragging = d.dragging; d.up();
      state.lens = { ...a, tool: 'origin' };
      d.down(event, [181, 22]);
      state.lens = { ...a, tool: null, origin: { frame: 5, point: [30, 30] } };
      const over = d.hit([61, 61]);
      d.down(event, [61, 61]); d.move(event, [80, 80]); d.up();
      state.lens = { ...a, tool: 'y' };
      d.down(event, [300, 300]); d.up(); const cancelled = d.cancel(); d.down(event, [400, 400]);
      return { hits: hits.map((h) => h && [h.kind, h.name, h.k]), joined, waiting, dragging, over: over.kind,
        cancelled, first: d.first, sent };
    """
    told = module(page, "lens/lines", body, lens)
    assert told["hits"] == [["point", "X1", 0], ["line", "X1", 1], ["line", "edge 1", 1], None]
    assert told["joined"] == [{"line": "X1", "end": 1}, {"frame": 5, "point": [10, 80]}]
    assert (
        told["waiting"]
        and told["dragging"]
        and told["over"] == "origin"
        and told["cancelled"]
        and told["first"] is None
    )
    assert told["sent"] == [
        ["draw", [20, 50], [70, 50]], ["drag", ["X1"]], ["settle", "X1", 0], ["origin", {"line": "X1", "end": 1}, True],
        ["origin", {"frame": 5, "point": [40, 40]}, False], ["origin", {"frame": 5, "point": [30, 30]}, True],
    ]  # fmt: skip


def test_a_zoom_and_an_off_centre_lens_are_drawn_as_they_are(solved_page):
    world = {"image": {"width": 640, "height": 360}, "lens": {"focal_px": [700, 710], "principal_px": [330, 170]}}
    seen = module(solved_page, "viewport/pinhole", "return m.pinholeOf(a[0], a[1]);", [world, {"focal_px": 840}])
    assert seen == {"fx": 840, "fy": pytest.approx(852), "cx": 330, "cy": 170}


def test_dividers_keep_within_the_page(solved_page):
    page = {"width": 1280, "height": 800, "lanes": 600}
    sizes = "return [m.sizeAt('side', 900, 0, a), m.sizeAt('side', 5, 0, a), m.sizeAt('lanes', 0, 790, a)];"
    assert module(solved_page, "shell/room", sizes, page) == [380, 640, 96]


def test_the_residual_lane_parts_what_counted_and_says_how_frames_are_held(page):
    attempt = {
        "first": 1001, "frame_rms": [1.0, 3.0, None], "track": [7, 7, 9, 9, 8], "frame": [1001, 1002, 1001, 1002, 1002],
        "dx": [3, 0.3, 0.6, 4, 90], "dy": [4, 0.4, 0.8, 3, 90], "aside": [0, 0, 0, 0, 1],
    }  # fmt: skip
    body = """
      const rows = m.figuresOf(a);
      const held = m.heldOf(a, {samples: [[0, 1], [0], []], x: [10, 90], y: [10, 90]}, 100, 100);
      return [rows.map((r) => [r.count, r.worst]), held, m.figuresOf(a) === rows]"""
    rows, held, kept = module(page, "lanes/residual", body, attempt)
    assert rows == [[2, 5], [2, 5], [0, None]] and kept
    assert held[2] == 0 and 0 < held[1] <= held[0] < 0.5


def test_the_casebook_ranks_trials_and_folds_what_is_calm(page):
    finding = {
        "kind": "jump", "severity": "notable", "confidence": 0.8, "text": "Track a1 jumps.", "frames": [1003],
        "tracks": [7], "remedies": [{"code": "cut", "words": "Cut a1"}, {"code": "advice", "words": "Look at it"}],
    }  # fmt: skip
    side = {"check_px": 0.2, "rms_px": 0.3, "focal_px": 900, "focal_sigma_px": 3, "slip_px": None, "tracks": 9}
    moved = {"position_share": 0.001, "turn_deg": 0.01}

    def trial(number, words, verdict, after, **more):
        comparison = {"before": side, "after": {**side, "check_px": after}, "words": f"It is {verdict}.", **moved}
        return {
            "id": number, "finding": "jump", "words": words, "verdict": verdict, "comparison": comparison,
            "state": "done", "decided": "", "stale": False, "who": "artist", "when": "2026-01-01T10:00", "number": 2,
            "base": 1, "error": "", "job": 5, "progress": 1, **more,
        }  # fmt: skip

    server = {
        "pinned": 1, "undiagnosed": False,
        "findings": [finding, {**finding, "kind": "focal", "severity": "calm", "text": "Well known.", "remedies": []}],
        "trials": [
            trial(1, "Cut a1", "number only", 0.2), trial(2, "Exclude a1", "better", 0.15),
            trial(3, "Old one", "worse", 0.4, decided="dropped"), trial(4, "At work", "", 0.2, state="running"),
        ],
    }  # fmt: skip
    body = """
      const box = document.querySelector('#findings'), before = [...box.childNodes], calls = [];
      const act = new Proxy({}, {get: (_, name) => (...rest) => calls.push([name, ...rest.map((r) => r?.id ?? r)])});
      m.drawCasebook(a, {attempt: null, first: 1001, last: 1040}, act);
      const press = (words) => [...box.querySelectorAll('button')].find((b) => b.textContent === words).click();
      press('Cut a1'); press('1 track'); press('Keep'); press('Cancel');
      const out = {
        ranked: [...box.querySelectorAll('.ranking li span.grow')].map((e) => e.textContent),
        folds: [...box.querySelectorAll('.fold summary')].map((e) => e.textContent),
        disabled: [...box.querySelectorAll('.remedies .button')].filter((b) => b.disabled).length,
        advice: box.textContent.includes('Look at it'), calls,
      };
      box.replaceChildren(...before);
      return out;"""
    seen = module(page, "casebook/findings", body, server)
    assert seen["ranked"] == ["Exclude a1", "Cut a1"] and seen["advice"] and seen["disabled"] == 1
    assert seen["folds"] == ["One thing is as it should be", "Tried before: 1"]
    assert ["select", [7]] in seen["calls"] and ["keep", 2] in seen["calls"] and ["cancel", 4] in seen["calls"]
