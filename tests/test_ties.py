"""Shots brought into one world by ties: right ones hold it, a wrong one is named."""

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.errors import TieError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.ties.align import Ties, align, seen_off
from amberkeel.core.ties.located import located
from amberkeel.core.world.datum import Datum

TRUE = Datum(2.4, rotation_exp(np.array([0.5, -1.2, 0.3])), np.array([3.0, -1.0, 7.0]))
BACK = Datum(1 / TRUE.scale, TRUE.rotation.T, -TRUE.rotation.T @ TRUE.translation / TRUE.scale)


def ties_of(rng, count, noise=0.005, covariance=True):
    """Ties between a world and the same in other coordinates, with noise in both; metres in the fixed one."""
    fixed = rng.uniform([-4, 0, -4], [4, 2.5, 4], (count, 3))
    own = BACK.apply(fixed + rng.normal(0, noise, fixed.shape))
    seen = fixed + rng.normal(0, noise, fixed.shape)
    spread = np.tile(np.eye(3), (count, 1, 1)) * noise**2 if covariance else None
    turned = None if spread is None else spread / TRUE.scale**2
    return Ties([f"t{k}" for k in range(count)], own, seen, turned, spread)


def test_a_shot_is_brought_by_its_ties_and_they_say_how_sure_that_is(rng):
    exact = align(ties_of(rng, 6, 0.0, False))
    assert exact.change.scale == pytest.approx(TRUE.scale, rel=1e-9) and exact.rms < 1e-9 and not exact.wrong.any()
    offs, told = [], []
    for _ in range(30):
        found = align(ties_of(rng, 9))
        turn = found.change.rotation @ TRUE.rotation.T
        offs.append([np.log(found.change.scale / TRUE.scale), *(0.5 * (turn - turn.T)[[2, 0, 1], [1, 2, 0]])])
        told.append(np.sqrt(np.diag(found.covariance))[[6, 0, 1, 2]])
    ratio = np.sqrt((np.array(offs) ** 2 / np.array(told) ** 2).mean(0))
    assert (ratio > 0.5).all() and (ratio < 1.6).all(), ratio
    assert not np.linalg.det(found.change.rotation) < 0 and found.notes == ()
    three = align(ties_of(rng, 3))
    assert "six or more" in three.notes[0] and np.isnan(three.decides).all()


def test_one_wrong_tie_is_named(rng):
    for count, off, covariance in ((8, 0.25, False), (8, 0.1, True), (6, 0.1, True)):
        named = extra = 0
        for _ in range(12):
            ties = ties_of(rng, count, 0.005, covariance)
            wrong = rng.integers(count)
            way = rng.normal(size=3)
            ties.fixed[wrong] += off * way / np.linalg.norm(way)
            found = align(ties)
            named += bool(found.wrong[wrong])
            extra += int(found.wrong.sum() - found.wrong[wrong])
        assert named >= 11 and extra <= 3, (count, covariance, named, extra)
    assert f"contradict it: t{wrong}" in " ".join(found.notes)


def test_ties_that_align_nothing_say_what_to_do(rng):
    ties = ties_of(rng, 8)

    def some(rows, **more):
        return Ties(ties.names[: len(rows)], more.get("own", ties.own)[rows], more.get("fixed", ties.fixed)[rows])

    with pytest.raises(TieError, match="2 ties cannot"):
        align(some(np.arange(2)))
    line = np.linspace(0, 1, 8)[:, None] * [1.0, 2.0, -1.0]
    with pytest.raises(TieError, match="on a line"):
        align(some(np.arange(5), own=line, fixed=line))
    near = line + rng.normal(0, 0.03, line.shape)
    assert any("almost on a line" in words for words in align(Ties(ties.names, near, near)).notes)
    with pytest.raises(TieError, match="contradict each other"):
        align(Ties(ties.names, ties.own, rng.uniform(-4, 4, (8, 3)), np.zeros((8, 3, 3)), np.zeros((8, 3, 3))))
    lever = ties_of(rng, 8)
    lever.fixed[0] *= 12.0
    lever.own[:] = BACK.apply(lever.fixed + rng.normal(0, 0.005, lever.fixed.shape))
    assert int(np.nanargmax(align(lever).decides)) == 0, "the far one decides most"


def test_a_spot_is_located_by_a_known_camera(rng):
    path = moving_camera(30)
    points = cloud(rng, 40)
    tracks = observe(path, points, 0.2, rng)
    apart = []
    for t, name in enumerate(tracks.names):
        own = slice(int(tracks.first[t]), int(tracks.first[t + 1]))
        found = located(path, path.rows_of(tracks.frames[own]), tracks.xy[own], np.full(own.stop - own.start, 0.2))
        off = found.xyz - points[int(name[1:])]
        apart.append(off @ np.linalg.inv(found.covariance) @ off / 3.0)
        assert found.rms < 0.35
    assert 0.6 < np.mean(apart) < 1.5
    assert located(path, np.array([3]), np.array([[100.0, 100.0]]), np.ones(1)) is None
    same = np.array([[320.0, 180.0]] * 2)
    assert located(path, np.array([3, 3]), same, np.ones(2)) is None


def test_how_far_ties_lie_off_is_told_in_pixels(rng):
    path = moving_camera(12)
    fixed = cloud(rng, 10)
    ties = Ties([f"t{k}" for k in range(10)], fixed + [0.01, 0, 0], fixed)
    px = seen_off(path, ties, Datum(1.0, np.eye(3), np.zeros(3)))
    known = np.isfinite(px)
    assert known.sum() > 4 and (px[known] > 0.3).all() and (px[known] < 2.0).all()
