"""Shots adjusted with one lens, the held-out test of a lens, boxes, and grids of other kinds than a chessboard."""

from dataclasses import replace

import numpy as np
import pytest
from simulated import cloud, moving_camera, observe

from amberkeel.core.errors import LensError, SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.wording import sentence
from amberkeel.core.lens import Lens
from amberkeel.core.lens.box import BoxPose, box_lines, boxes_of, guessed_pose, new_box, settle_box
from amberkeel.core.lens.chart import calibrate
from amberkeel.core.lens.drawn import LensOrder, read_lines
from amberkeel.core.lens.fit import fit_lens
from amberkeel.core.lens.profile import LensProfile, profile_document, read_profile
from amberkeel.core.lens.views import ChartOrder, find_views
from amberkeel.core.sim.grids import chess, dots, filmed, tags
from amberkeel.core.solve.held_lens import straight_px
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.shared_lens import SharedShot, solve_together
from amberkeel.core.solve.solve import solve_tracks


def take(name, rng, focal=700.0, k1=-0.08, step=0.08, **order):
    """A simulated shot: its path, and it as something to solve."""
    path = moving_camera(24, focal, k1, step)
    return path, SharedShot(name, observe(path, cloud(rng, 110), 0.15, rng), path.frames, 640, 360, **order)


def alone(shot, recipe=None):
    return solve_tracks(shot.tracks, shot.frames, shot.width, shot.height, recipe or shot.recipe)


def test_two_shots_sharpen_their_one_lens(rng):
    (_, near), (_, still) = take("near", rng), take("still", rng, step=0.006)
    singles, both = [alone(s) for s in (near, still)], solve_together([near, still])
    lens = both[0].path.lens
    assert lens == both[1].path.lens and [s.recipe.shared_with for s in both] == [("still",), ("near",)]
    assert both[0].focal_sigma_px == pytest.approx(both[1].focal_sigma_px)
    assert both[0].focal_sigma_px < 0.9 * min(s.focal_sigma_px for s in singles)
    assert (
        abs(lens.focal_px[0] - 700.0) < 3.0 * both[0].focal_sigma_px
        and abs(lens.radial[0] + 0.08) < 3.0 * both[0].k1_sigma
    )
    assert not any("same lens" in sentence(note) for s in both for note in s.lens_report.notes)
    for one, shared in zip(singles, both):
        assert shared.rms_px == pytest.approx(one.rms_px, rel=0.03) and np.isfinite(shared.position_sigma).all()
    # What one shot knows, the other has too: a focal length that is fixed for one is fixed for both.
    known = solve_together([replace(near, recipe=Recipe(focal_px=700.0)), still])
    assert known[1].path.lens.focal_px[0] == 700.0 and known[1].focal_sigma_px == 0.0


def test_shots_that_cannot_share_a_lens_say_so(rng):
    (_, one), (_, other) = take("one", rng), take("other", rng, focal=1000.0, k1=0.0)
    notes = solve_together([one, other])[0].lens_report.notes
    assert any("same lens" in sentence(note) for note in notes)
    for shots, words in (
        ([one], "shares its lens with nobody"),
        ([one] * 21, "too many"),
        ([one, replace(other, width=1280, height=720)], "pixels mean different things"),
        ([one, replace(other, recipe=Recipe(zoom=True))], "zoom"),
        ([one, replace(other, recipe=Recipe(held_lens=Lens.centred(640, 360, 700.0)))], "different lens profiles"),
        ([one, replace(other, tracks=observe(moving_camera(24), cloud(rng, 4), 0.1, rng))], "other does not solve"),
    ):
        with pytest.raises(SolveError, match=words):
            solve_together(shots)


def test_tracks_held_out_say_what_a_shot_tells_of_its_lens(rng):
    _, good = take("good", rng)
    report = alone(good).lens_report
    assert {t.name for t in report.trials} == {"focal", "k1"} and all(
        t.determined and t.after_px > t.before_px for t in report.trials
    )
    assert all(v.determined for v in report.values if v.free) and not report.notes
    _, thin = take("thin", rng, k1=0.0, step=0.002)
    report = alone(thin, Recipe(motion="free")).lens_report
    focal = next(v for v in report.values if v.name == "focal")
    assert not focal.determined and any("focal length" in sentence(note) for note in report.notes)
    assert not any(t.determined for t in report.trials if t.name == "k1")
    fixed = alone(good, Recipe(focal_px=700.0, distortion="none")).lens_report
    assert not fixed.trials and fixed.names == ["depth"]


def test_near_and_far_are_not_exchanged_with_little_parallax():
    scores = []
    for seed in range(4, 9):
        rng = np.random.default_rng(seed)
        path, thin = take("thin", rng, k1=0.0, step=0.004)
        for recipe in (Recipe(motion="free"), Recipe(motion="free", focal_px=700.0)):
            found = alone(thin, recipe)
            first = int(thin.tracks.frames[0])
            true = cloud(np.random.default_rng(seed), 110)[[int(n[1:]) for n in found.tracks.names]]
            depth = np.linalg.norm(found.points.positions() - found.path.positions[found.path.index_of(first)], axis=1)
            held = np.isfinite(depth)
            assert np.corrcoef(1.0 / depth[held], 1.0 / np.linalg.norm(true[held], axis=1))[0, 1] > 0.8
            if found.focal_sigma_px:
                scores.append((found.path.lens.focal_px[0] - 700.0) / found.focal_sigma_px)
    assert np.abs(scores).max() < 3.5


def test_a_softly_known_focal_length_starts_a_shot_with_little_parallax(rng):
    _, still = take("still", rng, step=0.006)
    found = alone(still, Recipe(lens={"focal": LensChoice("soft", 697.0, 8.0), "k1": LensChoice("soft", -0.08, 0.01)}))
    assert found.path.lens.focal_px[0] == pytest.approx(700.0, abs=20.0)


def true_box(rng):
    """A lens and pose, and a box's corners seen through them."""
    pose = BoxPose(
        Lens.centred(960, 540, 1000.0, -0.1),
        guessed_pose(960, 540).rotation @ rotation_exp(np.array([0.1, -0.3, 0.05])),
    )
    return pose, new_box(pose, np.array([250.0, 430.0]), np.array([620.0, 130.0]))


def test_a_box_s_corners_follow_those_that_were_dragged(rng):
    pose, true = true_box(rng)
    dragged = np.array([True, True, True, False, True, False, False, False])
    start = true + rng.normal(0, 25.0, true.shape) * ~dragged[:, None]
    settled, _ = settle_box(start, dragged, pose, True)
    assert settled[dragged] == pytest.approx(true[dragged]) and np.abs(settled - true).max() < 2.0
    # Without a lens it is found on the way, near enough to go on dragging.
    now, done, seen = (
        new_box(guessed_pose(960, 540), [300.0, 400.0], [600.0, 150.0]),
        np.zeros(8, bool),
        guessed_pose(960, 540),
    )
    for corner in (0, 1, 2, 3, 4, 6, 5):
        now[corner], done[corner] = true[corner], True
        now, seen = settle_box(now, done, seen, False)
        assert ((now > [-48, -27]) & (now < [1008, 567])).all()
    assert np.abs(now[7] - true[7]).max() < 6.0
    with pytest.raises(LensError, match="spans no face"):
        new_box(pose, [10.0, 10.0], [400.0, 11.0])


def test_a_box_s_edges_are_axis_lines(rng):
    lens = Lens.centred(960, 540, 1000.0)
    true = new_box(
        BoxPose(lens, true_box(rng)[0].rotation), np.array([250.0, 430.0]), np.array([620.0, 130.0])
    ) + rng.normal(0, 0.3, (8, 2))
    none = box_lines("Box 1", 7, true, np.zeros(8, bool))
    assert len(none) == 12 and read_lines(list(none.values()), 960, 540) == []
    lines = box_lines("Box 1", 7, true, np.ones(8, bool))
    corners, dragged = boxes_of(lines, 7)["Box 1"]
    assert corners == pytest.approx(true, abs=1e-3) and dragged.all() and boxes_of(lines, 8) == {}
    found = fit_lens(read_lines(list(lines.values()), 960, 540), LensOrder(960, 540, radial=0))
    assert found.focal_known and found.lens.focal_px[0] == pytest.approx(1000.0, rel=0.1)
    assert abs(found.lens.focal_px[0] - 1000.0) < 3.0 * found.focal_sigma_px


RADIAL = replace(Lens.centred(640, 360, 600.0), radial=(-0.12, 0.04, 0.0), principal_px=(326.0, 176.0))
SQUEEZED = replace(
    Lens.centred(640, 480, 1100.0),
    focal_px=(600.0, 1150.0),
    two_axis=(-0.06, -0.02, 0.0, 0.0, 0.0, -0.03, -0.05, 0.0, 0.0, 0.0),
)


@pytest.mark.parametrize(
    ("lens", "paint", "order", "middle", "spread", "reach", "count", "map_px"),
    [
        (RADIAL, dots(), ChartOrder(9, 6, 25.0, "dots"), (100, 62), (50, 20), (360, 450), 7, 0.15),
        (RADIAL, tags(6, 4, 30.0), ChartOrder(6, 4, 30.0, "tags"), (108, 70), (50, 20), (360, 450), 7, 0.15),
        (
            RADIAL,
            tags(1, 1, 110.0, first=5),
            ChartOrder(0, 0, 110.0, "loose", radial=1),
            (55, 55),
            (120, 60),
            (360, 450),
            24,
            2.0,
        ),
        (SQUEEZED, chess(), ChartOrder(9, 6, 25.0, anamorphic=True), (100, 62), (80, 25), (560, 700), 9, 0.2),
    ],
    ids=["dots", "board of tags", "loose tags", "anamorphic"],
)
def test_grids_of_every_kind_tell_the_lens(lens, paint, order, middle, spread, reach, count, map_px, rng):
    pictures = []
    for k in range(count):
        rotation = rotation_exp(np.array([rng.uniform(-0.6, 0.6), rng.uniform(-0.6, 0.6), rng.uniform(-0.3, 0.3)]))
        shift = np.array([*(rng.uniform(-s, s) for s in spread), rng.uniform(*reach)]) - rotation @ np.array(
            [*middle, 0.0]
        )
        pictures.append((f"grid {k}", filmed(lens, rotation, shift, paint, rng)))
    views, (width, height) = find_views(pictures, order)
    found = calibrate(views, width, height, order)
    assert found.lens.focal_px == pytest.approx(lens.focal_px, rel=0.015 if order.pattern == "loose" else 0.004)
    assert abs(found.lens.focal_px[0] - lens.focal_px[0]) < 4.0 * found.sigma["focal_px"] and not found.astray.any()
    x, y = np.meshgrid(np.linspace(0, width, 20), np.linspace(0, height, 12))
    px = np.stack([x, y], -1).reshape(-1, 2)
    assert np.sqrt(((straight_px(found.lens, px) - straight_px(lens, px)) ** 2).sum(1).mean()) < map_px


def test_values_typed_into_a_profile_say_so_and_are_checked():
    told = LensProfile("Wide", RADIAL, "chart", True, 1.5, 24.0, {"k1": 0.002})
    typed = told.retyped({"k1": (-0.1, 0.01), "focal": (620.0, 3.0), "cx": (320.0, 1.0)}, True)
    again = read_profile(profile_document(typed))
    assert again == typed and set(again.sources) == {"k1", "focal", "cx"} and told.sources == {}
    assert (
        typed.lens.focal_px == (620.0, 620.0) and typed.lens.radial == (-0.1, 0.04, 0.0) and typed.sigma["k1"] == 0.01
    )
    assert told.retyped({}, False).focal_sigma_px == 0.0
    for values, words in (
        ({"division": (0.1, 0.0)}, "has no division"),
        ({"k1": (np.nan, 0.0)}, "cannot be"),
        ({"k1": (-9.0, 0.0)}, "fold"),
        ({"focal": (-5.0, 0.0)}, "impossible"),
    ):
        with pytest.raises(LensError, match=words):
            told.retyped(values, True)
