"""Which camera is it: cameras that only turn, swing about a pivot, or move over one plane, told apart by themselves."""

from dataclasses import replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe, tracks_of

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.depth import NO_PARALLAX
from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.finding import SERIOUS
from amberkeel.core.diagnose.path import JITTER, SPIKE
from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.camera_wording import camera_sentence, standing_sentence
from amberkeel.core.lens import Lens
from amberkeel.core.solve.compare_paths import path_difference
from amberkeel.core.solve.motions import FREE, NODAL, PLANE, SWING
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import ACTIVE

FRAMES = np.arange(1001, 1031)
NOISE_PX = 0.1


def panning(arm: float = 0.0) -> CameraPath:
    """Return a pan of 35 degrees with a nod, its pupil `arm` metres before the pivot."""
    t = np.linspace(-1.0, 1.0, len(FRAMES))
    turns = np.array([rotation_exp(np.array([0.04 * np.sin(3 * s), 0.3 * s, 0.02 * s * s])) for s in t])
    return CameraPath(FRAMES, turns @ np.array([0.0, 0.0, arm]), turns, Lens.centred(640, 360, 700.0, -0.04))


def around(rng, count=130):
    """Return points (count, 3) on all sides that a pan sees, 4 to 20 metres away."""
    heading, height = rng.uniform(-0.8, 0.8, count), rng.uniform(-0.3, 0.3, count)
    return rng.uniform(4.0, 20.0, count)[:, None] * np.stack([np.sin(heading), height, np.cos(heading)], 1)


def solved(path, points, rng, motion="auto"):
    tracks = observe(path, points, NOISE_PX, rng)
    return solve_tracks(tracks, path.frames, 640, 360, Recipe(motion=motion))


def test_a_pan_is_found_to_be_nodal(rng):
    solution = solved(panning(), around(rng), rng)
    assert solution.motion == NODAL and np.ptp(solution.path.positions, axis=0).max() == 0.0
    assert solution.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.005)
    assert solution.path.lens.radial[0] == pytest.approx(-0.04, abs=0.005)
    assert solution.rms_px < 1.6 * NOISE_PX and not solution.position_sigma.any()
    reach = np.linalg.norm(solution.points.positions()[solution.points.known], axis=1)
    assert reach == pytest.approx(np.full(len(reach), 10.0))
    turn = solution.path.world_from_camera[0].T @ solution.path.world_from_camera[-1]
    true = panning().world_from_camera[0].T @ panning().world_from_camera[-1]
    assert np.abs(turn - true).max() < 2e-3
    words = camera_sentence(NODAL, solution.rivals)
    assert words.startswith("The camera only turns: turning alone explains") and words.count("not worth it") == 2
    assert camera_sentence(FREE, ()) == ""
    scores = {rival.motion: rival.score for rival in solution.rivals}
    assert scores[NODAL] == 0.0 and min(scores[SWING], scores[FREE]) > 50.0


def test_tracks_that_drift_do_not_make_a_pan_a_move(rng):
    path, points = panning(), around(rng, 200)
    tracks = observe(path, points, 0.04, rng)
    # Each track slides at its own rate, as on an edge: along the pan a depth would explain it.
    own = tracks.track_of_sample
    rate = rng.normal(0.0, 0.012, (len(tracks), 2))
    drifting = replace(
        tracks, xy=tracks.xy + rate[own] * (tracks.frames - tracks.frames[tracks.first[:-1]][own])[:, None]
    )
    solution = solve_tracks(drifting, FRAMES, 640, 360, Recipe())
    assert solution.motion == NODAL
    assert solution.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.02)


def test_a_pan_off_the_pupil_is_found_to_swing(rng):
    path = panning(0.05)
    solution = solved(path, around(rng), rng)
    assert solution.motion == SWING and solution.rms_px < 1.6 * NOISE_PX
    assert solution.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.05)
    moved, true = (p.positions - p.positions[0] for p in (solution.path, path))
    first = solution.path.world_from_camera[0] @ path.world_from_camera[0].T
    along = (moved @ first) * true
    # A swing hardly tells whether the pupil lies before the pivot or behind it.
    assert abs(along.sum()) > 0.9 * np.linalg.norm(moved) * np.linalg.norm(true)


def test_what_is_asked_for_is_what_is_solved(rng):
    points = around(rng)
    assert solved(panning(0.15), points, rng, NODAL).motion == NODAL
    assert solved(panning(0.15), points, rng, SWING).motion == SWING
    near = solve_tracks(observe(panning(), points, NOISE_PX, rng), FRAMES, 640, 360, Recipe(NODAL, radius=2.5))
    reach = np.linalg.norm(near.points.positions()[near.points.known], axis=1)
    assert reach == pytest.approx(np.full(len(reach), 2.5))
    with pytest.raises(SolveError, match="radius"):
        solve_tracks(observe(panning(), points, NOISE_PX, rng), FRAMES, 640, 360, Recipe(radius=0.0))
    with pytest.raises(SolveError, match="no camera motion"):
        solved(panning(), points, rng, "spin")


def test_a_pan_that_was_asked_to_move_is_told_to_be_a_pan(rng):
    solution = solved(panning(), around(rng, 90), rng, FREE)
    scores = {rival.motion: rival.score for rival in solution.rivals}
    assert solution.motion == FREE and scores[NODAL] == 0.0 < scores[FREE]
    assert "turning alone leaves" in camera_sentence(FREE, solution.rivals).lower()
    assert "fewer unknowns: the better explanation" in camera_sentence(FREE, solution.rivals)
    found = diagnose(solution)
    assert (found[0].kind, found[0].severity) == (NO_PARALLAX, SERIOUS) and found[0].remedies[0].word == NODAL
    assert not {SPIKE, JITTER} & {one.kind for one in found}
    moving = solved(moving_camera(24), cloud(rng, 90), rng, FREE)
    assert NO_PARALLAX not in [one.kind for one in diagnose(moving)]


def test_a_floor_seen_by_a_moving_camera_is_no_pan(rng):
    path = moving_camera(30)
    floor = cloud(rng, 260)
    floor[:, 1] = 1.5 + 0.1 * floor[:, 0]
    solution = solved(path, floor, rng)
    assert solution.motion == PLANE and solution.rms_px < 1.6 * NOISE_PX
    assert abs(solution.path.lens.focal_px[0] - 700.0) < 3.0 * solution.focal_sigma_px < 250.0
    flat = solution.points.positions()[solution.tracks.in_state(ACTIVE)]
    off = np.linalg.svd(flat - flat.mean(0))[1]
    assert len(flat) > 180 and off[2] < 1e-4 * off[0]
    assert camera_sentence(PLANE, solution.rivals).startswith("The camera moves before a single plane")
    # A floor that is not flat to the last millimetre is not made so.
    floor[:, 1] += rng.normal(0.0, 0.08, len(floor))
    assert solved(path, floor, rng).motion == FREE
    with pytest.raises(SolveError, match="one plane"):
        solved(path, cloud(rng, 160), rng, PLANE)


def test_a_moving_camera_that_stands_still_for_a_while_is_held_there(rng):
    path = moving_camera(40, step=0.06)
    still = path.positions.copy()
    still[24:] += still[12] - still[24]
    still[12:25] = still[12]
    solution = solved(replace(path, positions=still), cloud(rng, 160), rng)
    assert solution.motion == FREE and len(solution.standing) == 1
    assert np.abs(np.array(solution.standing[0]) - [1013, 1025]).max() <= 1
    a, b = (f - 1001 for f in solution.standing[0])
    assert np.ptp(solution.path.positions[a : b + 1], axis=0).max() < 1e-4
    assert "stands still" in standing_sentence(solution.standing)


def test_a_moving_camera_stays_free(rng):
    solution = solved(moving_camera(30, step=0.02), cloud(rng, 150), rng)
    assert solution.motion == FREE and not solution.rivals


def test_rows_read_one_after_another_are_found_and_their_readout(rng):
    path, points, readout = moving_camera(30, k1=-0.03), cloud(rng, 150), 0.5
    shaken = path.positions + np.cumsum(rng.normal(0, 0.012, path.positions.shape), 0)
    turns = np.array([rotation_exp(w) for w in np.cumsum(rng.normal(0, 0.004, (30, 3)), 0)])
    path = replace(path, positions=shaken, world_from_camera=path.world_from_camera @ turns, readout=readout)
    flat, rows = np.tile(points, (30, 1)), np.repeat(np.arange(30), len(points))
    homogeneous = np.column_stack([flat, np.ones(len(flat))])
    px = path.project_homogeneous(homogeneous, rows, np.full(len(flat), 180.0))
    for _ in range(5):
        px = path.project_homogeneous(homogeneous, rows, px[:, 1])
    grid = (px + rng.normal(0, NOISE_PX, px.shape)).reshape(30, len(points), 2)
    tracks = tracks_of(path.frames, grid, NOISE_PX)
    solution = solve_tracks(tracks, path.frames, 640, 360)
    assert solution.path.readout == pytest.approx(readout, abs=0.03) and solution.rms_px < 1.6 * NOISE_PX
    assert solution.check_rms_px < 2.0 * solution.rms_px
    assert solution.lens_report.sigma("readout") < 0.03
    assert solution.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.03)
    held = solve_tracks(tracks, path.frames, 640, 360, Recipe("free", rows="known", readout=0.5))
    assert held.path.readout == 0.5 and held.lens_report.sigma("readout") == 0.0
    off = solve_tracks(tracks, path.frames, 640, 360, Recipe("free", rows="off"))
    assert off.path.readout == 0.0 and off.rms_px > 1.5 * solution.rms_px
    for wrong in (Recipe(rows="known"), Recipe(rows="known", readout=1.4), Recipe(readout=0.4)):
        with pytest.raises(SolveError, match="readout"):
            solve_tracks(tracks, path.frames, 640, 360, wrong)


def test_paths_are_compared_after_the_best_alignment():
    first = moving_camera(30)
    turn = rotation_exp(np.array([0.3, -0.8, 0.1]))
    second = replace(
        first, positions=2.5 * first.positions @ turn.T + 1.0, world_from_camera=turn @ first.world_from_camera
    )
    same = path_difference(first, replace(second, frames=second.frames))
    assert same.position_rms < 1e-9 and same.turn_rms < 1e-6 and abs(same.focal) < 1e-12
    off = second.positions.copy()
    off[10] += 2.5 * 0.1 * turn[:, 1]
    found = path_difference(first, replace(second, positions=off, lens=first.lens.with_focal(714.0)))
    assert found.frames[np.argmax(found.position)] == 1011 and found.position.max() == pytest.approx(0.1, abs=0.01)
    assert found.focal == pytest.approx(0.02) and 0.0 < found.position_share < 0.02
    with pytest.raises(SolveError, match="no frames in common"):
        path_difference(first, replace(second, frames=second.frames + 100))
