"""A scene drawn into pictures: frames painted over, shadows, what stands before them; sides tied to points; and a focal
length that measured places contradict. Each against a made scene that is known.
"""

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe
from test_scene import SIZE, paint, set_of, walking  # noqa: F401

from amberkeel.core.errors import WorldError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.world.datum import Datum, Solved, find_datum
from amberkeel.core.world.paintings import fitting, flat, painted_onto, read_painting
from amberkeel.core.world.relief import frame_along, relief
from amberkeel.core.world.slip import MeasuredSlip, Spot
from amberkeel.core.world.slip_lens import focal_by_slip
from amberkeel.core.world.slip_report import SLIPS, finding, report
from amberkeel.core.world.solids import Solid
from amberkeel.core.world.stage import AMBIENT, DARK, SAIL, Stage, Staged
from amberkeel.core.world.standing import Probe, Proxy, solid_of
from amberkeel.core.world.statement import Distance, End, Statement
from amberkeel.core.world.textures import seen_again
from amberkeel.core.world.tied import spot_of, tied_to

UP = np.array([0.0, 1.0, 0.0])


def test_a_painted_frame_lies_on_the_set_and_is_seen_from_elsewhere(set_of):  # noqa: F811
    path, stage, *_ = set_of
    solids = dict(zip(("floor", "wall"), stage))
    painting = np.zeros((SIZE[1], SIZE[0], 4), np.float32)
    painting[100:170, 80:240] = [200.0, 40.0, 90.0, 1.0]
    painting[100:170, 240:260] = [200.0, 40.0, 90.0, 0.5]
    made = painted_onto(path, 2, solids, list(solids), painting, {})
    seen = seen_again(path, 2, stage, [made.get(name) for name in solids])
    inside, soft = (np.s_[106:164, 86:234]), (np.s_[110:160, 246:254])
    assert (
        np.median(seen[inside][..., 3]) == pytest.approx(1.0, abs=0.01)
        and np.abs(np.median(seen[inside][..., :3], (0, 1)) - [200, 40, 90]).max() < 1.0
    )
    assert np.median(seen[soft][..., 3]) == pytest.approx(0.5, abs=0.08)
    assert seen[:90, :, 3].max() < 0.2, "nothing is painted where nothing was"
    later = seen_again(path, 9, stage, [made.get(name) for name in solids])
    # Where the middle of the patch lies in the world is where it is seen from another frame.
    ray = path.world_from_camera[2] @ np.array([*path.normalise(np.array([[120.5, 150.5]]), 2)[0], 1.0])
    at = path.positions[2] - path.positions[2][1] / ray[1] * ray
    x, y = path.project(at[None], 9)[0].astype(int)
    assert later[y, x, 3] > 0.95 and np.abs(later[y, x, :3] - [200, 40, 90]).max() < 2.0
    # A second one is laid over the first; what it leaves free stays.
    second = np.zeros_like(painting)
    second[140:150, 100:200] = [10.0, 220.0, 30.0, 1.0]
    over = painted_onto(path, 2, solids, ["floor"], second, made)
    twice = seen_again(path, 2, stage, [over["floor"], None])
    assert (
        np.abs(twice[145, 150, :3] - [10, 220, 30]).max() < 3.0
        and np.abs(twice[160, 150, :3] - [200, 40, 90]).max() < 3
    )
    with pytest.raises(WorldError, match="none of the proxies where it is painted"):
        painted_onto(path, 2, solids, ["wall"], np.zeros_like(painting), {})


def test_paintings_are_read_in_light_and_in_code_values(tmp_path):
    code = np.zeros((9, 16, 4), np.uint8)
    code[:, :8] = [188, 188, 188, 255]
    write_picture(tmp_path / "a.png", code)
    light = read_painting(tmp_path / "a.png", True)
    assert light[0, 0, 0] == pytest.approx(0.503, abs=0.01) and light[0, 0, 3] == 1.0 and light[0, 12, 3] == 0.0
    write_picture(tmp_path / "b.exr", light)
    assert np.abs(read_painting(tmp_path / "b.exr", True) - light).max() < 1e-3
    back = read_painting(tmp_path / "b.exr", False)
    assert back[0, 0, 0] == pytest.approx(188.0, abs=0.5) and (flat(light, True)[0, 0] == [188, 188, 188, 255]).all()
    write_picture(tmp_path / "c.png", code[..., :3])
    assert (read_painting(tmp_path / "c.png", False)[..., 3] == 1.0).all()
    assert fitting(light, 32, 18).shape == (18, 32, 4) and fitting(light, 16, 9) is light
    with pytest.raises(WorldError, match="differ in shape"):
        fitting(light, 16, 16)


def staged(probes, surfaces, textures=None, light=(0.0, 1.0, 0.0)):
    towards = np.array(light) / np.linalg.norm(light)
    return Staged(probes, surfaces, textures or [None] * len(surfaces), towards, UP)


def test_test_objects_are_shaded_hidden_and_cast_shadows_on_what_stands_there(set_of):  # noqa: F811
    path, (floor, wall), *_ = set_of
    cube = solid_of(Probe(kind="cube", position=(0, 0, -6.5), size=(0.5, 0.5, 0.5)))

    def drawn(scene, masked=None, row=3):
        picture = np.full((SIZE[1], SIZE[0], 3), 180, np.uint8)
        Stage(path, scene).draw(picture, row, masked)
        return picture

    def at(xyz, row=3):
        x, y = path.project(np.array([xyz], float), row)[0]
        return int(y), int(x)

    slant = drawn(staged([cube], [floor, wall], light=(1.0, 1.0, 0.0)))
    # The light comes from the right, at half a right angle: the shadow is as long as the cube is high, to the left.
    assert slant[at((-0.45, 0, -6.5))][0] == pytest.approx(180 * (1 - DARK), abs=2)
    assert slant[at((-0.95, 0, -6.5))][0] == 180 and slant[at((0.45, 0, -6.5))][0] == 180
    front = slant[at((0.0, 0.25, -6.25))].astype(float)
    assert np.abs(front - SAIL * AMBIENT).max() < 3.0, "its front is turned away from the light"
    back = drawn(staged([cube], [floor, wall], light=(0.6, 0.12, 1.0)))
    assert back[at((-0.6 * 1.25, 0.3 - 0.12 * 1.25, -8.0))][0] == pytest.approx(180 * (1 - DARK), abs=2), "on the wall"
    # Without a floor it falls on the level under the cube.
    level = drawn(staged([cube], [], light=(1.0, 1.0, 0.0)))
    assert level[at((-0.45, 0, -6.5))][0] == pytest.approx(180 * (1 - DARK), abs=2)
    masked = np.zeros((SIZE[1], SIZE[0]), bool)
    masked[:, : SIZE[0] // 2] = True
    covered = drawn(staged([cube], [floor, wall], light=(1.0, 1.0, 0.0)), masked)
    y, x = at((-0.45, 0, -6.5))
    assert x < SIZE[0] // 2 and covered[y, x, 0] == 180, "what is masked stands before shadows"
    before = solid_of(Proxy(kind="box", position=(0, 0, -5.5), size=(1.5, 1.5, 0.2)))
    assert (drawn(staged([cube], [floor, before]))[at((0.0, 0.25, -6.25))] == 180).all(), "what stands before hides"
    red = np.zeros((8, 8, 4), np.float32)
    red[:] = [250.0, 20.0, 20.0, 1.0]
    pictured = staged([], [floor, wall], [None, red])
    assert not pictured.empty and (drawn(pictured)[at((1.0, 1.5, -8.0))] == [250, 20, 20]).all()
    assert staged([], [floor]).empty


def test_a_side_is_tied_to_the_points_about_it_and_goes_with_them(rng):
    points = cloud(rng, 60)
    ends = np.array([[0.5, 0.2, 8.0], [1.7, -0.4, 9.0]])
    tied = [tied_to(end, points) for end in ends]
    moved = Datum(3.7, rotation_exp(np.array([0.4, -1.0, 0.2])), np.array([2.0, -1.0, 5.0]))
    other = moved.apply(points)
    for end, (rows, weights) in zip(ends, tied):
        assert np.allclose(spot_of(weights, points[rows])[0], end, atol=1e-9)
        assert np.allclose(spot_of(weights, other[rows])[0], moved.apply(end), atol=1e-8)
        assert np.linalg.norm(weights) < 1.0, "the points' noise averages"
    path = moving_camera()
    back = Datum(1 / moved.scale, moved.rotation.T, -moved.rotation.T @ moved.translation / moved.scale)
    kept = [End(tracks=rows.tolist(), weights=weights.tolist()) for rows, weights in tied]
    side = float(np.linalg.norm(ends[1] - ends[0]))
    stated = Statement(distances=[Distance(metres=2.0 * side, ends=kept, name="Box 1, width")])
    solved = Solved(path, np.arange(60), back.apply(points), np.tile(1e-4 * np.eye(3), (60, 1, 1)))
    found = find_datum(solved, stated)
    assert found.datum.scale == pytest.approx(2.0 * moved.scale, rel=1e-9) and found.scaled == "distances"
    assert 0.0 < found.scale.sigma < 0.02
    fewer = find_datum(Solved(path, np.arange(40), back.apply(points[:40])), stated)
    assert fewer.scale is None and any("Box 1, width" in words for words in fewer.missing)
    with pytest.raises(WorldError, match="one plane, or far"):
        tied_to(np.array([0.0, 0.0, 3.0]), points * [1, 1, 0])
    with pytest.raises(WorldError, match="Too few points"):
        tied_to(ends[0], points[:3])
    with pytest.raises(ValueError, match="sum to one"):
        End(tracks=[1, 2], weights=[0.5, 0.6])


def test_points_of_a_wall_are_meshed_as_a_frame_sees_them(rng):
    flat_wall = np.stack([rng.uniform(-2, 2, 40), rng.uniform(0, 3, 40), np.full(40, -8.0)], 1)
    with pytest.raises(WorldError, match="on a line"):
        relief(flat_wall)
    along = walking().world_from_camera[0][:, 2] * -1.0
    made = relief(flat_wall + rng.normal(0, 0.01, (40, 3)) * [0, 0, 1], frame=frame_along(along))
    frame = frame_along(along)
    assert np.allclose(frame @ frame.T, np.eye(3)) and np.linalg.det(frame) > 0.99 and np.allclose(frame[:, 1], along)
    assert len(made.solid.faces) > 40 and made.rms < 0.03
    assert (made.solid.normals @ along > 0.0).mean() > 0.95, "its faces look towards the camera"


def measured_on(path, true, points, noise, rng):
    """Places measured against a wrong camera: what the true one sees of points, minus where they are pinned."""
    rows = np.arange(len(path.frames))
    spots, px = [], []
    for xyz, pinned in points:
        seen = np.array([true.project(xyz[None], k)[0] for k in rows])
        px.append(
            seen - path.project(np.repeat(pinned[None], len(rows), 0), rows) + rng.normal(0, noise, (len(rows), 2))
        )
        spots.append(Spot(pinned, UP, 0))
    return MeasuredSlip(spots, np.array(px), np.full((len(spots), len(rows)), noise))


def test_places_contradict_a_focal_length_that_was_held_wrongly(rng):
    true = moving_camera(30, 700.0)
    tracks = observe(true, cloud(rng, 160), 0.1, rng)
    places = cloud(rng, 60)
    seen = observe(true, places, 0.02, rng)
    for focal, wrong in ((700.0, False), (714.0, True)):
        solved = solve_tracks(tracks, true.frames, 640, 360, Recipe(focal_px=focal, distortion="none"))
        # Each place is pinned where the wrong camera puts it.
        both = solve_tracks(seen, true.frames, 640, 360, Recipe(begin=solved.path, focal_px=focal, distortion="none"))
        pinned = both.points.positions(both.path.positions[0])
        names = [int(name[1:]) for name in both.tracks.names]
        pairs = [(places[n], at) for n, at in zip(names, pinned) if np.isfinite(at).all()]
        measured = measured_on(both.path, true, pairs, 0.03, rng)
        said = focal_by_slip(both.path, measured)
        assert said.contradicts == wrong and abs(said.focal_px / 700.0 - 1.0) < 0.012
        if wrong:
            told = finding(report(measured, np.full(len(pairs), 0.05), np.ones(len(pairs), bool), said), both.path)
            assert told.kind == SLIPS and "shorter than the solve's" in told.text and told.remedies[0].code == "focal"
    assert focal_by_slip(both.path, MeasuredSlip(measured.spots[:5], measured.px[:5], measured.sigma[:5])) is None


def test_a_solid_of_no_area_has_no_normal():
    point = Solid(np.zeros((3, 3)), np.array([[0, 1, 2]]), np.zeros((3, 2)), np.zeros((0, 2), int))
    assert (point.normals == 0.0).all() and np.isfinite(paint(point.vertices)).all()
