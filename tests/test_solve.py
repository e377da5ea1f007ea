"""Solving against the simulator's truth, and what bad shots are told."""

from dataclasses import asdict, replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.camera_wording import begun_sentence, camera_sentence
from amberkeel.core.handoff.wording import folds_sentence
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.reasons import DISAGREES
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import CHECK, EXCLUDED
from amberkeel.core.world.true_slip import slip_px


def rms_slip(solution, true_path, true_points):
    slip = slip_px(solution.path, true_path, *true_points)
    return np.sqrt(np.nanmean(slip**2))


def test_slipway_sticks_with_nothing_masked_and_nothing_known(solution, true_path, true_points):
    assert rms_slip(solution, true_path, true_points) < 0.25
    assert solution.path.lens.focal_px[0] == pytest.approx(true_path.lens.focal_px[0], rel=0.03)
    assert abs(solution.path.lens.focal_px[0] - true_path.lens.focal_px[0]) < 4.0 * solution.focal_sigma_px
    assert 0.0 < solution.rms_px < 0.5


def test_slipway_sticks_better_with_mattes(masked_tracks, plate, true_path, true_points):
    solved = solve_tracks(masked_tracks, plate.frames, plate.width, plate.height)
    assert rms_slip(solved, true_path, true_points) < 0.12


def test_walkers_are_set_aside_and_reported(rng):
    path = moving_camera()
    still = cloud(rng, 120)
    walk = np.array([cloud(np.random.default_rng(7), 25) + [0.05 * k, 0.02 * np.sin(k), 0] for k in range(30)])
    both = np.concatenate([np.broadcast_to(still, (30, 120, 3)), walk], 1)
    solved = solve_tracks(observe(path, both, 0.1, rng), path.frames, 640, 360, Recipe(distortion="none"))
    aside = [n for n, s in zip(solved.tracks.names, solved.tracks.states) if s == EXCLUDED]
    walkers = [n for n in solved.tracks.names if int(n[1:]) >= 120]
    assert len(set(aside) & set(walkers)) >= 0.8 * len([w for w in walkers if w not in _checks(solved)])
    assert len(set(aside) - set(walkers)) <= 3
    ids = solved.tracks.ids[[solved.tracks.names.index(n) for n in aside]]
    assert all(solved.reasons[t].code == DISAGREES for t in ids.tolist())
    assert abs(solved.path.lens.focal_px[0] - 700.0) < 4.0 * solved.focal_sigma_px


def _checks(solved):
    return {n for n, s in zip(solved.tracks.names, solved.tracks.states) if s == CHECK}


def test_check_tracks_serve_nowhere(rng):
    path = moving_camera()
    tracks = observe(path, cloud(rng, 120), 0.1, rng)
    first = solve_tracks(tracks, path.frames, 640, 360, Recipe())
    checks = _checks(first)
    assert 4 <= len(checks) <= 12
    disturbed = tracks.xy.copy()
    for name in checks:
        disturbed[tracks.rows(tracks.names.index(name))] += 5.0 * rng.normal(size=2)
    states = [CHECK if n in checks else "active" for n in tracks.names]
    again = solve_tracks(replace(tracks, xy=disturbed, states=states), path.frames, 640, 360, Recipe())
    assert np.allclose(first.path.positions, again.path.positions, atol=1e-9)
    assert first.rms_px == pytest.approx(again.rms_px)


def test_a_known_focal_length_is_kept_and_the_seed_repeats(rng):
    path = moving_camera()
    tracks = observe(path, cloud(rng, 100), 0.1, rng)
    a, b = (solve_tracks(tracks, path.frames, 640, 360, Recipe(focal_px=700.0, distortion="none")) for _ in "ab")
    assert a.path.lens.focal_px == (700.0, 700.0) and a.focal_sigma_px == 0.0
    assert np.array_equal(a.path.positions, b.path.positions)


@pytest.mark.parametrize(
    ("step", "count", "words"),
    [(0.08, 6, "Only 6 tracks are active|Too few"), (0.0, 0, "active")],
)
def test_shots_that_give_no_camera_say_why(step, count, words, rng):
    path = moving_camera(step=step)
    with pytest.raises(SolveError, match=words):
        solve_tracks(observe(path, cloud(rng, max(count, 1)), 0.1, rng), path.frames, 640, 360)


def test_a_locked_off_camera_says_so(rng):
    path = moving_camera(step=0.0)
    still = type(path)(path.frames, path.positions, np.repeat(path.world_from_camera[:1], 30, 0), path.lens)
    tracks = observe(still, cloud(rng, 100), 0.05, rng)
    with pytest.raises(SolveError, match="does not tell its focal length"):
        solve_tracks(tracks, path.frames, 640, 360)
    lens = {"focal": LensChoice("soft", 700.0, 14.0)}
    solution = solve_tracks(tracks, path.frames, 640, 360, Recipe(lens=lens))
    assert solution.motion == "locked" and not np.ptp(solution.path.positions, axis=0).any()
    assert solution.path.lens.focal_px[0] == 700.0 and solution.focal_sigma_px == pytest.approx(14.0)
    assert solution.rms_px < 0.1 and solution.check_rms_px < 0.1 and np.isfinite(solution.position_sigma).all()
    assert camera_sentence("locked", ()).startswith("The camera is locked off")
    with pytest.raises(SolveError, match="not locked off"):
        moving = observe(moving_camera(), cloud(rng, 100), 0.05, rng)
        solve_tracks(moving, path.frames, 640, 360, Recipe("locked", lens=lens))


def test_measurements_that_give_no_camera_are_named(rng):
    path = moving_camera()
    tracks = observe(path, cloud(rng, 60), 0.1, rng)
    broken = tracks.xy.copy()
    broken[7] = np.nan
    endless = np.where(np.arange(len(tracks.sigma)) == 3, np.inf, tracks.sigma)
    flat = np.column_stack([np.linspace(-2.0, 2.0, 60), np.zeros(60), np.full(60, 8.0)])
    for wrong, frames, words in (
        (replace(tracks, xy=broken), path.frames, f"{tracks.names[0]} has no position on frame {tracks.frames[7]}"),
        (
            replace(tracks, sigma=endless),
            path.frames,
            "number",
        ),
        (tracks, np.arange(1, 30), "No track has a measurement"),
        (observe(path, flat, 0.1, rng), path.frames, "on one line"),
    ):
        with pytest.raises(SolveError, match=words):
            solve_tracks(wrong, frames, 640, 360)


def test_a_solve_begins_where_it_is_told_and_says_where(rng):
    path = moving_camera()
    tracks = observe(path, cloud(rng, 150), 0.1, rng)
    found = solve_tracks(tracks, path.frames, 640, 360, Recipe("free"))
    told = solve_tracks(tracks, path.frames, 640, 360, Recipe("free", start=(1005, 1020)))
    assert (told.begun.first, told.begun.last) == (1005, 1020) and told.begun.tracks > 50
    assert told.begun.parallax_px < found.begun.parallax_px + 1.0
    assert told.path.lens.focal_px[0] == pytest.approx(found.path.lens.focal_px[0], rel=0.01)
    assert "frames 1005 and 1020" in begun_sentence(asdict(told.begun)) and begun_sentence(None) == ""
    turned = path.world_from_camera.copy()
    turned[18:] = turned[18:] @ rotation_exp(np.array([0.0, 0.03, 0.0]))
    knocked = observe(replace(path, world_from_camera=turned), cloud(rng, 150), 0.1, rng)
    around = solve_tracks(knocked, path.frames, 640, 360, Recipe("free", start="jerkiest")).begun
    assert around.first < 1019 < around.last
    for wrong in ((1005, 1005), (1, 1020), (1020, 1005)):
        with pytest.raises(SolveError, match="not two frames"):
            solve_tracks(tracks, path.frames, 640, 360, Recipe("free", start=wrong))


def test_every_track_is_left_out_once_on_request(rng):
    path = moving_camera()
    tracks = observe(path, cloud(rng, 120), 0.2, rng)
    folds = solve_tracks(tracks, path.frames, 640, 360, Recipe(folds=4)).folds
    assert folds.count == len(folds.part_rms_px) == 4
    assert folds.used_rms_px < folds.rms_px < 1.15 * folds.used_rms_px and folds.outlier_share < 0.01
    assert "holds without any" in folds_sentence(asdict(folds))
    few = observe(path, cloud(rng, 34), 0.2, rng)
    leaning = solve_tracks(few, path.frames, 640, 360, Recipe("free", folds=4)).folds
    assert leaning.rms_px / leaning.used_rms_px > folds.rms_px / folds.used_rms_px
    with pytest.raises(SolveError, match="folds are impossible"):
        solve_tracks(tracks, path.frames, 640, 360, Recipe(folds=1))
