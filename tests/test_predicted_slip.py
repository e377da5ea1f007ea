"""What a solve leaves open, against what it really got wrong; and steps of the focal length along its valley."""

from dataclasses import replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.lens import Lens
from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.bundle import total_cost
from amberkeel.core.solve.predicted_slip import predicted_slip, slip_sigma
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.refocus import stretch_cameras, stretch_points
from amberkeel.core.solve.shifts import Shifts
from amberkeel.core.solve.solve import ask, solve_shot, solve_tracks
from amberkeel.core.solve.step import move_points
from amberkeel.core.world.camera_curves import camera_curves
from amberkeel.core.world.true_slip import slip_px

NOISE_PX = 0.3


@pytest.fixture(scope="module")
def made():
    """A camera, its tracks with their noise, and what was solved from them."""
    rng = np.random.default_rng(21)
    path = moving_camera()
    tracks = observe(path, cloud(rng, 90), NOISE_PX, rng)
    return path, tracks, solve_tracks(tracks, path.frames, 640, 360, Recipe("free"))


def test_slip_is_predicted_as_it_comes(made):
    path, _, solution = made
    found = predicted_slip(solution, 1015)
    others = cloud(np.random.default_rng(5), 120)
    px = np.array([path.project(others, k) for k in range(len(path.frames))])
    ahead = np.array([path.to_camera(others, k)[:, 2] > 0.1 for k in range(len(path.frames))])
    true = slip_px(solution.path, path, others, ahead & ((px > 0) & (px < [640, 360])).all(2))
    assert 0.5 < np.nanmedian(found.px) / np.nanmedian(true) < 2.0
    assert found.px.shape == (found.rows, found.columns) and np.isfinite(found.px).mean() > 0.6
    with pytest.raises(KeyError):
        predicted_slip(solution, 1)
    assert np.isnan(predicted_slip(replace(solution, shifts=None), 1015).px).all()


def test_what_moves_camera_and_object_alike_is_no_slip(made):
    _, _, solution = made
    path, frames = solution.path, len(solution.path.frames)
    place = path.positions[0] + path.world_from_camera[0] @ np.array([0.3, 0.2, 8.0])
    # A larger world, seen from its first camera, looks the same; a jolt of one frame does not.
    larger = Shifts(np.zeros((1, frames, 3)), 0.01 * (path.positions - place)[None], (), np.zeros((1, 0)), 1)
    jolt = np.zeros((1, frames, 3))
    jolt[0, 12, 1] = 1e-3
    jolted = Shifts(jolt, np.zeros((1, frames, 3)), (), np.zeros((1, 0)), 1)
    assert slip_sigma(path, larger, place[None])[0] < 1e-3
    assert slip_sigma(path, jolted, place[None])[0] > 0.1


def test_the_cameras_curves_carry_their_sigmas_into_another_world(made):
    _, _, solution = made
    path, shifts = solution.path, solution.shifts
    own = {curve.name: curve for curve in camera_curves(path, shifts)}
    assert own["z"].sigma[0] == pytest.approx(0.0, abs=1e-9) and own["z"].sigma[-5:].min() > 0.0
    turn = np.array([[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [-1.0, 0.0, 0.0]])
    there = {c.name: c for c in camera_curves(path.moved(2.0, turn, np.ones(3)), shifts.moved(2.0, turn))}
    assert there["x"].sigma == pytest.approx(2.0 * own["z"].sigma, rel=1e-6, abs=1e-9)
    assert there["tilt"].values == pytest.approx(own["tilt"].values) and there["roll"].sigma == pytest.approx(
        own["roll"].sigma, rel=1e-3, abs=1e-9
    )
    turns, positions = shifts.sigmas()
    assert turns.shape == positions.shape == (len(path.frames), 3)
    wider = Shifts(shifts.turns, shifts.positions, ("focal", "k1"), np.full((len(shifts), 2), 0.01), shifts.cells)
    lens = wider.camera(path, 0).lens
    assert lens.focal_px[0] == pytest.approx(np.exp(0.01) * path.lens.focal_px[0])
    assert lens.radial[0] == pytest.approx(path.lens.radial[0] + 0.01) and isinstance(lens, Lens)


def test_a_stretch_changes_a_step_in_second_order_only(rng):
    directions = rng.normal(size=(40, 3))
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    anchors, rhos, steps = rng.normal(size=(40, 3)), rng.uniform(0.02, 0.3, 40), rng.normal(size=(40, 3))
    origin, axis = np.zeros(3), np.array([0.0, 0.6, 0.8])
    off = []
    for size in (1e-2, 1e-3):
        plain, bent = (np.empty((40, 3)), np.empty(40)), (np.empty((40, 3)), np.empty(40))
        move_points(directions, rhos, size * steps, *plain)
        stretch_points(directions, rhos, anchors, origin, axis, 3.0 * size, size * steps, *bent)
        off.append(max(np.abs(plain[0] - bent[0]).max(), np.abs(plain[1] - bent[1]).max()))
    assert off[1] < 0.02 * off[0]
    path = moving_camera(12)
    free = np.ones((12, 6), bool)
    free[0], free[5, 3:] = False, False
    zero = np.zeros((12, 3))
    turned, moved = np.empty((12, 3, 3)), np.empty((12, 3))
    axis = np.ascontiguousarray(path.world_from_camera[0][:, 2])
    stretch_cameras(
        path.world_from_camera, path.positions, free, path.positions[0], axis, 0.1, zero, zero, turned, moved
    )
    assert np.array_equal(moved[[0, 5]], path.positions[[0, 5]]) and not np.allclose(moved[-1], path.positions[-1])
    assert turned[0] == pytest.approx(path.world_from_camera[0]) and np.linalg.det(turned[-1]) == pytest.approx(1.0)


def test_an_adjustment_comes_back_along_the_valley_of_the_focal_length(made):
    path, tracks, _ = made
    solved = solve_shot(ask(tracks, path.frames, 640, 360, Recipe("free")), lambda *_: None)
    bundle = solved.final_bundle()[0]
    free = bundle.free.copy()
    free[0] = False
    right = adjust(replace(bundle, free=free), 40, 1e-9)
    (lens,) = right.bundle.lenses
    far = replace(lens, values=lens.values.refocused(1.3 * lens.values.focal))
    back = adjust(replace(right.bundle, lenses=(far,)), 40, 1e-9)
    assert total_cost(replace(right.bundle, lenses=(far,))) > 20.0 * right.cost
    assert back.cost == pytest.approx(right.cost, rel=1e-3)
    assert back.bundle.lens.focal == pytest.approx(right.bundle.lens.focal, rel=2e-3)
