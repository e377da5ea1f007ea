"""What fixes the scene's coordinates: planes, headings, measured lengths, each against a made scene that is known."""

import numpy as np
import pytest
from simulated import moving_camera

from amberkeel.core.errors import WorldError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.world.datum import NO_DEPTH, Datum, Solved, find_datum
from amberkeel.core.world.facts import camera_facts
from amberkeel.core.world.planes import find_planes, fit_plane, plane_under
from amberkeel.core.world.planking import planking
from amberkeel.core.world.probe import card_outlines
from amberkeel.core.world.scale import balance
from amberkeel.core.world.statement import Statement, read_statement, statement_document
from amberkeel.core.world.survey import read_survey


@pytest.fixture
def made(rng):
    """A solve in coordinates of its own, the datum that takes it to the true world, and the true points: thirty on the
    floor, then thirty on a wall, then six above the floor.
    """
    true = Datum(2.5, rotation_exp(np.array([0.3, -1.1, 0.2])), np.array([1.0, 1.7, -0.4]))
    floor = rng.uniform(-4, 4, (30, 3)) * [1, 0, 1] + [0, 0, 6.0]
    wall = rng.uniform(-4, 4, (30, 3)) * [1, 0.4, 0] + [0, 1.6, 11.0]
    loose = rng.uniform(-2, 2, (6, 3)) * [1, 0.2, 1] + [0, 1.0, 6.0]
    world = np.concatenate([floor, wall, loose])
    camera = moving_camera()
    lifted = camera.moved(1.0, np.eye(3), np.array([0.0, 1.6, 0.0]) - camera.positions[0])
    # World up is Y: the made camera's y runs down, so it is turned over.
    turned = lifted.moved(1.0, np.diag([-1.0, -1.0, 1.0]), np.array([0.0, 3.2, 0.0]))
    back = Datum(1.0 / true.scale, true.rotation.T, -true.rotation.T @ true.translation / true.scale)
    solved = Solved(back.camera(turned), np.arange(66), back.apply(world), names={k: f"T{k}" for k in range(66)})
    return solved, world, turned, back


def test_a_ground_levels_places_heads_and_scales(made):
    solved, world, camera, _ = made
    long = float(np.linalg.norm(world[3] - world[4]))
    stated = Statement(
        ground=list(range(12)), origin=[5], directions=[{"tracks": [6, 7], "axis": "x"}],
        distances=[{"tracks": [3, 4], "metres": long}],
    )  # fmt: skip
    found = find_datum(solved, stated)
    out = found.datum.apply(solved.xyz)
    assert np.abs(out[:30, 1]).max() < 1e-9 and np.allclose(out[5], 0.0) and found.ground.rms < 1e-9
    assert np.linalg.norm(out[40] - out[50]) == pytest.approx(np.linalg.norm(world[40] - world[50]))
    way = out[7] - out[6]
    assert way[0] > 0.0 and abs(way[2]) < 1e-9
    assert np.linalg.det(found.datum.rotation) == pytest.approx(1.0)
    assert (found.levelled, found.headed, found.placed, found.scaled) == ("ground", "direction", "track", "distances")
    seen = found.datum.camera(solved.path)
    facts = camera_facts(seen, 24.0)
    assert facts.height[1] == pytest.approx(np.median(camera.positions[:, 1])) and not found.under
    assert facts.travel == pytest.approx(np.linalg.norm(np.diff(camera.positions, axis=0), axis=1).sum())
    card = card_outlines(seen, out[5], 1.0)
    assert len(card) == len(seen.frames) and all(p.shape == (12, 2) for one in card for p in one)
    # Heading: without one the first camera looks along -Z; a second point of an axis turns the other way round.
    plain = find_datum(solved, stated.model_copy(update={"directions": []})).datum
    ahead = plain.camera(solved.path).world_from_camera[0][:, 2]
    assert abs(ahead[0]) < 1e-9 and ahead[2] < 0.0
    turned = find_datum(solved, Statement(ground=list(range(12)), directions=[{"tracks": [7, 6], "axis": "x"}]))
    assert np.allclose(turned.datum.rotation[0], -found.datum.rotation[0])


def test_without_a_ground_two_directions_or_a_hand_do(made):
    solved, world, *_ = made
    # Up along the wall's edge, and an axis across: the third follows.
    own = Solved(
        solved.path, np.arange(4), solved.xyz[[0, 0, 1, 1]] + np.array([[0.0] * 3, *np.eye(3)]), names={}
    )  # fmt: skip
    found = find_datum(
        own, Statement(directions=[{"tracks": [0, 1], "axis": "y"}, {"tracks": [2, 3], "axis": "-z"}])
    ).datum
    ends = found.apply(own.xyz)
    assert np.allclose((ends[1] - ends[0])[[0, 2]], 0.0, atol=1e-9) and ends[1][1] > ends[0][1]
    assert np.linalg.det(found.rotation) == pytest.approx(1.0)
    hand = find_datum(solved, Statement(hand={"turn": [0, 90, 0], "scale": 2.0, "move": [0, 0, 3]})).datum
    assert np.allclose(hand.apply(np.array([1.0, 0, 0])), [0, 0, 1.0], atol=1e-9)
    both = hand.after(found)
    assert np.allclose(both.apply(found.apply(solved.xyz)), hand.apply(solved.xyz))
    assert np.allclose(hand.back(hand.apply(solved.xyz)), solved.xyz)


def test_up_is_turned_over_and_said(made):
    solved, *_ = made
    ground = list(range(12))
    over = find_datum(solved, Statement(ground=ground, flip=True))
    assert over.under and camera_facts(over.datum.camera(solved.path), 24.0).height[1] < 0.0
    # A plumb line drawn the wrong way: noticed, and one turn mends it.
    way = solved.path.world_from_camera[0][:, 1]
    plumb = Solved(solved.path, np.arange(2), np.array([[0.0, 0, 0], way]))
    stated = Statement(directions=[{"tracks": [0, 1], "axis": "y"}])
    assert find_datum(plumb, stated).under
    mended = find_datum(plumb, stated.model_copy(update={"flip": True}))
    assert not mended.under and np.linalg.det(mended.datum.rotation) == pytest.approx(1.0)


def test_a_fifth_of_the_points_may_lie_off_the_ground(made, rng):
    solved, world, *_ = made
    worst = 0.0
    for _ in range(20):
        noisy = world + rng.normal(0, 0.003, world.shape)
        chosen = [*rng.choice(30, 16, False), *rng.choice(np.arange(60, 66), 4, False)]
        plane = fit_plane(noisy[chosen])
        worst = max(worst, np.degrees(np.arccos(min(abs(plane.normal[1]), 1.0))))
        assert not plane.on[16:].any() and plane.on[:16].mean() > 0.8
    assert worst < 0.1
    found = find_datum(solved, Statement(ground=[*range(16), 60, 61, 62, 63]))
    assert [t for t, on in zip(found.ground.tracks, found.ground.on) if not on] == [60, 61, 62, 63]
    assert found.ground.off[16:].min() > 0.0 and found.ground.off_px[16:].min() > 1.0
    # Points that are known badly along one direction count by what they know.
    loose = np.tile(np.diag([0.0, 0.04**2, 0.0]), (30, 1, 1))
    loose[:12] = 0.0
    bent = world[:30] + np.where(np.arange(30)[:, None] < 12, 0.0, rng.normal(0.05, 0.02, (30, 1))) * [0, 1, 0]
    assert abs(fit_plane(bent, loose).normal[1]) > 1.0 - 1e-5


def test_lengths_are_balanced_and_the_wrong_one_is_named():
    true = np.array([1.0, 2.0, 3.0, 2.5])
    units = true / 2.0
    stated = true * [1.001, 0.999, 1.0, 1.3]
    scale = balance(units, 0.001 * units, stated, 0.004 * stated)
    assert scale.factor == pytest.approx(2.0, rel=2e-3) and scale.contradicts.tolist() == [False, False, False, True]
    assert scale.share[3] == pytest.approx(1.0 / 1.3 - 1.0, abs=0.01)
    two = balance(units[:2], 0 * units[:2], stated[:2] * [1.0, 1.2], 0.004 * stated[:2])
    assert two.contradicts.all() and two.sigma < 0.01
    with pytest.raises(WorldError, match="one and the same"):
        balance(np.array([0.0]), np.zeros(1), np.ones(1), np.ones(1))


def test_a_new_solve_keeps_the_datum_and_says_what_it_lacks(made):
    solved, world, *_ = made
    kept = read_statement({"ground": list(range(12)), "origin": [99], "scale": {"tracks": [3, 98], "metres": 2.0}})
    found = find_datum(solved, kept)
    assert found.levelled == "ground" and found.scale is None and found.placed == ""
    assert any("number 99 has no point" in words for words in found.missing) and len(found.missing) == 2
    few = find_datum(solved, Statement(ground=[0, 1, 77]))
    assert few.ground is None and "left out" in few.missing[0]
    flat = find_datum(Solved(solved.path, solved.ids, np.full_like(solved.xyz, np.nan)), kept)
    assert NO_DEPTH in flat.missing and flat.levelled == ""
    named = find_datum(solved, Statement(ground=["T1", "T2", "T3", "T9"], origin=["T4"]))
    assert named.ground.tracks == [1, 2, 3, 9] and named.placed == "track"


def test_what_cannot_be_says_so(made):
    solved, *_ = made
    line = np.arange(12.0).reshape(4, 3)
    for points, words in ((line, "on a line"), (line[:2], "three points"), (np.zeros((4, 3)), "on a line")):
        with pytest.raises(WorldError, match=words):
            fit_plane(points)
    with pytest.raises(WorldError, match="three points"):
        find_datum(solved, Statement(ground=[0, 1]))
    with pytest.raises(WorldError, match="one and the same"):
        find_datum(solved, Statement(directions=[{"tracks": [3, 3], "axis": "x"}]))
    for kept in (
        {"distances": [{"tracks": [1, 2], "metres": 0}]},
        {"ground": [1, 2, 3], "directions": [{"tracks": [1, 2], "axis": "y"}]},
        {"directions": [{"tracks": [1, 2], "axis": "x"}, {"tracks": [3, 4], "axis": "-x"}]}, {"nonsense": 1},
    ):  # fmt: skip
        with pytest.raises(WorldError, match="cannot be"):
            read_statement(kept)
    assert statement_document(Statement()) == {}


def test_drawn_lines_turn_the_scene_and_place_it(made, rng):
    solved, world, camera, _ = made
    frames = camera.frames[[2, -1]].tolist()
    rows = [camera.index_of(f) for f in frames]
    seen = {f: camera.world_from_camera[k] @ rotation_exp(rng.normal(0, 1e-3, 3)) for f, k in zip(frames, rows)}
    axes = {"rotations": {str(f): r.tolist() for f, r in seen.items()} | {"99999": np.eye(3).tolist()}}
    turned = find_datum(solved, read_statement({"axes": axes})).datum
    assert np.allclose(turned.rotation @ solved.path.world_from_camera[0], camera.world_from_camera[0], atol=4e-3)
    assert turned.scale == 1.0 and np.allclose(turned.translation, 0.0)
    axes["place"] = {"frame": frames[0], "xyz": camera.positions[2].tolist()}
    ground = list(range(12))
    grounded = find_datum(solved, read_statement({"axes": axes, "ground": ground}))
    assert grounded.datum.scale == pytest.approx(2.5, rel=1e-6) and grounded.scaled == "lines"
    away = np.abs(grounded.datum.camera(solved.path).positions - camera.positions).max()
    assert away < 0.02 * np.abs(camera.positions).max()
    stray = read_statement({"axes": {"rotations": {"99999": np.eye(3).tolist()}}, "ground": ground})
    assert np.allclose(
        find_datum(solved, stray).datum.rotation, find_datum(solved, Statement(ground=ground)).datum.rotation
    )
    axes["place"]["xyz"][1] = -1.0
    with pytest.raises(WorldError, match="does not stand above"):
        find_datum(solved, read_statement({"axes": axes, "ground": ground}))


def test_planes_are_found_and_shown_under_the_pointer(made, rng):
    solved, world, _, into = made
    more = np.concatenate([world, rng.uniform(-4, 4, (60, 3)) * [1, 0, 1] + [0, 0, 6.0]])
    xyz = into.apply(more + rng.normal(0, 0.004, more.shape))
    found = find_planes(xyz, None, solved.path)
    assert [one.kind for one in found[:2]] == ["ground", "wall"] and found[1].square_to == (0,)
    assert set(range(30)) <= set(found[0].rows.tolist()) and len(found[0].rows) >= 85
    spot = solved.path.project(solved.xyz[12:13], 4)[0]
    under = plane_under(solved.path, 4, spot, xyz)
    up = found[0].plane.normal
    assert under.plane.normal @ up > 0.999 and np.linalg.norm(under.at - solved.xyz[12]) < 0.03 and under.rms_px < 2.0
    shown = planking(solved.path, 4, under.at, under.plane.normal, np.array([0.0, 0, 1.0]))
    assert len(shown.planks) == 6 and shown.length in (0.2, 0.5, 1.0) and np.isfinite(shown.mast).all()
    with pytest.raises(WorldError, match="too few"):
        plane_under(solved.path, 4, spot, xyz[:4])


def test_a_survey_sheet_is_read():
    sheet = "\ufeffName;Length;Unit;Sigma;From;To\nhull;1' 2 1/2\";ft;;;\n# felt pen\nslab;6,4;m;0,005;T1;T2\n"
    hull, slab = read_survey(sheet)
    assert hull.metres == pytest.approx(0.3683) and not hull.placed
    assert (slab.metres, slab.sigma, slab.tracks) == (6.4, 0.005, ["T1", "T2"])
    for text, words in (
        ("a,b\n1,2\n", "no survey sheet"), ("name,length\n", "no lengths"), ("name,length\nx,far\n", "Line 2"),
        ("name,length,unit\nx,1,mile\n", "no unit"), ("name,length\n" + "x,1\n" * 101, "more than 100"),
    ):  # fmt: skip
        with pytest.raises(WorldError, match=words):
            read_survey(text)
