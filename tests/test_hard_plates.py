"""Following where it is hard: blur, grain, blank walls, tracks by hand, tags; against plates whose motion is known."""

import cv2
import numpy as np
import pytest
from pictures import Sliding, boards, calm, jolted

from amberkeel.core.errors import FollowError, PlateError
from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.follow.blur import SHARP, measure_blur
from amberkeel.core.follow.hand import ADAPTING, FIRST, LAST, HandSettings, Neighbours, follow_hand, match_score
from amberkeel.core.follow.motion import plate_motion
from amberkeel.core.follow.patch import AFFINE, MODELS, PERSPECTIVE, SIMILARITY, TRANSLATION, Patch, shifted
from amberkeel.core.follow.surface import follow_surface, surface_tracks
from amberkeel.core.follow.tags import find_tags, follow_tags
from amberkeel.core.geometry.homography import carried
from amberkeel.core.plate.copy import TrackingCopy, read_stack, stand_in
from amberkeel.core.sim import textures as tx

BURST = range(1012, 1018)


@pytest.fixture(scope="module")
def planks():
    return boards()


@pytest.fixture(scope="module")
def jolt(planks):
    return Sliding(planks, jolted)


@pytest.fixture(scope="module")
def blur(jolt):
    return dict(zip(jolt.frames.tolist(), measure_blur(jolt)))


def test_blur_is_measured_by_direction_and_length(jolt, blur):
    checked = 0
    for frame in jolt.frames.tolist():
        way = jolted(frame + 0.25) - jolted(frame - 0.25)
        true = float(np.hypot(*way))
        if true > 7.0:
            turn = (blur[frame].angle - np.arctan2(way[1], way[0]) + np.pi / 2) % np.pi - np.pi / 2
            assert abs(blur[frame].length / true - 1.0) < 0.35 and abs(np.degrees(turn)) < 12.0
            checked += 1
        elif true < 1.5:
            assert blur[frame] == SHARP
    assert checked >= 3


def test_features_are_bridged_over_a_burst_and_their_noise_is_raised(jolt, blur):
    tracks = follow_plate(jolt, FollowSettings(DetectSettings(count=150)))
    own = tracks.track_of_sample
    over = [
        t
        for t in range(len(tracks))
        if tracks.frames[tracks.first[t]] < 1010 and tracks.frames[tracks.first[t + 1] - 1] > 1020
    ]
    assert len(over) >= 60
    live = np.bincount(tracks.frames - 1001, minlength=30)
    assert live.min() >= 30
    start = tracks.xy[tracks.first[own]]
    born = tracks.frames[tracks.first[own]]
    true = start + np.array([jolted(b) - jolted(f) for b, f in zip(born, tracks.frames)])
    miss = np.abs(tracks.xy - true).max(1)
    hard = np.isin(tracks.frames, [f for f in BURST if blur[f].length > 6])
    assert np.median(miss[~hard]) < 0.1 and np.percentile(miss[~hard], 95) < 0.6
    assert np.median(miss[hard]) < 1.0
    assert np.median(tracks.sigma[hard]) > 2.0 * np.median(tracks.sigma[~hard])


def test_the_plates_motion_is_a_start_for_large_steps(planks):
    plate = Sliding(
        planks, lambda t: (40.0 + 55.0 * (t - 1001), 60.0 + 30.0 * (t - 1001)), range(1001, 1004), shutter=0.1
    )
    move = plate_motion(plate.gray(1001), plate.gray(1002))
    assert np.abs(carried(move, np.array([[240.0, 135.0]]))[0] - [185.0, 105.0]).max() < 2.0


@pytest.mark.parametrize("model", [TRANSLATION, SIMILARITY, AFFINE, PERSPECTIVE])
def test_a_patch_finds_every_motion_of_its_model(planks, model):
    image = cv2.GaussianBlur(cv2.cvtColor(planks, cv2.COLOR_RGB2GRAY), (0, 0), 1.0)
    true = shifted(403.3, 371.6)
    if model != TRANSLATION:
        true = true @ np.array([[1.06, -0.08, 0], [0.08, 1.06, 0], [0, 0, 1.0]])
    if model in (AFFINE, PERSPECTIVE):
        true = true @ np.array([[1.0, 0.06, 0], [0, 0.95, 0], [0, 0, 1.0]])
    if model == PERSPECTIVE:
        true = true @ np.array([[1.0, 0, 0], [0, 1.0, 0], [6e-4, -4e-4, 1.0]])
    half = 21
    grid = np.stack(np.meshgrid(np.arange(-60, 61.0), np.arange(-60, 61.0)), -1).reshape(-1, 2)
    positions = carried(true, grid).reshape(121, 121, 2).astype(np.float32) - 0.5
    seen = cv2.remap(image.astype(np.float32), positions[..., 0], positions[..., 1], cv2.INTER_CUBIC)
    patch = Patch(seen, 60.5, 60.5, (half, half), model)
    fit = patch.fit(image, shifted(402.0, 372.4))
    assert fit.ok and fit.score > 0.98
    assert np.abs(fit.position() - [403.3, 371.6]).max() < 0.06
    corner = np.array([[half, half]], float)
    assert np.abs(carried(fit.warp, corner) - carried(true, corner)).max() < 0.3
    assert fit.covariance.shape == (len(MODELS[model]),) * 2


def test_a_patch_knows_its_own_noise(planks, rng):
    image = cv2.cvtColor(planks, cv2.COLOR_RGB2GRAY).astype(float)
    patch = Patch(image, 300.5, 412.5, (10, 10), SIMILARITY)
    fits = [patch.fit(image + rng.normal(0, 5.0, image.shape), shifted(300.6, 412.4)) for _ in range(40)]
    miss = np.array([f.position() - [300.5, 412.5] for f in fits])
    sigma = np.array([np.sqrt(np.diag(f.covariance)[:2]) for f in fits])
    # The reference is without noise here, and half of the residual is taken to be the reference's.
    assert 0.6 < np.sqrt((miss**2).mean()) / (np.sqrt(2.0) * sigma.mean()) < 1.7


def by_hand(plate, keys, start, stop, blur=None, masked=None, **settings):
    motion_blur = (lambda f: blur[f]) if blur else (lambda f: SHARP)
    return follow_hand(
        plate.gray, keys, start, stop, HandSettings(**settings), Neighbours(plate.gray), motion_blur, masked
    )


def test_a_track_by_hand_goes_both_ways_through_blur(jolt, blur):
    for stop in (1028, 1001):
        run = by_hand(jolt, {1008: (200.0, 140.0)}, 1008, stop, blur, search=(30, 30))
        assert run.reached == stop and not run.lost
        for frame, (x, y, sigma, score) in run.samples.items():
            away = np.abs(np.array([x, y]) - jolt.true_place(frame, (200.0, 140.0), 1008)).max()
            assert away < (0.12 if not blur[frame].length else 1.2), frame
            assert 0.0 < sigma < 1.5 and score > 0.75


def test_keys_on_the_way_are_kept_and_gone_through(planks):
    plate = Sliding(planks, calm, range(1001, 1016))
    first, moved = (200.0, 140.0), plate.true_place(1008, (240.0, 150.0), 1001)
    for reference in (FIRST, LAST, ADAPTING):
        run = by_hand(
            plate,
            {1001: first, 1008: tuple(moved)},
            1001,
            1015,
            reference=reference,
            patience=0 if reference == FIRST else 6,
        )
        assert run.samples[1008][:2] == pytest.approx(tuple(moved))
        assert np.abs(np.array(run.samples[1007][:2]) - plate.true_place(1007, first, 1001)).max() < 0.1
        if reference != FIRST:
            assert np.abs(np.array(run.samples[1015][:2]) - plate.true_place(1015, moved, 1008)).max() < 0.1
    spot = by_hand(plate, {1001: first}, 1001, 1010, offset=(14.0, -6.0), model=TRANSLATION)
    assert np.abs(np.array(spot.samples[1010][:2]) - plate.true_place(1010, first, 1001)).max() < 0.1
    fit = match_score(
        plate.gray(1001), plate.gray(1004), first, tuple(plate.true_place(1004, first, 1001) + 0.6), HandSettings()
    )
    assert fit.score > 0.97 and np.abs(fit.position() - plate.true_place(1004, first, 1001)).max() < 0.1


def test_a_track_waits_behind_an_obstacle_and_ends_at_a_mask(planks):
    def post(picture, frame):
        picture[:, 180:216] = 90.0 + 20.0 * ((np.arange(270) // 9) % 2)[:, None, None]

    plate = Sliding(planks, lambda t: (60.0 + 4.0 * (t - 1001), 90.0), range(1001, 1031), stain=post)
    run = by_hand(plate, {1001: (240.0, 140.0)}, 1001, 1030, patience=20)
    hidden = [f for f in range(1001, 1031) if 175 < 240 - 4 * (f - 1001) < 221]
    assert not run.lost and 1030 in run.samples
    assert np.abs(np.array(run.samples[1030][:2]) - plate.true_place(1030, (240.0, 140.0), 1001)).max() < 0.2
    assert not {f for f in hidden[2:-2]} & set(run.samples)
    short = by_hand(plate, {1001: (240.0, 140.0)}, 1001, 1030, patience=2)
    assert short.reached < hidden[4] and "Lost after frame" in short.lost
    mask = np.zeros((270, 480), bool)
    mask[:, :233] = True
    stopped = by_hand(plate, {1001: (240.0, 140.0)}, 1001, 1030, patience=0, masked=lambda f: mask)
    assert "mask" in stopped.lost and stopped.reached < 1006


@pytest.mark.parametrize(
    ("keys", "settings", "words"),
    [
        ({1005: (200, 140)}, {}, "no key on frame 1001"),
        ({1001: (200, 140)}, {"search": (6, 6)}, "search area is smaller"),
        ({1001: (3, 140)}, {}, "out of the picture"),
        ({1001: (200, 140)}, {"model": "elastic"}, "no patch motion"),
        ({1001: (200, 140)}, {"reference": "best"}, "no reference"),
    ],
)  # fmt: skip
def test_what_cannot_be_followed_by_hand_says_why(planks, keys, settings, words):
    with pytest.raises(FollowError, match=words):
        by_hand(Sliding(planks, calm, range(1001, 1004)), keys, 1001, 1003, **settings)


def test_a_blank_wall_is_followed_as_a_surface(rng):
    wall = np.clip(118.0 + 6.0 * tx.fractal(rng, 2.6), 0, 255).astype(np.uint8)
    plate = Sliding(np.repeat(wall[..., None], 3, 2), calm, range(1001, 1016), grain=1.5)
    with pytest.raises(FollowError, match="hardly any texture"):
        follow_plate(plate, FollowSettings(DetectSettings(threshold=0.02)))
    outline = np.array([[120, 60], [340, 70], [330, 220], [110, 210]], float)
    run = follow_surface(plate.gray, outline, 1005, (1015, 1001), (4, 3), Neighbours(plate.gray))
    assert not run.lost and sorted(run.warps) == list(range(1001, 1016))
    tracks = surface_tracks(run, "wall")
    assert tracks.names[0] == "wall.01" and len(tracks) >= 8
    for t in range(len(tracks)):
        r = tracks.rows(t)
        true = np.array([plate.true_place(f, run.positions[t], 1005) for f in tracks.frames[r]])
        assert np.abs(tracks.xy[r] - true).max() < 0.6
    fine = follow_surface(plate.gray, outline, 1005, (1006,), (9, 8))
    assert np.median(fine.sigmas[1006]) > 1.5 * np.median(run.sigmas[1006])
    for bad, words in ((outline * 0.05, "smaller"), (outline + 300, "out of the picture")):
        with pytest.raises(FollowError, match=words):
            follow_surface(plate.gray, bad, 1005, (1006,))


def with_tags(picture, tags):
    out = picture.copy()
    for number, x, y, side in tags:
        sheet = np.full((side + side // 3, side + side // 3, 3), 205, np.uint8)
        square = cv2.aruco.generateImageMarker(
            cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_APRILTAG_36h11), number, side
        )
        at = (sheet.shape[0] - side) // 2
        sheet[at : at + side, at : at + side] = np.where(square > 127, 205, 22)[..., None]
        out[y - at : y - at + len(sheet), x - at : x - at + len(sheet)] = sheet
    light = cv2.GaussianBlur((out / 255.0) ** 2.2, (0, 0), 0.7)
    return np.round(255.0 * light ** (1 / 2.2)).astype(np.uint8)


def test_tags_keep_their_names_and_their_corners_are_exact(planks):
    tags = [(7, 140, 150, 48), (42, 300, 170, 64), (11, 420, 230, 24)]
    plate = Sliding(with_tags(planks, tags), calm, range(1001, 1009), shutter=0.2)
    tracks, reports = follow_tags(plate, "36h11", corners=True)
    assert [r.name for r in reports] == ["36h11-0007", "36h11-0011", "36h11-0042"]
    assert "36h11-0042.3" in tracks.names and "36h11-0011.1" not in tracks.names and set(tracks.kinds) == {"tag"}
    assert "small" in reports[1].warnings[0] and not reports[2].warnings
    for number, x, y, side in tags[:2]:
        corners = np.array([[x, y], [x + side, y], [x + side, y + side], [x, y + side]], float)
        for k in range(4):
            r = tracks.rows(tracks.names.index(f"36h11-{number:04d}.{k + 1}"))
            true = np.array([corners[k] - calm(f) for f in tracks.frames[r]])
            assert np.sqrt(((tracks.xy[r] - true) ** 2).mean()) < 0.1
    bright = Sliding(
        np.clip(with_tags(planks, tags).astype(int) * 2, 0, 255).astype(np.uint8), calm, range(1001, 1005), shutter=0.2
    )
    assert any("blown out" in w for r in follow_tags(bright, "36h11")[1] for w in r.warnings)
    with pytest.raises(FollowError, match="no tag family"):
        find_tags(plate.gray(1001), "99h9")


def test_no_tag_is_seen_where_there_is_none(plate):
    for family in ("36h11", "25h9", "16h5"):
        tracks, reports = follow_tags(plate, family)
        assert len(tracks) == 0 and reports == []


def test_a_tracking_copy_changes_what_is_followed_and_nothing_else(planks, rng):
    plate = Sliding(planks, calm, range(1001, 1010), grain=9.0, shutter=0.1)
    clean = Sliding(planks, calm, range(1001, 1010), grain=0.0, shutter=0.1)
    level = TrackingCopy(
        plate, read_stack([{"name": "levels", "figures": {"black": 90, "white": 240}}, {"name": "blur", "on": False}])
    )
    assert level.gray(1003).std() > 1.4 * plate.gray(1003).std() and np.array_equal(level.read(1003), plate.read(1003))
    inner = (slice(20, -20), slice(20, -20))

    def noise(stack):
        shown, ideal = TrackingCopy(plate, read_stack(stack)).gray(1005), TrackingCopy(clean, read_stack([])).gray(1005)
        return float(np.std(shown[inner].astype(float) - ideal[inner]))

    plain = noise([])
    assert noise([{"name": "denoise over time", "figures": {"frames": 3, "strength": 40}}]) < 0.6 * plain
    assert noise([{"name": "denoise, keep edges", "figures": {"strength": 40, "radius": 2}}]) < 0.8 * plain
    red = TrackingCopy(plate, read_stack([{"name": "channels", "figures": {"red": 1, "green": 0, "blue": 0}}]))
    assert np.abs(red.gray(1001).astype(int) - plate.read(1001)[..., 0]).max() <= 1
    crop = TrackingCopy(plate, read_stack([{"name": "crop", "figures": {"top": 30, "left": 10}}]))
    assert (
        crop.outside()[:30].all()
        and crop.outside()[:, :10].all()
        and not crop.outside()[30:, 10:].any()
        and level.outside() is None
    )
    curve = TrackingCopy(clean, read_stack([{"name": "contrast", "figures": {"middle": 60}}])).gray(1001)
    order = np.argsort(clean.gray(1001).ravel(), kind="stable")
    assert (np.diff(curve.ravel()[order].astype(int)) >= -1).all()
    for bad, words in (
        ({"name": "sparkle"}, "no operation"),
        ({"name": "blur", "figures": {"radius": 900}}, "out of range"),
    ):
        with pytest.raises(PlateError, match=words):
            read_stack([bad])
    with pytest.raises(PlateError, match="leaves nothing"):
        TrackingCopy(plate, read_stack([{"name": "crop", "figures": {"top": 200, "bottom": 100}}]))


def test_replaced_images_must_fit_the_plate(plate, plate_folder, tmp_path):
    assert stand_in(plate, plate_folder / "mattes").name == plate.name
    for name in sorted((plate_folder / "plate").iterdir())[2:9]:
        cv2.imwrite(str(tmp_path / name.name), cv2.resize(cv2.imread(str(name)), (320, 180)))
    with pytest.raises(PlateError, match="320x180.*run 1003-1009"):
        stand_in(plate, tmp_path)


def test_a_grainy_plate_is_followed_with_larger_patches(planks):
    calm_plate = Sliding(planks, calm, range(1001, 1013), grain=6.0)
    tracks = follow_plate(calm_plate, FollowSettings(DetectSettings(count=80)))
    assert len(tracks) >= 40
    errors = []
    for t in range(len(tracks)):
        r = tracks.rows(t)
        true = np.array([calm_plate.true_place(f, tracks.xy[r][0], tracks.frames[r][0]) for f in tracks.frames[r]])
        miss = tracks.xy[r] - true
        errors.append(np.sqrt(((miss - np.median(miss, 0)) ** 2).mean()))
    assert np.median(errors) < 0.2
    assert 0.4 < np.median(errors) / np.median(tracks.sigma) < 1.6
