"""USD, JSON and CSV, each read back by something else."""

import csv
import io
import json
from pathlib import Path

import numpy as np
import pytest
from jsonschema import validate
from pxr import Usd, UsdGeom

from amberkeel.core.errors import HandoffError, SolveError
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.solve_file import read_document, schema
from amberkeel.core.handoff.tables import camera_csv, points_csv
from amberkeel.core.handoff.usd import usd_text
from amberkeel.core.world.datum import Datum

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
