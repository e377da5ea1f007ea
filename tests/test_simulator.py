"""The simulated film camera: where things fall, how they blur, and what mattes and depth say."""

import numpy as np
import pytest

from amberkeel.core.lens import Lens
from amberkeel.core.sim import textures
from amberkeel.core.sim.actors import yard_hand
from amberkeel.core.sim.meshes import box, drum, hull, join, panel, tube
from amberkeel.core.sim.motion import Move, hand_held
from amberkeel.core.sim.render import Renderer, Shot, _sample_plan, develop, surface_points, truth
from amberkeel.core.sim.scene import build_scene

GREY = np.full((64, 64, 3), 0.5, np.float32)
WHITE = np.full((64, 64, 3), 0.9, np.float32)


def still(position=(0.0, 0.0, 0.0), target=(0.0, 0.0, -5.0)) -> Move:
    keys = np.array([0.0, 10.0, 20.0])
    return Move(keys, np.tile(position, (3, 1)).astype(float), np.tile(target, (3, 1)).astype(float))


def small_shot(mesh, lens=None, move=None, actors=(), **options) -> Shot:
    behind = panel([-1, -1, 9], [2, 0, 0], [0, 2, 0], 0)
    scene = build_scene(
        join([mesh, behind]), actors, lambda: [GREY, WHITE], (0.2, 0.9, 0.3), haze=(0.0, 0.0, 0.0), haze_reach=0.0
    )
    return Shot(
        "test", scene, lens or Lens.centred(160, 120, 150.0), move or still(), np.arange(1, 11), grain=0.0, **options
    )


def spot(x, y, z, size=0.06):
    """A small square that glows, facing the camera."""
    return panel([x - size / 2, y - size / 2, z], [size, 0, 0], [0, size, 0], 1, 1.0, 1.0, glow=1.0)


def centroid(picture):
    weight = picture.mean(2)
    y, x = np.mgrid[0 : weight.shape[0], 0 : weight.shape[1]] + 0.5
    return np.array([(weight * x).sum(), (weight * y).sum()]) / weight.sum()


@pytest.mark.parametrize("k1", [0.0, -0.25])
def test_a_spot_falls_where_the_lens_puts_it(k1):
    lens = Lens.centred(160, 120, 150.0, k1)
    position = np.array([[1.1, 0.7, -3.5]])
    shot = small_shot(spot(*position[0]), lens, samples=16)
    picture, _ = Renderer(shot).linear(5)
    assert np.abs(centroid(picture) - truth(shot).project(position, 4)[0]).max() < 0.06


def test_blur_is_centred_on_mid_shutter():
    keys = np.array([0.0, 10.0, 20.0])
    travel = np.stack([0.06 * keys, 0 * keys, 0 * keys], 1)
    move = Move(keys, travel, travel + [0.0, 0.0, -5.0])
    position = np.array([[0.3, 0.1, -3.0]])
    blurred = small_shot(spot(*position[0]), move=move, samples=16, shutter=1.0)
    picture, _ = Renderer(blurred).linear(5)
    assert np.abs(centroid(picture) - truth(blurred).project(position, 4)[0]).max() < 0.05
    sharp, _ = Renderer(small_shot(spot(*position[0]), samples=16)).linear(5)
    assert (picture.mean(2) > 0.02).sum() > (sharp.mean(2) > 0.02).sum()


def test_samples_carry_no_bias():
    for seed in range(5):
        offsets, times = _sample_plan(16, np.random.default_rng(seed))
        assert np.abs(offsets.mean(0)).max() < 1e-12 and abs(times.mean()) < 1e-12
        assert np.abs(offsets).max() < 1.0 and np.ptp(times) > 0.9


def test_near_things_hide_far_ones_and_depth_says_how_far():
    wall = panel([-4, -3, -6], [8, 0, 0], [0, 6, 0], 0)
    block = box([0, 0, -3.5], [1, 1, 1], 1)
    depth = Renderer(small_shot(join([wall, block]))).depth(3)
    assert depth[60, 80] == pytest.approx(3.0, abs=1e-3)
    assert depth[5, 5] == pytest.approx(6.0, abs=1e-3)
    assert np.isinf(Renderer(small_shot(block)).depth(3)[2, 2])


def test_triangles_that_cross_the_camera_plane_are_drawn():
    floor = panel([-3, -1.2, 4], [6, 0, 0], [0, 0, -12], 0, step_m=20.0)
    depth = Renderer(small_shot(floor)).depth(2)
    assert np.isfinite(depth[119]).all() and np.isinf(depth[20]).all()
    assert depth[119, 80] == pytest.approx(1.2 * 150 / 59.5, rel=0.01)


def test_mattes_cover_walkers_and_nothing_else():
    wall = panel([-4, -3, -6], [8, 0, 0], [0, 6, 0], 0)
    walker = yard_hand([-1.5, -1.2, -4], [1.5, -1.2, -4], (0, 20), (1, 1, 1), 1)
    shot = small_shot(wall, actors=(walker,))
    _, early = Renderer(shot).picture(4)
    _, late = Renderer(shot).picture(10)
    assert early.max() == 255 and 0.01 < early.mean() / 255 < 0.3
    assert centroid(np.repeat(late[..., None], 3, 2))[0] > centroid(np.repeat(early[..., None], 3, 2))[0] + 20
    assert Renderer(small_shot(wall)).picture(4)[1].max() == 0


def test_surface_points_are_on_the_set_and_seen_only_where_they_are():
    wall = panel([-4, -3, -6], [8, 0, 0], [0, 6, 0], 0)
    xyz, seen = surface_points(small_shot(join([wall, box([0, 0, -3.5], [1, 1, 1], 1)])), 60)
    on_wall, on_block = np.abs(xyz[:, 2] + 6) < 1e-3, np.abs(xyz[:, 2] + 3) < 1e-3
    assert (on_wall | on_block).all() and on_wall.any() and on_block.any()
    assert seen.all()


def test_light_has_shadow_and_openness():
    floor = panel([-3, 0, 3], [6, 0, 0], [0, 0, -6], 0, step_m=0.25)
    scene = build_scene(join([floor, box([0, 0.8, 0], [1, 1.2, 1], 1)]), (), lambda: [GREY, WHITE], (0.6, 0.7, 0.0))
    middles = floor.corners.mean(1)
    baked = scene.baked()
    ambient = baked.ambient[: len(floor)].mean(1)
    under = np.hypot(middles[:, 0], middles[:, 2]) < 0.4
    away = np.hypot(middles[:, 0], middles[:, 2]) > 2.4
    assert ambient[under].mean() < 0.8 * ambient[away].mean()
    m = baked.sun_from_world
    for position, lit in (((-1.0, 0.0, 0.0), False), ((1.5, 0.0, 0.0), True)):
        x, y, height = m[:, :3] @ position + m[:, 3]
        assert (baked.shadow[int(y), int(x)] <= height + 0.05) == lit


def test_film_has_the_grain_and_the_exposure_asked_for():
    light = np.full((120, 160, 3), 0.3)
    base = small_shot(spot(0, 0, -3))
    flat = develop(light, base, 3)
    assert flat[60, 80].std() == 0 and flat[60, 80, 0] > flat[2, 2, 0]
    from dataclasses import replace

    rough = develop(light, replace(base, grain=3.0), 3).astype(float)
    assert 2.0 < (rough - flat).std() < 7.0
    assert not np.array_equal(rough, develop(light, replace(base, grain=3.0), 4))
    assert np.array_equal(rough, develop(light, replace(base, grain=3.0), 3))
    bright = develop(light, replace(base, exposure=lambda t: 1.5), 3)
    assert bright[60, 80, 0] > flat[60, 80, 0] + 15


@pytest.mark.parametrize(
    "make",
    ["planks", "painted_strakes", "shingle", "stone", "concrete", "canvas", "rope", "iron", "heath", "cloud", "cloth"],
)
def test_textures_tile_and_hold_detail(make, monkeypatch):
    monkeypatch.setattr(textures, "SIZE", 256)
    noise = textures.fractal
    monkeypatch.setattr(textures, "fractal", lambda rng, beta=1.8, stretch=(1.0, 1.0): noise(rng, beta, stretch, 256))
    texture = getattr(textures, make)(np.random.default_rng(2))
    assert texture.shape == (256, 256, 3) and texture.dtype == np.float32
    assert 0.0 < texture.min() and texture.max() < 1.4
    assert texture.std() > 0.01
    seam = np.abs(texture[:, 0] - texture[:, -1]).mean()
    inner = np.abs(np.diff(texture, axis=1)).mean(axis=(0, 2)).max()
    assert seam <= 3.0 * inner + 0.01


def test_meshes_are_closed_where_they_should_be():
    block = box([1, 2, 3], [2, 1, 4], 0, turn=0.7)
    faces = block.corners
    volume = np.einsum("ti,ti->t", faces[:, 0], np.cross(faces[:, 1], faces[:, 2])).sum() / 6
    assert abs(volume) == pytest.approx(8.0)
    assert np.allclose(np.linalg.norm(block.normals, axis=2), 1.0)
    barrel = drum([0, 0, 0], 0.3, 0.9, 0, 1)
    assert barrel.corners[..., 1].max() == pytest.approx(0.9) and set(barrel.texture) == {0, 1}
    cone = tube([0, 0, 0], [0, 2, 0], 0.5, 0, radius_end=0.1)
    top = cone.corners[cone.corners[..., 1] > 1.99]
    assert np.allclose(np.hypot(top[:, 0], top[:, 2]), 0.1)
    boat = hull(8.0, 2.6, 1.7, 0)
    assert boat.corners[..., 0].max() > 8.0 and np.abs(boat.corners[..., 2]).max() == pytest.approx(1.3, rel=0.01)
    assert np.isfinite(boat.normals).all()


def test_a_hand_held_camera_wanders_smoothly(rng):
    wander = hand_held(rng, 0.02, 0.006)
    t = np.linspace(0, 400, 4001)
    noise = wander.at(t)
    assert np.allclose(noise.std(0)[:3], 0.02, rtol=0.25)
    assert np.abs(np.diff(noise[:, 0])).max() < 0.002
    position, rotation = Move(
        np.array([0.0, 200.0, 400.0]), np.zeros((3, 3)), np.tile([0.0, 0.0, -4.0], (3, 1)), wander
    ).poses(t)
    assert np.allclose(np.einsum("nij,nkj->nik", rotation, rotation), np.eye(3), atol=1e-9)
    assert 0.01 < np.abs(position).max() < 0.1
