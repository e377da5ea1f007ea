"""Proposals that need no masks of their own: turning cameras, mirror images, corners that are none."""

from dataclasses import replace

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.masks.crossings import edges, find_crossings, slides
from amberkeel.core.masks.mirrors import find_reflections
from amberkeel.core.masks.proposal import CROSSING, REFLECTION
from amberkeel.core.plate.plate import Plate
from amberkeel.core.solve.rough import rough_camera
from amberkeel.core.tracks import from_pieces
from tests.simulated import cloud, moving_camera, observe


class Drawn(Plate):
    """A plate whose pictures a function of the frame draws."""

    def __init__(self, frames, draw):
        super().__init__("drawn", frames, 640, 360, None)
        self.draw = draw

    def read(self, frame):
        return self.draw(frame)


def test_a_rough_camera_says_how_it_moves(rng):
    frames = np.arange(1001, 1017)
    kinds = [
        rough_camera(observe(path, cloud(rng, 200), 0.05, rng), frames, 640, 360)
        for path in (moving_camera(16, step=0.0), moving_camera(16, step=0.12))
    ]
    assert [one.motion for one in kinds] == ["nodal", "free"]
    assert kinds[0].inverse_distance < 1e-3 < kinds[1].inverse_distance
    still = observe(moving_camera(16, step=0.0), cloud(rng, 200), 0.05, rng)
    held = still.xy[still.first[still.track_of_sample]] + rng.normal(0, 0.05, still.xy.shape)
    locked = rough_camera(replace(still, xy=held), frames, 640, 360)
    assert locked.motion == "locked" and not locked.path.positions.any()


def test_a_rough_camera_of_a_longer_shot_holds_on_every_frame(rng):
    """It is found on some frames first; a hand's shake on those between is not what lies half way."""
    frames, points = np.arange(1001, 1049), cloud(rng, 200)
    for step in (0.0, 0.12):
        smooth = moving_camera(48, step=step)
        shake = Rotation.from_rotvec(rng.normal(0.0, 0.004, (48, 3))).as_matrix()
        moved = smooth.positions + rng.normal(0.0, 0.02, (48, 3)) * (step > 0.0)
        path = replace(smooth, world_from_camera=smooth.world_from_camera @ shake, positions=moved)
        found = rough_camera(observe(path, points, 0.05, rng), frames, 640, 360).path
        assert np.array_equal(found.frames, frames)
        turned, true = (np.swapaxes(p.world_from_camera[:1], 1, 2) @ p.world_from_camera for p in (found, path))
        off = Rotation.from_matrix(np.swapaxes(turned, 1, 2) @ true).magnitude()
        assert np.degrees(off).max() < 0.05, (step, np.degrees(off).round(3))


def stamped(path, points, patches, order):
    """Draw each point's patch (S, S) where the camera sees it, the far ones first."""

    def draw(frame):
        k = int(frame - path.frames[0])
        picture = np.full((360, 640, 3), 110, np.uint8)
        for n in order:
            x, y = path.project(points[n : n + 1], k)[0]
            side = patches[n].shape[0]
            shift = np.float32([[1, 0, x - side / 2], [0, 1, y - side / 2]])
            cv2.warpAffine(patches[n], shift, (640, 360), picture, borderMode=cv2.BORDER_TRANSPARENT)
        return picture

    return draw


def test_mirror_images_are_proposed_and_doubles_are_not(rng):
    path = moving_camera(30)
    path = CameraPath(path.frames, path.positions - [0.0, 0.5, 0.0], path.world_from_camera, path.lens)
    # Down is +y here: the water lies at y = 0.2, and what stands over it is mirrored below.
    over = np.stack([rng.uniform(-3.5, 4.5, 60), rng.uniform(-1.2, 0.0, 60), rng.uniform(6, 12, 60)], 1)
    below = over * [1, -1, 1] + [0, 0.4, 0]
    points = np.concatenate([over, below])
    small = rng.integers(20, 230, (60, 5, 5, 3)).astype(np.uint8)
    patches = [cv2.resize(p, (19, 19), interpolation=cv2.INTER_CUBIC) for p in small]
    order = np.argsort(-points[:, 2])
    tracks = observe(path, points, 0.05, rng)
    number = np.array([int(n[1:]) for n in tracks.names])
    plate = Drawn(path.frames, stamped(path, points, patches + [p[::-1] for p in patches], order))
    [found] = find_reflections(plate, tracks, "free")
    right = number[found.tracks] >= 60
    assert found.kind == REFLECTION and len(right) > 12 and right.mean() > 0.85
    by_track = {t: (frames, xy) for t, frames, xy in found.tails}
    t = found.tracks[int(np.argmax(right))]
    twin = int(np.nonzero(number == number[t] - 60)[0][0])
    frames, xy = by_track[t]
    both = np.isin(tracks.frames[tracks.rows(twin)], frames)
    assert np.allclose(tracks.xy[tracks.rows(twin)][both], xy)
    region, at = found.mask(int(frames[0])), tracks.xy[tracks.rows(t)][0].astype(int)
    assert region[at[1], at[0]] and region.mean() < 0.6
    # The same patches, upright, at positions that mirror nothing: doubles only.
    apart = np.stack([rng.uniform(-3.5, 4.5, 60), rng.uniform(-1.2, 1.6, 60), rng.uniform(6, 12, 60)], 1)
    points = np.concatenate([over, apart])
    plate = Drawn(path.frames, stamped(path, points, patches + [p[::-1] for p in patches], np.argsort(-points[:, 2])))
    assert find_reflections(plate, observe(path, points, 0.05, rng), "free") == []


def test_corners_that_two_edges_make_only_in_the_picture_are_proposed(rng):
    path = moving_camera(30)
    near = [(np.array([x, -3.0, 4.5]), np.array([x + 0.5, 3.0, 4.5])) for x in (-1.2, 0.2, 1.6)]
    far = [(np.array([-8.0, y, 14.0]), np.array([11.0, y + 2.0, 14.0])) for y in (-3.0, 0.0, 2.5)]

    def lines(frame, pieces):
        k = int(frame - path.frames[0])
        return [path.project(np.array(p), k) for p in pieces]

    def draw(frame):
        picture = np.full((360, 640, 3), 120, np.uint8)
        for pieces, grey, width in ((far, 40, 7), (near, 220, 11)):
            for a, b in lines(frame, pieces):
                cv2.line(
                    picture,
                    *(np.round(16 * p).astype(int).tolist() for p in (a, b)),
                    (grey,) * 3,
                    width,
                    cv2.LINE_AA,
                    4,
                )
        return picture

    def crossing(a, b, c, d):
        m = np.stack([b - a, c - d], 1)
        return a + (b - a) * np.linalg.solve(m, c - a)[0]

    on_edges = [a + (b - a) * s for a, b in near + far for s in np.linspace(0.15, 0.85, 14)]
    tracks = observe(path, np.concatenate([cloud(rng, 120), on_edges]), 0.05, rng)
    true = len(tracks)
    pieces = [(tracks.frames[r], tracks.xy[r], tracks.sigma[r], tracks.score[r]) for r in map(tracks.rows, range(true))]
    for i in range(3):
        for j in range(3):
            at = np.array([crossing(*lines(f, near)[i], *lines(f, far)[j]) for f in path.frames]) + rng.normal(
                0, 0.05, (30, 2)
            )
            seen = ((at > 12) & (at < [628, 348])).all(1)
            if seen.sum() > 12:
                pieces.append((path.frames[seen], at[seen], np.full(seen.sum(), 0.05), np.ones(seen.sum())))
    tracks = from_pieces([f"t{k}" for k in range(len(pieces))], pieces)
    nothing = np.zeros(len(tracks), bool)
    [found] = find_crossings(Drawn(path.frames, draw), tracks, nothing, "free")
    false = np.array(found.tracks) >= true
    assert found.kind == CROSSING and false.sum() >= 0.5 * (len(tracks) - true) and false.all()
    assert found.speed > 0.1 and found.mask(int(found.frames[0])).mean() < 0.05
    assert find_crossings(Drawn(path.frames, draw), tracks.take(np.arange(true)), nothing[:true], "free") == []


def test_a_corner_slides_along_an_edge_of_its_own():
    picture = np.full((60, 60), 80, np.float32)
    picture[:, 30:] = 200.0
    picture[40:, :] -= 60.0
    normals = edges(picture, np.array([30.0, 40.0]))
    assert np.abs(np.abs(normals[0]) - [1, 0]).max() < 0.1 and np.abs(np.abs(normals[1]) - [0, 1]).max() < 0.1
    assert len(edges(picture, np.array([30.0, 15.0]))) == 1
    on_near = np.array([[5.0, 0.0], [5.05, 0.0]])
    assert slides(normals, np.array([5.0, 3.0]), on_near)
    assert not slides(normals, np.array([7.0, 3.0]), on_near) and not slides(normals, np.array([5.0, 0.3]), on_near)
