"""A camera from a handful of tracks, what is said where they are too few, and how each is judged without the others."""

import re
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from simulated import moving_camera, tracks_of

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose import alone
from amberkeel.core.diagnose.evidence import Evidence, Measures
from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.wording import checked, folds_alike
from amberkeel.core.lens import Lens
from amberkeel.core.repair.compare import BETTER, SAME, WORSE, compare
from amberkeel.core.solve.grow import _lacking
from amberkeel.core.solve.motions import NODAL, PLANE
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import EXCLUDED, from_pieces
from amberkeel.core.world.true_slip import slip_px

SIZE, NOISE_PX = (640, 360), 0.12


def placed(rng, count, aside=(0.3, 0.0, 0.3)):
    """Points (count, 3) as a hand places them: well apart in the picture, near and far."""
    across = np.linspace(-0.3, 0.3, count)[rng.permutation(count)]
    down = np.linspace(-0.17, 0.17, count)[rng.permutation(count)]
    return np.linspace(4.0, 12.0, count)[:, None] * np.stack([across, down, np.ones(count)], 1) + aside


def pan(frames=30, focal=700.0):
    """A camera that turns by twelve degrees and nods."""
    t = np.linspace(-1.0, 1.0, frames)
    turns = np.array([rotation_exp(np.array([0.03 * np.sin(3 * s), 0.1 * s, 0.02 * s * s])) for s in t])
    lens = Lens.centred(*SIZE, focal)
    return CameraPath(np.arange(1001, 1001 + frames), np.zeros((frames, 3)), turns, lens)


def seen(path, points, rng, noise=NOISE_PX):
    """Tracks of points on all frames on which they are in the picture."""
    px = np.array([path.project(points, k) for k in range(len(path.frames))])
    return tracks_of(path.frames, px + rng.normal(0.0, noise, px.shape), noise)


def cut(tracks, kept):
    """Tracks on a part of their frames: `kept` says on which, of a track's row and its frames."""
    pieces = []
    for t in range(len(tracks)):
        r = tracks.rows(t)
        part = kept(t, tracks.frames[r])
        pieces.append((tracks.frames[r][part], tracks.xy[r][part], tracks.sigma[r][part], tracks.score[r][part]))
    return from_pieces(tracks.names, pieces)


def solved(tracks, path, **recipe):
    return solve_tracks(tracks, path.frames, *SIZE, Recipe(**recipe))


def slip(solution, path, rng):
    """Slip of points that were never tracked, pixels RMS."""
    points = placed(rng, 60)
    px = np.array([path.project(points, k) for k in range(len(path.frames))])
    return np.sqrt(np.nanmean(slip_px(solution.path, path, points, ((px > 0) & (px < SIZE)).all(2)) ** 2))


@pytest.mark.parametrize(("count", "known"), [(12, {}), (8, {}), (7, {"focal_px": 700.0})])
def test_a_camera_that_moves_is_found_from_few_tracks(count, known, rng):
    path = moving_camera(step=0.025)
    tracks = seen(path, placed(rng, count), rng)
    assert len(tracks) == count
    solution = solved(tracks, path, motion="free", distortion="none", **known)
    assert len(solution.path.frames) == 30 and solution.counts["tracks_used"] == count
    assert slip(solution, path, rng) < 0.5
    if not known:
        assert abs(solution.path.lens.focal_px[0] - 700.0) < 3.0 * solution.focal_sigma_px < 400.0


def test_six_tracks_do_with_the_lens_held(rng):
    path = moving_camera(step=0.025)
    held = Lens.centred(*SIZE, 700.0)
    solution = solved(seen(path, placed(rng, 6), rng), path, motion="free", focal_px=700.0, held_lens=held)
    assert len(solution.path.frames) == 30 and slip(solution, path, rng) < 0.6
    assert (
        solution.check_rms_px is None and checked(solve_document(solution)["quality"]["check_rms_px"]) == "not checked"
    )


@pytest.mark.parametrize(("count", "known"), [(5, {}), (3, {"focal_px": 700.0})])
def test_a_pan_is_found_from_three_or_five(count, known, rng):
    path = pan()
    solution = solved(
        seen(path, placed(rng, count, (0.0, 0.0, 0.0)), rng), path, motion="nodal", distortion="none", **known
    )
    assert solution.motion == "nodal" and len(solution.path.frames) == 30
    turned = np.einsum("fij,fkj->fik", solution.path.world_from_camera, path.world_from_camera)
    apart = turned @ turned[0].T
    assert np.arccos(np.clip((np.trace(apart, axis1=1, axis2=2) - 1) / 2, -1, 1)).max() < 0.01
    if not known:
        assert abs(solution.path.lens.focal_px[0] - 700.0) < 4.0 * solution.focal_sigma_px


def test_tracks_that_come_and_go_carry_the_camera_where_neighbours_share_five(rng):
    path = moving_camera(48, step=0.02)
    whole = seen(path, placed(rng, 14), rng)
    tracks = cut(whole, lambda t, on: on < 1030 if t < 5 else on >= 1018 if t > 8 else on > 0)
    solution = solved(tracks, path, motion="free", distortion="none")
    assert len(solution.path.frames) == 48 and slip(solution, path, rng) < 0.5


@pytest.mark.parametrize("count", [8, 12, 20])
def test_each_track_is_judged_without_itself(count, rng):
    path = moving_camera(step=0.025)
    solution = solved(seen(path, placed(rng, count), rng), path, motion="free", distortion="none")
    folds = solution.folds
    assert folds.count == count == len(folds.part_rms_px)
    true = np.hypot(slip(solution, path, rng), NOISE_PX * np.sqrt(2.0))
    assert 0.6 < solution.check_rms_px / true < 1.5 and solution.check_rms_px == folds.rms_px > solution.rms_px
    assert folds_alike(solve_document(solution)["quality"]["folds"])
    assert 0.7 < folds.rms_px / folds.used_rms_px / folds.expected < 1.3


def test_a_track_that_leads_astray_is_named(rng):
    path = moving_camera(step=0.025)
    tracks = seen(path, placed(rng, 12), rng)
    own = tracks.rows(5)
    tracks.xy[own] += np.linspace(0.0, 6.0, own.stop - own.start)[:, None] * [0.3, -0.95]
    solution = solved(tracks, path, motion="free", distortion="none")
    assert solution.tracks.states.count("excluded") >= 1 and solution.tracks.states[5] == "excluded"
    assert slip(solution, path, rng) < 0.5


def test_too_few_is_said_in_words(rng):
    path = moving_camera(step=0.025)
    with pytest.raises(SolveError, match="Only 7 tracks") as said:
        solved(seen(path, placed(rng, 7), rng), path, motion="free")
    assert "seven with its focal length known" in said.value.help
    with pytest.raises(SolveError, match="Only 7 tracks"):
        solved(seen(path, placed(rng, 7), rng), path)
    with pytest.raises(SolveError, match="Only 4 tracks"):
        solved(seen(pan(), placed(rng, 4), rng), pan(), motion="nodal")
    along = np.linspace(-1.0, 1.0, 8)[:, None] * [1.5, 0.6, 2.0] + [0.5, 0.0, 7.0]
    with pytest.raises(SolveError, match="on one line"):
        solved(seen(path, along, rng), path, motion="free")
    with pytest.raises(SolveError, match="share|No two frames|tracks|last long"):
        halves = cut(seen(path, placed(rng, 8), rng), lambda t, on: on < 1016 if t % 2 else on >= 1016)
        solved(halves, path, motion="free")


def test_a_stretch_that_shares_too_little_is_named_and_the_rest_kept(rng):
    path = moving_camera(60, step=0.02)
    tracks = seen(path, placed(rng, 22), rng)
    broken = cut(tracks, lambda t, on: on < 1041 if t < 10 else on >= 1041 if t >= 13 else on > 0)
    solution = solved(broken, path, motion="free", distortion="none")
    assert 40 <= len(solution.path.frames) < 60 and len(solution.missing_frames)
    count = len(solution.path.frames)
    kept = CameraPath(path.frames[:count], path.positions[:count], path.world_from_camera[:count], path.lens)
    assert slip(solution, kept, rng) < 0.5


@pytest.mark.parametrize(
    ("solved", "shared", "said"),
    [
        ([1, 1, 1, 0, 0], 2, "breaks at frame 1004.*Frames 1004–1005 share 2 tracks with the rest"),
        ([0, 1, 1, 1, 1], 1, "breaks at frame 1001.*Frame 1001 shares 1 track with the rest"),
        ([1, 0, 0, 1, 0], 0, "breaks at frame 1002.*Frames 1002–1003 share no track with the rest"),
        ([0, 0, 1, 1, 0], 3, "breaks at frame 1005.*Frame 1005 shares 3 tracks with the rest"),
        ([1, 1, 0, 1, 1], 6, "breaks at frame 1003: too few tracks carry across it.$"),
    ],
)
def test_the_frames_that_lack_tracks_are_named_wherever_they_are(solved, shared, said):
    """Tracks on all frames carry over; others are on one frame each."""
    frames, on = np.arange(1001, 1006), np.array(solved, bool)
    camera = np.concatenate([np.tile(np.arange(5), shared), np.arange(5)])
    track = np.concatenate([np.repeat(np.arange(shared), 5), shared + np.arange(5)])
    active = np.ones(shared + 5, bool)
    problem = SimpleNamespace(frames=frames, solved=on, camera=camera, track=track, active=active)
    words, help = _lacking(problem)
    assert re.search(said, words) and ("by hand" in help)
    assert shared > 5 or f"Place {5 - shared} or more" in help


def spoilt(tracks, which, px=5.0):
    """Return tracks of which some sway, each by so many pixels."""
    xy, own = tracks.xy.copy(), tracks.track_of_sample
    for k in which:
        rows = np.flatnonzero(own == k)
        xy[rows, 0] += px * np.sin(np.linspace(0.0, 4.0 + k, len(rows)))
    return replace(tracks, xy=xy)


@pytest.fixture(scope="module")
def walked():
    """Fourteen tracks of a walk, with the camera that they give."""
    path, rng = moving_camera(30, 700.0), np.random.default_rng(14)
    tracks = seen(path, placed(rng, 14), rng)
    return path, tracks, solved(tracks, path)


def test_a_wrong_track_among_few_is_told_by_leaving_it_out(walked):
    path, tracks, good = walked
    bad = solved(spoilt(tracks, [3]), path)
    assert not alone.findings(Evidence(good, Measures()))
    excluded = {track for track, state in zip(bad.tracks.ids.tolist(), bad.tracks.states) if state == EXCLUDED}
    told = {track for one in alone.findings(Evidence(bad, Measures())) for track in one.tracks}
    assert excluded | told == {int(tracks.ids[3])}
    apart = [(track, 0.2) for track in good.tracks.ids.tolist()]
    apart[5] = apart[5][0], 1.4
    (one,) = alone.findings(Evidence(replace(good, folds=replace(good.folds, each=tuple(apart))), Measures()))
    assert one.tracks == (apart[5][0],) and one.remedies[0].code == "exclude"
    assert "1.4 px off it" in one.text and "usual track is 0.2 px off" in one.text


def test_trials_are_judged_by_what_is_left_out_where_nothing_is_withheld(walked):
    path, tracks, good = walked
    bad = solved(spoilt(tracks, [2, 3, 4], px=0.8), path)
    better = compare(bad, good)
    assert better.verdict == BETTER and "left-out tracks went from" in better.words
    assert better.before.check_px > better.after.check_px
    assert compare(good, bad).verdict == WORSE
    assert compare(good, good).verdict == SAME
    unjudged = replace(good, folds=None)
    assert "Nothing can be said" in compare(unjudged, unjudged).words


@pytest.mark.parametrize("shape", ["plane", "sphere", "far", "once", "from then on"])
def test_what_few_tracks_tell_badly_is_said_or_set_aside(shape, rng):
    path, points = moving_camera(30, 700.0), placed(rng, 12)
    if shape == "plane":
        points[:, 2] = 8.0 + 0.3 * points[:, 0] + 0.2 * points[:, 1]
    elif shape == "sphere":
        points *= 8.0 / np.linalg.norm(points, axis=1, keepdims=True)
    elif shape == "far":
        points *= 1000.0
    tracks = seen(path, points, rng)
    if shape in ("once", "from then on"):
        rows = np.flatnonzero(tracks.track_of_sample == 4)
        xy = tracks.xy.copy()
        xy[rows[15] if shape == "once" else rows[15:]] += [5.0, 0.0]
        tracks = replace(tracks, xy=xy)
    solution = solved(tracks, path)
    off = abs(np.log(solution.path.lens.focal_px[0] / 700.0))
    assert off < max(4.0 * solution.focal_sigma_px / solution.path.lens.focal_px[0], 0.03)
    if shape == "far":
        assert solution.motion == NODAL
    if shape == "once":
        assert solution.outlier[rows[15]] and not solution.outlier[rows[:10]].any()
    if shape == "from then on":
        assert solution.tracks.states[4] == EXCLUDED or solution.outlier[rows[15:]].all()


def test_two_halves_without_a_common_frame_keep_one_of_them(rng):
    path = moving_camera(30, 700.0)
    halves = cut(seen(path, np.concatenate([placed(rng, 9), placed(rng, 9)]), rng), _half)
    solution = solved(halves, path)
    assert 10 <= len(solution.path.frames) <= 16


def _half(track, frames):
    return frames < 1016 if track < 9 else frames >= 1016


@pytest.mark.parametrize("count", [6, 10])
def test_few_tracks_on_one_plane_are_solved_as_one_where_that_is_asked(count):
    path, rng = moving_camera(30, 700.0), np.random.default_rng(0)
    across, down = np.linspace(-2.0, 2.0, count)[rng.permutation(count)], np.linspace(-1.2, 1.2, count)
    points = np.stack([across, down, np.zeros(count)], 1)
    points[:, 2] = 8.0 + 0.3 * points[:, 0] + 0.2 * points[:, 1]
    solution = solved(seen(path, points, rng), path, motion=PLANE, focal_px=700.0)
    assert solution.motion == PLANE and len(solution.path.frames) == 30
    found = solution.points.homogeneous[:, :3] / solution.points.homogeneous[:, 3:]
    flat = np.linalg.svd(found - found.mean(0))[1]
    assert flat[2] < 0.01 * flat[0]
    apart = placed(rng, 8)
    with pytest.raises(SolveError, match="do not lie on one plane"):
        solved(seen(path, apart, rng), path, motion=PLANE, focal_px=700.0)
