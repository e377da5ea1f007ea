"""Camera paths that come from elsewhere, read as they were written or refused in words; and what a camera sees."""

from dataclasses import replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.camera import CameraPath, poses_at, row_times
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.camera_paths import read_camera_path
from amberkeel.core.handoff.document import read_path, solve_document
from amberkeel.core.handoff.tables import camera_csv
from amberkeel.core.handoff.usd import usd_text
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.world.camera_curves import camera_curves


@pytest.fixture(scope="module")
def document():
    rng = np.random.default_rng(11)
    path = moving_camera(24)
    tracks = observe(path, cloud(rng, 90), 0.1, rng)
    return solve_document(solve_tracks(tracks, path.frames, 640, 360, Recipe("free")))


def test_what_leaves_comes_back(document):
    path = read_path(document)
    for name, text in (("a.csv", camera_csv(document)), ("a.usda", usd_text(document, 24.0))):
        back = read_camera_path(name, text.encode())
        assert np.array_equal(back.frames, path.frames)
        assert back.positions == pytest.approx(path.positions, abs=1e-6)
        assert back.rotations == pytest.approx(path.world_from_camera, abs=1e-6)
        assert back.camera(640, 360).lens.focal_px[0] == pytest.approx(path.lens.focal_px[0], rel=1e-5)
    held = back.hold("as delivered", 1005, 1010)
    assert held.frames == list(range(1005, 1011)) and len(held.positions) == 6
    with pytest.raises(HandoffError, match="none of 1–9"):
        back.hold("elsewhere", 1, 9)


def test_angles_and_quaternions_say_the_same_as_matrices(document):
    path = read_path(document)
    curves = {curve.name: curve.values for curve in camera_curves(path, None)}
    lines = ["frame,x,y,z,pan,tilt,roll"]
    for k, frame in enumerate(path.frames):
        lines.append(",".join(str(v) for v in (frame, *(curves[n][k] for n in ("x", "y", "z", "pan", "tilt", "roll")))))
    back = read_camera_path("angles.csv", "\n".join(lines).encode())
    assert back.rotations == pytest.approx(path.world_from_camera, abs=1e-9) and back.focal_share is None
    with pytest.raises(HandoffError, match="no focal length"):
        back.camera(640, 360)
    assert back.camera(640, 360, 700.0).lens.focal_px[0] == 700.0
    turned = "frame,x,y,z,qx,qy,qz,qw\n1,0,0,0,1,0,0,0\n2,0,0,1,1,0,0,0\n"
    assert read_camera_path("q.csv", turned.encode()).rotations[0] == pytest.approx(np.diag([1.0, -1.0, -1.0]))


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("a.txt", "frame", "no camera path"),
        ("a.csv", "frame,x,y\n1,2,3\n", "no camera path"),
        ("a.csv", "frame,x,y,z,pan,tilt,roll\n1,0,0,0,0,0,0\n2,nan,0,0,0,0,0\n", "no finite pose"),
        ("a.csv", "frame,x,y,z,pan,tilt,roll\n1,0,0,0,0,0,0\n1,0,0,0,0,0,0\n", "rise"),
        ("a.csv", "frame,x,y,z,pan,tilt,roll\n1,0,0,0,left,0,0\n", "no number"),
        ("a.csv", "frame,x,y,z,pan,tilt,roll\n1,0,0,0,0,0,0\n", "two frames"),
        ("a.csv", "frame,x,y,z,qx,qy,qz,qw\n1,0,0,0,0,0,0,0\n2,0,0,0,0,0,0,1\n", "no length"),
        ("a.usda", "not usd", "USD"),
        ("a.usda", "#usda 1.0\n", "no camera"),
    ],
)
def test_files_that_hold_no_path_are_refused(name, text, words):
    with pytest.raises(HandoffError, match=words):
        read_camera_path(name, text.encode())


@pytest.mark.parametrize("readout", [0.0, 0.6])
def test_points_are_seen_before_the_camera_and_within_the_picture(readout, rng):
    path = replace(moving_camera(10), readout=readout)
    points = np.concatenate([cloud(rng, 80), cloud(rng, 40) * [1.0, 1.0, -1.0], path.positions[4:5]])
    px, inside = path.seen(points, 4)
    assert 20 < inside.sum() < 80 and not inside[80:].any()
    assert ((px[inside] > 0.0) & (px[inside] < [640.0, 360.0])).all()
    out = ~inside[:80]
    assert not ((px[:80][out] > 0.0) & (px[:80][out] < [640.0, 360.0])).all(1).any()
    _, well_inside = path.seen(points, 4, 50.0)
    assert np.array_equal(well_inside, inside & ((px > 50.0) & (px < [590.0, 310.0])).all(1))
    again, same = path.seen(points, np.full(len(points), 4))
    assert np.array_equal(same, inside) and np.allclose(again[inside], px[inside])
    # Each is where the camera that stands when its row is read has it.
    for point, at in zip(points[inside][:8], px[inside]):
        times = row_times(at[1:], 360.0, readout)
        turned, moved = poses_at(path.world_from_camera, path.positions, np.array([4]), times)
        then = CameraPath(np.array([0]), moved, turned, path.lens)
        assert np.allclose(then.project(point[None], 0), at, atol=1e-4)
    assert path.seen(np.zeros((0, 3)), 4)[1].shape == (0,)
