"""Pieces of the lens on their own: what a solve may do with it, held maps, files of lines, pictures of a grid,
snapping, canvases.
"""

import json
from dataclasses import replace

import cv2
import numpy as np
import pytest
from click.testing import CliRunner
from simulated import check_derivatives

from amberkeel.cli import main
from amberkeel.core.errors import LensError
from amberkeel.core.geometry.rotations import look_at
from amberkeel.core.lens import Lens
from amberkeel.core.lens.edges import find_edge, snap
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.line_file import read_line_document
from amberkeel.core.lens.picture import Resampler, canvas_for, redistort_map, undistort_map
from amberkeel.core.lens.profile import read_profile, typed_names
from amberkeel.core.lens.stills import MOST_STILLS, open_stills
from amberkeel.core.lens.views import ChartOrder, check_order, find_views
from amberkeel.core.pictures.write import write_png
from amberkeel.core.solve.held_lens import bent_px, straight_px, straightened, with_focal
from amberkeel.core.solve.lens_plan import LensChoice, lens_plan, zoom_basis
from amberkeel.core.solve.terms import SmoothZoom, SoftLens
from amberkeel.core.tracks import TrackSet
from benchmarks.scene import large_problem

PLAIN = Lens.centred(640, 360, 500.0)
HELD = {
    "radial": replace(PLAIN, radial=(-0.12, 0.03, -0.004), tangential=(0.002, -0.001), principal_px=(326.0, 171.0)),
    "division": replace(PLAIN, division=-0.11),
    "two-axis": replace(
        PLAIN,
        focal_px=(500.0, 760.0),
        two_axis=(-0.05, 0.01, 0.004, 0.0, 0.0, -0.02, -0.06, 0.0, 0.006, 0.0),
        turn=-0.03,
    ),
}


@pytest.fixture
def positions(rng):
    """Pixels all over the picture, its corners included."""
    return np.concatenate(
        [rng.uniform([0, 0], [640, 360], (200, 2)), [[0.0, 0.0], [640.0, 0.0], [0.0, 360.0], [640.0, 360.0]]]
    )


@pytest.mark.parametrize("lens", HELD.values(), ids=HELD)
@pytest.mark.parametrize("share", [0.6, 1.0, 1.7])
def test_a_held_map_stays_what_it_was_at_any_focal_length(lens, share, positions):
    other = with_focal(lens, share * lens.focal_px[0])
    assert other.focal_px[1] / other.focal_px[0] == pytest.approx(lens.focal_px[1] / lens.focal_px[0])
    assert np.abs(straight_px(other, positions) - straight_px(lens, positions)).max() < 1e-6
    assert np.abs(bent_px(other, straight_px(lens, positions)) - positions).max() < 1e-6


def test_noise_grows_where_the_picture_is_stretched(positions):
    lens = HELD["radial"]
    count = len(positions)
    tracks = TrackSet(
        [f"t{k}" for k in range(count)],
        np.arange(count + 1),
        np.full(count, 7),
        positions,
        np.full(count, 0.1),
        np.ones(count),
    )
    out = straightened(tracks, lens)
    h = 1e-3
    numeric = [
        (straight_px(lens, positions + d) - straight_px(lens, positions - d)) / (2 * h)
        for d in (np.array([h, 0.0]), np.array([0.0, h]))
    ]
    area = np.abs(numeric[0][:, 0] * numeric[1][:, 1] - numeric[0][:, 1] * numeric[1][:, 0])
    assert out.sigma == pytest.approx(0.1 * np.sqrt(area), rel=1e-3) and out.sigma[-1] > 1.1 * 0.1
    assert np.array_equal(out.frames, tracks.frames) and out.names == tracks.names


@pytest.mark.parametrize("term", [SoftLens("focal", 690.0, 7.0), SoftLens("k1", -0.1, 0.02), SmoothZoom(0.02)])
def test_terms_are_rows_of_least_squares_with_true_derivatives(term, rng):
    bundle = large_problem(cameras=12, points=8, track=6)
    basis = zoom_basis(12)
    lens = replace(bundle.lenses[0], zoom=0.1 * rng.normal(size=basis.shape[1]), zoom_basis=basis)
    bundle = replace(bundle, lenses=(lens,))
    check_derivatives(term, bundle)
    if term.name == "zoom":
        # A straight course of the zoom costs nothing but its mean, which belongs to the focal length.
        line = replace(lens, zoom=np.linspace(-1.0, 1.0, len(lens.zoom)))
        assert term.evaluate(replace(bundle, lenses=(line,))).residual == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize("frames", [2, 9, 72, 300])
def test_a_zoom_s_basis_sums_to_one_and_follows_a_smooth_course(frames):
    basis = zoom_basis(frames)
    assert basis.shape[0] == frames and (basis >= 0.0).all() and basis.sum(1) == pytest.approx(1.0)
    course = np.sin(np.linspace(0.0, frames / 40.0, frames))
    fit = basis @ np.linalg.lstsq(basis, course, rcond=None)[0]
    assert np.abs(fit - course).max() < 2e-3


def test_a_plan_says_what_is_free_what_is_tried_later_and_what_is_searched():
    usual = lens_plan({}, 640, 360, 1.0, True)
    assert usual.search and usual.free.lens == ("focal", "k1") and usual.later == ("k2", "k3")
    assert (usual.start.cx, usual.start.cy) == (320.0, 180.0)
    bare = lens_plan({}, 640, 360, 1.0, False)
    assert bare.free.lens == ("focal",) and bare.later == () and bare.start.radial == (0.0, 0.0, 0.0)
    choices = {
        "focal": LensChoice("soft", 700.0, 7.0), "k1": LensChoice("fixed", -0.1), "k2": LensChoice("free"),
        "cx": LensChoice("soft", 330.0, 2.0),
    }  # fmt: skip
    plan = lens_plan(choices, 640, 360, 2.0, True)
    start = plan.start
    assert not plan.search and (start.focal, start.aspect, start.k1, start.cx) == (700.0, 2.0, -0.1, 330.0)
    assert plan.free.lens == ("focal", "k2", "cx") and plan.later == ("k3",)
    shown = [term for term in plan.free.active_terms if term.shown]
    assert shown == [SoftLens("focal", 700.0, 7.0), SoftLens("cx", 330.0, 2.0)]
    held = lens_plan({"focal": LensChoice("fixed", 650.0)}, 640, 360, 1.0, False)
    assert held.free.lens == () and not held.search and held.start.focal == 650.0


@pytest.fixture
def drawn_document():
    """A file of lines seen through a known lens by a camera at a known position, with one of 2 m measured."""
    lens, position = replace(Lens.centred(960, 540, 800.0), radial=(-0.1, 0.0, 0.0)), np.array([1.0, 1.6, 5.0])
    turned = look_at(position, np.array([-0.8, 0.9, -3.0]))
    rng, rows = np.random.default_rng(3), []
    ends = [
        *[("x", (-2.0, y, z), (2.0, y, z)) for y, z in ((0.0, 0.0), (0.0, -3.0), (2.2, -3.0), (1.0, -3.0))],
        *[("z", (x, y, 0.5), (x, y, -3.0)) for x, y in ((-2.0, 0.0), (-2.0, 2.2), (-1.0, 0.0), (1.0, 0.0))],
        *[("y", (x, 0.0, -3.0), (x, 2.2, -3.0)) for x in (-2.0, 0.0, 1.8)],
        ("x", (-1.0, 0.0, -1.0), (1.0, 0.0, -1.0)),
    ]
    for k, (axis, a, b) in enumerate(ends):
        px = lens.project((np.linspace(a, b, 2 if k == len(ends) - 1 else 9) - position) @ turned)
        rows.append(
            {
                "name": f"{axis}{k}",
                "axis": axis,
                "frame": 1,
                "points": (px + rng.normal(0, 0.05, px.shape)).tolist(),
                "sigma": 0.1,
            }
        )
    document = {
        "image": {"width": 960, "height": 540},
        "radial": 1,
        "lines": rows,
        "measured": {"line": rows[-1]["name"], "metres": 2.0},
    }
    return document, position, turned


def test_a_file_of_lines_places_the_camera(drawn_document, tmp_path):
    document, position, turned = drawn_document
    source, out = tmp_path / "lines.json", tmp_path / "lens.json"
    source.write_text(json.dumps(document))
    run = CliRunner().invoke(main, ["lens", "lines", str(source), "--out", str(out)])
    assert run.exit_code == 0 and "the camera stands at" in run.output and "roll" in run.output, run.output
    written = json.loads(out.read_text())
    camera = written["cameras"][0]
    assert camera["frame"] == 1 and np.array(camera["world_from_camera"]) == pytest.approx(turned, abs=5e-3)
    assert (
        camera["position"] == pytest.approx(position - [-1.0, 0.0, -1.0], abs=0.03)
        and max(camera["position_sigma"]) < 0.05
    )
    assert read_profile(written).lens.focal_px[0] == pytest.approx(800.0, rel=0.01)
    end = document["lines"][-1]["points"][-1]
    source.write_text(json.dumps({**document, "origin": end}))
    run = CliRunner().invoke(main, ["lens", "lines", str(source), "--out", str(out)])
    assert json.loads(out.read_text())["cameras"][0]["position"] == pytest.approx(position - [1.0, 0.0, -1.0], abs=0.03)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"measured": {"line": "none", "metres": 2.0}}, "no line “none”"),
        ({"measured": {"line": "x0", "metres": 0.0}}, "impossible"),
        ({"measured": {"line": "x0"}}, "not complete"),
        ({"origin": [1.0]}, "not complete"),
        ({"image": {"width": 960}}, "not complete"),
        ({"image": {"width": 4, "height": 3}}, "impossible"),
        ({"image": {"width": 960, "height": 540, "pixel_aspect": 0}}, "impossible"),
        ({"sensor_width_mm": 0.0}, "impossible"),
        ({"radial": 7}, "no model"),
        ({"model": "fisheye"}, "no model"),
        ({"lines": {}}, "no lines"),
    ],
)
def test_a_spoilt_file_of_lines_is_refused_in_words(drawn_document, change, words, tmp_path):
    source = tmp_path / "lines.json"
    source.write_text(json.dumps({**drawn_document[0], **change}))
    run = CliRunner().invoke(main, ["lens", "lines", str(source), "--out", str(tmp_path / "lens.json")])
    assert run.exit_code == 1 and words in run.output and not (tmp_path / "lens.json").exists()


def test_a_document_of_lines_holds_what_it_says(drawn_document):
    given = read_line_document(
        {**drawn_document[0], "focal_px": 790.0, "focal_sigma": 0.01, "tangential": True, "sensor_width_mm": 24.0}
    )
    assert (
        given.order.focal_px == 790.0
        and given.order.focal_sigma == 0.01
        and given.order.tangential
        and given.sensor_width_mm == 24.0
    )
    assert given.measured == ("x11", 2.0) and given.origin is None and len(given.lines) == 12
    assert read_line_document({**drawn_document[0], "measured": None}).placed(None) is None


def test_pictures_of_a_grid_are_found_by_folder_pattern_and_file(tmp_path):
    for k in range(3):
        write_png(tmp_path / f"grid.{k:04d}.png", np.full((36, 64, 3), 40 * k, np.uint8))
    (tmp_path / "notes.txt").write_text("no picture")
    for where in (tmp_path, tmp_path / "grid.####.png", tmp_path / "grid.%04d.png"):
        count, pictures = open_stills(where)
        named = dict(pictures)
        assert (
            count == 3
            and sorted(named) == [f"grid.{k:04d}.png" for k in range(3)]
            and named["grid.0002.png"].shape == (36, 64)
        )
    assert open_stills(tmp_path / "grid.0001.png")[0] == 1
    for nowhere in (tmp_path / "none", tmp_path / "none" / "x.####.png", tmp_path / "other.####.png"):
        with pytest.raises(LensError, match="no pictures"):
            open_stills(nowhere)
    many = tmp_path / "many"
    many.mkdir()
    for k in range(MOST_STILLS + 30):
        (many / f"g{k:04d}.png").write_bytes(b"")
    assert open_stills(many)[0] == MOST_STILLS


@pytest.mark.parametrize(
    ("order", "words"),
    [
        (ChartOrder(9, 6, 25.0, "stars"), "no pattern"), (ChartOrder(2, 6, 25.0), "cannot be looked for"),
          (ChartOrder(9, 61, 25.0), "cannot be looked for"),
        (ChartOrder(9, 6, 0.0), "impossible"), (ChartOrder(0, 2, 25.0, "tags"), "cannot be looked for"),
    ],
)  # fmt: skip
def test_a_grid_that_cannot_be_is_refused(order, words):
    with pytest.raises(LensError, match=words):
        check_order(order)


def test_pictures_without_a_grid_say_so():
    gray = np.full((90, 160), 128, np.uint8)
    for pictures, order, words in (
        ([], ChartOrder(9, 6, 25.0), "no pictures"),
        ([("a", gray)], ChartOrder(4, 3, 25.0), "No picture shows a grid of 4x3"),
        ([("a", gray)], ChartOrder(0, 0, 25.0, "loose"), "No picture shows a tag"),
        ([("a", gray), ("b", gray[:80])], ChartOrder(4, 3, 25.0), "one size"),
    ):
        with pytest.raises(LensError) as told:
            find_views(pictures, order)
        assert words in str(told.value)


@pytest.mark.parametrize("angle", [0.0, 20.0, 65.0, 90.0, 140.0])
def test_points_snap_onto_an_edge_at_subpixel(angle, rng):
    along, middle = np.array([np.cos(np.radians(angle)), np.sin(np.radians(angle))]), np.array([160.3, 120.6])
    x, y = np.meshgrid(np.arange(320) + 0.5, np.arange(240) + 0.5)
    off = (x - middle[0]) * -along[1] + (y - middle[1]) * along[0]
    gray = np.clip(60.0 + 120.0 / (1.0 + np.exp(-off / 0.6)) + rng.normal(0, 2.0, x.shape), 0, 255).astype(np.uint8)
    ends = middle + along * np.array([[-80.0], [80.0]]) + rng.normal(0, 1.5, (2, 2))
    found = find_edge(gray, *ends)
    across = (found - middle) @ np.array([-along[1], along[0]])
    assert len(found) >= 4 and np.abs(across).max() < 0.25
    pushed = found.copy()
    pushed[1] += 2.5 * np.array([-along[1], along[0]])
    assert abs((snap(gray, pushed, 1) - middle) @ np.array([-along[1], along[0]])) < 0.3


def test_an_edge_where_there_is_none_is_told():
    with pytest.raises(LensError):
        find_edge(np.full((120, 160), 90, np.uint8), np.array([20.0, 60.0]), np.array([140.0, 60.0]))


@pytest.mark.parametrize("lens", HELD.values(), ids=HELD)
@pytest.mark.parametrize("overscan", ["all", "same", 12.0])
def test_a_picture_comes_back_after_straightening_and_bending(lens, overscan):
    picture = cv2.GaussianBlur(np.random.default_rng(2).uniform(0, 255, (360, 640, 3)).astype(np.float32), (0, 0), 3.0)
    canvas = canvas_for(lens, overscan)
    there, back = Resampler(undistort_map(lens, canvas), "cubic"), Resampler(redistort_map(lens, canvas), "cubic")
    again = back(there(picture))
    inside = redistort_map(lens, canvas)
    seen = ((inside > 3) & (inside < [canvas.width - 3, canvas.height - 3])).all(-1)
    seen[:4], seen[-4:], seen[:, :4], seen[:, -4:] = False, False, False, False
    assert seen.mean() > (0.95 if overscan == "all" else 0.7)
    assert np.abs(again - picture)[seen].mean() < 0.02 * picture.std()


def test_a_model_s_values_have_their_places():
    for model in ("radial", "division"):
        names = typed_names(model)
        assert names[0] == "focal" and set(names[1:-2]) <= set(INDEX) and names[-2:] == ("cx", "cy")
    assert typed_names("two-axis") == ("focal", "cx", "cy")
