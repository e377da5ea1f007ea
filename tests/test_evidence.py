"""What is known of the set and of the camera's path: pieces of evidence, and solves with them."""

import json
from dataclasses import replace

import numpy as np
import pytest
from simulated import check_derivatives, cloud, moving_camera, observe

from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.evidence import scene_pieces as scene
from amberkeel.core.solve.evidence.path_pieces import SmoothPosition, SmoothRotation, Turned
from amberkeel.core.solve.evidence.piece import Members
from amberkeel.core.solve.evidence.statement import read_constraint_file, read_constraints
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve.world_frame import Line, Plane, Spot, World
from benchmarks.scene import large_problem

POINTS = Members("point", np.array([1, 3, 4, 6]), ("a", "b", "c", "d"))
CAMERAS = Members("position", np.array([2, 5, 6]), ("frame 3", "frame 6", "frame 7"))
TURNS = replace(CAMERAS, block="rotation")
TRIPLES = np.array([[2, 3, 4], [6, 7, 8]])
PIECES = [
    scene.Known("k", "anchor", np.full((4, 3), 0.1), members=POINTS, xyz=np.array([[1.0, np.nan, 2.0]] * 4)),
    scene.Known("k", "anchor", np.full((3, 3), 0.5), True, members=CAMERAS, xyz=np.ones((3, 3))),
    scene.Distance("d", "distance", 0.1, ends=Members("point", np.array([1, 4]), ("a", "c")), length=6.0),
    scene.OnPlane("p", "plane", 0.1, members=POINTS, shape=0),
    scene.OnPlane("p", "plane", 0.3, True, members=CAMERAS, shape=0),
    scene.OnLine("l", "line", 0.2, members=POINTS, shape=2),
    scene.AtSpot("s", "camera-on", 0.2, True, members=CAMERAS, shape=3),
    scene.PlanesAt("a", "angle", 0.1, one=0, other=1, square=True),
    scene.PlanesAt("a", "angle", 0.1, one=0, other=1, square=False),
    SmoothPosition("s", "smooth", 5.0, rows=TRIPLES, per_second2=576.0),
    SmoothRotation("s", "smooth", 3.0, rows=TRIPLES, per_second2=576.0),
    Turned("t", "hold", np.full((3, 3), 0.1), members=TURNS, world_from_camera=np.tile(np.eye(3), (3, 1, 1))),
]


@pytest.mark.parametrize("piece", PIECES, ids=lambda p: type(p).__name__)
def test_pieces_have_true_derivatives_by_cameras_points_shapes_and_world(piece, rng):
    bundle = large_problem(cameras=12, points=8, track=6)
    turned = np.array([rotation_exp(w) for w in rng.normal(0, 0.2, (12, 3))])
    shapes = (
        Plane(np.array([0.1, 0.9, 0.2]) / np.linalg.norm([0.1, 0.9, 0.2]), 0.4),
        Plane(np.array([0.8, 0.5, 0.1]) / np.linalg.norm([0.8, 0.5, 0.1]), 1.0),
        Line(np.ones(3), rotation_exp(np.array([0.2, 0.5, -0.1]))),
        Spot(np.array([0.5, 0.1, 0.2])),
    )
    world = World(1.7, rotation_exp(np.array([0.3, -0.2, 0.5])), np.array([1.0, -2.0, 0.5]), np.ones(7, bool))
    check_derivatives(piece, replace(bundle, rotations=turned, world=world, shapes=shapes))


def test_a_part_of_a_problem_keeps_what_it_sees_of_a_piece():
    points, cameras = np.array([-1, 0, -1, 1, -1, -1, 2, -1]), np.full(12, -1)
    part = PIECES[0].within(cameras, points)
    assert part.members.rows.tolist() == [0, 1, 2]
    assert part.members.names == ("a", "b", "d") and part.xyz.shape == part.sigma.shape == (3, 3)
    assert PIECES[2].within(cameras, points) is None and PIECES[6].within(cameras, points) is None
    assert PIECES[9].within(np.arange(12) - 3, points).rows.tolist() == [[3, 4, 5]]


def creeping(rng, noise=0.1):
    """Tracks of a creep so short that depth is loose, and where its points really are, by name."""
    path, points = moving_camera(40, 700.0, -0.04, 0.006), cloud(rng, 140)
    points[:30, 1] = 2.0  # a level floor; Y is down here
    return path, points, observe(path, points, noise, rng)


def depths(solution, names, path):
    """Depths in front of the first camera, by name."""
    rows = [solution.tracks.names.index(n) for n in names]
    return (solution.points.positions()[rows] - solution.path.positions[0]) @ solution.path.world_from_camera[0][:, 2]


def test_anchored_points_bring_a_creep_into_their_world(rng):
    path, points, tracks = creeping(rng)
    true = {n: points[int(n[1:])] for n in tracks.names}
    turn, shift = rotation_exp(np.array([np.pi, 0.0, 0.0])) @ rotation_exp(np.array([0.0, 0.4, 0.0])), [1.0, 0.5, 3.0]
    anchored = [n for n in tracks.names if tracks.lengths[tracks.names.index(n)] == 40][10:70:10]
    world = {n: turn @ x + shift for n, x in true.items()}
    rows = [{"kind": "anchor", "track": n, "xyz": world[n].tolist(), "sigma": 0.01} for n in anchored]
    solution = solve_tracks(tracks, path.frames, 640, 360, Recipe(evidence=tuple(read_constraints(rows))))
    others = [n for n in tracks.names if n not in anchored and tracks.lengths[tracks.names.index(n)] == 40]
    found = depths(solution, others, path)
    assert np.median(np.abs(found / [true[n][2] for n in others] - 1.0)) < 0.03
    assert solution.path.positions[0] == pytest.approx(shift, abs=0.15)
    figures = {f.name: f for f in solution.terms}
    assert len(figures) == 7 and all(f.sigmas < 3.0 for f in figures.values())
    assert figures["cost"].found < figures["cost"].stated + 0.01

    # One tape distance that is wrong is named, and bends nothing.
    wrong = [*rows, {"kind": "distance", "name": "tape", "tracks": anchored[:2], "length": 9.0, "sigma": 0.01}]
    bent = solve_tracks(tracks, path.frames, 640, 360, Recipe(evidence=tuple(read_constraints(wrong))))
    assert abs(next(f.sigmas for f in bent.terms if f.name == "tape")) > 20.0
    assert np.median(np.abs(depths(bent, others, path) / found - 1.0)) < 0.01


def test_what_is_exact_is_exact_and_planes_are_level_parallel_or_square(rng):
    path, points, tracks = creeping(rng, 0.05)
    points[30:60, 2] = 14.0
    tracks = observe(path, points, 0.05, rng)
    floor = [n for n in tracks.names if int(n[1:]) < 30]
    wall = [n for n in tracks.names if 30 <= int(n[1:]) < 60]
    rows = [
        {"kind": "plane", "name": "floor", "tracks": floor, "normal": "up", "exact": True},
        {"kind": "plane", "name": "wall", "tracks": wall, "sigma": 0.01},
        {"kind": "angle", "planes": ["floor", "wall"], "sigma_degrees": 0.1},
        {"kind": "camera-on", "shape": "spot", "frames": [1001, 1005], "exact": True},
        {"kind": "smooth", "position": 0.5, "rotation": 10.0},
    ]
    solution = solve_tracks(tracks, path.frames, 640, 360, Recipe(evidence=tuple(read_constraints(rows))))
    active = {n for n, s in zip(solution.tracks.names, solution.tracks.states) if s == "active"}
    used = [solution.tracks.names.index(n) for n in floor if n in active]
    heights = solution.points.positions()[used][:, 1]
    assert len(used) > 15 and np.ptp(heights) < 1e-4
    assert np.ptp(solution.path.positions[:5], axis=0).max() < 1e-4 < np.ptp(solution.path.positions[:8], axis=0).max()
    figures = {f.name: f for f in solution.terms}
    angle = next(f for f in solution.terms if f.kind == "angle")
    assert angle.found == pytest.approx(90.0, abs=0.5) and figures["floor"].found < 1e-4


def test_a_held_path_is_followed_and_the_rest_is_solved(rng):
    path, points = moving_camera(30, 700.0, -0.04), cloud(rng, 120)
    tracks = observe(path, points, 0.1, rng)
    frames = path.frames[5:20].tolist()
    held = {"kind": "hold", "frames": frames, "positions": path.positions[5:20].tolist(), "sigma": 0.001}
    solution = solve_tracks(tracks, path.frames, 640, 360, Recipe(evidence=tuple(read_constraints([held]))))
    assert np.linalg.norm(solution.path.positions - path.positions, axis=1).max() < 0.02


BAD = [
    ([{"kind": "distance", "tracks": ["p001", "p002"], "length": -4.0}], "greater than 0"),
    ([{"kind": "distance", "tracks": ["p001", "nobody"], "length": 4.0}], "no track nobody"),
    ([{"kind": "plane", "tracks": [2, 3]}], "needs three tracks"),
    ([{"kind": "anchor", "track": "p001", "xyz": [float("nan"), 0.0, 0.0]}], "finite"),
    ([{"kind": "anchor", "track": f"p{k:03d}", "xyz": [k, 2.0 * k, 0.0]} for k in (1, 2, 3)], "lie on a line"),
    ([{"kind": "anchor", "track": "p004", "xyz": [None, None, None]}], "no coordinate"),
    ([{"kind": "anchor", "track": "p000", "xyz": [0.0, 0.0, 0.0]}], "is excluded"),
    ([{"kind": "hold", "frames": [7], "positions": [[0.0, 0.0, 0.0]]}], "not in this shot"),
    ([{"kind": "hold", "frames": [1001], "positions": [[k, 0.0, 0.0]]} for k in (0.0, 1.0)], "different positions"),
    ([{"kind": "hold", "frames": [1001, 1002], "positions": [[0.0, 0.0, 0.0]]}], "2 frames, but 1 poses"),
    ([{"kind": "angle", "planes": ["floor", "wall"]}], "no plane “floor”"),
    ([{"kind": "camera-height", "height": 1.6, "frames": [1, 9]}], "not in this shot"),
    ([{"kind": "wish"}], "wish"),
]


@pytest.fixture(scope="module")
def seen():
    rng = np.random.default_rng(5)
    path = moving_camera(12)
    tracks = observe(path, cloud(rng, 60), 0.1, rng)
    return path, replace(tracks, states=["excluded" if n == "p000" else "active" for n in tracks.names])


@pytest.mark.parametrize("rows, said", BAD)
def test_what_cannot_be_is_refused_in_words(rows, said, seen):
    path, tracks = seen
    with pytest.raises(SolveError, match=said):
        solve_tracks(tracks, path.frames, 640, 360, Recipe(evidence=tuple(read_constraints(rows))))


def test_a_file_of_constraints_has_a_unit(tmp_path):
    rows = [{"kind": "distance", "tracks": ["A", "B"], "length": 420, "sigma": 1}]
    (one,) = read_constraint_file({"format": "amberkeel-constraints", "unit": "cm", "constraints": rows})
    assert (one.length, one.sigma) == (pytest.approx(4.2), pytest.approx(0.01))
    for bad in ({}, [], {"format": "amberkeel-constraints", "unit": "ell", "constraints": []}, json.loads("3")):
        with pytest.raises(SolveError):
            read_constraint_file(bad)


def test_a_solve_is_refined_from_an_attempt_and_a_break_keeps_what_holds(rng):
    path, points = moving_camera(40, 700.0, -0.04), cloud(rng, 160)
    tracks = observe(path, points, 0.1, rng)
    first = solve_tracks(tracks, path.frames, 640, 360)
    fewer = replace(tracks, states=["excluded" if k % 9 == 0 else "active" for k in range(len(tracks))])
    again = solve_tracks(fewer, path.frames, 640, 360, Recipe(begin=first.path))
    assert again.rms_px < 0.2 and np.isclose(again.path.lens.focal_px[0], 700.0, rtol=0.01)

    # No track carries across frame 1030: what lies before is kept, what is missing is named.
    kept = (tracks.frames < 1030) | (tracks.track_of_sample % 2 == 1)
    kept &= (tracks.frames >= 1030) | (tracks.track_of_sample % 2 == 0)
    counts = np.bincount(tracks.track_of_sample[kept], minlength=len(tracks))
    parted = replace(
        tracks, first=np.concatenate([[0], np.cumsum(counts)]), frames=tracks.frames[kept], xy=tracks.xy[kept],
        sigma=tracks.sigma[kept], score=tracks.score[kept],
    )  # fmt: skip
    part = solve_tracks(parted.take(counts > 5), path.frames, 640, 360)
    assert part.path.frames.tolist() == list(range(1001, 1030)) and part.missing_frames.tolist() == list(
        range(1030, 1041)
    )
    assert part.rms_px < 0.2 and len(part.position_sigma) == 29
    with pytest.raises(SolveError, match="has 0 of this shot"):
        solve_tracks(tracks, path.frames, 640, 360, Recipe(begin=replace(first.path, frames=path.frames + 500)))
