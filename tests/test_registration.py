"""Registration of patches on pictures whose motion is known exactly."""

import numpy as np
import pytest

from amberkeel.core.follow.detect import DetectSettings, find_features, grain_sigma, position_noise
from amberkeel.core.follow.register import LOST, OK, OUTSIDE, make_references, register_patches

HALF = 7


class Pattern:
    """A smooth picture known everywhere: a sum of waves."""

    def __init__(self, seed=1, waves=26):
        rng = np.random.default_rng(seed)
        self.k = rng.normal(0, 0.32, (waves, 2))
        self.phase = rng.uniform(0, 2 * np.pi, waves)
        self.gain = rng.uniform(4, 12, waves)

    def at(self, x, y):
        angle = np.multiply.outer(x, self.k[:, 0]) + np.multiply.outer(y, self.k[:, 1]) + self.phase
        return 128 + (np.sin(angle) * self.gain).sum(-1)

    def picture(self, warp=np.eye(2), shift=(0.0, 0.0), gain=1.0, offset=0.0, noise=0.0, size=96, seed=0):
        """The pattern seen so that a spot p of the plain picture falls on ``warp (p - c) + c + shift``."""
        y, x = np.mgrid[0:size, 0:size] + 0.5
        c = size / 2
        back = np.linalg.inv(warp) @ np.stack([x.ravel() - c - shift[0], y.ravel() - c - shift[1]])
        value = gain * self.at(back[0] + c, back[1] + c).reshape(size, size) + offset
        return (value + np.random.default_rng(seed).normal(0, noise, value.shape)).astype(np.float32)


def cut(picture, xy):
    n, size = len(xy), 2 * HALF + 1
    patches, gradients = np.zeros((n, size, size), np.float32), np.zeros((n, size, size, 2), np.float32)
    inverses, made = np.zeros((n, 8, 8)), np.zeros(n, np.bool_)
    make_references(picture, xy, HALF, 1.0, patches, gradients, inverses, made)
    return patches, gradients, inverses, made


def align(picture, references, start, iterations=25):
    states = np.tile([0.0, 0, 1, 0, 0, 1, 1, 128], (len(start), 1))
    states[:, :2] = start
    results, status = np.zeros((len(start), 3)), np.zeros(len(start), np.int64)
    register_patches(picture, *references[:3], HALF, states, iterations, results, status)
    return states, results, status


@pytest.mark.parametrize("shift", [(0.0, 0.0), (0.37, -0.21), (1.6, 0.9), (-2.2, 1.3)])
def test_shifts_are_found_to_a_fiftieth(shift):
    pattern, xy = Pattern(), np.array([[48.0, 48.0], [40.25, 51.5]])
    states, results, status = align(pattern.picture(shift=shift), cut(pattern.picture(), xy), xy)
    assert (status == OK).all() and (results[:, 0] > 0.999).all()
    assert np.abs(states[:, :2] - xy - shift).max() < 0.02


def test_warp_gain_and_offset_are_found_too():
    pattern, xy = Pattern(3), np.array([[48.0, 48.0]])
    warp = np.array([[1.06, 0.05], [-0.04, 0.95]])
    seen = pattern.picture(warp, (0.4, -0.3), 1.25, -20.0)
    states, results, status = align(seen, cut(pattern.picture(), xy), xy)
    assert status[0] == OK
    assert np.abs(states[0, :2] - [48.4, 47.7]).max() < 0.01
    assert np.abs(states[0, 2:6].reshape(2, 2) - warp).max() < 0.01
    assert states[0, 6] == pytest.approx(1.25, rel=0.01)


def test_stated_noise_is_the_true_one():
    pattern, xy, noise = Pattern(5), np.array([[48.0, 48.0]]), 4.0
    references = cut(pattern.picture(), xy)
    misses, stated = [], []
    for seed in range(80):
        states, results, _ = align(pattern.picture(shift=(0.3, 0.2), noise=noise, seed=seed), references, xy)
        misses.append(states[0, :2] - xy[0] - [0.3, 0.2])
        stated.append(results[0, 1])
    true = np.sqrt(np.mean(np.square(misses)))
    assert np.sqrt(np.mean(stated)) / true == pytest.approx(1.0, abs=0.5)


def test_what_cannot_be_registered_says_so():
    pattern = Pattern()
    picture = pattern.picture()
    assert not cut(picture, np.array([[5.0, 48.0], [48.0, 93.0]]))[3].any()
    flat = np.full((96, 96), 90.0, np.float32)
    assert not cut(flat, np.array([[48.0, 48.0]]))[3].any()
    references = cut(picture, np.array([[48.0, 48.0]]))
    assert align(picture, references, np.array([[3.0, 3.0]]))[2][0] == OUTSIDE
    other = np.random.default_rng(9).uniform(0, 255, (96, 96)).astype(np.float32)
    states, results, status = align(other, references, np.array([[48.0, 48.0]]))
    assert status[0] == LOST or results[0, 0] < 0.82
    turned = align(255.0 - picture, references, np.array([[48.0, 48.0]]))
    assert turned[2][0] != OK or turned[1][0, 0] < 0.5


def test_grain_is_measured_and_noise_predicted(rng):
    smooth = np.clip(Pattern(2, 6).picture(size=200), 0, 255)
    for sigma in (1.5, 4.0):
        gray = np.clip(np.round(smooth + rng.normal(0, sigma, smooth.shape)), 0, 255).astype(np.uint8)
        assert grain_sigma(gray) == pytest.approx(sigma, rel=0.35)
    square = np.full((80, 80), 60, np.uint8)
    square[30:50, 30:50] = 180
    noise = position_noise(square, 2.0)
    assert noise[30, 30] < 0.2 * noise[40, 40] and noise[30, 30] < 0.5 * noise[30, 40]
    xy = find_features(square, DetectSettings(count=20, spacing=8, margin=6, threshold=0.2))
    assert len(xy) == 4
    assert np.abs(np.sort(xy[:, 0]) - [30.5, 30.5, 49.5, 49.5]).max() < 4.0
