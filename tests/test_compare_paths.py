"""Two cameras of one shot held against each other: what floats does not count, what differs does."""

from dataclasses import replace

import numpy as np
import pytest

from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.compare_paths import departure, laid_over, path_difference
from tests.simulated import moving_camera


@pytest.fixture
def path():
    return moving_camera(20)


@pytest.fixture
def floated(path):
    """The same camera in another world: turned, shifted and three times as large."""
    return path.moved(3.0, rotation_exp(np.array([0.4, -1.1, 0.7])), np.array([5.0, -2.0, 9.0]))


def test_another_world_is_no_difference(path, floated):
    for one, other in ((path, floated), (floated, path)):
        told = path_difference(one, other)
        assert told.position_rms < 1e-9 * told.length and told.turn_rms < 1e-7 and abs(told.focal) < 1e-12
        assert told.position_share == pytest.approx(told.position_rms / told.length)
    assert path_difference(floated, path).length == pytest.approx(3.0 * path_difference(path, floated).length)


def test_what_differs_is_told_in_units_of_the_first(path, floated):
    jolted = floated.positions.copy()
    jolted[10] += [0.3, 0.0, 0.0]
    told = path_difference(path, replace(floated, positions=jolted))
    assert told.position.argmax() == 10 and told.position[10] == pytest.approx(0.1, rel=0.15)
    turned = floated.world_from_camera.copy()
    turned[4] = turned[4] @ rotation_exp(np.array([0.0, 0.02, 0.0]))
    told = path_difference(path, replace(floated, world_from_camera=turned))
    assert told.turn.argmax() == 4 and told.turn[4] == pytest.approx(0.02, rel=0.1)
    longer = replace(floated, lens=replace(floated.lens, focal_px=(714.0, 714.0)))
    assert path_difference(path, longer).focal == pytest.approx(0.02)
    still = replace(path, positions=np.zeros_like(path.positions))
    assert path_difference(still, still).position_share == 0.0


def test_only_frames_of_both_are_compared(path, floated):
    ours, theirs = laid_over(path.taken(np.arange(0, 12)), floated.taken(np.arange(5, 20)))
    assert ours.frames.tolist() == theirs.frames.tolist() == list(range(1006, 1013))
    assert np.allclose(ours.positions, theirs.positions) and np.allclose(
        ours.world_from_camera, theirs.world_from_camera
    )
    with pytest.raises(SolveError, match="no frames in common"):
        laid_over(path.taken(np.arange(0, 7)), floated.taken(np.arange(5, 20)))


@pytest.mark.parametrize("off", [1e-4, 1e-3, 0.3])
def test_a_departure_is_enlarged_by_a_round_factor_until_it_shows(path, floated, off, rng):
    swayed = replace(floated, positions=floated.positions + 3.0 * off * rng.normal(size=floated.positions.shape))
    told = departure(path, swayed)
    reach = np.linalg.norm(np.ptp(path.positions, axis=0))
    shown = np.percentile(np.linalg.norm(told.after - told.before, axis=1), 90)
    lead = told.factor / 10.0 ** np.floor(np.log10(told.factor) + 1e-9)
    assert min(abs(lead - n) for n in (1.0, 2.0, 5.0)) < 1e-6
    assert told.factor == 1.0 or 0.03 * reach < shown <= 0.0801 * reach
    ours, theirs = laid_over(path, swayed)
    assert np.allclose(told.before, ours.positions)
    assert np.allclose(told.after - told.before, told.factor * (theirs.positions - ours.positions))


def test_the_same_camera_departs_nowhere(path, floated):
    told = departure(path, floated)
    assert told.factor == 1.0 and np.allclose(told.after, told.before)
