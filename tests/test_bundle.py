"""Bundle adjustment: derivatives, convergence and honest sigmas."""

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.adjust import adjust
from amberkeel.core.solve.bundle import total_cost
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.problem import make_problem
from amberkeel.core.solve.projection import LOCAL, residual, residual_and_derivatives, tangent
from amberkeel.core.solve.radial_lens import ROW_NAMES, RadialLens
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks


def test_derivatives_match_finite_differences(rng):
    m = np.array([0.2, -0.1, 1.0]) / np.linalg.norm([0.2, -0.1, 1.0])
    r, c, a = rotation_exp(rng.normal(0, 0.2, 3)), rng.normal(0, 0.3, 3), rng.normal(0, 0.3, 3)
    lens = RadialLens(700.0, 320.0, 180.0, -0.1, 0.02, 0.003, 1.1, 0.0, 0.3, -0.2, 0.5)
    xy, rho = np.array([300.0, 170.0]), 0.15
    basis, e = np.zeros((3, 2)), np.zeros(2)
    jc, jp = np.zeros((2, LOCAL)), np.zeros((2, 3))
    tangent(m, basis)
    assert np.allclose(basis.T @ basis, np.eye(2)) and np.allclose(basis.T @ m, 0.0)
    assert residual_and_derivatives(r, c, a, m, rho, basis, lens.row, xy, e, jc, jp)

    def moved(d):
        out, bent = np.zeros(2), lens
        for name, step in zip(ROW_NAMES, d[6:16]):
            bent = bent.stepped(name, step)
        residual(r @ rotation_exp(d[:3]), c + d[3:6], a, m + basis @ d[16:18], rho + d[18], bent.row, xy, out)
        return out

    step = 1e-6
    numeric = np.stack([(moved(step * v) - moved(-step * v)) / (2 * step) for v in np.eye(19)], 1)
    analytic = np.concatenate([jc, jp], 1)
    assert np.abs(analytic - numeric).max() < 1e-4 * np.abs(numeric).max()


def _problem(path, tracks):
    lens = RadialLens(path.lens.focal_px[0], 320.0, 180.0, path.lens.radial[0])
    problem = make_problem(tracks, path.frames, lens, np.ones(len(tracks), bool))
    problem.rotations[:], problem.centres[:], problem.solved[:] = path.world_from_camera, path.positions, True
    problem.triangulate(problem.active, 5.0)
    return problem


def test_adjustment_recovers_a_disturbed_scene_and_welcomes_infinity(rng):
    path = moving_camera(focal=700.0, k1=-0.05)
    far = cloud(rng, 20) * 1e5
    tracks = observe(path, np.concatenate([cloud(rng, 100), far]), 0.0, rng)
    problem = _problem(path, tracks)
    assert problem.triangulated.all()
    problem.lens = RadialLens(760.0, 320.0, 180.0)
    problem.centres[1:] += rng.normal(0, 0.01, (29, 3))
    problem.rotations[1:] = problem.rotations[1:] @ np.array([rotation_exp(rng.normal(0, 0.002, 3)) for _ in range(29)])
    bundle, _ = problem.bundle(problem.solved, problem.active, problem.all_but_first, Freedom(("focal", "k1")))
    after = adjust(bundle, 60, 1e-12)
    assert after.cost < 1e-6 * total_cost(bundle)
    assert after.bundle.lens.focal == pytest.approx(700.0, rel=1e-3)
    assert after.bundle.lens.k1 == pytest.approx(-0.05, abs=2e-3)


def test_focal_sigma_tells_the_true_spread():
    path = moving_camera(24)
    scores = []
    for seed in range(7):
        rng = np.random.default_rng(seed)
        tracks = observe(path, cloud(rng, 110), 0.2, rng)
        solved = solve_tracks(tracks, path.frames, 640, 360, Recipe("free", "none", seed=seed))
        scores.append((solved.path.lens.focal_px[0] - 700.0) / solved.focal_sigma_px)
    assert 0.5 < np.sqrt(np.mean(np.square(scores))) < 1.7
