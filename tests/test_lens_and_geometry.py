"""Lens and rotations: round trips and conventions."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from amberkeel.core.geometry.rotations import look_at, nearest_rotation, rotation_exp
from amberkeel.core.lens import Lens, focal_px_from_mm


@pytest.mark.parametrize("radial", [(0.0, 0.0, 0.0), (-0.2, 0.03, 0.0), (0.12, -0.01, 0.002)])
@pytest.mark.parametrize("tangential", [(0.0, 0.0), (0.001, -0.0008)])
def test_undistort_takes_distort_back(radial, tangential, rng):
    lens = Lens(1920, 1080, (1500.0, 1500.0), (960.0, 540.0), radial, tangential)
    xy = rng.uniform(-0.6, 0.6, (400, 2))
    assert np.abs(lens.undistort(lens.distort(xy)) - xy).max() < 1e-9


def test_projection_follows_the_conventions():
    lens = Lens.centred(960, 540, 800.0)
    assert np.allclose(lens.project(np.array([[0.0, 0.0, 5.0]])), [[480.0, 270.0]])
    right_and_down = lens.project(np.array([[1.0, 1.0, 4.0]]))[0]
    assert np.allclose(right_and_down, [680.0, 470.0])
    assert np.isnan(lens.project(np.array([[0.0, 0.0, -1.0]]))).all()
    assert focal_px_from_mm(24.0, 24.0, 960) == 960.0
    assert Lens.centred(720, 480, 700.0, pixel_aspect=0.9).focal_px[1] == pytest.approx(630.0)


def test_rotations_go_there_and_back(rng):
    for w in [*rng.normal(0, 1, (20, 3)), np.zeros(3), np.array([1e-9, 0, 0]), np.array([0, np.pi - 1e-6, 0])]:
        r = rotation_exp(w)
        assert np.allclose(r @ r.T, np.eye(3), atol=1e-12)
        assert np.allclose(rotation_exp(Rotation.from_matrix(r).as_rotvec()), r, atol=1e-6)
    r = rotation_exp(np.array([0.3, -0.2, 0.9]))
    assert np.allclose(nearest_rotation(r * 1.3), r)


def test_look_at_keeps_the_horizon():
    r = look_at(np.array([1.0, 2.0, 3.0]), np.array([1.0, 1.5, -6.0]))
    assert np.linalg.det(r) == pytest.approx(1.0)
    assert r[1, 0] == pytest.approx(0.0)
    assert r[1, 1] < 0.0 and r[2, 2] < 0.0
