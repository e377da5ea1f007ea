"""A lens from drawn lines and filmed grids: truth found within stated sigma, bad evidence refused in words."""

from dataclasses import replace

import numpy as np
import pytest

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.rotations import look_at, rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.lens.camera_position import camera_position
from amberkeel.core.lens.chart import calibrate
from amberkeel.core.lens.drawn import DrawnLine, LensOrder, read_lines
from amberkeel.core.lens.edges import find_edge, snap
from amberkeel.core.lens.fit import centre_test, fit_lens
from amberkeel.core.lens.look import floor_cell, floor_grid, horizon_angles, vanishing_points
from amberkeel.core.lens.views import ChartOrder, find_views
from amberkeel.core.sim.grids import chess, filmed
from amberkeel.core.solve.held_lens import straight_px

LENS = replace(Lens.centred(960, 540, 640.0), radial=(-0.15, 0.03, 0.0))
PLACE = np.array([2.3, 1.5, 4.9])
TURNED = look_at(PLACE, np.array([-2.6, 1.3, -4.0]))

EDGES = [
    *[("x", (-3.4, 2.3, z), (3.4, 2.3, z)) for z in (1.7, 0.0, -1.7, -3.4)],
    *[
        ("z", (x, y, 2.0), (x, y, -7.5))
        for x, y in ((-3.3, 1.3), (-3.3, 0.2), (-1.4, 0.0), (0.8, 0.0), (3.3, 1.3), (-1.3, 0.8))
    ],
    *[("y", (x, 0.4, z), (x, 2.2, z)) for x, z in ((-3.2, 0.0), (-3.2, -1.7), (3.2, -1.7), (3.2, -3.4))],
]


def drawn(noise, rng, lens=LENS, position=PLACE, turned=TURNED, edges=EDGES):
    lines = []
    for k, (axis, a, b) in enumerate(edges):
        world = np.linspace(a, b, 300)
        camera = (world - position) @ turned
        px = lens.project(camera)
        seen = (camera[:, 2] > 0.3) & (px > 4).all(1) & (px < [lens.width - 4, lens.height - 4]).all(1)
        if seen.sum() < 20:
            continue
        px = px[seen]
        count = max(5, int(np.linalg.norm(px[-1] - px[0]) / 35.0))
        px = px[np.linspace(0, len(px) - 1, count).astype(int)]
        lines.append(DrawnLine(px + rng.normal(0, noise, px.shape), axis, 1001, max(noise, 0.05), f"{axis}{k}"))
    return lines


def map_error(found: Lens, true: Lens) -> float:
    """RMS distance over the picture of straightened positions, about the best scale, pixels of the plate."""
    x, y = np.meshgrid(np.linspace(0, true.width, 25), np.linspace(0, true.height, 15))
    px = np.stack([x, y], -1).reshape(-1, 2)
    a, b = (straight_px(lens, px) - lens.principal_px for lens in (found, true))
    scale = (a * b).sum() / (a * a).sum()
    return float(np.sqrt(((scale * a - b) ** 2).sum(1).mean()))


def test_lines_without_noise_tell_the_lens_exactly(rng):
    found = fit_lens(drawn(0.0, rng), LensOrder(960, 540))
    assert found.focal_known and found.lens.focal_px[0] == pytest.approx(640.0, rel=1e-3)
    assert found.lens.radial[:2] == pytest.approx((-0.15, 0.03), abs=2e-3)
    assert np.degrees(np.arccos(np.clip(found.rotations[1001][1] @ TURNED[1], -1, 1))) < 0.01
    assert max(line.after_px for line in found.lines) < 0.01 < 1.0 < max(line.before_px for line in found.lines)
    roll, tilt = horizon_angles(found.rotations[1001])
    assert abs(roll) < 1e-3 and -0.1 < tilt < 0.0
    assert vanishing_points(found.lens, found.rotations[1001])["z"] is not None
    measured = DrawnLine(LENS.project((np.array([[-1.4, 0.0, 0.0], [-1.4, 0.0, -2.5]]) - PLACE) @ TURNED), "z", 1001)
    placed = camera_position(found, measured, 2.5)
    assert placed.xyz == pytest.approx(PLACE - [-1.4, 0.0, 0.0], abs=0.02) and placed.distance == pytest.approx(
        np.linalg.norm(placed.xyz), abs=1e-6
    )


def seen(*world, lens=LENS):
    """Pixels of positions in the world, as the drawn lines' camera sees them."""
    return lens.project((np.array(world) - PLACE) @ TURNED)


def test_a_measured_line_places_the_camera_within_its_sigma():
    origin, upright, along = (
        [-1.4, 0.0, -0.5],
        [[0.8, 1.1, -1.0], [0.8, 0.0, -1.0]],
        [[-1.4, 0.0, 0.0], [-1.4, 0.0, -2.5]],
    )
    for ends, axis, metres in ((upright, "y", 1.1), (along, "z", 2.5)):
        scores = []
        for seed in range(16):
            rng = np.random.default_rng(seed)
            found = fit_lens(drawn(0.3, rng), LensOrder(960, 540))
            line = DrawnLine(seen(*ends) + rng.normal(0, 0.3, (2, 2)), axis, 1001, 0.3)
            placed = camera_position(found, line, metres, seen(origin)[0] + rng.normal(0, 0.3, 2))
            scores.append((placed.xyz - (PLACE - origin)) / placed.sigma)
            assert (
                placed.distance == pytest.approx(np.linalg.norm(placed.xyz))
                and 0.0 < placed.distance_sigma < 0.1 * placed.distance
            )
        assert 0.5 < np.sqrt(np.mean(np.square(scores))) < 1.5
    exact = fit_lens(drawn(0.0, rng), LensOrder(960, 540))
    line = DrawnLine(seen(*upright), "y", 1001, 0.05)
    lower, upper = (camera_position(exact, line, 1.1, end).xyz for end in (line.points[1], line.points[0]))
    assert lower == pytest.approx(camera_position(exact, line, 1.1).xyz) and lower - upper == pytest.approx(
        [0.0, 1.1, 0.0], abs=0.02
    )
    grid = floor_grid(exact.lens, exact.rotations[1001], -lower, 1.0)
    crossing = seen(upright[1])[0]
    assert min(np.linalg.norm(line - crossing, axis=1).min() for line in grid) < 20.0
    assert floor_cell(4.8) == 1.0 and floor_cell(0.3) == 0.05


def test_a_camera_that_cannot_be_placed_is_refused(rng):
    found = fit_lens(drawn(0.1, rng), LensOrder(960, 540))
    line = DrawnLine(seen([-1.4, 0.0, 0.0], [-1.4, 0.0, -2.5]), "z", 1001)
    with pytest.raises(LensError, match="horizon"):
        camera_position(found, line, 2.5, np.array([480.0, 20.0]))
    with pytest.raises(LensError, match="no axis"):
        camera_position(found, replace(line, axis=""), 2.5)
    with pytest.raises(LensError, match="no axis"):
        camera_position(found, replace(line, frame=7), 2.5)
    with pytest.raises(LensError, match="focal length"):
        camera_position(replace(found, focal_known=False), line, 2.5)


def test_sigmas_cover_the_truth_and_straight_edges_alone_tell_the_map():
    scores, errors = [], []
    for seed in range(12):
        lines = drawn(0.3, np.random.default_rng(seed))
        found = fit_lens(lines, LensOrder(960, 540))
        scores.append((found.lens.focal_px[0] - 640.0) / found.focal_sigma_px)
        alone = fit_lens([replace(line, axis="") for line in lines], LensOrder(960, 540))
        assert not alone.focal_known
        errors.append(map_error(alone.lens, LENS))
    assert np.mean(np.abs(scores) < 2.0) >= 0.8 and np.sqrt(np.mean(np.square(scores))) > 0.3
    assert np.mean(errors) < 1.0


def test_a_line_that_is_not_straight_is_named_and_does_not_spoil_the_rest(rng):
    lines = drawn(0.2, rng)
    bowed = lines[0].points + np.array([0.0, 6.0]) * np.sin(np.linspace(0, np.pi, len(lines[0].points)))[:, None]
    found = fit_lens([replace(lines[0], points=bowed), *lines[1:]], LensOrder(960, 540))
    assert [line.name for line in found.lines if line.disagrees] == [lines[0].name]
    assert found.lens.focal_px[0] == pytest.approx(640.0, rel=0.03)


def test_a_drag_starts_from_the_last_answer_and_ends_where_a_new_fit_does(rng):
    lines = drawn(0.2, rng)
    first = fit_lens(lines, LensOrder(960, 540))
    moved = [replace(lines[0], points=lines[0].points + [0.0, 0.4]), *lines[1:]]
    assert fit_lens(moved, LensOrder(960, 540), first).lens.focal_px[0] == pytest.approx(
        fit_lens(moved, LensOrder(960, 540)).lens.focal_px[0], rel=1e-3
    )


def test_the_division_model_and_a_known_focal_length(rng):
    lens = replace(Lens.centred(960, 540, 640.0), division=-0.12)
    found = fit_lens(drawn(0.05, rng, lens), LensOrder(960, 540, focal_px=640.0, model="division"))
    assert found.lens.model == "division" and found.lens.division == pytest.approx(-0.12, abs=4e-3)
    assert found.lens.focal_px[0] == 640.0


def test_three_directions_test_the_optical_centre(rng):
    off = replace(LENS, principal_px=(520.0, 250.0))
    tilted = look_at(PLACE, np.array([-2.6, 0.2, -4.0]))
    lines = drawn(0.05, rng, off, turned=tilted)
    shift, sigma = centre_test(lines, LensOrder(960, 540), fit_lens(lines, LensOrder(960, 540)))
    assert (np.abs(shift - [40.0, -20.0]) < 5.0 * sigma + 8.0).all() and np.hypot(*(shift / sigma)) > 3.0


def test_evidence_that_tells_nothing_is_refused_or_says_so(rng):
    order = LensOrder(960, 540)
    lines = drawn(0.3, rng)
    with pytest.raises(LensError, match="One line only"):
        fit_lens(lines[:1], order)
    through = [
        DrawnLine(
            np.array([480, 270])
            + s * np.array([[-400.0 * np.cos(a), -200 * np.sin(a)], [0, 0], [400.0 * np.cos(a), 200 * np.sin(a)]]),
            name=str(a),
        )
        for a in (0.1, 0.9)
        for s in (1.0,)
    ]
    middle = fit_lens(through, order)
    assert middle.lens.radial == (0.0, 0.0, 0.0) and "do not tell distortion" in middle.notes[0]
    front = look_at(np.array([0.0, 1.5, 4.9]), np.array([0.0, 1.5, -4.0]))
    square = [edge for edge in EDGES if edge[0] in "xy"]
    flat = fit_lens(drawn(0.3, rng, Lens.centred(960, 540, 640.0), np.array([0.0, 1.5, 4.9]), front, square), order)
    assert not flat.focal_known and any("not told" in note for note in flat.notes)
    one = fit_lens([line for line in lines if line.axis == "x"], order)
    assert not one.focal_known and any("one direction" in note for note in one.notes)
    with pytest.raises(LensError, match="aspect"):
        fit_lens(lines, replace(order, pixel_aspect=0.0))


@pytest.mark.parametrize(
    "row, words",
    [
        ({"points": [[10, 10], [10, 10]], "axis": "x"}, "no length"),
        ({"points": [[10, 10]]}, "two points"),
        ({"points": [[10, 10], [float("nan"), 3]]}, "no number"),
        ({"points": [[10, 10], [90, 30]], "axis": "q"}, "runs along"),
        ({"points": [[10, 10], [90000, 30]]}, "far off"),
        ({"points": [[10, 10], [90, 30]], "sigma": 0}, "sigma"),
        ({"points": "x"}, "no numbers"),
        ("x", "no object"),
    ],
)
def test_lines_that_cannot_be_are_refused(row, words):
    with pytest.raises(LensError, match=words):
        read_lines([row], 960, 540)


def grids(lens, count, rng, tilt=0.6):
    out = []
    for k in range(count):
        rotation = rotation_exp(
            np.array([rng.uniform(-tilt, tilt), rng.uniform(-tilt, tilt), rng.uniform(-0.3, 0.3) * (tilt > 0)])
        )
        shift = np.array([rng.uniform(-50, 50), rng.uniform(-20, 20), rng.uniform(350, 450)]) - rotation @ np.array(
            [112.5, 75.0, 0.0]
        )
        out.append((f"grid {k}", filmed(lens, rotation, shift, chess(), rng)))
    return out


def test_a_filmed_grid_gives_focal_length_and_map(rng):
    lens = replace(Lens.centred(640, 360, 600.0), radial=(-0.12, 0.04, 0.0), principal_px=(326.0, 176.0))
    views, (width, height) = find_views(grids(lens, 9, rng), ChartOrder(9, 6, 25.0))
    found = calibrate(views, width, height, ChartOrder(9, 6, 25.0))
    assert found.lens.focal_px[0] == pytest.approx(600.0, rel=0.003)
    assert abs(found.lens.focal_px[0] - 600.0) < 4.0 * found.sigma["focal_px"]
    x, y = np.meshgrid(np.linspace(0, 640, 20), np.linspace(0, 360, 12))
    px = np.stack([x, y], -1).reshape(-1, 2)
    assert np.sqrt(((straight_px(found.lens, px) - straight_px(lens, px)) ** 2).sum(1).mean()) < 0.3
    assert found.rms_px < 0.2 and found.coverage.sum() == 54 * len(views)
    spoilt = replace(views[0], corners=views[0].corners + rng.normal(0, 4.0, views[0].corners.shape))
    again = calibrate([spoilt, *views[1:]], width, height, ChartOrder(9, 6, 25.0))
    assert again.astray.tolist() == [True] + [False] * (len(views) - 1)
    assert again.lens.focal_px[0] == pytest.approx(600.0, rel=0.005)


def test_a_grid_that_is_not_there_or_is_never_tilted(rng):
    lens = Lens.centred(640, 360, 600.0)
    with pytest.raises(LensError, match="9x6 inner corners fit"):
        find_views(grids(lens, 2, rng), ChartOrder(8, 6, 25.0))
    views, size = find_views(grids(lens, 4, rng, tilt=0.0), ChartOrder(9, 6, 25.0))
    with pytest.raises(LensError, match="Tilt the grid"):
        calibrate(views, *size, ChartOrder(9, 6, 25.0))
    for bad in ({"columns": 1}, {"square_mm": 0.0}, {"pattern": "stripes"}):
        with pytest.raises(LensError):
            find_views([], ChartOrder(**{"columns": 9, "rows": 6, "square_mm": 25.0, **bad}))


def test_edges_are_found_between_two_clicks_and_points_snap_to_them(rng):
    u = LENS.undistort(
        (np.stack(np.meshgrid(np.arange(960) + 0.5, np.arange(540) + 0.5), -1) - LENS.principal_px) / 640.0
    )
    shade = np.clip((u[..., 1] + 0.25 - 0.1 * u[..., 0]) * 640.0, -0.8, 0.8)
    gray = np.clip(90.0 + 60.0 * shade + rng.normal(0, 2.0, shade.shape), 0, 255).astype(np.uint8)
    ends = LENS.project(np.array([[-0.6, -0.31, 1.0], [0.6, -0.19, 1.0]])) + [[0, 4.0], [0, -3.0]]
    found = find_edge(gray, *ends)
    true = LENS.normalise(found)
    assert len(found) > 10 and np.abs((true[:, 1] + 0.25 - 0.1 * true[:, 0]) * 640.0).max() < 0.35
    pushed = found.copy()
    pushed[4] += [0.0, 3.0]
    assert np.linalg.norm(snap(gray, pushed, 4) - found[4]) < 0.5
    with pytest.raises(LensError, match="no clear edge"):
        find_edge(np.full((540, 960), 90, np.uint8), *ends)
