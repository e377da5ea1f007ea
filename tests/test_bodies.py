"""Bodies: what moves by itself is solved beside a known camera, and its size told in one of several ways."""

import json

import numpy as np
import pytest
from click.testing import CliRunner
from pxr import Gf, Usd, UsdGeom
from simulated import cloud, moving_camera, observe

from amberkeel.cli.solve import solve
from amberkeel.core.errors import KeelError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.pictures.write import write_png
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.ties.bodies.body import beside, body_recipe, in_world
from amberkeel.core.ties.bodies.body_file import typed_size
from amberkeel.core.ties.bodies.size import by_ground, by_length, by_still, by_tie, guessed, relative_to

FRAMES = 40


def crate(rng, still: int = 0):
    """Return points on a crate of 1 m (P, 3) about its middle, its places (F, 3) and turns (F, 3, 3); it stands still
    on the first `still` frames, on the ground at y = 1.5 (y down).
    """
    faces = rng.uniform(-0.5, 0.5, (150, 3))
    faces[np.arange(150), rng.integers(0, 3, 150)] = rng.choice([-0.5, 0.5], 150)
    t = np.maximum(np.arange(FRAMES) - still, 0) / (FRAMES - 1.0)
    places = np.stack([-1.5 + 3.5 * t, 1.0 - 0.6 * t, 6.0 + 1.5 * t], 1)
    turns = np.array([rotation_exp(np.array([0.3 * np.sin(4 * s), 1.2 * s, 0.2 * s])) for s in t])
    return faces, places, turns


def solved_body(rng, camera, still=0):
    points, places, turns = crate(rng, still)
    moving = np.einsum("fij,pj->fpi", turns, points) + places[:, None]
    tracks = beside(observe(camera, moving, 0.1, rng), camera)
    recipe = body_recipe(Recipe(), camera)
    solution = solve_tracks(tracks, camera.frames, 640, 360, recipe)
    return solution, relative_to(camera, solution), points, places, turns


def off(body, places, turns):
    """Return the largest error of a body's turn, degrees, and of its place, metres; its own frame is free."""
    between = np.swapaxes(turns, 1, 2) @ body.world_from_body
    degrees = np.degrees(
        np.arccos(np.clip((np.trace(np.swapaxes(between[:1], 1, 2) @ between, axis1=1, axis2=2) - 1) / 2, -1, 1))
    )
    inside = np.einsum("fji,fj->fi", turns, body.positions - places).mean(0)
    return degrees.max(), np.linalg.norm(body.positions - places - turns @ inside, axis=1).max()


def test_a_body_is_placed_and_its_size_told_in_each_way(rng):
    camera = moving_camera(FRAMES)
    solution, relative, points, places, turns = solved_body(rng, camera, still=14)
    row = {int(t): int(n[1:]) for n, t in zip(solution.tracks.names, solution.tracks.ids)}
    a, b = max(
        ((s, t) for s in row for t in row if s in relative.ids and t in relative.ids),
        key=lambda two: np.linalg.norm(points[row[two[0]]] - points[row[two[1]]]),
    )
    length = float(np.linalg.norm(points[row[a]] - points[row[b]]))
    touched = turns[20] @ points[row[a]] + places[20]
    sizes = [
        by_length(relative, (a, b), length, 0.002), by_still(relative, 1001, 1014),
        by_tie(relative, a, 1021, touched),
    ]  # fmt: skip
    for size in sizes:
        degrees, metres = off(in_world(relative, size), places, turns)
        assert degrees < 0.3 and metres < 0.02 * 7.0, size
        assert size.sigma is not None and size.sigma < 0.05
    assert sizes[0].scale == pytest.approx(sizes[2].scale, rel=0.01)
    # The camera of these tests looks along +z with y down: turned over, the ground is below it.
    over = camera.moved(1.0, np.diag([1.0, -1.0, -1.0]), np.zeros(3))
    ground = by_ground(relative_to(over, solution), 1001, -1.5)
    assert ground.scale == pytest.approx(sizes[0].scale, rel=0.03)
    without = guessed(relative, 7.0)
    assert without.sigma is None or without.scale == pytest.approx(sizes[0].scale, rel=4 * without.sigma)
    for wrong, said in (
        (lambda: by_still(relative, 1015, 1040), "turns on frames"),
        (lambda: by_length(relative, (a, a), 1.0), "one point"),
        (lambda: by_length(relative, (a, b), 0.0), "impossible"),
        (lambda: by_tie(relative, a, 2000, touched), "not solved on frame 2000"),
        (lambda: by_tie(relative, a, 1021, -touched * [0, 0, 1] - [0, 0, 50]), "behind the camera"),
        (lambda: by_ground(relative, 1001, -900.0), "not above the ground"),
        (lambda: typed_size("length=a0001,2"), "does not tell a size"),
    ):
        with pytest.raises(KeelError, match=said):
            wrong()


def test_a_body_seen_by_a_camera_that_stands_or_zooms(rng):
    standing = moving_camera(FRAMES, step=0.0)
    zoom = np.linspace(1.0, 1.25, FRAMES)
    for camera in (standing, type(standing)(**{**vars(standing), "zoom": zoom})):
        _, relative, *_, places, turns = solved_body(rng, camera)
        usual = float(np.linalg.norm(places - camera.positions, axis=1).mean())
        guess = guessed(relative, usual)
        assert guess.sigma is None and guess.told == ""
        body = in_world(relative, guess)
        true = np.linalg.norm(places[0] - camera.positions[0])
        first = np.linalg.norm(body.positions[0] - camera.positions[0])
        degrees, _ = off(body, places, turns)
        assert degrees < 0.4
        ratio = np.linalg.norm(body.positions - camera.positions, axis=1) / first * true
        assert ratio == pytest.approx(np.linalg.norm(places - camera.positions, axis=1), rel=0.05)


def test_a_body_from_the_command_line(rng, tmp_path):
    camera = moving_camera(FRAMES)
    still = solve_tracks(observe(camera, cloud(rng, 160), 0.1, rng), camera.frames, 640, 360)
    (tmp_path / "camera.json").write_text(json.dumps(solve_document(still, plate="p")))
    points, places, turns = crate(rng)
    tracks = observe(camera, np.einsum("fij,pj->fpi", turns, points) + places[:, None], 0.1, rng)
    (tmp_path / "body.csv").write_text(tracks_csv(tracks))
    plate = tmp_path / "plate"
    plate.mkdir()
    for frame in camera.frames:
        write_png(plate / f"p.{frame}.png", np.zeros((360, 640), np.uint8))
    of_body = [str(plate), "--tracks", str(tmp_path / "body.csv"), "--camera", str(tmp_path / "camera.json")]
    run = CliRunner().invoke(solve, [*of_body, "--size", "length=p000,p001,0.5", "--out", str(tmp_path / "out")])
    assert run.exit_code == 0 and "told by a length on it" in run.output, run.output
    body = json.loads((tmp_path / "out" / "body.json").read_text())
    own = json.loads((tmp_path / "out" / "solve.json").read_text())
    seen = {p["track"]: np.array(p["xyz"]) for p in body["points"]}
    assert np.linalg.norm(seen["p000"] - seen["p001"]) == pytest.approx(0.5, rel=1e-6)
    stage = Usd.Stage.Open(str(tmp_path / "out" / "body.usda"))
    moving = UsdGeom.Xformable(stage.GetPrimAtPath("/Shot/Body"))
    cameras = {f["frame"]: f for f in json.loads((tmp_path / "camera.json").read_text())["frames"]}
    for frame, solved in list(zip(body["frames"], own["frames"]))[::9]:
        # The body's path after its own solve's camera is the camera in the world.
        turn, at = np.array(frame["world_from_body"]), np.array(frame["position"])
        known = cameras[frame["frame"]]
        assert turn @ np.array(solved["position"]) + at == pytest.approx(np.array(known["position"]), abs=1e-9)
        assert turn @ np.array(solved["world_from_camera"]) == pytest.approx(np.array(known["world_from_camera"]))
        placed = moving.ComputeLocalToWorldTransform(frame["frame"]).Transform(Gf.Vec3d(*(100 * seen["p000"]).tolist()))
        assert np.array(placed) / 100 == pytest.approx(turn @ seen["p000"] + at, abs=1e-6)
    mattes = ["--inside", str(plate), "--camera", str(tmp_path / "camera.json")]
    for words, said in (
        ([*of_body, "--size", "length=p000,nobody,1"], "no track “nobody”"),
        ([*of_body, "--size", "weight=3"], "does not tell a size"),
        ([*of_body, "--focal", "30", "--sensor-width", "24"], "through its camera's lens"),
        ([str(plate), *mattes, "--mattes", str(plate)], "inside its own mattes"),
        ([str(plate), *mattes[2:]], "none is"),
        ([str(plate), *mattes], "black on every frame"),
    ):
        run = CliRunner().invoke(solve, [*words, "--out", str(tmp_path / "no")])
        assert run.exit_code == 1 and said in run.output, run.output
