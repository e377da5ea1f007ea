"""Subjects that move among others: what stands still, who is who, outlines that wrap, and what leaves its mask."""

import cv2
import numpy as np
import pytest

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.evidence import EvidenceReader, camera_for
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.leaks import leaks
from amberkeel.core.masks.moves import Moves
from amberkeel.core.masks.moving import what_moves
from amberkeel.core.masks.proposal import CHANGING, SHADOW, SWAYING
from amberkeel.core.masks.raster import fill
from amberkeel.core.masks.samples import Sample
from amberkeel.core.masks.shape import FOLLOWED, HAND, Key, Shape, flatten, polygon
from amberkeel.core.masks.some_tracks import some_tracks
from amberkeel.core.masks.spots import first_matte, on_what_moves, subject_of
from amberkeel.core.masks.subject import HIDDEN, NothingMoves, Seen, Shown, follow_subject
from amberkeel.core.masks.wrap import mask_of, outline_of, wrapped
from amberkeel.core.solve.rough import RoughCamera
from tests.simulated import Pictures

WIDTH, HEIGHT, COUNT = 480, 270, 40
SIZE = WIDTH, HEIGHT


def textured(rng, height, width, cell, low=40, high=220):
    small = rng.integers(low, high, (height // cell + 2, width // cell + 2, 3)).astype(np.uint8)
    return cv2.resize(small, None, fx=cell, fy=cell, interpolation=cv2.INTER_CUBIC)[:height, :width]


def walkers(frame):
    """Where two walkers are on a frame: corners (2,), sizes (2,); the second passes behind the first."""
    return ((30 + 9 * frame, 90), (60, 120)), ((400 - 8 * frame, 80), (56, 130))


@pytest.fixture(scope="module")
def crossing():
    """A street that slides by as a camera turns, two walkers who cross, and a post before which nobody stands."""
    rng = np.random.default_rng(5)
    wide = textured(rng, HEIGHT, WIDTH + 2 * COUNT, 13)
    red, blue = textured(rng, 120, 60, 8, 20, 120), textured(rng, 130, 56, 8, 20, 120)
    red[..., 0], blue[..., 2] = 215, 215
    pictures, truth = [], []
    for k in range(COUNT):
        picture = wide[:, 2 * k : 2 * k + WIDTH].copy()
        own = np.zeros((2, HEIGHT, WIDTH), bool)
        for n, (((x, y), (w, h)), skin) in reversed(list(enumerate(zip(walkers(k), (red, blue))))):
            x0, x1 = max(x, 0), min(x + w, WIDTH)
            if x1 > x0:
                picture[y : y + h, x0:x1] = skin[:, x0 - x : x1 - x]
                own[:, y : y + h, x0:x1] = False
                own[n, y : y + h, x0:x1] = True
        pictures.append(np.clip(picture + rng.normal(0, 1.5, picture.shape), 0, 255).astype(np.uint8))
        truth.append(own)
    return Pictures(pictures), np.array(truth)


@pytest.fixture(scope="module")
def moves(crossing):
    plate, _ = crossing
    flows = FlowReader(plate, COUNT)
    reader = EvidenceReader(plate, camera_for(plate, some_tracks(plate)), flows)
    return Moves(flows, None, lambda: reader)


def covered(mask, true):
    return float((mask & true).sum() / max(true.sum(), 1))


def test_what_does_not_stand_still_is_found_and_little_else(crossing, moves):
    plate, truth = crossing
    found = what_moves(plate, some_tracks(plate)).proposals
    hit = total = extra = ground = 0
    for frame in plate.frames.tolist():
        true = truth[frame - 1].any(0)
        mask = np.zeros_like(true)
        for one in found:
            region = one.mask(frame)
            mask |= region if region is not None else False
        far = ~(cv2.dilate(true.astype(np.uint8), np.ones((41, 41))) > 0)
        hit, total, extra, ground = (
            hit + (mask & true).sum(),
            total + true.sum(),
            extra + (mask & far).sum(),
            ground + far.sum(),
        )
    assert hit > 0.97 * total and extra < 0.01 * ground
    assert not what_moves(plate, some_tracks(plate), lambda _: np.ones((HEIGHT, WIDTH), bool)).proposals


def test_a_camera_that_stands_is_as_good_as_one_that_moves(crossing):
    plate, truth = crossing
    still = [
        np.where(truth[k].any(0)[..., None], plate.pictures[k], plate.pictures[0]).astype(np.uint8)
        for k in range(COUNT)
    ]
    clean = textured(np.random.default_rng(5), HEIGHT, WIDTH + 2 * COUNT, 13)[:, :WIDTH]
    still = [np.where(truth[k].any(0)[..., None], still[k], clean) for k in range(COUNT)]
    standing = Pictures(still)
    camera = camera_for(standing, some_tracks(standing))
    assert camera.motion == "locked" and camera.inverse_distance == 0.0
    [*found] = what_moves(standing, some_tracks(standing), camera=camera).proposals
    mask = np.any([p.mask(10) for p in found if p.mask(10) is not None], axis=0)
    assert covered(mask, truth[9].any(0)) > 0.97


def test_two_who_cross_stay_two(crossing, moves):
    _, truth = crossing
    for n, at in ((0, 5), (1, 5)):
        (x, y), (w, h) = walkers(at - 1)[n]
        samples = [Sample(at, x + w / 2, y + h / 2, True)]
        assert on_what_moves(moves, samples, SIZE)
        assert covered(first_matte(moves, samples, at, SIZE), truth[at - 1, n]) > 0.97
        seen = subject_of(moves, samples, 1, COUNT, SIZE)
        for frame in range(1, COUNT + 1):
            own, other = truth[frame - 1, n], truth[frame - 1, 1 - n]
            if frame not in seen or seen[frame].said == HIDDEN or own.sum() < 0.5 * w * h:
                continue
            mask = mask_of(seen[frame], SIZE)
            assert covered(mask, own) > 0.9, (n, frame)
            if not (cv2.dilate(own.astype(np.uint8), np.ones((31, 31))) > 0)[other].any():
                assert covered(mask, other) < 0.1, (n, frame)
        late = [f for f in seen if f > 32 and truth[f - 1, n].sum() > 0.5 * w * h]
        assert late and all(covered(mask_of(seen[f], SIZE), truth[f - 1, n]) > 0.9 for f in late)


def test_a_rough_box_wraps_its_subject_and_ends_with_it(crossing, moves):
    _, truth = crossing
    (x, y), (w, h) = walkers(4)[0]
    box = polygon([[x - 12, y - 10], [x + w + 12, y - 10], [x + w + 12, y + h + 10], [x - 12, y + h + 10]])
    done = wrapped(moves, Shape({5: Key(box)}), 1, COUNT, SIZE)
    assert (
        done.keys[5].by == HAND
        and done.keys[12].by == FOLLOWED
        and len({len(k.points) for k in done.keys.values()}) == 1
    )
    assert abs(fill(flatten(done.keys[5].points), HEIGHT, WIDTH) ^ fill(flatten(box), HEIGHT, WIDTH)).sum() < 60
    for frame in (8, 15, 30, 40):
        inside = fill(flatten(done.keys[frame].points), HEIGHT, WIDTH)
        assert covered(inside, truth[frame - 1, 0]) > 0.95
        assert inside.sum() < 2.2 * truth[frame - 1, 0].sum()
    gone = wrapped(moves, Shape({30: Key(polygon([[150, 60], [230, 60], [230, 225], [150, 225]]))}), 1, COUNT, SIZE)
    assert gone.first == 1 and gone.last == COUNT
    with pytest.raises(NothingMoves, match="Nothing moves by itself there on frame 5"):
        wrapped(moves, Shape({5: Key(polygon([[250, 5], [300, 5], [300, 40], [250, 40]]))}), 1, COUNT, SIZE)
    with pytest.raises(MaskError, match="on none of these frames"):
        follow_subject(moves, [], 1, 5)


def test_a_subject_that_stops_or_leaves_is_held_or_let_go():
    """What stands still for a while is held by flow; what walks out of the picture ends there."""
    grid, frames = (40, 24), range(1, 31)
    bodies, pictures = {}, []
    rng = np.random.default_rng(3)
    ground, coat = textured(rng, 120, 200, 6), textured(rng, 40, 20, 5, 150, 255)
    for frame in frames:
        x = 20 + 4 * min(frame, 8) + 14 * max(0, frame - 18)
        picture, body = ground.copy(), np.zeros(grid[::-1], bool)
        right = min(x + 20, 200)
        if right > x:
            picture[40:80, x:right] = coat[:, : right - x]
        if frame < 9 or frame > 17:
            body[8:16, x // 5 : right // 5] = True
        bodies[frame] = body
        pictures.append(picture)
    moves = Moves(FlowReader(Pictures(pictures), 40), bodies)
    assert moves.grid == grid
    shown = Shown(3, bodies[3], np.zeros_like(bodies[3]))
    seen = follow_subject(moves, [shown], 1, 30)
    assert seen[13].said == "stands still" and seen[13].spots[8:16, 10:14].mean() > 0.8
    assert 22 in seen and max(seen) < 30
    with pytest.raises(MaskError, match="not known yet"):
        moves.body(99)


def test_leaves_screens_and_shadows_are_told_from_what_walks_and_a_flash_tells_nothing():
    rng = np.random.default_rng(11)
    wide, leaves = textured(rng, HEIGHT, WIDTH + 2 * COUNT, 13), textured(rng, 60, 90, 6)
    # On ground without texture flow goes with the shadow; on a wall with some it goes with the wall, and that is right.
    wide[165:] = np.linspace(120, 170, wide.shape[1], dtype=np.uint8)[None, :, None]
    pictures = []
    for k in range(COUNT):
        picture = wide.copy().astype(np.float32)
        sway = int(round(9 * np.sin(k / 1.7)))
        picture[30:90, 120 + sway : 210 + sway] = leaves
        picture[40:100, 330:420] = textured(np.random.default_rng(k), 60, 90, 9)
        picture[180:250, 30 + 12 * k : 60 + 12 * k] *= 0.6
        picture = picture[:, 2 * k : 2 * k + WIDTH] * (1.9 if k == 20 else 1.0)
        pictures.append(np.clip(picture + rng.normal(0, 1.5, picture.shape), 0, 255).astype(np.uint8))
    plate = Pictures(pictures)
    found = what_moves(plate, some_tracks(plate)).proposals

    def at(x, y, frame=12):
        x -= 2 * (frame - 1)
        return {p.kind for p in found if p.mask(frame) is not None and p.mask(frame)[y, x]}

    assert at(165, 60) == {SWAYING} and at(375, 70) == {CHANGING} and at(30 + 12 * 11 + 15, 215) == {SHADOW}
    assert at(165, 60, 30) == {SWAYING} and at(375, 70, 30) == {CHANGING}
    assert all(p.mask(21) is None or p.mask(21).mean() < 0.25 for p in found)


def test_what_leaves_its_mask_is_found_worst_first():
    body = np.zeros((24, 40), bool)
    body[6:18, 10:18] = True
    other = np.zeros_like(body)
    other[6:18, 30:38] = True
    bodies = {f: body | other for f in range(1, 7)}
    masks = {f: cv2.dilate(body.astype(np.uint8), np.ones((3, 3))) > 0 for f in bodies}
    assert leaks(bodies, masks) == []
    masks[3] = masks[3].copy()
    masks[3][14:] = False
    masks[5] = np.zeros_like(body)
    found = leaks(bodies, masks)
    assert [one.frame for one in found] == [5, 3] and found[0].share > found[1].share
    assert 0.25 < found[0].x < 0.45 and found[1].y > 0.6


def test_outlines_join_parts_and_run_out_of_the_picture():
    spots = np.zeros((24, 40), bool)
    spots[4:10, 10:16] = True
    spots[13:24, 10:16] = True
    outline = outline_of(Seen(spots, 1.0), (400, 240))
    inside = fill(outline, 240, 400)
    assert covered(inside, np.kron(spots, np.ones((10, 10))).astype(bool)) == 1.0 and outline[:, 1].max() > 240


def test_a_camera_is_found_only_where_tracks_tell(crossing):
    plate, _ = crossing
    assert isinstance(camera_for(plate, some_tracks(plate)), RoughCamera)
    with pytest.raises(MaskError, match="cannot be told"):
        camera_for(plate, some_tracks(plate).take(np.arange(3)))
