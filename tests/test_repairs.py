"""Remedies carried out on solves, held against the simulator's truth, and the loop that keeps what helps."""

from dataclasses import replace

import numpy as np
import pytest
from plates import rendered, simulated

from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.evidence import Evidence, Measures
from amberkeel.core.diagnose.finding import Remedy, finding_document, read_finding
from amberkeel.core.diagnose.path import channels_of, spikes
from amberkeel.core.diagnose.pose_noise import pose_sigmas
from amberkeel.core.errors import SolveError
from amberkeel.core.follow import follow_plate
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.repair.compare import BETTER, FOOLED, SAME, WORSE, compare
from amberkeel.core.repair.drawn import draw_along
from amberkeel.core.repair.exposure import EVEN, INSTANTS, STILL, Motion
from amberkeel.core.repair.improve import BY_HAND, ORDER, improve
from amberkeel.core.repair.limit import Limit, over_limit
from amberkeel.core.repair.remedies import REMEDIES, Ground, added, carry_out, without
from amberkeel.core.repair.smooth import ALL, bridged, smoothed
from amberkeel.core.sim.render import surface_points, truth
from amberkeel.core.solve.compare_paths import path_difference
from amberkeel.core.solve.resume import resumed
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import CHECK, EXCLUDED
from amberkeel.core.world.true_slip import slip_px
from benchmarks import diagnosis, repairs


@pytest.fixture(scope="module")
def run_shot():
    """SKL_050's beginning, with its first burst of blur, at a small size."""
    return simulated("run")


@pytest.fixture(scope="module")
def run_solved(once):
    """Its plate, and its camera solved."""
    plate = open_plate(rendered(once, "run") / "plate")
    return plate, solve_tracks(follow_plate(plate), plate.frames, plate.width, plate.height)


def test_blurred_frames_are_measured_anew_at_mid_shutter(run_shot, run_solved):
    plate, solution = run_solved
    true, seen = truth(run_shot), surface_points(run_shot, 200)

    def slip(path):
        return float(np.sqrt(np.nanmean(slip_px(path, true, *seen) ** 2)))

    outcome = carry_out(Ground(solution, plate.frames, plate), Remedy("through-blur", "Measure"))
    assert slip(outcome.solution.path) < 0.7 * slip(solution.path)
    said = compare(solution, outcome.solution, outcome.proof)
    assert said.verdict == BETTER and "The pictures themselves tell" in said.words
    share = float(outcome.proof.split("open for ")[1].split(" %")[0])
    assert abs(share - 100 * run_shot.shutter) < 12.0
    with pytest.raises(SolveError, match="pictures"):
        carry_out(Ground(solution, plate.frames), Remedy("through-blur", "Measure"))


def test_frames_that_led_tracks_astray_are_measured_again(run_solved):
    plate, solution = run_solved
    chance, tracks, struck = np.random.default_rng(4), solution.tracks, (1009, 1010)
    on = np.isin(tracks.frames, struck)
    gone = on & (chance.random(len(on)) < 0.4)
    off = tracks.xy + chance.normal(0.0, 2.0, tracks.xy.shape)
    owner = tracks.ids[tracks.track_of_sample]
    cuts = tuple((int(owner[k]), int(tracks.frames[k]), int(tracks.frames[k])) for k in np.nonzero(gone)[0])
    astray = without(replace(tracks, xy=np.where(on[:, None], off, tracks.xy)), cuts)
    bad = solve_tracks(astray, plate.frames, plate.width, plate.height, solution.recipe)
    assert not np.isin(struck, bad.path.frames).any()
    again = carry_out(Ground(bad, plate.frames, plate), Remedy("again", "Measure again", frames=struck)).solution
    assert np.isin(struck, again.path.frames).all()
    anew = np.isin(again.tracks.frames, struck)
    assert anew.sum() > 0.9 * on.sum() > (on & ~gone).sum()
    was = {(i, f): xy for i, f, xy in zip(owner[on], tracks.frames[on], tracks.xy[on])}
    found = zip(again.tracks.ids[again.tracks.track_of_sample[anew]], again.tracks.frames[anew], again.tracks.xy[anew])
    apart = [np.linalg.norm(xy - was[i, f]) for i, f, xy in found if (i, f) in was]
    assert len(apart) > 0.8 * on.sum() and np.median(apart) < 0.12
    with pytest.raises(SolveError, match="No camera was solved"):
        carry_out(Ground(bad, plate.frames, plate), Remedy("again", "Measure again", frames=(3,)))


def test_a_motion_with_known_rates_bends_as_the_true_one(run_shot):
    path, times = truth(run_shot), np.linspace(-0.3, 0.3, INSTANTS)
    spline = Motion(path)
    step = 1e-3
    true_rate = np.array([(_turn(run_shot, f + step) - _turn(run_shot, f - step)) / (2 * step) for f in path.frames])
    own = np.array([spline.turn_rate(k) for k in range(len(path.frames))])
    known = Motion(path, true_rate - own)
    for frame in (1019, 1020, 1022):
        row = path.index_of(frame)
        base = path.world_from_camera[row]
        true = run_shot.move.poses(frame + times)[1]
        worst = [np.abs(motion.poses(row, times)[1] - true).max() for motion in (spline, known)]
        assert worst[1] < 4e-4 and worst[1] <= worst[0] + 1e-5
        assert np.allclose(known.poses(row, np.zeros(1))[1][0], base)
    still = replace(known, ways=np.full(len(path.frames), STILL))
    even = replace(known, ways=np.full(len(path.frames), EVEN))
    row = path.index_of(1020)
    assert np.allclose(even.poses(row, np.array([-1.0, 1.0]))[0], path.positions[[row - 1, row + 1]])
    assert still.streaks(np.array([[0.0, 1.0, -8.0]]), row, 0.6).shape == (1, INSTANTS, 2)


def _turn(shot, time):
    """The camera's turn at a time about the frame nearest to it, in that frame's own axes."""
    from scipy.spatial.transform import Rotation

    frame = float(np.round(time))
    base, now = shot.move.poses(np.array([frame, time]))[1]
    return Rotation.from_matrix(base.T @ now).as_rotvec()


def test_a_patch_drawn_along_a_way_is_the_mean_of_shifted_ones(rng):
    import cv2

    image = cv2.GaussianBlur(rng.uniform(0, 255, (80, 90)).astype(np.float32), (0, 0), 3.0)
    half, way = 10, np.stack([np.linspace(-3.0, 3.0, INSTANTS), np.zeros(INSTANTS)], 1)[None]
    sheet = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    draw_along(image, np.array([[40.5, 38.5]]), way, np.eye(2)[None], half, sheet)
    shifts = np.linspace(-3.0, 3.0, 241)
    x = np.arange(30, 51)
    rows = [[np.interp(x - s, np.arange(90), image[y]) for s in shifts] for y in range(28, 49)]
    assert np.abs(sheet - np.array(rows).mean(1)).max() < 1.0


def test_cuts_and_exclusions_change_only_what_they_name(solution, plate):
    ground = Ground(solution, plate.frames)
    used = [int(i) for i, s in zip(solution.tracks.ids, solution.tracks.states) if s == "active"][:3]
    outcome = carry_out(ground, Remedy("exclude", "Exclude", tuple(used)))
    states = dict(zip(outcome.solution.tracks.ids.tolist(), outcome.solution.tracks.states))
    assert all(states[i] == EXCLUDED and i not in outcome.solution.reasons for i in used)
    row = int((solution.tracks.ids == used[0]).argmax())
    frames = solution.tracks.frames[solution.tracks.rows(row)]
    cut = without(ground.tracks, ((used[0], int(frames[0]), int(frames[1])),))
    assert cut.lengths[row] == solution.tracks.lengths[row] - 2 and len(cut.frames) == len(solution.tracks.frames) - 2
    whole = without(ground.tracks, ((used[0], int(frames[0]), int(frames[-1])),))
    assert whole.states[row] == EXCLUDED and whole.lengths[row] == solution.tracks.lengths[row]
    with pytest.raises(SolveError, match="advice"):
        carry_out(ground, Remedy("advice", "Look at it"))
    assert set(ORDER) | set(BY_HAND) == set(REMEDIES)


def test_deleting_the_worst_lowers_the_number_and_is_seen_through(solution, plate):
    used = np.array([s == "active" for s in solution.tracks.states])
    worst = solution.tracks.ids[used][np.argsort(-solution.track_rms[used])[: used.sum() // 4]]
    after = carry_out(Ground(solution, plate.frames), Remedy("exclude", "Exclude", tuple(map(int, worst)))).solution
    said = compare(solution, after)
    assert after.rms_px < 0.95 * solution.rms_px and said.verdict in (FOOLED, WORSE)
    assert said.before.observations > said.after.observations and len(said.frames) == len(said.before_rms)
    assert compare(solution, solution).verdict == SAME
    short = replace(solution, path=solution.path.taken(np.arange(30)), shifts=None)
    assert compare(solution, short).words.startswith("Worse: 10 frames lost")
    blind = replace(solution, tracks=replace(solution.tracks, states=["active"] * len(solution.tracks)))
    assert "only 0 check tracks" in compare(blind, blind).words


def test_a_limit_says_what_goes_and_spares_thin_frames(solution, plate):
    over = over_limit(solution, Limit(3.0))
    assert over.measurements and not over.luck and 0.0 < over.share < 0.5
    tighter = over_limit(solution, Limit(1.0))
    assert tighter.luck and tighter.measurements > over.measurements
    own = solution.tracks.ids[solution.tracks.in_state("active")]
    assert {t for t, *_ in over.cuts} | set(over.tracks) <= set(own.tolist())
    assert over_limit(solution, Limit(1e3, "px", 0)).measurements == 0
    few = replace(
        solution,
        tracks=replace(
            solution.tracks,
            states=[s if k % 12 == 0 else EXCLUDED for k, s in enumerate(solution.tracks.states)],
        ),
    )
    assert over_limit(few, Limit(1.5)).spared
    for limit, words in ((Limit(0.0), "impossible"), (Limit(2.0, "miles"), "unit"), (Limit(1e-6, "px"), "no track")):
        with pytest.raises(SolveError, match=words):
            over_limit(solution, limit)
    after = carry_out(Ground(solution, plate.frames), Remedy("limit", "Cut", word="3.0 sigma 0")).solution
    assert len(after.tracks.frames) < len(solution.tracks.frames) and after.rms_px <= solution.rms_px


def test_spikes_are_found_where_they_were_put_and_bridged():
    tried = [repairs.spiked(seed) for seed in (1, 2, 3)]
    put, found, beside = (sum(one[k] for one in tried) for k in range(3))
    shares = [share for one in tried for share in one[3]]
    assert found >= 0.75 * put and beside <= 2
    assert np.median(shares) < 1.2
    solution, _ = repairs.solved(4)
    path = solution.path
    frames = path.frames
    assert not [s for s in spikes(path, pose_sigmas(Evidence(solution, Measures()))) if s.sigmas > 6.0]
    both = bridged(solution, (int(frames[20]), int(frames[21])), ALL)
    moved = np.abs(channels_of(both.path) - channels_of(path)).max(1) > 0
    assert set(np.nonzero(moved)[0]) <= {20, 21}
    refused = (frames[:1], "nothing on one side"), (np.array([1]), "None of these"), (frames[1:-1], "Too few")
    for chosen, words in refused:
        with pytest.raises(SolveError, match=words):
            bridged(solution, tuple(int(f) for f in chosen))


def test_smoothing_takes_jitter_away_and_aims_again():
    shaken, calm, before, after = repairs.jittery(5)
    assert shaken > 4.0 * calm and after < before + 0.05
    solution, _ = repairs.solved(6)
    frames = tuple(int(f) for f in solution.path.frames[10:20])
    part = smoothed(solution, 2.0, frames)
    moved = np.linalg.norm(part.path.positions - solution.path.positions, axis=1) > 1e-12
    assert moved[10:20].any() and not moved[:3].any() and not moved[-12:].any()
    for strength in (0.0, 1e3):
        with pytest.raises(SolveError, match="impossible"):
            smoothed(solution, strength)


def test_a_resumed_solution_is_the_same_problem(solution):
    problem, freedom = resumed(solution)
    assert "focal" in freedom.lens and problem.solved.all()
    assert np.isclose(problem.lens.focal, solution.path.lens.focal_px[0])
    rows = np.arange(0, 40, 2)
    half, _ = resumed(solution, 60, rows=rows)
    assert half.active.sum() <= 60 and len(half.frames) == 20


def test_the_loop_keeps_what_helps_and_stops():
    made = diagnosis.scene(11)
    diagnosis.distortion(made)
    tracks = diagnosis._observed(made)
    solution = solve_tracks(tracks, made.path.frames, diagnosis.WIDTH, diagnosis.HEIGHT, made.recipe)
    found = diagnose(solution)
    assert [read_finding(finding_document(one)) for one in found] == found
    seen = []
    best = improve(Ground(solution, made.path.frames), "quick", told=lambda trial, _: seen.append(trial))
    kept = [trial for trial in best.trials if trial.kept]
    assert kept[0].remedy.code == "distortion" and seen == list(best.trials) and len(best.trials) <= 3
    focal = diagnosis.FOCAL
    assert abs(best.solution.path.lens.focal_px[0] - focal) < abs(solution.path.lens.focal_px[0] - focal)
    assert "distorts" not in [one.kind for one in best.findings]


def test_more_features_are_added_beside_no_others(tracks):
    half = tracks.take(np.arange(0, len(tracks), 2))
    more = added(half, tracks, 4.0)
    assert len(half) < len(more) <= len(tracks) and len(set(more.names)) == len(more) == len(set(more.ids.tolist()))
    assert more.names[: len(half)] == half.names
    here = added(half, tracks, 4.0, (1001,))
    assert all(1001 in here.frames[here.rows(t)] for t in range(len(half), len(here)))


def test_paths_after_repairs_stay_those_of_their_tracks(solution):
    calm = smoothed(solution, 1.0)
    assert path_difference(solution.path, calm.path).position_share < 0.01
    assert calm.tracks.states.count(CHECK) == solution.tracks.states.count(CHECK)
