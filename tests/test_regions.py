"""From evidence on spots to regions of the plate: what is widened, left out, and taken together."""

import numpy as np
import pytest

from amberkeel.core.masks.crossing import Crossing, middle_of
from amberkeel.core.masks.evidence import Evidence
from amberkeel.core.masks.moving import at_plate_size, region_of, without_flashes

GRID = 40, 60


def evidence(ratio=(), unlike=(), fill=0.0):
    """Evidence of a frame in which blocks (rows, columns, value) speak for motion, or are unlike what stands still."""
    speaks, odd = np.zeros(GRID, np.float32), np.full(GRID, fill, np.float32)
    for out, blocks in ((speaks, ratio), (odd, unlike)):
        for rows, columns, value in blocks:
            out[slice(*rows), slice(*columns)] = value
    return Evidence(speaks, speaks, odd, np.ones(GRID, np.float32), 0.4)


def test_what_speaks_is_kept_and_lone_spots_are_not():
    kept, speaks = region_of(evidence([((5, 12), (5, 10), 2.0), ((30, 31), (30, 31), 9.0)]))
    assert kept[5:12, 5:10].sum() >= 29 and not kept[20:].any()
    assert speaks[8, 7] == pytest.approx(2.0 / 0.7) and (speaks[~kept] == 0.0).all()


def test_what_is_unlike_about_a_heart_belongs_to_it():
    body = evidence([((5, 12), (5, 10), 2.0)], [((4, 20), (4, 12), 4.0), ((30, 34), (30, 33), 4.0)])
    kept, _ = region_of(body)
    assert kept[6:18, 6:10].all(), "the legs hang on the heart"
    assert not kept[28:].any(), "and what only looks a little odd elsewhere does not"


def test_what_is_utterly_unlike_needs_no_heart():
    kept, speaks = region_of(evidence(unlike=[((10, 15), (20, 24), 8.5)]))
    assert kept[11:14, 21:23].all() and 0.0 < speaks[12, 22] < 0.1


def test_what_is_masked_already_is_not_taken_again():
    hidden = np.zeros(GRID, bool)
    hidden[:, :8] = True
    kept, _ = region_of(evidence([((5, 15), (4, 20), 2.0)], [((5, 15), (4, 20), 4.0)]), hidden)
    assert not kept[:, :8].any() and kept[7:13, 10:18].all()


def test_spots_of_which_nothing_is_known_are_nothing():
    kept, speaks = region_of(evidence(fill=np.nan))
    assert not kept.any() and not speaks.any()


def test_a_flash_is_what_moves_beside_it():
    volume = np.zeros((6, *GRID), bool)
    volume[:, 10:14, 10:14] = True
    volume[2, 20:24, 20:24] = True
    flashed = volume.copy()
    flashed[3] = True
    flashed[3, :4] = False
    out = without_flashes(flashed)
    assert np.array_equal(out[3], volume[2] | volume[4]) and np.array_equal(
        np.delete(out, 3, 0), np.delete(volume, 3, 0)
    )
    assert flashed[3].sum() > out[3].sum(), "what was given is left as it is"


def test_what_fills_the_picture_on_all_frames_is_no_flash():
    volume = np.ones((5, *GRID), bool)
    assert np.array_equal(without_flashes(volume), volume)
    assert without_flashes(volume[:1]).shape == (1, *GRID)


@pytest.mark.parametrize("wider", [0.5, 1.6, 3.2])
def test_spots_become_pixels_widened_all_round(wider):
    spots = np.zeros(GRID, bool)
    spots[15:25, 20:40] = True
    region = at_plate_size(spots, (600, 400), wider)
    rows, columns = np.nonzero(region.any(1))[0], np.nonzero(region.any(0))[0]
    for edge, true in zip((rows[0], rows[-1] + 1, columns[0], columns[-1] + 1), (150, 250, 200, 400)):
        outwards = -1.0 if true in (150, 200) else 1.0
        assert (edge - true) * outwards == pytest.approx(10.0 * wider, abs=4.0)
    assert region[150:250, 200:400].all()
    corner = int(10.0 * wider * 0.9)
    assert not region[150 - corner - 2, 200 - corner - 2] or wider < 1.0, "corners are round"


def test_holes_are_filled_and_nothing_stays_nothing():
    ring = np.zeros(GRID, bool)
    ring[10:30, 10:30] = True
    ring[14:26, 14:26] = False
    assert at_plate_size(ring, (600, 400), 0.5)[120:280, 120:280].all()
    assert not at_plate_size(np.zeros(GRID, bool), (600, 400)).any()


def test_the_edge_of_the_picture_cuts_a_region_and_does_not_bend_it():
    spots = np.zeros(GRID, bool)
    spots[:6, -8:] = True
    region = at_plate_size(spots, (600, 400), 1.0)
    assert region[0, -1] and region[:50, 525:].all() and not region[90:].any() and not region[:, :480].any()
    whole = at_plate_size(np.ones(GRID, bool), (600, 400))
    assert whole.all()


def blob(column, row=20):
    spots = np.zeros(GRID, bool)
    spots[row - 5 : row + 5, max(column - 3, 0) : column + 3] = True
    return spots


def crossed(front):
    """Two blobs walk through each other, eleven steps; where the spots of both were said to belong while they met."""
    crossing = Crossing(blob(20), blob(32), np.array([1.0, 0.0]), np.array([-1.0, 0.0]))
    told = []
    for step in range(1, 12):
        subject, other = blob(20 + step), blob(32 - step)
        colour = np.where(subject & other, front, 0.0)
        odds = crossing.odds(subject | other, np.zeros(GRID), colour)
        assert crossing.middle == pytest.approx(middle_of(blob(20)) + [step, 0.0])
        for own, sign in ((subject & ~other, 1.0), (other & ~subject, -1.0)):
            if own.any():
                assert np.mean(sign * odds[own] > 0.0) > 0.8, step
        if (subject & other).sum() >= 30:
            told.append(np.median(odds[subject & other]))
        assert crossing.apart() == (step >= 9), step
    return told


def test_two_who_cross_go_on_as_they_were_going():
    crossed(0.0)


@pytest.mark.parametrize("front", [0.9, -0.9])
def test_whose_colours_are_seen_is_in_front(front):
    told = crossed(front)
    assert len(told) >= 3 and all(np.sign(odds) == np.sign(front) for odds in told)
