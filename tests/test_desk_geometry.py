"""What the desk computes by itself, to draw at once, is what the core computes: lens, outlines, gimbal, figures."""

import numpy as np
import pytest
from desk import module

from amberkeel.core.camera import CameraPath
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.masks.raster import fill, grow
from amberkeel.core.masks.shape import Key, Shape, area, flatten, points_at, smooth

PLAIN = Lens(640, 360, (700.0, 690.0), (323.0, 176.0))
LENSES = {
    "plain": PLAIN,
    "barrel": PLAIN.with_coefficients(np.array([-0.21, 0.06, -0.01, 0.002, -0.001, *[0.0] * 12])),
    "division": PLAIN.with_coefficients(np.array([*[0.0] * 5, -0.15, *[0.0] * 11])),
    "two-axis": PLAIN.with_coefficients(
        np.array([*[0.0] * 6, 0.04, -0.1, -0.06, 0.02, 0.01, 0.005, -0.08, -0.12, 0.01, 0.02, 0.015])
    ),
}


@pytest.fixture(scope="module")
def page(solved_page):
    return solved_page


def world_of(path, row):
    """A camera path's frame as the page has it: the world's lens and picture, and one camera."""
    lens = path.lens
    document = {"focal_px": lens.focal_px, "principal_px": lens.principal_px, "radial": lens.radial,
                "tangential": lens.tangential, "division": lens.division, "two_axis": lens.two_axis,
                "turn": lens.turn}  # fmt: skip
    camera = {"world_from_camera": path.world_from_camera[row].tolist(), "position": path.positions[row].tolist()}
    return {"lens": document, "image": {"width": lens.width, "height": lens.height}}, camera


@pytest.mark.parametrize("name", LENSES)
def test_points_lie_on_the_picture_where_the_core_has_them(page, name, rng):
    turn = rotation_exp(np.array([0.2, -0.4, 0.1]))
    path = CameraPath(np.array([1001]), np.array([[0.5, -0.2, 1.0]]), turn[None], LENSES[name])
    seen = rng.uniform([-0.4, -0.22, 1.0], [0.4, 0.22, 1.0], (40, 3)) * rng.uniform(2.0, 30.0, (40, 1))
    points = path.positions[0] + seen @ turn.T
    world, camera = world_of(path, 0)
    body = "const at = m.seenBy(a.world, a.camera); return a.points.map(at)"
    given = {"world": world, "camera": camera, "points": points.tolist()}
    assert np.allclose(module(page, "viewport/seen_by", body, given), path.project(points, 0), atol=1e-6)
    behind, aside = (path.positions[0] + turn @ np.array(v) for v in ([0.1, 0.1, -3.0], [9.0, 0.0, 1.0]))
    given["points"] = [behind.tolist(), aside.tolist()]
    assert module(page, "viewport/seen_by", body, given) == [None, None]


def test_a_zoomed_frame_has_its_own_focal_length_and_rays_go_back(page):
    path = CameraPath(np.array([1001]), np.zeros((1, 3)), rotation_exp(np.array([0.1, 0.3, 0.0]))[None], PLAIN)
    world, camera = world_of(path, 0)
    camera["focal_px"] = 2.0 * PLAIN.focal_px[0]
    body = """
      const ray = m.rayOf(a.world, a.camera, [500, 60]);
      return [ray, m.seenBy(a.world, a.camera)(ray.map((v) => 7 * v))];
    """
    ray, at = module(page, "viewport/seen_by", body, {"world": world, "camera": camera})
    assert np.allclose(at, [500.0, 60.0])
    ahead = path.world_from_camera[0].T @ ray
    assert np.allclose(ahead, [(500.0 - 323.0) / 1400.0, (60.0 - 176.0) / 1380.0, 1.0])


@pytest.fixture
def outlines(rng):
    """Two keys of a shape of seven points, the second turned, grown, moved and bent."""
    angles = np.linspace(0.0, 2.0 * np.pi, 7, endpoint=False)
    ring = np.stack([np.cos(angles), np.sin(angles)], 1) * rng.uniform(40.0, 70.0, (7, 1)) + [300.0, 160.0]
    one = smooth(ring)
    other = smooth(1.3 * ring @ rotation_exp(np.array([0.0, 0.0, 0.7]))[:2, :2].T + [40.0, -90.0])
    other[:, 2:] += rng.normal(0.0, 2.0, (7, 4))
    one[2, 2:] = 0.0
    return {1001: one, 1013: other}


@pytest.fixture
def wild(rng):
    """Three keys of a shape whose tangents go anywhere, and which crosses itself."""
    base = rng.uniform([200, 100, -9, -9, -9, -9], [400, 300, 9, 9, 9, 9], (7, 6))
    return {frame: base + rng.normal(0.0, 30.0, base.shape) for frame in (1001, 1009, 1020)}


def test_outlines_are_drawn_as_they_are_masked(page, outlines, wild):
    frames = [990, 1001, 1004, 1007, 1009, 1012, 1013, 1015, 1020, 1030]
    body = "return a.frames.map((f) => { const p = m.pointsAt(a.mask, f); return [p, m.flatten(p)] })"
    for keys in (outlines, wild):
        shape = Shape({frame: Key(points) for frame, points in keys.items()})
        mask = {"keys": {str(frame): {"points": points.tolist()} for frame, points in keys.items()}}
        drawn = module(page, "masks/shapes", body, {"mask": mask, "frames": frames})
        for frame, (points, outline) in zip(frames, drawn):
            own = points_at(shape, frame)
            assert np.allclose(points, own, atol=1e-6) and np.allclose(outline, flatten(own), atol=1e-6), frame
    rounded = module(page, "masks/shapes", "return m.smooth(a)", outlines[1001].tolist())
    assert np.allclose(rounded, smooth(outlines[1001][:, :2]))


def test_an_outline_is_split_without_a_change_and_its_inside_is_what_is_filled(page, outlines, wild):
    points = outlines[1013]
    after = np.array(module(page, "masks/shapes", "return m.split(a, 2, 0.4)", wild[1001].tolist()))
    assert len(after) == 8
    assert np.mean(fill(flatten(after), 400, 600) ^ fill(flatten(wild[1001]), 400, 600)) < 2e-3
    body = """
      const split = m.split(a, 3, 0.4);
      const near = m.nearest(a, [split[4][0] + 0.01, split[4][1]]);
      const { within } = await import('/static/desk/viewport/within.js');
      const inside = [];
      const outline = m.flatten(a);
      for (let y = 0; y < 360; y += 6)
        for (let x = 0; x < 640; x += 6) inside.push(within(outline, x + 0.5, y + 0.5));
      return [split, near, inside, m.bounds(a), m.ellipse([100, 50], [300, 150]), m.rectangle([5, 6], [50, 20])];
    """
    split, near, inside, bounds, ellipse, rectangle = module(page, "masks/shapes", body, points.tolist())
    assert len(split) == 8 and area(flatten(np.array(split), 400)) == pytest.approx(
        area(flatten(points, 400)), rel=1e-5
    )
    assert near["segment"] == 3 and near["t"] == pytest.approx(0.4, abs=0.03) and near["distance"] < 2.0
    outline = flatten(points)
    filled = fill(outline, 360, 640)
    sure, beyond = (grow(filled, by)[::6, ::6] for by in (-1.0, 1.0))
    inside = np.array(inside).reshape(sure.shape)
    assert sure.any() and inside[sure].all() and not inside[~beyond].any()
    assert np.allclose(bounds, [*outline.min(0), *outline.max(0)])
    assert area(flatten(np.array(ellipse), 50)) == pytest.approx(np.pi * 100.0 * 50.0, rel=1e-3)
    assert area(flatten(np.array(rectangle))) == pytest.approx(45.0 * 14.0)


def test_a_gimbal_follows_the_pointer_and_a_change_undone_is_none(page):
    path = CameraPath(np.array([1001]), np.zeros((1, 3)), np.eye(3)[None], LENSES["barrel"])
    world, camera = world_of(path, 0)
    axes = rotation_exp(np.array([0.3, 0.5, -0.2])).T.tolist()
    body = """
      const { seenBy } = await import('/static/desk/viewport/seen_by.js');
      const project = seenBy(a.world, a.camera);
      const pose = { at: [0.2, -0.1, 6], axes: a.axes, length: 1.5 };
      const there = (axis, v) => project(pose.at.map((w, i) => w + v * pose.axes[axis][i]));
      const moved = [0, 1, 2].map((axis) => m.figuresAt(pose, { kind: 'move', axis }, project, there(axis, 1.1))[0]);
      const parts = [0, 1, 2].map((axis) => m.partAt(pose, project, there(axis, 1.4)));
      const change = { axis: 1, radians: 0.4, move: [1, 2, 3], scale: 2 };
      const turned = m.changed(pose, change);
      const back = m.changed(turned, { axis: 1, radians: -0.4, move: [-1, -2, -3], scale: 0.5 });
      return [moved, parts, turned, back, pose, m.changed(pose, m.NOTHING), m.partAt(pose, project, [3, 3])];
    """
    given = {"world": world, "camera": camera, "axes": axes}
    moved, parts, turned, back, pose, same, nothing = module(page, "world/gimbal", body, given)
    assert np.allclose(moved, 1.1, atol=1e-3)
    assert parts == [{"kind": "move", "axis": k} for k in range(3)] and nothing is None
    about = rotation_exp(0.4 * np.array(axes[1]))
    assert np.allclose(turned["axes"], np.array(axes) @ about.T) and turned["length"] == 3.0
    assert np.allclose(turned["at"], [1.2, 1.9, 9.0])
    for one in (back, same):
        assert all(np.allclose(one[name], pose[name]) for name in ("at", "axes", "length"))


def test_figures_have_as_many_digits_as_help(page):
    given = [0, 0.0123, 0.5, 1.234, 12.34, -123.4]
    assert module(page, "world/figures", "return a.map(m.figureOf)", given) == [
        "0", "0.012", "0.50", "1.23", "12.3", "-123"
    ]  # fmt: skip
    said = module(page, "world/figures", "return [m.smallOf(0.0042, true), m.smallOf(0.3, true), m.smallOf(0.3)]")
    assert said == [["4.2", "mm"], ["300", "mm"], ["0.30", "units"]]
    body = """
      const { counted } = await import('/static/desk/shell/words.js');
      return [m.lengthOf(0.0123, 'm'), m.lengthOf(1.5, 'm'), m.lengthOf(0.0123, 'units'), m.figureOf(0.0123, 'm'),
        m.unitOf('m'), counted(1, 'tie'), counted(3, 'tie'), m.bodyOf([{ key: 'b' }, { key: 'c' }], 'c').key,
        m.bodyOf([{ key: 'b' }], 'x').key]
    """
    assert module(page, "ties/words", body) == [
        "12.3 mm", "1.50 m", "0.012 units", "12.3", "mm", "1 tie", "3 ties", "c", "b"
    ]  # fmt: skip


def test_a_proposal_says_why_with_its_tracks_or_without_any(page):
    evidence = {"speed": 18.31, "share": 0.187, "background": "free"}
    kinds = ("moving", "crossing", "reflection", "shadow")
    given = [
        {"kind": kind, "tracks": tracks, "evidence": {**evidence, "speed": speed}}
        for kind in kinds
        for tracks, speed in (([7, 9], 18.31), ([7], 18.31), ([], 18.31), ([], None))
    ]
    said = module(page, "masks/panel", "return a.map(m.reasonOf)", given)
    told = {kind: said[4 * k : 4 * k + 4] for k, kind in enumerate(kinds)}
    large = "up to 18.7 % of the picture. Background: free."
    assert told["moving"] == [
        f"2 tracks go 18.3 px a frame another way; {large}", f"1 track goes 18.3 px a frame another way; {large}",
        f"Goes 18.3 px a frame another way; {large}", f"No track in it; the picture departs; {large}",
    ]  # fmt: skip
    assert told["crossing"][2].startswith("Corners slide along an edge, 18.31 px a frame, where")
    assert told["crossing"][3].startswith("Corners slide along an edge, where") and "Dashed" not in told["crossing"][3]
    assert told["crossing"][0].endswith("Dashed: where a true corner would be.")
    assert told["reflection"][0].startswith("2 tracks look and move") and "dashed" in told["reflection"][0]
    assert told["reflection"][2].startswith("Mirror images") and len(set(told["shadow"])) == 1
    assert not any("NaN" in one or "null" in one or "0 tracks" in one for one in said)
