"""Pieces of the solver on their own."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.sparse import csr_matrix
from scipy.spatial.transform import Rotation
from simulated import cloud, moving_camera, observe

from amberkeel.core.errors import Cancelled
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.arrays import Scene
from amberkeel.core.solve.bundle import total_cost
from amberkeel.core.solve.check_tracks import choose_checks
from amberkeel.core.solve.evidence.piece import Members
from amberkeel.core.solve.evidence.scene_pieces import Distance
from amberkeel.core.solve.joint import SamePoint, joined, parted
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.normal_system import NormalSystem
from amberkeel.core.solve.problem import make_problem
from amberkeel.core.solve.projection import tangent
from amberkeel.core.solve.radial_lens import RadialLens
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.refine import resect_camera
from amberkeel.core.solve.reversal import HOPELESS, adjusted_cost, came_back, twin_of
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve.start import find_pairs, sweep
from amberkeel.core.solve.terms import SoftLens
from amberkeel.core.solve.tiles import camera_order, tile_pattern
from amberkeel.core.solve.uncertainty import Covariance, camera_groups, gauge, time_correlation
from amberkeel.core.tracks import AUTO, EXCLUDED, TrackSet, from_pieces
from amberkeel.core.world.true_slip import slip_px
from benchmarks.scene import large_problem


def known(path, tracks, **lens):
    lens = RadialLens(path.lens.focal_px[0], 320.0, 180.0, path.lens.radial[0])
    problem = make_problem(tracks, path.frames, lens, np.ones(len(tracks), bool))
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
    problem.triangulate(problem.active, 3.0)
    bundle, _ = problem.bundle(problem.solved, problem.active, problem.solved)
    true = points[[int(n[1:]) for n in tracks.names]]
    miss = np.linalg.norm(bundle.points() - true, axis=1) / true[:, 2]
    assert problem.triangulated.all() and np.median(miss) < 0.001 and np.quantile(miss, 0.9) < 0.01


def test_points_at_infinity_keep_their_direction(path, rng):
    far = cloud(rng, 20) * 1e6
    problem = known(path, observe(path, far, 0.1, rng))
    problem.triangulate(problem.active, 3.0)
    assert problem.triangulated.all()
    assert np.abs(problem.rhos).max() < 5e-3


def test_a_frame_is_resected_from_a_rough_start(path, rng):
    points = cloud(rng, 80)
    q = path.project(points, 12)
    bad = rng.choice(80, 16, replace=False)
    q[bad] += rng.normal(0, 60, (16, 2))
    rotation = path.world_from_camera[12] @ rotation_exp(np.array([0.02, -0.03, 0.02]))
    centre = path.positions[12] + [0.2, -0.1, 0.15]
    reach = np.linalg.norm(points, axis=1)
    lens = RadialLens(700.0, 320.0, 180.0, -0.04).row[None]
    scene = Scene(rotation[None], centre[None], lens, np.zeros((80, 3)), points / reach[:, None], 1 / reach)
    for scale in (30.0, 3.0):
        share = resect_camera(scene, 0, np.arange(80), q, np.ones(80), scale**2, 30, np.zeros(80))
    rotation, centre = scene.rotations[0], scene.centres[0]
    assert share == pytest.approx(0.8, abs=0.07)
    assert np.linalg.norm(centre - path.positions[12]) < 0.01
    assert Rotation.from_matrix(rotation.T @ path.world_from_camera[12]).magnitude() < 1e-3


def test_points_without_depth_hold_a_rotation(path, rng):
    points = cloud(rng, 80)
    reach = np.linalg.norm(points, axis=1)
    q, true = path.project(points, 12), path.world_from_camera[12]
    lens = RadialLens(700.0, 320.0, 180.0, path.lens.radial[0]).row[None]
    off = []
    for loose in (1e12, 0.0):
        turned, depths = true @ rotation_exp(np.array([0.004, -0.003, 0.002])), rng.uniform(0.7, 1.4, 80) / reach
        scene = Scene(
            turned[None], path.positions[12][None].copy(), lens, np.zeros((80, 3)), points / reach[:, None], depths
        )
        resect_camera(scene, 0, np.arange(80), q, np.ones(80), 16.0, 30, np.full(80, loose))
        off.append(Rotation.from_matrix(scene.rotations[0].T @ true).magnitude())
    assert off[0] < 5e-4 < off[1]


def test_pairs_have_parallax_and_the_sweep_finds_the_focal_length(path, rng):
    problem = known(path, observe(path, cloud(rng, 150), 0.1, rng))
    problem.solved[:] = False
    pairs = find_pairs(problem)
    assert all(p.parallax > 1.0 and p.b - p.a >= 8 for p in pairs)
    starts = sweep(problem, pairs[0], np.array([250.0, 500.0, 900.0, 2000.0]), True)
    assert starts[0].cost <= starts[-1].cost and starts[0].explained > 0.9
    assert starts[0].problem.lens.focal == pytest.approx(700.0, rel=0.25)


def test_the_second_pair_is_of_another_time(rng):
    path = moving_camera(60, 700.0)
    points = cloud(rng, 200)
    # Those that pass through the middle move by themselves, so that all pairs there show parallax.
    moving = np.repeat(points[None], 60, 0)
    moving[20:40, :120, 0] += np.cumsum(rng.normal(0.1, 0.1, (20, 120)), 0)
    tracks = observe(path, moving, 0.1, rng).on_frames(path.frames)
    first, second = find_pairs(known(path, tracks))[:2]
    together = min(first.b, second.b) - max(first.a, second.a)
    assert together < 0.34 * min(first.b - first.a, second.b - second.a)
    assert second.parallax > 0.2 * min(first.parallax, 30.0)


def small_parallax(rng, step=0.012):
    path = moving_camera(24, 900.0, step=step)
    problem = known(path, observe(path, cloud(rng, 90), 0.1, rng))
    problem.triangulate(problem.active, 3.0)
    return problem


def test_a_twin_with_depth_reversed_is_tried_and_given_up(rng):
    problem, freedom = small_parallax(rng), Freedom(("focal",))
    own = adjusted_cost(problem, freedom)
    twin = twin_of(problem)
    both = problem.active & twin.triangulated
    assert np.corrcoef(problem.rhos[both], twin.rhos[both])[0, 1] < -0.9
    assert adjusted_cost(twin, freedom, own) > own and not came_back(problem, twin)
    assert came_back(problem, problem.copied())
    clear = small_parallax(rng, 0.04)
    own = adjusted_cost(clear, freedom)
    assert adjusted_cost(twin_of(clear), freedom, own) > HOPELESS * own
    assert twin_of(small_parallax(rng, 0.2)) is None, "perspective tells near from far"


def test_a_solve_that_fell_into_the_twin_is_led_out_of_it(rng):
    problem, freedom = small_parallax(rng), Freedom(("focal",))
    right, reversed_ = adjusted_cost(problem, freedom), twin_of(problem)
    wrong = adjusted_cost(reversed_, freedom)
    back = twin_of(reversed_)
    assert adjusted_cost(back, freedom, wrong) == pytest.approx(right, rel=0.01) and came_back(problem, back)


def test_held_cameras_and_lens_stay(path, rng):
    problem = known(path, observe(path, cloud(rng, 60), 0.1, rng))
    problem.triangulate(problem.active, 3.0)
    free = np.zeros(30, bool)
    free[10:20] = True
    problem.centres[free] += 0.01
    bundle, _ = problem.bundle(problem.solved, problem.active, free)
    degrees = bundle.free.copy()
    degrees[12, 3], degrees[14, :3] = False, False
    after = adjust(replace(bundle, free=degrees), 15).bundle
    assert np.array_equal(after.centres[~free], bundle.centres[~free]) and after.lens.focal == 700.0
    assert np.linalg.norm(after.centres - path.positions, axis=1)[[10, 11, 13, 15, 18]].max() < 0.01
    assert after.centres[12, 0] == bundle.centres[12, 0] and not np.array_equal(after.centres[12], bundle.centres[12])
    assert np.allclose(after.rotations[14], bundle.rotations[14]) and after.centres[14, 0] != bundle.centres[14, 0]


def test_a_soft_value_pulls_as_its_sigma_says(path, rng):
    results = []
    for terms in ((), (SoftLens("focal", 740.0, 0.01),)):
        problem = known(path, observe(path, cloud(np.random.default_rng(3), 60), 0.3, np.random.default_rng(3)))
        problem.triangulate(problem.active, 3.0)
        freedom = Freedom(("focal",), terms)
        bundle, _ = problem.bundle(problem.solved, problem.active, problem.all_but_first, freedom)
        results.append(adjust(bundle, 60, 1e-10).bundle)
    assert abs(results[0].lens.focal - 700.0) < 20.0 and results[1].lens.focal == pytest.approx(740.0, abs=0.5)
    figure = results[1].figures()[0]
    assert figure.name == "focal" and figure.found == results[1].lens.focal and figure.sigmas < 0.0


def test_sigmas_are_those_of_the_dense_system_in_its_gauge(path, rng):
    problem = known(path, observe(path, cloud(rng, 60), 0.1, rng))
    problem.triangulate(problem.active, 3.0)
    bundle, _ = problem.bundle(problem.solved, problem.active, problem.solved, Freedom(("focal", "k1")))
    held = gauge(bundle)
    assert (~held).sum() == 7 and not held[0].any()
    covariance, points = Covariance(bundle), np.ones(len(bundle.rhos), bool)
    names, rows, own = covariance.lens_rows(0, points)
    of_lens = covariance.of(rows)
    assert names == ("focal", "k1", "depth") and np.allclose(of_lens, of_lens.T) and own > 0.0
    variances = covariance.pose_variances()
    assert np.allclose(Covariance(bundle, np.full(len(bundle.rhos), 0.25)).of(rows), 4.0 * of_lens, rtol=1e-5)
    # The same from the normal matrix of all unknowns, made of finite differences.
    bundle, size = covariance.bundle, 180 + 2 + 3 * len(bundle.rhos)
    j = np.stack([whitened(bundle, d) - whitened(bundle, -d) for d in 1e-6 * np.eye(size)], 1) / 2e-6
    weight = 1.0 / (1.0 + (whitened(bundle, np.zeros(size)).reshape(-1, 2) ** 2).sum(1) / bundle.loss_scale**2)
    free = np.concatenate([held.ravel(), np.ones(size - 180, bool)])
    full = np.zeros((size, size))
    full[np.ix_(free, free)] = np.linalg.inv((j.T * np.repeat(weight, 2) @ j)[np.ix_(free, free)])
    assert np.allclose(full[180:182, 180:182], of_lens[:2, :2], rtol=1e-3)
    assert np.allclose(np.diagonal(full)[:180].reshape(30, 6), variances, rtol=2e-3)


def whitened(bundle, d):
    """Whitened residuals after a step of all cameras, of focal length and k1, and of all points."""
    cameras, points, basis = d[:180].reshape(30, 6), d[182:].reshape(-1, 3), np.zeros((3, 2))
    directions = bundle.directions.copy()
    for k, step in enumerate(points):
        tangent(bundle.directions[k], basis)
        directions[k] += basis @ step[:2]
    rotations = bundle.rotations @ np.array([rotation_exp(w) for w in cameras[:, :3]])
    lens = bundle.lens.stepped("focal", d[180]).stepped("k1", d[181])
    moved = replace(
        bundle, rotations=rotations, centres=bundle.centres + cameras[:, 3:], directions=directions,
        rhos=bundle.rhos + points[:, 2], lenses=(replace(bundle.lenses[0], values=lens),),
    )  # fmt: skip
    return (moved.residuals() * bundle.weight[:, None]).ravel()


@pytest.mark.parametrize("case", ["loop", "distance", "two lenses"])
def test_a_sparse_system_solves_as_a_dense_one(case, rng, monkeypatch):
    bundle = large_problem(cameras=90, points=300, track=12)
    if case == "loop":
        late = bundle.camera.reshape(-1, 12)
        late[:20, -4:] = np.arange(86, 90)
        late[:20].sort(1)
    if case == "distance":
        a, b = bundle.points()[[3, 200]]
        ends = Members("point", np.array([3, 200]), ("A", "B"))
        term = Distance("A to B", "distance", 0.01, ends=ends, length=1.1 * np.linalg.norm(a - b))
        bundle = replace(bundle, terms=(term,))
    if case == "two lenses":
        ways = [replace(bundle.lenses[0], free=("focal", "k1")), replace(bundle.lenses[0], free=("focal",))]
        bundle = replace(bundle, lenses=tuple(ways), lens_of=(np.arange(90) > 40).astype(np.int64))
    sparse = adjust(bundle, 30, -1.0)
    assert NormalSystem(bundle).pattern.stored > 5
    monkeypatch.setattr("amberkeel.core.solve.tiles.DENSE_CAMERAS", 1000)
    dense = adjust(bundle, 30, -1.0)
    assert NormalSystem(bundle).pattern.stored == 1
    assert sparse.cost == pytest.approx(dense.cost, rel=1e-9) and sparse.cost < 0.5 * total_cost(bundle)
    assert np.allclose(sparse.bundle.centres, dense.bundle.centres, atol=1e-7)
    if case == "distance":
        figure, a, b = sparse.bundle.figures()[0], *sparse.bundle.points()[[3, 200]]
        assert figure.found == pytest.approx(np.linalg.norm(a - b)) and abs(figure.sigmas) < 1.0


def test_a_late_loop_is_folded_into_the_band():
    apart = np.abs(np.subtract.outer(np.arange(800), np.arange(800)))
    pairs = csr_matrix((apart < 20) | (np.abs(apart - 600) < 10))
    order = camera_order(pairs)
    folded, natural = (tile_pattern(pairs, o).stored for o in (order, np.arange(800)))
    assert sorted(order) == list(range(800)) and folded < natural


def test_two_shots_of_one_set_are_adjusted_with_the_points_that_both_see(rng):
    first, points, parts = moving_camera(24, 700.0), cloud(rng, 90), []
    second = replace(moving_camera(24, 900.0), positions=first.positions + [0.4, 0.1, 0.0])
    for path in (first, second):
        tracks = observe(path, points, 0.05, rng)
        problem = known(path, tracks)
        problem.triangulate(problem.active, 3.0)
        parts.append(
            (tracks, problem.bundle(problem.solved, problem.active, problem.all_but_first, Freedom(("focal",)))[0])
        )
    names = [list(tracks.names) for tracks, _ in parts]
    same = [SamePoint(((0, names[0].index(n)), (1, names[1].index(n)))) for n in names[0] if n in names[1]]
    bundles = [bundle for _, bundle in parts]
    bundles[1] = replace(bundles[1], centres=bundles[1].centres + [0.03, 0.0, 0.02], free=np.ones((24, 6), bool))
    joint = joined(bundles, share_lens=False, same=same)
    assert len(same) > 40 and len(set(camera_groups(joint))) == 1
    ours = parted(adjust(joint, 40, 1e-9).bundle, bundles, same)
    assert [round(b.lens.focal, -1) for b in ours] == [700.0, 900.0]
    assert np.abs(ours[1].centres - second.positions).max() < 0.02
    assert np.allclose(ours[0].points()[same[0].seen[0][1]], ours[1].points()[same[0].seen[1][1]])


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
    for _ in range(300):
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
    path = moving_camera(60, step=0.38)
    points = rng.uniform([-4, -2.2, 5], [32, 2.2, 30], (450, 3))
    tracks = observe(path, points, 0.1, rng)
    assert np.median(tracks.lengths) < 47
    solved = solve_tracks(tracks, path.frames, 640, 360, Recipe(distortion="none"))
    assert solved.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.01)
    seen = np.array(
        [((path.project(points, k) > 0) & (path.project(points, k) < [640, 360])).all(1) for k in range(60)]
    )
    assert np.sqrt(np.nanmean(slip_px(solved.path, path, points, seen) ** 2)) < 0.05


def test_of_a_shot_that_breaks_one_side_is_kept(rng):
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
    part = solve_tracks(from_pieces(names, pieces), path.frames, 640, 360)
    assert 1040 in (part.path.frames[-1], part.path.frames[0] - 1) and len(part.missing_frames) in (20, 40)


def test_a_solve_can_be_cancelled(path, rng):
    def stop(share, _doing):
        if share > 0.3:
            raise Cancelled()

    with pytest.raises(Cancelled):
        solve_tracks(observe(path, cloud(rng, 120), 0.1, rng), path.frames, 640, 360, Recipe(), stop)


@pytest.mark.parametrize("aspect", [1.0, 1.46])
def test_pixel_aspect_is_kept(aspect, rng):
    base = moving_camera(24)
    path = replace(base, lens=Lens.centred(640, 360, 500.0, pixel_aspect=aspect))
    tracks = observe(path, cloud(rng, 130), 0.05, rng)
    solved = solve_tracks(tracks, path.frames, 640, 360, Recipe(distortion="none", pixel_aspect=aspect))
    assert solved.path.lens.focal_px[1] / solved.path.lens.focal_px[0] == pytest.approx(aspect)
    assert solved.path.lens.focal_px[0] == pytest.approx(500.0, rel=0.015)
