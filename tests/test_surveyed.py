"""A camera from points of known coordinates: on every frame, on one, with a focal length that is not known, and what is
refused.
"""

from dataclasses import replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.evidence.statement import Anchor
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve.surveyed import points_by_frame, suffices, survey_of
from amberkeel.core.tracks import EXCLUDED, from_pieces

FOCAL, NOISE_PX, SIGMA = 700.0, 0.1, 0.002
SPOT, TURN = np.array([12.0, 2.0, -40.0]), rotation_exp(np.array([0.3, -1.1, 0.2]))
"""Where the set has its origin, and how it is turned: nothing may rest on the camera being there."""


def set_of(count: int, frames: int, seed: int = 1, others: int = 0):
    """Return a camera in the set's world, tracks s0, s1, … of points that it sees all the time, and where they are."""
    rng, camera = np.random.default_rng(seed), moving_camera(frames, FOCAL)
    found: list[np.ndarray] = []
    while len(found) < count + others:
        one = cloud(rng, 1)
        px = np.array([camera.project(one, k)[0] for k in range(frames)])
        if ((px > 8) & (px < [632, 352])).all():
            found.append(one[0])
    points = np.array(found) @ TURN.T + SPOT
    path = CameraPath(camera.frames, camera.positions @ TURN.T + SPOT, TURN @ camera.world_from_camera, camera.lens)
    px = np.array([path.project(points, k) for k in range(frames)])
    px += rng.normal(0.0, NOISE_PX, px.shape)
    rows = [(path.frames, px[:, n], np.full(frames, NOISE_PX), np.ones(frames)) for n in range(len(points))]
    return path, from_pieces([f"s{n}" for n in range(len(points))], rows, ["hand"] * len(points)), points


def stated(points, count: int, sigma: float = SIGMA, seed: int = 5):
    """Return the first points as anchored ones, each within its sigma."""
    off = np.random.default_rng(seed).normal(0.0, sigma, (count, 3))
    return tuple(Anchor(track=f"s{n}", xyz=tuple(points[n] + off[n]), sigma=sigma) for n in range(count))


def solved(path, tracks, evidence, known: bool, **more):
    """Return what comes of tracks and anchored points."""
    recipe = Recipe(focal_px=FOCAL if known else None, evidence=evidence, **more)
    return solve_tracks(tracks, path.frames, 640, 360, recipe)


@pytest.mark.parametrize(("count", "known"), [(4, True), (5, True), (6, False), (8, False)])
@pytest.mark.parametrize("frames", [1, 12])
def test_known_points_give_the_camera_in_their_world(count, known, frames):
    path, tracks, points = set_of(count, frames)
    solution = solved(path, tracks, stated(points, count), known)
    assert list(solution.path.frames) == list(path.frames)
    off = np.linalg.norm(solution.path.positions - path.positions, axis=1)
    assert off.max() < 5.0 * solution.position_sigma.max() and off.max() < 0.15
    assert 1e-4 < solution.position_sigma.min() and solution.position_sigma.max() < 0.3
    turned = np.einsum("fij,fij->f", solution.path.world_from_camera, path.world_from_camera)
    assert np.degrees(np.arccos(np.clip((turned - 1) / 2, -1, 1))).max() < 0.5
    focal = solution.path.lens.focal_px[0]
    assert focal == FOCAL if known else abs(focal - FOCAL) < 4.0 * solution.focal_sigma_px + 1.0
    names = [figure for figure in solution.terms if figure.kind == "anchor"]
    assert len(names) == count and all(abs(figure.sigmas) < 4.0 for figure in names)


def test_sigmas_of_many_sets_are_honest():
    scores = []
    for seed in range(12):
        path, tracks, points = set_of(6, 1, seed)
        solution = solved(path, tracks, stated(points, 6, seed=seed), known=True)
        scores.append(np.linalg.norm(solution.path.positions - path.positions) / solution.position_sigma[0])
    assert 0.35 < np.median(scores) < 1.3 and np.mean(np.array(scores) < 2.5) > 0.8


def test_the_points_left_out_in_turn_are_judged_where_they_were_surveyed():
    path, tracks, points = set_of(8, 6)
    solution = solved(path, tracks, stated(points, 8), known=True)
    assert solution.folds and solution.folds.count == 8
    assert 0.05 < solution.check_rms_px < 1.5
    moved = list(stated(points, 8))
    moved[3] = moved[3].model_copy(update={"xyz": tuple(points[3] + [0.12, 0.0, 0.0])})
    worse = solved(path, tracks, tuple(moved), known=True)
    loudest = max((f for f in worse.terms if f.kind == "anchor"), key=lambda f: abs(f.sigmas))
    assert loudest is worse.terms[3] and abs(loudest.sigmas) > 10.0
    assert worse.folds.outlier_share > 0.1 > solution.folds.outlier_share


def test_of_four_nothing_can_be_left_out():
    path, tracks, points = set_of(4, 3)
    assert solved(path, tracks, stated(points, 4), known=True).check_rms_px is None


def test_other_tracks_carry_the_camera_to_frames_without_known_points():
    path, tracks, points = set_of(6, 30, others=7)
    early = np.isin(tracks.track_of_sample, np.arange(6)) & (tracks.frames > 1014)
    short = _without(tracks, early)
    solution = solved(path, short, stated(points, 6), True, start="known")
    assert len(solution.path.frames) == 30
    assert np.linalg.norm(solution.path.positions - path.positions, axis=1).max() < 0.1


def _without(tracks, gone):
    """Return tracks without some measurements (N,) bool."""
    rows = [np.nonzero((tracks.track_of_sample == n) & ~gone)[0] for n in range(len(tracks))]
    pieces = [(tracks.frames[r], tracks.xy[r], tracks.sigma[r], np.ones(len(r))) for r in rows]
    return from_pieces(list(tracks.names), pieces, list(tracks.kinds))


def test_a_start_that_fails_falls_back_on_the_known_points():
    path, tracks, points = set_of(6, 12)
    assert solved(path, tracks, stated(points, 6), known=False).path.lens.focal_px[0] == pytest.approx(FOCAL, rel=0.05)
    with pytest.raises(SolveError, match="Only 6 tracks"):
        solved(path, tracks, (), known=False)


def test_what_is_switched_off_excluded_or_half_known_does_not_serve():
    path, tracks, points = set_of(6, 2)
    rows = list(stated(points, 6))
    rows[0] = rows[0].model_copy(update={"on": False})
    rows[1] = rows[1].model_copy(update={"xyz": (1.0, None, 2.0)})
    states = [EXCLUDED if n == 2 else s for n, s in enumerate(tracks.states)]
    survey = survey_of(tuple(rows), replace(tracks, states=states))
    assert survey.names == ("s3", "s4", "s5")
    assert list(points_by_frame(survey, tracks, path.frames)) == [3, 3]
    assert not suffices(survey, tracks, path.frames, searched=False)


@pytest.mark.parametrize("frames", [1, 5])
@pytest.mark.parametrize("known", [True, False])
def test_a_point_in_the_wrong_unit_is_named(frames, known):
    path, tracks, points = set_of(7, frames)
    rows = list(stated(points, 7))
    rows[4] = rows[4].model_copy(update={"xyz": tuple(100.0 * points[4])})
    with pytest.raises(SolveError, match=r"s4 is seen .*the other 6 known points agree"):
        solved(path, tracks, tuple(rows), known, start="known")


def test_points_of_which_none_fits_are_refused():
    path, tracks, points = set_of(6, 4)
    mixed = np.random.default_rng(3).permutation(points)
    with pytest.raises(SolveError, match="No camera sees the 6 known points"):
        solved(path, tracks, stated(mixed, 6), True, start="known")


@pytest.mark.parametrize(
    ("count", "known", "frames", "said"),
    [
        (3, True, 1, "Frame 1001 shows 3 known points: too few"),
        (5, False, 1, "Frame 1001 shows 5 known points: too few"),
        (5, False, 4, "Frame 1001 shows 5 known points, no frame more: too few"),
        (3, True, 4, "Only 3 tracks are active"),
    ],
)
def test_too_few_known_points_are_refused(count, known, frames, said):
    path, tracks, points = set_of(count, frames)
    more = {"start": "known"} if frames > 1 and count > 3 else {}
    with pytest.raises(SolveError, match=said):
        solved(path, tracks, stated(points, count), known, **more)


def test_four_known_points_on_a_line_are_refused():
    path, tracks, points = set_of(4, 3)
    line = points[0] + np.outer([0.0, 1.0, 2.0, 3.0], [1.0, 0.2, 0.1])
    rows = tuple(Anchor(track=f"s{n}", xyz=tuple(line[n]), sigma=0.01) for n in range(4))
    with pytest.raises(SolveError, match="lie on a line"):
        solved(path, tracks, rows, known=True)


def test_tracks_led_by_hand_lead_the_start_where_that_is_asked():
    rng, path = np.random.default_rng(2), moving_camera(24)
    tracks = observe(path, cloud(rng, 90), 0.1, rng)
    led = replace(tracks, kinds=["hand" if n % 8 == 0 else kind for n, kind in enumerate(tracks.kinds)])
    solution = solve_tracks(led, path.frames, 640, 360, Recipe(start="hand"))
    assert solution.begun.tracks <= sum(kind == "hand" for kind in led.kinds)
    assert abs(solution.path.lens.focal_px[0] - FOCAL) < 4.0 * solution.focal_sigma_px
    few = replace(tracks, kinds=["hand" if n < 3 else kind for n, kind in enumerate(tracks.kinds)])
    with pytest.raises(SolveError, match="3 tracks are led by hand, too few to begin from"):
        solve_tracks(few, path.frames, 640, 360, Recipe(start="hand"))
