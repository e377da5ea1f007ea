"""Datum, USD, JSON and CSV, each read back by something else."""

import csv
import io
import json
from pathlib import Path

import numpy as np
import pytest
from jsonschema import validate
from pxr import Usd, UsdGeom

from amberkeel.core.errors import HandoffError, SolveError, WorldError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.solve_file import read_document, schema
from amberkeel.core.handoff.tables import camera_csv, points_csv
from amberkeel.core.handoff.usd import usd_text
from amberkeel.core.world.datum import Datum, DrawnAxes, fit_plane, make_datum
from amberkeel.core.world.probe import card_outlines

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "solve.schema.json").read_text())
DATUM = Datum(2.5, np.array([[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [-1.0, 0.0, 0.0]]), np.array([1.0, -2.0, 0.5]))


@pytest.fixture(scope="module")
def document(solution):
    return json.loads(json.dumps(solve_document(solution, DATUM, "skl_010.####.png", "24000/1001")))


def test_the_schema_is_that_by_which_documents_are_read(document):
    assert json.loads(schema()) == SCHEMA and read_document(document) == document
    frame = {**document["frames"][3], "position": [0.0, 1.0]}
    for broken in (
        {**document, "version": 7},
        {**document, "frames": document["frames"][:3] + [frame]},
        {k: v for k, v in document.items() if k != "quality"},
        [],
    ):
        with pytest.raises(SolveError, match="no solve.json"):
            read_document(broken)


def test_document_keeps_to_its_schema(document, solution):
    validate(document, SCHEMA)
    q = document["quality"]
    assert q["tracks_used"] + q["tracks_excluded"] + q["tracks_check"] == len(solution.tracks)
    assert {p["state"] for p in document["points"]} >= {"active", "check"}


def test_usd_reprojects_where_the_solve_does(document, solution, tmp_path):
    (tmp_path / "c.usda").write_text(usd_text(document, 24.0))
    stage = Usd.Stage.Open(str(tmp_path / "c.usda"))
    assert UsdGeom.GetStageUpAxis(stage) == "Y" and UsdGeom.GetStageMetersPerUnit(stage) == 0.01
    assert stage.GetTimeCodesPerSecond() == pytest.approx(24000 / 1001)
    camera = UsdGeom.Camera.Get(stage, "/Shot/Camera")
    points = np.array(UsdGeom.Points.Get(stage, "/Shot/Points").GetPointsAttr().Get(), float)
    names = stage.GetPrimAtPath("/Shot/Points").GetAttribute("amberkeel:tracks").Get()
    assert stage.GetPrimAtPath("/Shot").GetAttribute("amberkeel:plate").Get() == "skl_010.####.png"
    lens, worst = solution.path.lens, 0.0
    rows = [solution.tracks.names.index(n) for n in names]
    for k, frame in list(enumerate(solution.path.frames))[::7]:
        usd = camera.GetCamera(int(frame))
        assert usd.horizontalAperture == pytest.approx(24.0)
        view = np.array(usd.frustum.ComputeViewMatrix())
        seen = np.c_[points, np.ones(len(points))] @ view
        focal = usd.focalLength / usd.horizontalAperture * lens.width
        normal = np.stack([seen[:, 0] / -seen[:, 2], -seen[:, 1] / -seen[:, 2]], 1)
        px = lens.distort(normal) * focal + np.array(lens.principal_px)
        expected = solution.path.project(solution.points.positions(solution.path.positions[0])[rows], k)
        near = (seen[:, 2] < 0) & (np.abs(expected - [lens.width / 2, lens.height / 2]) < lens.width / 2).all(1)
        worst = max(worst, np.abs(px - expected)[near].max())
    assert worst < 0.01
    with pytest.raises(HandoffError, match="sensor"):
        usd_text(document, 0.0)


def test_tables_hold_every_point_and_frame(document):
    points = list(csv.DictReader(io.StringIO(points_csv(document))))
    cameras = list(csv.DictReader(io.StringIO(camera_csv(document))))
    assert len(points) == len(document["points"]) and len(cameras) == len(document["frames"])
    assert float(points[3]["y"]) == pytest.approx(document["points"][3]["xyz"][1], abs=1e-5)


def test_datum_levels_places_and_scales(solution, rng):
    tilt = DATUM.rotation @ np.array([[1.0, 0, 0], [0, 0.9, -0.436], [0, 0.436, 0.9]])
    flat = rng.uniform(-4, 4, (12, 3)) * [1, 0, 1] - [0, 1.5, 8]
    ground = flat @ tilt
    path = solution.path.moved(1.0, tilt.T, np.zeros(3))
    datum = make_datum(path, ground, ground[0], (ground[1], ground[2], 2.45))
    world = datum.apply(ground)
    assert np.abs(world[:, 1]).max() < 1e-9 and np.allclose(world[0], 0.0)
    assert np.linalg.norm(world[1] - world[2]) == pytest.approx(2.45)
    camera = datum.camera(path)
    assert camera.positions[0, 1] > 0.0
    forward = camera.world_from_camera[0][:, 2]
    assert abs(forward[0]) < 1e-9 and forward[2] < 0.0
    assert np.linalg.det(datum.rotation) == pytest.approx(1.0)
    card = card_outlines(camera, world.mean(0), 1.0)
    assert len(card) == len(path.frames) and all(p.shape == (12, 2) for f in card for p in f)


@pytest.fixture
def tilted(solution, rng):
    """A path in coordinates of its own, the similarity to the true world, and points of the true floor in those
    coordinates.
    """
    turn, scale, shift = rotation_exp(np.array([0.3, -1.1, 0.2])), 2.5, np.array([1.0, 1.7, -0.4])
    true = Datum(scale, turn, shift)
    floor = rng.uniform(-4, 4, (12, 3)) * [1, 0, 1]
    return solution.path, true, (floor - shift) @ turn / scale


def test_axis_lines_turn_the_scene_and_place_it(tilted, rng):
    path, true, floor = tilted
    world = true.camera(path)
    frames = path.frames[[2, -1]].tolist()
    noisy = {
        f: world.world_from_camera[list(path.frames).index(f)] @ rotation_exp(rng.normal(0, 1e-3, 3)) for f in frames
    }
    turned = make_datum(path, axes=DrawnAxes({**noisy, 99999: np.eye(3)}))
    assert (
        turned.scale == 1.0
        and np.abs(turned.rotation - true.rotation).max() < 3e-3
        and np.allclose(turned.translation, 0.0)
    )
    position = (frames[0], world.positions[2])
    grounded = make_datum(path, floor, axes=DrawnAxes(noisy, position))
    assert grounded.scale == pytest.approx(true.scale, rel=1e-6) and grounded.ground_rms < 1e-9
    assert np.abs(grounded.apply(floor)[:, 1]).max() < 1e-9
    assert np.abs(grounded.camera(path).positions - world.positions).max() < 0.02 * np.abs(world.positions).max()
    measured = (floor[0], floor[1], true.scale * np.linalg.norm(floor[0] - floor[1]))
    scaled = make_datum(path, scale=measured, axes=DrawnAxes(noisy, position))
    assert np.abs(scaled.camera(path).positions[2] - world.positions[2]).max() < 1e-6
    origin = make_datum(path, floor, floor[3], axes=DrawnAxes(noisy, position))
    assert np.allclose(origin.apply(floor[3]), 0.0) and origin.scale == pytest.approx(true.scale, rel=1e-6)


def test_axis_lines_on_frames_that_are_not_solved_change_nothing(tilted):
    path, _, floor = tilted
    stray = DrawnAxes({99999: np.eye(3)}, (99999, np.ones(3)))
    assert np.allclose(make_datum(path, floor, axes=stray).rotation, make_datum(path, floor).rotation)
    assert make_datum(path, floor, axes=stray).scale == 1.0
    with pytest.raises(WorldError, match="does not stand above"):
        make_datum(path, floor, axes=DrawnAxes({}, (int(path.frames[0]), np.array([0.0, -1.0, 2.0]))))


def test_a_datum_that_cannot_be_says_so(solution):
    line = np.arange(12.0).reshape(4, 3)
    with pytest.raises(WorldError, match="on a line"):
        fit_plane(line)
    with pytest.raises(WorldError, match="three points"):
        make_datum(solution.path, ground=line[:2])
    with pytest.raises(WorldError, match="more than zero"):
        make_datum(solution.path, scale=(line[0], line[1], 0.0))
    with pytest.raises(WorldError, match="one and the same"):
        make_datum(solution.path, scale=(line[0], line[0], 1.0))
