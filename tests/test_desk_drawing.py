"""What the desk draws from its state: curves, sightings, coverage, the picture's position on the screen, and strokes
recorded as they are made.
"""

import numpy as np
import pytest
from desk import module

RECORDER = """
  const strokes = [];
  const c = new Proxy({ canvas: { clientWidth: 800, clientHeight: 450 } }, {
    get: (own, name) => own[name] ?? (name === 'measureText' ? (t) => ({ width: 7 * t.length }) : (...asked) => {
      strokes.push([name, ...asked.filter((v) => typeof v !== 'object')]); }),
    set: (own, name, value) => { strokes.push(['set', name, String(value)]); return true; },
  });
"""
"""A canvas's context that notes what is drawn with it."""


@pytest.fixture(scope="module")
def page(solved_page):
    return solved_page


@pytest.fixture
def columns(rng):
    """Two tracks in columns, the first with a gap."""
    frames = [1001, 1002, 1003, 1006, 1007, 1008, 1002, 1003, 1004]
    return {
        "ids": [7, 9],
        "names": ["a", "b"],
        "kinds": ["auto", "hand"],
        "states": ["active", "active"],
        "first": [0, 6, 9],
        "frames": frames,
        "x": rng.uniform(0, 640, 9).round(3).tolist(),
        "y": rng.uniform(0, 360, 9).round(3).tolist(),
        "sigma": [0.1] * 9,
        "score": rng.uniform(0.5, 1, 9).round(3).tolist(),
    }


def curve(page, tracks, kind, track=0, errors=None):
    body = (
        "const t = (await import('/static/desk/tracks/index.js')).indexTracks(a.tracks, 1001, 1010); "
        "const e = a.errors && { errors: new Map([[7, new Map(a.errors)]]) }; return m.curveOf(t, e, a.track, "
        "a.kind)"
    )
    return module(page, "lanes/curves", body, {"tracks": tracks, "kind": kind, "track": track, "errors": errors})


def test_curves_are_what_their_names_say(page, columns):
    x, y = np.array(columns["x"]), np.array(columns["y"])
    assert curve(page, columns, "x") == [
        [1001, x[0]],
        [1002, x[1]],
        [1003, x[2]],
        None,
        [1006, x[3]],
        [1007, x[4]],
        [1008, x[5]],
    ]
    assert [p[1] for p in curve(page, columns, "score", 1)] == columns["score"][6:]
    speed = [p for p in curve(page, columns, "speed") if p]
    assert [p[0] for p in speed] == [1002, 1003, 1007, 1008]
    steps = np.hypot(np.diff(x), np.diff(y))
    assert [p[1] for p in speed] == pytest.approx([steps[0], steps[1], steps[3], steps[4]])
    bend = [p for p in curve(page, columns, "acceleration") if p]
    second = np.hypot(np.diff(x, 2), np.diff(y, 2))
    # A step across a gap is none, so neither is what follows from it.
    assert [p[0] for p in bend] == [1003, 1008] and [p[1] for p in bend] == pytest.approx([second[0], second[3]])
    residual = curve(page, columns, "residual", errors=[[1002, [3, 4, 10, 0]], [1007, [0, 1, 2, 0]]])
    assert [p for p in residual if p] == [[1002, 5], [1007, 1]]


def test_sightings_are_found_by_frame_and_length(page):
    data = {"first": [0, 3, 5], "frames": [1001, 1002, 1003, 1002, 1003], "x": [1, 2, 3, 40, 50], "y": [5, 6, 7, 8, 9]}
    body = (
        "const s = m.indexSightings(a, 1001, 1004); const at = (frame, "
        "sightLength) => m.onFrame({ sightings: s, frame, sightLength }); return [s.count, at(1002, 1), "
        "at(1002, 3), at(1004, 1), m.onFrame({ sightings: null })]"
    )
    assert module(page, "tracks/sightings", body, data) == [2, [[0, 2, 6, 1], [1, 40, 8, 3]], [[0, 2, 6, 1]], [], []]


def test_coverage_counts_live_tracks_in_each_part(page, columns):
    tracks = {**columns, "x": [10, 11, 12, 13, 14, 15, 630, 631, 632], "y": [5] * 6 + [350] * 3}
    body = f"""
      const t = (await import('/static/desk/tracks/index.js')).indexTracks(a, 1001, 1010);
      {RECORDER}
      m.drawCoverage(c, {{ tracks: t, attempt: null, frame: 1002, width: 640, height: 360, first: 1001 }}, (x,
        y) => [x, y]);
      return strokes.filter((s) => s[0] === 'fillText').map((s) => [s[1], s[2], s[3]]);
    """
    counts = module(page, "tracks/coverage", body, tracks)
    assert len(counts) == 40 and sum(n for n, _, _ in counts) == 2
    # The first part is the top left one, the last the bottom right one; numbers stand in their corners.
    assert counts[0][0] == 1 and counts[-1][0] == 1 and counts[-1][1] > 560 and counts[-1][2] > 288


@pytest.mark.parametrize("aspect", [1.0, 2.0, 0.9])
def test_a_place_on_the_plate_has_one_on_the_screen_and_back(page, aspect, rng):
    positions = rng.uniform([0, 0], [640, 360], (20, 2)).tolist()
    body = """
      const canvas = document.createElement('canvas');
      canvas.style.cssText = 'position:fixed;left:0;top:0;width:800px;height:500px';
      document.body.append(canvas);
      const state = { width: 640, height: 360, aspect: a.aspect, stage: 'plate', layers: {}, selection: new Set(),
        frame: 1001 };
      const v = new m.Viewport(canvas, { state, set() {} }, { want: () => null });
      v.draw = () => {};
      v.zoom = 1.7; v.pan = [23, -11];
      const back = a.positions.map((p) => v.toPlate(...v.toScreen(...p)));
      const [x0] = v.toScreen(0, 0), [x1] = v.toScreen(640, 0), [, y0] = v.toScreen(0, 0), [, y1] = v.toScreen(0, 360);
      v.fit();
      const corners = [v.toScreen(0, 0), v.toScreen(640, 360)];
      canvas.remove();
      return { back, shape: (x1 - x0) / (y1 - y0), corners };
    """
    told = module(page, "viewport/viewport", body, {"aspect": aspect, "positions": positions})
    assert np.array(told["back"]) == pytest.approx(np.array(positions), abs=1e-6)
    assert told["shape"] == pytest.approx(aspect * 640 / 360)
    (left, top), (right, bottom) = told["corners"]
    assert (
        left >= 0
        and top >= 0
        and right <= 800
        and bottom <= 500
        and (left + right) / 2 == pytest.approx(400)
        and (top + bottom) / 2 == pytest.approx(250)
    )


def draw_lens(page, **change):
    """Draw lines over a plate of 640x360 shown at its own size; returns what was drawn."""
    lens = {
        "lines": {
            "X1": {"frame": 5, "axis": "x", "points": [[10, 300], [300, 310]]},
            "Z1": {"frame": 6, "axis": "z", "points": [[1, 1], [9, 9]]},
        },
        "origin": {"line": "X1", "end": 1},
        "tool": None,
        "chosen": None,
        "look": "shot",
        "grid": False,
        "floor": True,
        "shown": True,
        "fit": {
            "lines": {"X1": {"before": 1.0, "after": 0.2, "disagrees": False}},
            "grid": [[[0, 0], [640, 5]]],
            "floor": [[[0, 200], [640, 210]]],
            "horizon": [[-20, 90], [30, 91], [600, 95]],
            "straight": {"X1": [[12, 301], [305, 312]]},
            "straight_floor": [[[0, 201], [640, 211]]],
            "straight_horizon": [[30, 92], [600, 96]],
            "place": {"cell_m": 0.5},
        },
        **change,
    }
    body = f"""
      {RECORDER}
      const state = {{ lens: a, frame: 5, stage: 'lens', width: 640, height: 360 }};
      const d = new m.LineDraw({{ width: 640 }}, {{ state }}, {{}});
      d.draw(c, state, (x, y) => [x, y]);
      return strokes;
    """
    return module(page, "lens/lines", body, lens)


def drawn_texts(strokes):
    return [s[1] for s in strokes if s[0] == "fillText"]


def drawn_points(strokes):
    return {tuple(s[1:3]) for s in strokes if s[0] in ("lineTo", "moveTo")}


def test_lines_floor_origin_and_grid_are_drawn_where_they_are_switched_on(page):
    whole = draw_lens(page)
    assert drawn_texts(whole) == ["horizon", "X", "origin, cells of 0.5 m"]
    assert {(10, 300), (300, 310), (640, 210)} <= drawn_points(whole) and not {(1, 1), (640, 5)} & drawn_points(whole)
    assert (640, 5) in drawn_points(draw_lens(page, grid=True))
    bare = draw_lens(page, floor=False, shown=False, origin=None)
    assert drawn_texts(bare) == [] and not drawn_points(bare)
    plain = draw_lens(page, fit=None)
    assert drawn_texts(plain) == ["X", "origin"] and (300, 310) in drawn_points(plain)


def test_on_the_straightened_plate_everything_stands_straightened(page):
    straight = draw_lens(page, look="straight")
    assert {(12, 301), (305, 312), (640, 211), (600, 96)} <= drawn_points(straight) and not {
        (10, 300),
        (640, 210),
    } & drawn_points(straight)
    assert "origin" not in " ".join(drawn_texts(straight))


def test_a_line_that_disagrees_says_so_and_a_chosen_one_says_how_far_it_is(page):
    fit = {"lines": {"X1": {"before": 4.0, "after": 3.21, "disagrees": True}}, "grid": [], "floor": [], "horizon": []}
    assert drawn_texts(draw_lens(page, fit=fit, origin=None)) == ["X disagrees"]
    assert drawn_texts(draw_lens(page, fit=fit, origin=None, chosen="X1")) == ["X disagrees 3.21 px"]
    colours = {s[2] for s in draw_lens(page, fit=fit, origin=None) if s[:2] == ["set", "strokeStyle"]}
    assert "#d5559a" in colours
