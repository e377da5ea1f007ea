"""Pieces of the solver on their own."""

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.errors import Cancelled, SolveError
from amberkeel.core.geometry import rotation_exp, rotation_log
from amberkeel.core.slip import slip_px
from amberkeel.core.solve.bundle import adjust
from amberkeel.core.solve.checks import choose_checks
from amberkeel.core.solve.lens_terms import LensPriors
from amberkeel.core.solve.points import resect
from amberkeel.core.solve.problem import make_problem
from amberkeel.core.solve.solve import Recipe, solve_tracks
from amberkeel.core.solve.start import find_pairs, sweep
from amberkeel.core.solve.uncertainty import covariance, gauge_rows, time_correlation
from amberkeel.core.tracks import AUTO, EXCLUDED, TrackSet, from_pieces


def known(path, tracks, **lens):
    flat = np.array([path.lens.focal_px[0], 1.0, 320.0, 180.0, path.lens.radial[0], 0.0, 0.0])
    problem = make_problem(tracks, path.frames, flat, np.ones(len(tracks), bool))
    problem.rotations[:], problem.centres[:], problem.solved[:] = path.world_from_camera, path.positions, True
    return problem


@pytest.fixture
def path():
    return moving_camera(30, 700.0, -0.04)


def test_points_are_triangulated_despite_bad_measurements(path, rng):
    points = cloud(rng, 60)
    tracks = observe(path, points, 0.05, rng)
    spoilt = rng.choice(len(tracks.frames), len(tracks.frames) // 12, replace=False)
    tracks.xy[spoilt] += rng.normal(0, 25, (len(spoilt), 2))
    problem = known(path, tracks)
    problem.place(problem.used, 3.0)
    bundle, _ = problem.bundle(problem.solved, problem.used, problem.solved.copy())
    true = points[[int(n[1:]) for n in tracks.names]]
    miss = np.linalg.norm(bundle.points() - true, axis=1) / true[:, 2]
    assert problem.placed.all() and np.median(miss) < 0.001 and np.quantile(miss, 0.9) < 0.01


def test_points_at_infinity_keep_their_direction(path, rng):
    far = cloud(rng, 20) * 1e6
    problem = known(path, observe(path, far, 0.1, rng))
    problem.place(problem.used, 3.0)
    assert problem.placed.all()
    assert np.abs(problem.rhos).max() < 5e-3


def test_a_frame_is_resected_from_a_rough_start(path, rng):
    points = cloud(rng, 80)
    q = path.project(points, 12)
    bad = rng.choice(80, 16, replace=False)
    q[bad] += rng.normal(0, 60, (16, 2))
    rotation = path.world_from_camera[12] @ rotation_exp(np.array([0.02, -0.03, 0.02]))
    centre = path.positions[12] + [0.2, -0.1, 0.15]
    reach = np.linalg.norm(points, axis=1)
    lens = np.array([700.0, 1.0, 320.0, 180.0, -0.04, 0, 0])
    for scale in (30.0, 3.0):
        share = resect(rotation, centre, np.zeros((80, 3)), points / reach[:, None], 1 / reach, lens, q, np.ones(80), scale**2, 30)
    assert share == pytest.approx(0.8, abs=0.07)
    assert np.linalg.norm(centre - path.positions[12]) < 0.01
    assert np.linalg.norm(rotation_log(rotation.T @ path.world_from_camera[12])) < 1e-3


def test_pairs_have_parallax_and_the_sweep_finds_the_focal_length(path, rng):
    problem = known(path, observe(path, cloud(rng, 150), 0.1, rng))
    problem.solved[:] = False
    pairs = find_pairs(problem)
    assert all(p.parallax > 1.0 and p.b - p.a >= 8 for p in pairs)
    starts = sweep(problem, pairs[0], np.array([250.0, 500.0, 900.0, 2000.0]), True)
    assert starts[0].cost <= starts[-1].cost and starts[0].explained > 0.9
    assert starts[0].problem.lens[0] == pytest.approx(700.0, rel=0.25)


def test_held_cameras_and_lens_stay(path, rng):
    problem = known(path, observe(path, cloud(rng, 60), 0.1, rng))
    problem.place(problem.used, 3.0)
    free = np.zeros(30, bool)
    free[10:20] = True
    bundle, _ = problem.bundle(problem.solved, problem.used, free)
    bundle.centres[free] += 0.01
    before = bundle.centres.copy()
    adjust(bundle, 15)
    assert np.array_equal(bundle.centres[~free], before[~free])
    assert np.linalg.norm(bundle.centres[free] - path.positions[free], axis=1).max() < 0.01
    assert bundle.lens[0] == 700.0


def test_a_soft_value_pulls_as_its_sigma_says(path, rng):
    results = []
    for weight in (0.0, 1e5):
        problem = known(path, observe(path, cloud(np.random.default_rng(3), 60), 0.3, np.random.default_rng(3)))
        problem.place(problem.used, 3.0)
        free = np.ones(30, bool)
        free[0] = False
        options = {"priors": LensPriors(np.array([np.log(740.0), 0, 0, 0, 0, 0]), np.array([weight, 0, 0, 0, 0, 0]))}
        bundle, _ = problem.bundle(problem.solved, problem.used, free, free_lens=(0,), **options)
        adjust(bundle, 60, 1e-10)
        results.append(bundle.lens[0])
    assert abs(results[0] - 700.0) < 20.0 and results[1] == pytest.approx(740.0, abs=0.5)


def test_covariance_holds_its_gauge_and_shrinks_with_noise(path, rng):
    problem = known(path, observe(path, cloud(rng, 60), 0.1, rng))
    problem.place(problem.used, 3.0)
    bundle, _ = problem.bundle(problem.solved, problem.used, problem.solved.copy(), free_lens=(0,))
    one, two = covariance(bundle, 1.0), covariance(bundle, 2.0)
    assert np.allclose(two, 4.0 * one)
    held = gauge_rows(bundle)
    assert len(held) == 7 and (np.diagonal(one)[held] == 0.0).all()
    assert (np.diagonal(one)[np.setdiff1d(np.arange(len(one)), held)] > 0.0).all()
    assert np.allclose(one, one.T, atol=1e-8 * one.max())


def test_time_correlation_is_seen(rng):
    first = np.arange(0, 2001, 50)
    white = rng.normal(size=(2000, 2))
    assert abs(time_correlation(white, first)) < 0.1
    slow = np.zeros((2000, 2))
    for a in first[:-1]:
        slow[a] = white[a]
        for k in range(a + 1, a + 50):
            slow[k] = 0.8 * slow[k - 1] + 0.6 * white[k]
    assert time_correlation(slow, first) == pytest.approx(0.8, abs=0.08)


def test_check_tracks_are_long_and_spread(rng):
    pieces = []
    for n in range(300):
        length = int(rng.integers(6, 60))
        start = int(rng.integers(0, 40))
        frames = np.arange(start, start + length)
        xy = rng.uniform([0, 0], [640, 360]) + np.zeros((length, 2))
        pieces.append((frames, xy, np.full(length, 0.1), np.ones(length)))
    states = [EXCLUDED] * 20 + ["active"] * 280
    tracks = from_pieces([f"t{n}" for n in range(300)], pieces, [AUTO] * 300, states)
    chosen = choose_checks(tracks, 640, 360, 0.06, rng)
    assert chosen.sum() == round(0.06 * 280) and not chosen[:20].any()
    assert tracks.lengths[chosen].min() >= 8
    middles = np.array([tracks.xy[tracks.first[t]] for t in np.nonzero(chosen)[0]])
    assert (middles[:, 0] < 320).sum() >= 4 and (middles[:, 0] > 320).sum() >= 4
    assert not choose_checks(tracks.take(np.arange(30)), 640, 360, 0.06, rng).any()


def test_track_sets_are_cut_and_kept_in_order(path, rng):
    tracks = observe(path, cloud(rng, 12), 0.1, rng)
    some = tracks.take(np.array([5, 2]))
    assert some.names == [tracks.names[5], tracks.names[2]]
    assert np.array_equal(some.xy[some.rows(1)], tracks.xy[tracks.rows(2)])
    assert isinstance(from_pieces([], []), TrackSet) and len(from_pieces([], [])) == 0


def test_only_the_frames_asked_for_are_solved(path, rng):
    tracks = observe(path, cloud(rng, 120), 0.1, rng)
    solved = solve_tracks(tracks, path.frames[4:26], 640, 360, Recipe())
    assert solved.path.frames.tolist() == list(range(1005, 1027))
    assert set(np.unique(solved.tracks.frames)) <= set(range(1005, 1027))


def test_a_long_shot_without_common_tracks_is_grown_through(rng):
    path = moving_camera(120, step=0.25)
    points = rng.uniform([-4, -2.2, 5], [40, 2.2, 30], (1500, 3))
    tracks = observe(path, points, 0.1, rng)
    assert np.median(tracks.lengths) < 80
    solved = solve_tracks(tracks, path.frames, 640, 360, Recipe(distortion="none"))
    assert solved.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.01)
    seen = np.array([((path.project(points, k) > 0) & (path.project(points, k) < [640, 360])).all(1) for k in range(120)])
    assert np.sqrt(np.nanmean(slip_px(solved.path, path, points, seen) ** 2)) < 0.05


def test_a_shot_that_breaks_says_where(rng):
    path = moving_camera(60)
    points = cloud(rng, 240)
    tracks = observe(path, points, 0.1, rng)
    pieces, names = [], []
    for t, name in enumerate(tracks.names):
        r = tracks.rows(t)
        half = tracks.frames[r] <= 1040 if t % 2 else tracks.frames[r] > 1040
        if half.sum() > 6:
            pieces.append((tracks.frames[r][half], tracks.xy[r][half], tracks.sigma[r][half], tracks.score[r][half]))
            names.append(name)
    with pytest.raises(SolveError, match="breaks at frame 104|few tracks"):
        solve_tracks(from_pieces(names, pieces), path.frames, 640, 360)


def test_a_solve_can_be_cancelled(path, rng):
    def stop(share, _doing):
        if share > 0.3:
            raise Cancelled()

    with pytest.raises(Cancelled):
        solve_tracks(observe(path, cloud(rng, 120), 0.1, rng), path.frames, 640, 360, Recipe(), stop)


@pytest.mark.parametrize("aspect", [1.0, 1.46])
def test_pixel_aspect_is_kept(aspect, rng):
    base = moving_camera(24)
    from dataclasses import replace

    from amberkeel.core.lens import Lens

    path = replace(base, lens=Lens.centred(640, 360, 500.0, pixel_aspect=aspect))
    tracks = observe(path, cloud(rng, 130), 0.05, rng)
    solved = solve_tracks(tracks, path.frames, 640, 360, Recipe(distortion="none", pixel_aspect=aspect))
    assert solved.path.lens.focal_px[1] / solved.path.lens.focal_px[0] == pytest.approx(aspect)
    assert solved.path.lens.focal_px[0] == pytest.approx(500.0, rel=0.015)
