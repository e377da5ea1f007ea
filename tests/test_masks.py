"""Masks in core: outlines and their motion, pictures of them, carrying, what moves, samples, mattes in and out."""

import cv2
import numpy as np
import OpenImageIO as oiio
import pytest

from amberkeel.core.errors import MaskError
from amberkeel.core.follow.gaps import part_wrong_resumes
from amberkeel.core.geometry.background import FREE, PLANAR, TURNING, fit_background
from amberkeel.core.masks.carry import BENDING, MODELS, SIMILARITY, carry
from amberkeel.core.masks.cues import CueReader
from amberkeel.core.masks.mattes import bring_in, trace, write_mattes
from amberkeel.core.masks.moving import what_moves
from amberkeel.core.masks.proposal import MOVING
from amberkeel.core.masks.raster import combine, covered, fill, grow
from amberkeel.core.masks.rigid import dense_residuals, scaled
from amberkeel.core.masks.samples import Cleaning, Learned, Sample, clean
from amberkeel.core.masks.shape import (
    FOLLOWED,
    KEEP,
    Key,
    Shape,
    area,
    blend,
    check_key,
    crosses_itself,
    flatten,
    keys_to_json,
    points_at,
    polygon,
    shape_from_json,
    smooth,
)
from amberkeel.core.pictures.read import read_matte
from amberkeel.core.plate.plate import matte_reader
from amberkeel.core.tracks import from_pieces
from tests.simulated import Pictures, cloud, moving_camera, observe

SQUARE = np.array([[10.0, 10.0], [50.0, 10.0], [50.0, 40.0], [10.0, 40.0]])


def iou(a, b):
    return (a & b).sum() / max((a | b).sum(), 1)


def textured(rng, height=240, width=320, cell=6):
    small = rng.integers(40, 220, (height // cell + 2, width // cell + 2, 3)).astype(np.uint8)
    return cv2.resize(small, (width, height), interpolation=cv2.INTER_CUBIC)


# outlines


def test_a_turning_shape_keeps_its_size_between_keys():
    turned = (SQUARE - SQUARE.mean(0)) @ np.array([[-1.0, 0.0], [0.0, -1.0]]).T + SQUARE.mean(0) + [30, 0]
    a, b = polygon(SQUARE), polygon(turned)
    for share in (0.25, 0.5, 0.75):
        assert area(flatten(blend(a, b, share))) == pytest.approx(area(SQUARE), rel=1e-9)
    assert np.allclose(blend(a, b, 0.0), a) and np.allclose(blend(a, b, 1.0), b)


def test_keys_hold_exactly_and_ends_stand_still(rng):
    keys = {f: Key(smooth(SQUARE + rng.normal(0, 3, (4, 2)))) for f in (1001, 1010, 1020)}
    shape = Shape(keys, first=1003, last=1015)
    for frame, key in keys.items():
        assert np.allclose(points_at(shape, frame), key.points, atol=1e-9)
    assert np.allclose(points_at(shape, 990), keys[1001].points) and np.allclose(
        points_at(shape, 1100), keys[1020].points
    )
    assert not shape.alive(1002) and shape.alive(1003) and not shape.alive(1016)
    again = shape_from_json({"keys": keys_to_json(keys), "first": 1003, "last": 1015})
    assert np.allclose(points_at(again, 1013), points_at(shape, 1013), atol=2e-3)


def test_a_smooth_curve_runs_through_its_points_and_corners_stay_straight():
    assert np.allclose(flatten(smooth(SQUARE))[::10], SQUARE)
    assert len(flatten(polygon(SQUARE))) == 4
    circle = smooth(50 + 20 * np.stack([np.cos(t := np.arange(8) * np.pi / 4), np.sin(t)], 1))
    assert abs(area(flatten(circle))) == pytest.approx(np.pi * 400, rel=0.02)


@pytest.mark.parametrize(
    "points, words",
    [
        (SQUARE[:2], "three points"),
        (SQUARE[[0, 2, 1, 3]], "crosses itself"),
        (SQUARE + 1000, "outside the picture"),
        (SQUARE * [1, 0] + [0, 20], "no area"),
        (SQUARE * np.nan, "not numbers"),
        (np.stack([np.cos(t := np.linspace(0, 6.28, 500)), np.sin(t)], 1) * 50 + 60, "may have 400"),
    ],
)
def test_bad_shapes_get_a_sentence(points, words):
    with pytest.raises(MaskError, match=words):
        check_key(polygon(points), 640, 360)


def test_crossing_is_told_from_touching_neighbours():
    assert not crosses_itself(SQUARE) and crosses_itself(SQUARE[[0, 2, 1, 3]])


# pictures of masks


def test_filling_agrees_with_the_area_and_counts_pixel_centres_at_a_half():
    assert fill(SQUARE, 60, 80).sum() == pytest.approx(area(SQUARE), rel=0.08)
    one = fill(np.array([[20.0, 20.0], [21.0, 20.0], [21.0, 21.0], [20.0, 21.0]]), 60, 80)
    assert one[20, 20]


def test_growing_and_shrinking_by_pixels():
    base = fill(SQUARE, 80, 100)
    wide, narrow = grow(base, 5), grow(base, -5)
    assert (narrow <= base).all() and (base <= wide).all()
    rows, columns = np.nonzero(wide)
    assert columns.min() == pytest.approx(5, abs=1) and rows.max() == pytest.approx(45, abs=1)
    assert grow(base, 0.2) is base


def test_shapes_to_ignore_and_to_keep_are_combined():
    ignore = Shape({1: Key(polygon(SQUARE))}, margin=3, last=5)
    keep = Shape({1: Key(polygon(SQUARE + [20, 0]))}, purpose=KEEP)
    masked = combine([ignore, keep], [lambda f: None], 60, 100)
    assert masked(1)[20, 30] and not masked(1)[20, 60] and masked(1)[5, 90]
    assert not masked(6)[20, 40]
    matte = np.zeros((60, 100), bool)
    matte[0:5] = True
    assert combine([], [lambda f: matte], 60, 100)(1)[2, 50]
    assert covered(masked(1), np.array([[30.0, 20.0], [60.0, 20.0]])).tolist() == [True, False]


def test_cleaning_drops_specks_fills_holes_and_grows():
    mask = np.zeros((100, 100), bool)
    mask[20:60, 20:60] = True
    mask[35:40, 35:40] = False
    mask[90:93, 90:93] = True
    tidy = clean(mask, Cleaning(0, 50, True))
    assert tidy[37, 37] and not tidy[91, 91] and tidy.sum() == 1600
    assert not clean(mask, Cleaning(0, 50, False))[37, 37]
    assert clean(mask, Cleaning(4, 50, True)).sum() > 1600 > clean(mask, Cleaning(-4, 50, True)).sum()


# carrying


@pytest.mark.parametrize("model", [m for m in MODELS if m != BENDING])
@pytest.mark.parametrize("size", [30, 150])
def test_a_shape_follows_its_subject_over_a_moving_background(rng, model, size):
    background, subject = textured(rng, 340, 480), textured(rng, 170, 170, 5)[:size, :size]
    pictures, centres = [], []
    for k in range(16):
        picture = np.roll(background, (k, -2 * k), (0, 1))[:240, :320].copy()
        angle = 1.2 * k if model != "translation" else 0.0
        scale = 1.01**k if model != "translation" else 1.0
        x, y = 30 + size / 2 + 6.3 * k, 40 + size / 2 + 1.7 * k
        turn = cv2.getRotationMatrix2D((size / 2 - 0.5, size / 2 - 0.5), angle, scale)
        turn[:, 2] += [x - size / 2, y - size / 2]
        alpha = cv2.warpAffine(np.ones((size, size), np.float32), turn, (320, 240))[..., None]
        moved = cv2.warpAffine(subject, turn, (320, 240))
        pictures.append(
            np.clip(picture * (1 - alpha) + moved * alpha + rng.normal(0, 1.5, picture.shape), 0, 255).astype(np.uint8)
        )
        corners = (np.array([[0, 0], [size, 0], [size, size], [0, size]]) - 0.5) @ turn[:, :2].T + turn[:, 2] + 0.5
        centres.append(corners)
    shape = Shape({1: Key(polygon(centres[0]))})
    done = carry(Pictures(pictures), shape, 1, 16, model)
    assert done.lost == "" and done.reached == 16 and done.keys[8].by == FOLLOWED and done.keys[8].confidence > 0.5
    for k in (4, 9, 15):
        found, true = (fill(c, 240, 320) for c in (flatten(done.keys[k + 1].points), centres[k]))
        assert iou(found, true) > (0.85 if size > 50 else 0.75), (model, k)


def test_following_keeps_hand_keys_and_bends_towards_them(rng):
    background, subject = textured(rng), textured(rng, 60, 60, 5)
    pictures = []
    for k in range(12):
        picture = background.copy()
        picture[60:120, 20 + 5 * k : 80 + 5 * k] = subject
        pictures.append(picture)
    here = np.array([[20.0, 60.0], [80.0, 60.0], [80.0, 120.0], [20.0, 120.0]])
    fixed = Key(polygon(here + [5 * 6 + 8, 0]))
    done = carry(Pictures(pictures), Shape({1: Key(polygon(here)), 7: fixed}), 1, 12, SIMILARITY)
    assert np.array_equal(done.keys[7].points, fixed.points)
    assert done.keys[4].points[0, 0] - here[0, 0] == pytest.approx(15 + 4, abs=1.0)
    assert done.keys[12].points[0, 0] - here[0, 0] == pytest.approx(55 + 8, abs=1.5)
    back = carry(Pictures(pictures), Shape({12: Key(polygon(here + [55, 0]))}), 12, 3, SIMILARITY)
    assert back.keys[3].points[0, 0] == pytest.approx(here[0, 0] + 10, abs=1.0) and 12 in back.keys


def test_following_says_why_it_stops(rng):
    background, subject = textured(rng), textured(rng, 50, 50, 5)
    pictures = []
    for k in range(10):
        picture = background.copy()
        if k < 5:
            picture[60:110, 60 + 4 * k : 110 + 4 * k] = subject
        else:
            picture[:] = textured(np.random.default_rng(k))
        pictures.append(picture)
    shape = Shape({1: Key(polygon(SQUARE * 0 + [[60, 60], [110, 60], [110, 110], [60, 110]]))})
    done = carry(Pictures(pictures), shape, 1, 10)
    assert done.reached == 5 and "frame 6" in done.lost and max(done.keys) == 5
    for arguments, words in (
        (dict(model="wobble"), "no motion"),
        (dict(stop=99), "plate runs"),
        (dict(stop=1), "nothing to follow"),
    ):
        with pytest.raises(MaskError, match=words):
            carry(Pictures(pictures), shape, 1, **{"stop": 10, **arguments})


def bulging(size, frame):
    """A blob whose outline swells and shrinks, its points round its middle."""
    turn = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    reach = size * (1.0 + 0.38 * np.sin(3 * turn + 0.22 * frame))
    return np.stack([reach * np.cos(turn), reach * np.sin(turn)], 1)


def test_an_outline_bends_to_a_subject_that_changes_its_form(rng):
    wide, coat = textured(rng, 300, 420, 14), textured(rng, 240, 320, 5) // 2 + np.array([90, 20, 0], np.uint8)
    outlines = [bulging(38.0, k) + [90.0 + 6 * k, 120.0] for k in range(15)]
    pictures = []
    for k, outline in enumerate(outlines):
        picture = wide[k : k + 240, 2 * k : 2 * k + 320].copy()
        inside = fill(outline, 240, 320)
        picture[inside] = np.roll(coat, (0, 6 * k), (0, 1))[inside]
        pictures.append(np.clip(picture + rng.normal(0, 1, picture.shape), 0, 255).astype(np.uint8))
    shape = Shape({1: Key(polygon(outlines[0]))})
    scores = {}
    for model in (SIMILARITY, BENDING):
        done = carry(Pictures(pictures), shape, 1, 15, model)
        assert done.reached == 15 and done.lost == ""
        scores[model] = np.mean(
            [iou(fill(flatten(done.keys[k + 1].points), 240, 320), fill(o, 240, 320)) for k, o in enumerate(outlines)]
        )
    with pytest.raises(MaskError, match="too small"):
        carry(Pictures(pictures), Shape({1: Key(polygon(0.3 * outlines[0]))}), 1, 15, BENDING)
    assert scores[BENDING] > 0.85 and scores[BENDING] > scores[SIMILARITY] + 0.08


# what moves


def test_the_background_is_free_or_planar_as_grics_decides(rng):
    path = moving_camera(12)
    tracks = observe(path, cloud(rng, 200), 0.05, rng)
    a, b = (tracks.frames == 1001), (tracks.frames == 1009)
    both = np.intersect1d(tracks.track_of_sample[a], tracks.track_of_sample[b])
    x = tracks.xy[a][np.isin(tracks.track_of_sample[a], both)]
    y = tracks.xy[b][np.isin(tracks.track_of_sample[b], both)]
    found = fit_background(x, y)
    assert found.kind == FREE and np.median(found.residuals(x, y)) < 0.1
    turning = observe(moving_camera(12, step=0.0), cloud(rng, 200), 0.05, rng)
    n = turning.frames == 1001, turning.frames == 1009
    both = np.intersect1d(*(turning.track_of_sample[k] for k in n))
    x, y = (turning.xy[k][np.isin(turning.track_of_sample[k], both)] for k in n)
    still = fit_background(x, y)
    assert still.kind == PLANAR
    assert fit_background(x[:5], y[:5]) is None
    flow = np.zeros((20, 30, 2), np.float32)
    at = np.stack(np.meshgrid(np.arange(30) + 0.5, np.arange(20) + 0.5), -1).reshape(-1, 2)
    for motion in (found, still, scaled(found, 0.5), scaled(still, 0.5)):
        assert np.allclose(dense_residuals(flow, motion).ravel(), motion.residuals(at, at), rtol=1e-3, atol=1e-4)
    half = scaled(found, 0.5).residuals(x[:9] / 2, y[:9] / 2)
    assert np.allclose(half, 0.5 * found.residuals(x[:9], y[:9]), rtol=1e-6)


def test_proposals_cover_the_yard_hands_and_little_else(plate, tracks, plate_folder):
    found = what_moves(plate, tracks).proposals
    mattes = matte_reader(plate_folder / "mattes", plate)
    hit = total = extra = ground = 0
    for frame in plate.frames.tolist():
        union = np.zeros((plate.height, plate.width), bool)
        for p in found:
            region = p.mask(frame)
            union |= region if region is not None else False
        true = mattes(frame)
        hit, total = hit + (union & true).sum(), total + true.sum()
        far = ~grow(true, 20)
        extra, ground = extra + (union & far).sum(), ground + far.sum()
    assert hit / total > 0.9 and extra / ground < 0.02
    best = found[0]
    assert (
        best.kind == MOVING
        and len(best.tracks) > 5
        and best.speed > 1.0
        and best.background == FREE
        and best.mask(int(plate.frames[0]) - 5) is None
    )
    everything = np.ones((plate.height, plate.width), bool)
    assert what_moves(plate, tracks, lambda f: everything).proposals == []
    with pytest.raises(MaskError, match="cannot be told"):
        what_moves(plate, tracks.take(np.arange(3)))


def still_and_walking(rng, frames=22):
    """Pictures of a background that slides and a square that goes another way, with tracks of the background."""
    wide, square = textured(rng, 300, 420, 14), textured(rng, 60, 60, 8)
    pictures, pieces = [], []
    for k in range(frames):
        picture = wide[k : k + 240, 3 * k : 3 * k + 320].copy()
        picture[90:140, 30 + 6 * k : 80 + 6 * k] = square[:50, :50]
        pictures.append(np.clip(picture + rng.normal(0, 1, picture.shape), 0, 255).astype(np.uint8))
    for x, y in rng.uniform([70, 30], [310, 230], (160, 2)):
        at = np.stack([x - 3 * np.arange(frames), y - np.arange(frames)], 1) + rng.normal(0, 0.05, (frames, 2))
        seen = ((at > 4) & (at < [316, 236])).all(1)
        if seen.sum() > 5:
            pieces.append((1 + np.nonzero(seen)[0], at[seen], np.full(seen.sum(), 0.05), np.ones(seen.sum())))
    return Pictures(pictures), from_pieces([f"b{k}" for k in range(len(pieces))], pieces)


def test_cues_tell_the_subject_from_a_background_that_moves_too(rng):
    plate, tracks = still_and_walking(rng)
    reader = CueReader(plate, tracks)
    for frame, partners in ((1, [8, 15]), (11, [18, 4]), (22, [8, 15])):
        assert reader.partners(frame) == partners
        cues = reader.read(frame)
        inside = np.zeros((240, 320), bool)
        inside[96:134, 36 + 6 * (frame - 1) : 74 + 6 * (frame - 1)] = True
        around = ~grow(inside, 26)
        around[:, :40], around[:, 280:], around[:12], around[228:] = False, False, False, False
        assert np.median(cues.departure[inside]) > 3 * np.median(cues.departure[around])
        assert np.median(cues.unlike[inside]) > 5 * np.median(cues.unlike[around])
        assert cues.features.shape[:2] == (240, 320) and np.isfinite(cues.features).all()
    no_flow = np.zeros((240, 320, 2), np.float32)
    assert reader.motion(5, 12, no_flow).kind == PLANAR
    # Without tracks, the flow between the pictures says how the background moves.
    alone = CueReader(plate).read(11)
    assert np.median(alone.unlike[96:134, 96:134]) > 5 * np.median(alone.unlike[150:220, 60:260])
    with pytest.raises(MaskError, match="from frame 5 to 12 cannot be determined"):
        CueReader(Pictures([np.full((240, 320, 3), 90, np.uint8)] * 22)).read(5)


def test_what_moves_is_one_region_that_goes_with_its_subject(rng):
    plate, tracks = still_and_walking(rng)
    [found] = [p for p in what_moves(plate, tracks).proposals if len(p.frames) > 12]
    # A picture that only slides is what a long lens sees that turns.
    assert found.background == TURNING and {9, 11, 13} <= set(found.frames.tolist())
    for frame in (9, 11, 13):
        inside = fill(np.array([[30.0, 90.0], [80, 90], [80, 140], [30, 140]]) + [6 * (frame - 1), 0], 240, 320)
        region = found.mask(frame)
        assert (region & inside).sum() > 0.9 * inside.sum() and (region & ~grow(inside, 20)).sum() < 0.6 * inside.sum()


def test_degenerate_tracks_give_no_motion_rather_than_a_wrong_one():
    same = np.ones((30, 2)) * 50.0
    found = fit_background(same, same)
    assert found is None or np.isfinite(found.residuals(same, same)).all() or found.kind in (FREE, PLANAR)
    line = np.stack([np.linspace(0, 300, 40), np.linspace(0, 100, 40)], 1)
    found = fit_background(line, line + [2.0, 0.0])
    assert found is None or found.matrix.shape == (3, 3)


# samples


def test_a_matte_is_learned_from_spots_and_corrections_join(plate, tracks, plate_folder):
    mattes = matte_reader(plate_folder / "mattes", plate)
    reader, frame = CueReader(plate, tracks), int(plate.frames[12])
    true = mattes(frame)
    deep = cv2.distanceTransform(true.astype(np.uint8), cv2.DIST_L2, 5)
    rng = np.random.default_rng(1)
    inside = np.argwhere(deep > 3)
    outside = np.argwhere(grow(true, 40) & ~grow(true, 8))
    far = np.argwhere(~grow(true, 40))
    samples = [Sample(frame, x + 0.5, y + 0.5, True) for y, x in inside[rng.choice(len(inside), 8)]]
    samples += [Sample(frame, x + 0.5, y + 0.5, False) for y, x in outside[rng.choice(len(outside), 6)]]
    samples += [Sample(frame, x + 0.5, y + 0.5, False) for y, x in far[rng.choice(len(far), 4)]]
    learned = Learned(reader, samples)
    assert iou(learned.matte(frame), true) > 0.55
    later = int(plate.frames[25])
    assert iou(learned.matte(later), mattes(later)) > 0.35
    again = Learned(reader, samples)
    assert np.array_equal(again.matte(frame), learned.matte(frame))
    for kind, words in ((True, "not the subject"), (False, "the subject")):
        with pytest.raises(MaskError, match=words):
            Learned(reader, [s for s in samples if s.subject != kind])


# mattes in and out


def test_mattes_leave_and_come_back(tmp_path, plate, plate_folder):
    mattes = matte_reader(plate_folder / "mattes", plate)
    for kind in ("png", "exr"):
        written = write_mattes(tmp_path / kind, "skl_matte", plate.frames[:5], mattes, kind)
        assert [p.name for p in written][:2] == [f"skl_matte.1001.{kind}", f"skl_matte.1002.{kind}"]
        back, lacking = bring_in(tmp_path / kind, plate)
        assert sorted(back) == [1001, 1002, 1003, 1004, 1005] and lacking[0] == 1006
        assert np.array_equal(back[1003], mattes(1003))
    shifted, _ = bring_in(tmp_path / "png", plate, inverted=True, offset=10)
    assert sorted(shifted)[0] == 1011 and np.array_equal(shifted[1011], ~mattes(1001))
    with pytest.raises(MaskError, match="png or exr"):
        write_mattes(tmp_path, "x", plate.frames, mattes, "gif")


def test_bad_mattes_get_a_sentence(tmp_path, plate):
    for frame in (1001, 1002):
        out = oiio.ImageBuf(oiio.ImageSpec(320, 180, 4, oiio.UINT8))
        oiio.ImageBufAlgo.fill(out, (0.0, 0.2, 0.4, 1.0))
        out.write(str(tmp_path / f"m.{frame}.png"))
    assert read_matte(tmp_path / "m.1001.png", "alpha").max() == 1.0
    assert read_matte(tmp_path / "m.1001.png", "blue")[0, 0] == pytest.approx(0.4, abs=0.01)
    with pytest.raises(MaskError, match="320x180, the plate is 640x360"):
        bring_in(tmp_path, plate)
    with pytest.raises(MaskError, match="offset"):
        bring_in(tmp_path, plate, offset=5000)
    with pytest.raises(MaskError, match="no channel"):
        bring_in(tmp_path, plate, "heat")


def test_a_matte_becomes_a_shape_whose_points_stay_in_place():
    pictures = {f: fill(SQUARE + [3.0 * f, 0.0], 80, 160) for f in range(1, 21)}
    keys = trace(pictures.get, list(pictures), every=5)
    shape = Shape(keys)
    assert sorted(keys) == [1, 6, 11, 16, 20]
    for f in (3, 9, 18):
        assert iou(fill(flatten(points_at(shape, f)), 80, 160), pictures[f]) > 0.85
    steps = keys[20].points[:, :2] - keys[1].points[:, :2]
    assert np.allclose(steps, [57.0, 0.0], atol=1.5)
    with pytest.raises(MaskError, match="empty"):
        trace(lambda f: np.zeros((5, 5), bool), [1, 2])


# following with masks


def test_tracks_wait_behind_a_mask_and_go_on(masked_tracks, plate, plate_folder, solution):
    gaps = [t for t in range(len(masked_tracks)) if (np.diff(masked_tracks.frames[masked_tracks.rows(t)]) > 1).any()]
    assert len(gaps) > 5
    mattes = matte_reader(plate_folder / "mattes", plate)
    for frame in (1010, 1025):
        on = masked_tracks.frames == frame
        assert not covered(mattes(frame), masked_tracks.xy[on], 3).any()


def test_a_look_alike_found_again_becomes_a_track_of_its_own(rng):
    path = moving_camera(20)
    tracks = observe(path, cloud(rng, 120), 0.05, rng)
    pieces, names = [], list(tracks.names)
    for t in range(len(tracks)):
        r = tracks.rows(t)
        keep = np.ones(r.stop - r.start, bool)
        xy = tracks.xy[r].copy()
        if t < 10 and len(keep) > 16:
            keep[8:11] = False
            if t < 5:
                xy[11:] += [0.0, 9.0]
        pieces.append((tracks.frames[r][keep], xy[keep], tracks.sigma[r][keep], tracks.score[r][keep]))
    spoilt = from_pieces(names, pieces)
    wrong = [names[t] for t in range(5) if len(tracks.frames[tracks.rows(t)]) > 16]
    found = part_wrong_resumes(spoilt, 6)
    assert wrong and {n[:-1] for n in found.names if n.endswith("b")} == set(wrong)
