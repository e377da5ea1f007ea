"""Solves that begin from a camera, or know its habits: ranges, weights, zooming pans, swings, drawn lines, readouts."""

from dataclasses import replace

import numpy as np
import pytest
from simulated import check_derivatives, cloud, moving_camera, observe
from test_motions import FRAMES, NOISE_PX, around, panning

from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.solve.bundle import LensBlock
from amberkeel.core.solve.evidence.line_pieces import AlongAxes
from amberkeel.core.solve.evidence.piece import Members
from amberkeel.core.solve.evidence.scene_pieces import PivotRadius
from amberkeel.core.solve.evidence.statement import read_constraints
from amberkeel.core.solve.motions import FREE, NODAL, SWING
from amberkeel.core.solve.radial_lens import LENS_NAMES
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve.world_frame import World
from benchmarks.scene import large_problem


def solve(tracks, frames=FRAMES, **asked):
    return solve_tracks(tracks, frames, 640, 360, Recipe(**asked))


def evidence(*rows):
    return tuple(read_constraints(rows))


def test_directions_and_radius_have_true_derivatives():
    bundle = large_problem(cameras=12, points=8, track=6)
    lens = replace(bundle.lenses[0].values, k1=-0.05, arm_x=0.1, arm_y=-0.2, arm_z=0.9)
    block = LensBlock(lens, (*LENS_NAMES, "arm_x", "arm_y", "arm_z"), np.zeros(0), np.zeros((12, 0)))
    world = World(1.7, rotation_exp(np.array([0.3, -0.2, 0.5])), np.array([1.0, -2.0, 0.5]), np.ones(7, bool))
    bundle = replace(bundle, lenses=(block,), world=world)
    turns = Members("rotation", np.array([2, 5, 9]), ("a", "b", "c"))
    ends = np.array([[[100.0, 80.0], [900.0, 500.0]], [[300.0, 900.0], [350.0, 200.0]], [[10.0, 10.0], [500.0, 40.0]]])
    check_derivatives(AlongAxes("l", "axis-lines", np.ones((3, 1)), members=turns, ends=ends, axes=np.eye(3)), bundle)
    check_derivatives(PivotRadius("r", "swing-radius", 0.1, length=1.2), bundle)


def test_a_pan_that_zooms_is_solved_as_one(rng):
    zoom = np.exp(0.35 * np.sin(np.linspace(-1.5, 1.5, len(FRAMES))))
    path = replace(panning(), zoom=zoom)
    tracks = observe(path, around(rng, 260), NOISE_PX, rng)
    for motion in (NODAL, "auto"):
        found = solve(tracks, motion=motion, zoom=True)
        focal = np.array([found.path.lens_at(k).focal_px[0] for k in range(len(FRAMES))])
        assert found.motion == NODAL and found.rms_px < 1.6 * NOISE_PX
        assert np.abs(focal / (700.0 * zoom) - 1.0).max() < 0.01
    assert solve(tracks, motion=NODAL, zoom=True, begin=found.path).rms_px == pytest.approx(found.rms_px, rel=0.05)
    with pytest.raises(SolveError, match="zoom"):
        solve(tracks, motion=SWING, zoom=True)


def test_a_swing_is_refined_as_one_and_its_radius_gives_the_scale(rng):
    tracks = observe(panning(0.15), around(rng), NOISE_PX, rng)
    first = solve(tracks, motion=SWING)
    again = solve(tracks, begin=first.path)
    assert again.motion == SWING and again.rms_px == pytest.approx(first.rms_px, rel=0.02)
    measured = solve(
        tracks,
        motion=SWING,
        evidence=evidence({"kind": "swing-radius", "name": "head", "length": 0.15, "sigma": 0.001}),
    )
    arm = measured.path.positions
    turns = measured.path.world_from_camera
    left = np.concatenate([np.tile(np.eye(3), (len(arm), 1, 1)), turns], 2).reshape(-1, 6)
    assert np.linalg.norm(np.linalg.lstsq(left, arm.ravel(), rcond=None)[0][3:]) == pytest.approx(0.15, abs=0.002)
    assert next(f for f in measured.terms if f.name == "head").unit == "m"
    still = solve(observe(panning(), around(rng), NOISE_PX, rng), motion=NODAL)
    assert solve(still.tracks, begin=still.path).motion == NODAL
    with pytest.raises(SolveError, match="does not swing"):
        solve(tracks, motion=NODAL, evidence=evidence({"kind": "swing-radius", "length": 0.1}))


def test_a_range_is_refined_and_the_rest_stands(rng):
    path = moving_camera(40, 700.0, -0.03)
    tracks = observe(path, cloud(rng, 150), NOISE_PX, rng)
    first = solve(tracks, path.frames)
    jolted = first.path.positions.copy()
    jolted[20:24] += 0.05
    part = solve(tracks, path.frames, begin=replace(first.path, positions=jolted), within=(1021, 1024))
    rest = np.r_[0:20, 24:40]
    moved = np.linalg.norm(part.path.positions - first.path.positions, axis=1)
    assert (
        part.motion == FREE
        and moved.max() < 0.01
        and moved[rest].max() < 1e-9
        and part.rms_px == pytest.approx(first.rms_px, rel=0.05)
    )
    assert np.abs(part.path.world_from_camera[rest] - first.path.world_from_camera[rest]).max() < 1e-6
    assert part.path.lens.focal_px == first.path.lens.focal_px
    for wrong, said in (({"within": (5, 9)}, "not in this shot"), ({"begin": None, "within": (1021, 1024)}, "refined")):
        with pytest.raises(SolveError, match=said):
            solve(tracks, path.frames, **{"begin": first.path, **wrong})


def test_tracks_placed_by_hand_count_more(rng):
    path = moving_camera(30, 700.0)
    tracks = observe(path, cloud(rng, 120), NOISE_PX, rng)
    # Those followed automatically all lean; those placed by hand do not.
    hand = np.arange(len(tracks)) % 4 == 0
    lean = np.where(hand[tracks.track_of_sample], 0.0, 0.02 * (tracks.frames - 1001))
    leaning = replace(
        tracks, xy=tracks.xy + lean[:, None], kinds=["hand" if h else "auto" for h in hand],
        states=["check" if k % 10 == 3 else "active" for k in range(len(tracks))],
    )  # fmt: skip
    plain, trusted = (solve(leaning, path.frames, weights=w) for w in ({}, {"hand": 8.0}))
    by_hand = [np.nanmean(s.track_rms[hand]) for s in (plain, trusted)]
    assert by_hand[1] < 0.85 * by_hand[0] and trusted.recipe.weights == {"hand": 8.0}
    for wrong in ({"hand": 0.0}, {"foot": 2.0}):
        with pytest.raises(SolveError):
            solve(tracks, path.frames, weights=wrong)


def test_axis_lines_tell_a_creep_its_focal_length_level_and_heading(rng):
    path = moving_camera(30, 700.0, 0.0, 0.003)
    tracks = observe(path, cloud(rng, 120), 0.2, rng)
    # The world's axes as they lie in the camera's first frame: turned about all three.
    axes = rotation_exp(np.array([0.15, 0.7, 0.05])) @ rotation_exp(np.array([np.pi, 0.0, 0.0]))
    rows = []
    for k, axis in enumerate("xyz"):
        for start in ([-1.5, -0.8, 6.0], [1.2, 0.9, 7.0], [0.2, 0.4, 5.0]):
            ends = path.project(np.array([np.array(start) - axes[:, k], np.array(start) + axes[:, k]]), 10)
            ends = ends + rng.normal(0.0, 0.1, ends.shape)
            rows.append({"frame": 1011, "axis": axis, "ends": ends.tolist()})
    lines = evidence({"kind": "axis-lines", "name": "drawn", "lines": rows, "sigma_px": 0.2})
    loose, found = (solve(tracks, path.frames, motion=FREE, evidence=e) for e in ((), lines))
    assert found.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.01)
    assert found.focal_sigma_px < 0.5 * loose.focal_sigma_px
    assert np.abs(np.abs(found.path.world_from_camera[10]) - np.abs(axes.T @ path.world_from_camera[10])).max() < 0.01
    (figure,) = [f for f in found.terms if f.name == "drawn"]
    assert figure.unit == "px" and figure.found < 0.3
    straight = solve(tracks, path.frames, motion=FREE, evidence=lines, held_lens=Lens.centred(640, 360, 700.0))
    assert straight.path.lens.focal_px[0] == pytest.approx(700.0, rel=0.01)
    for wrong in ({"frame": 7}, {"ends": [[5.0, 5.0], [5.0, 6.0]]}):
        with pytest.raises(SolveError, match="shot|length"):
            solve(tracks, path.frames, evidence=evidence({"kind": "axis-lines", "lines": [{**rows[0], **wrong}]}))


def test_a_readout_is_held_softly(rng):
    path = moving_camera(30, 700.0, -0.03)
    turns = np.array([rotation_exp(w) for w in np.cumsum(rng.normal(0, 0.004, (30, 3)), 0)])
    path = replace(path, world_from_camera=path.world_from_camera @ turns)
    tracks = observe(path, cloud(rng, 130), NOISE_PX, rng)
    found = solve(tracks, path.frames, motion=FREE, rows="known", readout=0.05, readout_sigma=0.1)
    assert abs(found.path.readout) < 0.04 and 0.0 < found.lens_report.sigma("readout") < 0.05
    held = solve(tracks, path.frames, motion=FREE, rows="known", readout=0.05, begin=found.path)
    assert held.path.readout == 0.05
    with pytest.raises(SolveError, match="softly"):
        solve(tracks, path.frames, readout_sigma=0.1)
