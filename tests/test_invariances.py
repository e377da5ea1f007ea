"""What must not matter does not: order, direction, mirroring, scale, units.

The same evidence said another way tells the same.
"""

from dataclasses import replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe
from test_lens_evidence import drawn

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.lens.chart import calibrate
from amberkeel.core.lens.drawn import DrawnLine, LensOrder
from amberkeel.core.lens.fit import fit_lens
from amberkeel.core.lens.views import ChartOrder, View
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import from_pieces

ORDER = LensOrder(960, 540)


@pytest.fixture(scope="module")
def lines():
    return drawn(0.2, np.random.default_rng(8))


@pytest.fixture(scope="module")
def told(lines):
    return fit_lens(lines, ORDER)


def alike(a, b, rel=1e-4):
    """Whether two fits tell the same lens, with the same sigmas."""
    assert a.focal_known == b.focal_known and set(a.sigma) == set(b.sigma)
    assert a.lens.focal_px[0] == pytest.approx(b.lens.focal_px[0], rel=rel)
    assert np.array(a.lens.radial) == pytest.approx(np.array(b.lens.radial), abs=5e-4)
    assert a.focal_sigma_px == pytest.approx(b.focal_sigma_px, rel=0.02)


def test_the_order_of_lines_and_of_their_points_does_not_matter(lines, told, rng):
    shuffled = [replace(lines[k], points=lines[k].points[:: rng.choice([-1, 1])]) for k in rng.permutation(len(lines))]
    other = fit_lens(shuffled, ORDER)
    alike(told, other)
    assert np.abs(told.rotations[1001] - other.rotations[1001]).max() < 1e-3
    assert {r.name: round(r.after_px, 3) for r in told.lines} == {r.name: round(r.after_px, 3) for r in other.lines}


def test_a_mirrored_picture_tells_the_same_lens(lines, told):
    mirrored = [replace(line, points=line.points * [-1.0, 1.0] + [960.0, 0.0]) for line in lines]
    other = fit_lens(mirrored, ORDER)
    alike(told, other)
    up, over = told.rotations[1001][1], other.rotations[1001][1]
    assert over == pytest.approx(up * [-1.0, 1.0, 1.0], abs=2e-3)


def test_a_picture_of_another_size_tells_the_same_lens(lines, told):
    doubled = [replace(line, points=2.0 * line.points, sigma=2.0 * line.sigma) for line in lines]
    other = fit_lens(doubled, LensOrder(1920, 1080))
    halved = replace(
        other,
        lens=replace(other.lens, focal_px=tuple(f / 2 for f in other.lens.focal_px)),
        focal_sigma_px=other.focal_sigma_px / 2,
    )
    alike(told, halved)


def test_a_squeezed_picture_tells_the_same_lens(lines, told):
    squeezed = [replace(line, points=line.points * [0.5, 1.0]) for line in lines]
    other = fit_lens(squeezed, LensOrder(480, 540, pixel_aspect=2.0))
    # Noise across x is halved with the picture, so the lines weigh otherwise: the same within what they tell.
    assert abs(2.0 * other.lens.focal_px[0] - told.lens.focal_px[0]) < 2.0 * told.focal_sigma_px
    assert other.lens.focal_px[1] == pytest.approx(2.0 * other.lens.focal_px[0])
    assert abs(other.lens.radial[0] - told.lens.radial[0]) < 2.0 * told.sigma["k1"]


def test_a_line_said_twice_is_told_more_surely_and_no_other_way(lines, told):
    other = fit_lens([*lines, *lines], ORDER)
    assert other.lens.focal_px[0] == pytest.approx(told.lens.focal_px[0], rel=2e-3)
    assert other.focal_sigma_px == pytest.approx(told.focal_sigma_px / np.sqrt(2.0), rel=0.15)


def test_lines_of_several_frames_need_not_share_a_direction(lines, told, rng):
    late = drawn(
        0.2, rng, turned=np.eye(3)[[0, 1, 2]] @ rotation_exp(np.array([0.0, 0.35, 0.0])) @ np.diag([1.0, -1.0, -1.0])
    )
    both = fit_lens([*lines, *(replace(line, frame=1030) for line in late)], ORDER)
    assert set(both.rotations) == {1001, 1030} and both.focal_sigma_px < told.focal_sigma_px
    assert abs(both.lens.focal_px[0] - 640.0) < 3.0 * both.focal_sigma_px
    assert np.abs(both.rotations[1001] - told.rotations[1001]).max() < 0.02


def test_a_held_focal_length_stays_and_a_soft_one_is_drawn(lines, told):
    held = fit_lens(lines, replace(ORDER, focal_px=655.0))
    assert held.lens.focal_px[0] == pytest.approx(655.0) and held.focal_sigma_px == 0.0 and held.focal_known
    free, own = told.lens.focal_px[0], told.focal_sigma_px
    for sigma in (0.05, 0.01, 0.003):
        known, spread = free + 2.0, sigma * (free + 2.0)
        soft = fit_lens(lines, replace(ORDER, focal_px=known, focal_sigma=sigma))
        expected = (free / own**2 + known / spread**2) / (1.0 / own**2 + 1.0 / spread**2)
        assert soft.lens.focal_px[0] == pytest.approx(expected, abs=0.2) and soft.focal_sigma_px == pytest.approx(
            (1.0 / own**2 + 1.0 / spread**2) ** -0.5, rel=0.1
        )
    # One that the lines contradict by many sigmas hardly counts.
    far = fit_lens(lines, replace(ORDER, focal_px=free + 25.0, focal_sigma=0.002))
    assert far.lens.focal_px[0] < free + 4.0


def seen_grids(lens, rng, count=8, square=25.0):
    """Views of a board of 9 x 6 corners, exact but for a little noise."""
    x, y = np.meshgrid(np.arange(9.0), np.arange(6.0))
    positions = np.stack([x, y], -1).reshape(-1, 2) * square
    views = []
    for k in range(count):
        turn = rotation_exp(np.array([rng.uniform(-0.6, 0.6), rng.uniform(-0.6, 0.6), rng.uniform(-0.3, 0.3)]))
        shift = np.array(
            [rng.uniform(-60, 60), rng.uniform(-30, 30), rng.uniform(380, 480)]
        ) * square / 25.0 - turn @ np.array([4.0 * square, 2.5 * square, 0.0])
        camera = np.c_[positions, np.zeros(54)] @ turn.T + shift
        views.append(View(f"view {k}", lens.project(camera) + rng.normal(0, 0.05, (54, 2)), positions))
    return views


def test_a_calibration_does_not_depend_on_order_units_or_which_way_up_the_board_is(rng):
    lens = replace(Lens.centred(960, 540, 820.0), radial=(-0.1, 0.03, 0.0), principal_px=(487.0, 263.0))
    views, order = seen_grids(lens, rng), ChartOrder(9, 6, 25.0)
    found = calibrate(views, 960, 540, order)
    assert found.lens.focal_px[0] == pytest.approx(820.0, abs=4.0 * found.sigma["focal_px"])
    inches = [replace(v, positions=v.positions / 25.4) for v in views]
    turned = [replace(v, corners=v.corners[::-1]) for v in views]
    for other in (views[::-1], inches, turned):
        again = calibrate(other, 960, 540, order)
        assert again.lens.focal_px[0] == pytest.approx(
            found.lens.focal_px[0], rel=1e-5
        ) and again.lens.principal_px == pytest.approx(found.lens.principal_px, abs=0.02)
        assert again.lens.radial[:2] == pytest.approx(found.lens.radial[:2], abs=1e-4) and again.sigma[
            "focal_px"
        ] == pytest.approx(found.sigma["focal_px"], rel=0.01)
    assert (np.array(found.coverage).sum()) == 8 * 54


def test_a_view_that_disagrees_is_left_out_and_named(rng):
    lens = Lens.centred(960, 540, 820.0)
    views = seen_grids(lens, rng)
    bent = views[3].corners.copy()
    bent[::3] += rng.normal(0, 6.0, bent[::3].shape)
    found = calibrate([*views[:3], replace(views[3], corners=bent), *views[4:]], 960, 540, ChartOrder(9, 6, 25.0))
    assert found.astray.tolist() == [False, False, False, True, False, False, False, False] and any(
        "1 of 8" in note for note in found.notes
    )
    assert found.lens.focal_px[0] == pytest.approx(820.0, rel=2e-3) and found.rms_px < 0.1


@pytest.fixture(scope="module")
def filmed():
    """A camera that moves through a cloud of points, and the tracks that it films."""
    rng = np.random.default_rng(12)
    path = moving_camera(24, 640.0, -0.1)
    return path, observe(path, cloud(rng, 110), 0.1, rng)


def changed(tracks, frames=None, xy=None):
    """Tracks with other frame numbers or positions, sorted anew."""
    frames, xy = tracks.frames if frames is None else frames, tracks.xy if xy is None else xy
    pieces = []
    for k in range(len(tracks)):
        rows = tracks.rows(k)
        order = np.argsort(frames[rows])
        pieces.append((frames[rows][order], xy[rows][order], tracks.sigma[rows][order], tracks.score[rows][order]))
    return from_pieces(list(tracks.names), pieces)


@pytest.fixture(scope="module")
def plain(filmed):
    path, tracks = filmed
    return solve_tracks(tracks, path.frames, 640, 360)


def test_a_shot_played_backwards_gives_the_same_lens(filmed, plain):
    path, tracks = filmed
    first, last = int(path.frames[0]), int(path.frames[-1])
    back = solve_tracks(changed(tracks, frames=first + last - tracks.frames), path.frames, 640, 360)
    assert abs(back.path.lens.focal_px[0] - plain.path.lens.focal_px[0]) < plain.focal_sigma_px
    steps = [np.linalg.norm(np.diff(s.path.positions, axis=0), axis=1) for s in (plain, back)]
    assert steps[1][::-1] / steps[1].sum() == pytest.approx(steps[0] / steps[0].sum(), abs=0.01)


def test_a_mirrored_shot_gives_the_same_lens_and_a_mirrored_path(filmed, plain):
    path, tracks = filmed
    other = solve_tracks(changed(tracks, xy=tracks.xy * [-1.0, 1.0] + [640.0, 0.0]), path.frames, 640, 360)
    assert abs(other.path.lens.focal_px[0] - plain.path.lens.focal_px[0]) < plain.focal_sigma_px
    assert other.path.lens.radial[0] == pytest.approx(plain.path.lens.radial[0], abs=0.01)
    size = np.linalg.norm(plain.path.positions[-1])
    assert other.path.positions * [-1.0, 1.0, 1.0] / np.linalg.norm(other.path.positions[-1]) == pytest.approx(
        plain.path.positions / size, abs=0.03
    )


def test_a_shot_of_twice_the_size_gives_twice_the_focal_length(filmed, plain):
    path, tracks = filmed
    large = changed(tracks, xy=2.0 * tracks.xy)
    other = solve_tracks(replace(large, sigma=2.0 * large.sigma), path.frames, 1280, 720)
    assert abs(other.path.lens.focal_px[0] / 2.0 - plain.path.lens.focal_px[0]) < plain.focal_sigma_px
    assert other.rms_px == pytest.approx(2.0 * plain.rms_px, rel=0.1)
    assert abs(other.path.lens.radial[0] - plain.path.lens.radial[0]) < 0.01


def test_frame_numbers_and_the_order_of_tracks_do_not_matter(filmed, plain, rng):
    path, tracks = filmed
    moved = changed(tracks, frames=tracks.frames + 5000)
    shuffled = moved.take(rng.permutation(len(moved)))
    other = solve_tracks(shuffled, path.frames + 5000, 640, 360)
    assert abs(other.path.lens.focal_px[0] - plain.path.lens.focal_px[0]) < plain.focal_sigma_px
    assert other.path.frames.tolist() == (path.frames + 5000).tolist() and other.rms_px == pytest.approx(
        plain.rms_px, rel=0.1
    )


def test_the_same_tracks_and_seed_give_the_same_solve(filmed, plain):
    path, tracks = filmed
    again = solve_tracks(tracks, path.frames, 640, 360)
    assert np.array_equal(again.path.positions, plain.path.positions) and again.path.lens == plain.path.lens
    assert again.tracks.states == plain.tracks.states


def test_one_line_apart_from_the_others_changes_little_and_is_named(lines, told):
    wrong = DrawnLine(np.array([[100.0, 480.0], [300.0, 400.0], [500.0, 470.0]]), "x", 1001, 0.2, "wrong")
    other = fit_lens([*lines, wrong], ORDER)
    assert [r.name for r in other.lines if r.disagrees] == ["wrong"]
    assert abs(other.lens.focal_px[0] - told.lens.focal_px[0]) < 2.0 * told.focal_sigma_px
