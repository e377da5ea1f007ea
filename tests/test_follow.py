"""Finding and following against the simulator's truth."""

import numpy as np
import pytest

from amberkeel.core.errors import FollowError
from amberkeel.core.follow import DetectSettings, find_features, follow_plate
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.pictures.write import write_png
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.sim.render import Renderer


def true_errors(tracks, shot, path):
    """Return each track's RMS error a coordinate, and its errors over its stated noise, by following its surface
    point.
    """
    renderer, depths, errors, scores = Renderer(shot), {}, [], []
    for t in range(len(tracks)):
        r = tracks.rows(t)
        frames, xy = tracks.frames[r], tracks.xy[r]
        if len(frames) < 12:
            continue
        k = len(frames) // 2
        row = path.index_of(frames[k])
        if row not in depths:
            depths[row] = renderer.depth(frames[k])
        x, y = xy[k].astype(int)
        near = depths[row][y - 2 : y + 3, x - 2 : x + 3]
        if near.max() > 1.02 * near.min():
            continue
        ray = np.append(path.lens.normalise(xy[k]), 1.0) * np.median(near)
        point = path.world_from_camera[row] @ ray + path.positions[row]
        rows = np.searchsorted(path.frames, frames)
        miss = xy - path.project(np.repeat(point[None], len(rows), 0), rows)
        miss -= np.median(miss, 0)
        errors.append(np.sqrt((miss**2).mean()))
        scores.append(np.sqrt(((miss / tracks.sigma[r][:, None]) ** 2).mean()))
    return np.array(errors), np.array(scores)


def test_tracks_keep_to_a_tenth_of_a_pixel_and_know_it(masked_tracks, shot, true_path):
    errors, scores = true_errors(masked_tracks, shot, true_path)
    assert len(errors) > 100
    assert np.median(errors) < 0.1
    assert 0.4 < np.median(scores) < 2.0


def test_coverage_is_even_and_refilled(tracks, plate):
    live = np.bincount(tracks.frames - plate.frames[0], minlength=len(plate.frames))
    assert live.min() > 120
    middle = tracks.xy[tracks.frames == plate.frames[20]]
    lower_left = ((middle[:, 0] < 320) & (middle[:, 1] > 180)).sum()
    lower_right = ((middle[:, 0] > 320) & (middle[:, 1] > 180)).sum()
    assert min(lower_left, lower_right) > 0.15 * len(middle)
    assert (np.diff(tracks.frames)[np.diff(tracks.track_of_sample) == 0] == 1).all()


def test_mattes_keep_features_off(masked_tracks, plate, plate_folder):
    from amberkeel.core.plate.plate import matte_reader

    read = matte_reader(plate_folder / "mattes", plate)
    for frame in plate.frames[::8]:
        masked = read(int(frame))
        x, y = masked_tracks.xy[masked_tracks.frames == frame].astype(int).T
        assert not masked[y, x].any()


def test_features_respect_spacing_masks_and_each_other(plate):
    gray = to_gray(plate.read(1001))
    settings = DetectSettings(count=150, spacing=14.0)
    masked = np.zeros(gray.shape, bool)
    masked[:, 400:] = True
    taken = np.array([[200.0, 250.0]])
    xy = find_features(gray, settings, taken, masked)
    assert len(xy) > 40 and xy[:, 0].max() < 400
    every = np.concatenate([xy, taken])
    apart = np.linalg.norm(every[:, None] - every[None], axis=2) + 1e3 * np.eye(len(every))
    assert apart.min() >= 14.0


def test_plates_that_cannot_be_followed_say_so(tmp_path, rng):
    def write(name, picture):
        (tmp_path / name).mkdir(exist_ok=True)
        for k in range(8):
            write_png(tmp_path / name / f"p.{k + 1:04d}.png", picture(k))

    write("flat", lambda k: np.full((120, 160, 3), 128, np.uint8))
    with pytest.raises(FollowError, match="hardly any texture"):
        follow_plate(open_plate(tmp_path / "flat"))
    blocks = np.ones((8, 8, 1))
    write("wild", lambda k: np.kron(rng.integers(0, 255, (30, 40, 1)), blocks).repeat(3, 2).astype(np.uint8))
    with pytest.raises(FollowError, match="change too much"):
        follow_plate(open_plate(tmp_path / "wild"))
