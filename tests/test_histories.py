"""Edits of every kind in random order: each is one step, undone and done again to the same state, refused ones leave
no trace.
"""

import copy

import numpy as np
import pytest
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.lens import Lens
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import profile_document
from amberkeel.core.tracks import from_pieces
from amberkeel.jobs.masks import make_mask
from amberkeel.store import edits, track_changes
from amberkeel.store.masks import masks_stamp
from amberkeel.store.models import Edit, LensProfile, Mask, Plate, Production, Shot, Track
from amberkeel.store.session import session
from amberkeel.store.tracks import add_run, live_tracks

TRACK = ("name", "kind", "state", "frames", "x", "y", "sigma", "score", "keys", "group", "locked", "made")
MASK = ("name", "colour", "purpose", "on", "first", "last", "margin", "keys", "samples")
SHOT = (
    "datum",
    "groups",
    "lens",
    "profile_id",
    "pinned_id",
    "tracks_stamp",
    "masks_stamp",
    "followed_stamp",
    "lens_stamp",
)
PLATE = ("sensor_width_mm", "pixel_aspect", "focal_mm", "stack", "replaced")


@pytest.fixture
def opened(database):
    with session(database) as live:
        yield live
        live.rollback()


@pytest.fixture
def filled(opened, rng):
    """A shot with a dozen tracks, some with gaps, two shapes and two lens profiles."""
    plate = Plate(source="nowhere", label="x.####.png", first=1001, last=1040, width=640, height=360)
    made = Shot(production=Production(name=f"Histories {rng.integers(1 << 40)}"), name="HIS_010", plate=plate)
    opened.add(made)
    opened.flush()
    pieces = []
    for k in range(12):
        frames = np.array([f for f in range(1001 + k, 1030) if k % 3 or not 1014 <= f <= 1018])
        xy = np.stack([50.0 + 40.0 * k + 0.5 * (frames - 1001), 100.0 + 10.0 * np.sin(frames / 5.0)], 1)
        pieces.append((frames, xy, np.full(len(frames), 0.1), np.ones(len(frames))))
    ids = add_run(opened, made, from_pieces([f"t{k:02d}" for k in range(12)], pieces))
    edits.apply(opened, made.id, "tracks", {"remove": [], "bring": ids, "label": "Follow"})
    for k in range(2):
        points = [[50.0 + 100 * k, 50.0], [120.0 + 100 * k, 50.0], [90.0 + 100 * k, 120.0]]
        mask = make_mask(
            opened,
            made,
            name=f"Shape {k}",
            kind="shape",
            keys={"1001": {"points": points, "by": "hand", "confidence": 1.0}},
        )
        edits.apply(opened, made.id, "masks", {"bring": [mask.id], "label": f"Draw {mask.name}"})
        opened.add(
            LensProfile(
                production_id=made.production_id,
                name=f"Lens {k}",
                document=profile_document(Profile(f"Lens {k}", Lens.centred(640, 360, 500.0 + 50 * k), "typed")),
            )
        )
    opened.flush()
    return made


def picture(opened, shot):
    """Everything an edit may change, as plain values."""
    opened.flush()
    opened.expire_all()
    tracks = {t.id: tuple(copy.deepcopy(getattr(t, c)) for c in TRACK) for t in live_tracks(opened, shot)}
    masks = {
        m.id: tuple(copy.deepcopy(getattr(m, c)) for c in MASK)
        for m in opened.scalars(select(Mask).where(Mask.shot_id == shot.id, ~Mask.removed))
    }
    profiles = {
        p.id: (p.name, copy.deepcopy(p.document), p.removed)
        for p in opened.scalars(select(LensProfile).where(LensProfile.production_id == shot.production_id))
    }
    # A line that was never drawn and one that was taken away are the same.
    lens = {k: v for k, v in (shot.lens or {}).items() if v not in ({}, None)}
    rest = [copy.deepcopy(getattr(shot, c)) for c in SHOT if c != "lens"] + [
        copy.deepcopy(getattr(shot.plate, c)) for c in PLATE
    ]
    return tracks, masks, profiles, lens, rest


def whole_and_sound(opened, shot):
    """What must hold after any edit."""
    for t in live_tracks(opened, shot):
        assert t.frames == sorted(set(t.frames)) and t.frames
        assert {len(getattr(t, c)) for c in ("x", "y", "sigma", "score")} == {len(t.frames)} and set(t.keys) <= set(
            t.frames
        )
    names = [t.name for t in live_tracks(opened, shot)]
    assert len(names) == len(set(names)) and shot.masks_stamp == masks_stamp(opened, shot)


def random_edit(opened, shot, rng):
    """Make one edit of a random kind; raises KeelError where it is refused."""
    rows = live_tracks(opened, shot)
    some = (
        [rows[k].id for k in rng.choice(len(rows), min(len(rows), int(rng.integers(1, 4))), replace=False)]
        if rows
        else []
    )
    one, frame = some[:1], int(rng.integers(1001, 1035))
    masks = list(opened.scalars(select(Mask).where(Mask.shot_id == shot.id)))
    mask, profile = (
        masks[int(rng.integers(len(masks)))],
        opened.scalars(select(LensProfile).where(LensProfile.production_id == shot.production_id)).all()[
            int(rng.integers(2))
        ],
    )
    document = profile_document(Profile(profile.name, Lens.centred(640, 360, float(rng.uniform(400, 700))), "typed"))
    line = {"frame": 1001, "axis": "x", "points": rng.uniform(0, 300, (2, 2)).round(2).tolist()}
    kinds = [
        lambda: edits.apply(
            opened, shot.id, "states", {"states": {["active", "check", "excluded"][int(rng.integers(3))]: some}}
        ),
        lambda: edits.apply(opened, shot.id, "tracks", {"remove": one}),
        lambda: track_changes.cut(opened, shot, {t: list(range(frame, frame + 4)) for t in some}),
        lambda: track_changes.trim(opened, shot, some, frame - 8, frame + 8),
        lambda: track_changes.split(opened, shot, some, frame),
        lambda: track_changes.join(opened, shot, some),
        lambda: track_changes.interpolate(opened, shot, some, 1001, 1040),
        lambda: track_changes.rename(opened, shot, one[0], f"n{rng.integers(6)}"),
        lambda: track_changes.group(opened, shot, some, ["wall", "floor", ""][int(rng.integers(3))], "#aa00cc"),
        lambda: track_changes.hide(opened, shot, "wall", bool(rng.integers(2))),
        lambda: track_changes.lock(opened, shot, one, bool(rng.integers(2))),
        lambda: track_changes.set_up(opened, shot, one[0], {"pattern": [9, 9]}),
        lambda: track_changes.place(opened, shot, frame, (float(rng.uniform(0, 640)), 50.0), {"images": "plate"}),
        lambda: track_changes.key(opened, shot, one[0], frame, (10.0, 20.0) if rng.integers(3) else None),
        lambda: edits.apply(
            opened,
            shot.id,
            "masks",
            {["bring", "remove", "off", "lit"][int(rng.integers(4))]: [mask.id], "label": "Masks"},
        ),
        lambda: edits.apply(
            opened,
            shot.id,
            "mask",
            {
                "id": mask.id,
                "values": {"margin": float(rng.integers(0, 9)), "name": f"M{rng.integers(9)}"},
                "label": "Mask",
            },
        ),
        lambda: edits.apply(
            opened,
            shot.id,
            "mask",
            {"id": mask.id, "values": {"first": 1020, "last": int(rng.integers(1010, 1030))}, "label": "Mask"},
        ),
        lambda: edits.apply(
            opened, shot.id, "copy", {"values": {"replaced": f"place {rng.integers(3)}"}, "label": "Copy"}
        ),
        lambda: edits.apply(opened, shot.id, "datum", {"datum": {"ground": some}, "label": "Ground"}),
        lambda: edits.apply(
            opened,
            shot.id,
            "lens",
            {"lines": {f"X{rng.integers(3)}": line if rng.integers(2) else None}, "label": "Line"},
        ),
        lambda: edits.apply(
            opened,
            shot.id,
            "lens",
            {
                "values": {"crop": float(rng.uniform(0.5, 1.0))},
                "plate": {"pixel_aspect": float(rng.integers(1, 3))},
                "label": "Facts",
            },
        ),
        lambda: edits.apply(
            opened,
            shot.id,
            "lens",
            {"profile": profile.id if rng.integers(3) else None, "datum": {"axes": {"rotations": {}}}, "label": "Use"},
        ),
        lambda: edits.apply(
            opened, shot.id, "profile", {"id": profile.id, "values": {"document": document}, "label": "Change the lens"}
        ),
        lambda: edits.apply(
            opened, shot.id, "profile", {"id": profile.id, "values": {"removed": True}, "label": "Away"}
        ),
        lambda: edits.apply(opened, shot.id, "lens", {"plate": {"first": 3}, "label": "No fact"}),
        lambda: edits.apply(opened, shot.id, "nonsense", {}),
    ]
    kinds[int(rng.integers(len(kinds)))]()


@pytest.mark.parametrize("seed", range(4))
def test_any_history_goes_back_and_forth(opened, filled, seed):
    shot = filled
    rng = np.random.default_rng(seed)
    pictures, refused = [picture(opened, shot)], 0
    for _ in range(70):
        revision = shot.revision
        # As a request would: a refused edit is rolled back whole.
        held = opened.begin_nested()
        try:
            random_edit(opened, shot, rng)
            held.commit()
        except KeelError:
            held.rollback()
            opened.expire_all()
            refused += 1
            assert picture(opened, shot) == pictures[-1] and shot.revision == revision
            continue
        assert shot.revision == revision + 1
        pictures.append(picture(opened, shot))
        whole_and_sound(opened, shot)
    assert len(pictures) > 30 and refused >= 5
    for before in reversed(pictures[:-1]):
        edits.undo(opened, shot.id)
        assert picture(opened, shot) == before
    for after in pictures[1:]:
        edits.redo(opened, shot.id)
        assert picture(opened, shot) == after
    # Back and forth at random, then something new: what was undone is gone, the rest stays.
    at = len(pictures) - 1
    for _ in range(40):
        back = bool(rng.integers(2)) if 0 < at < len(pictures) - 1 else at > 0
        (edits.undo if back else edits.redo)(opened, shot.id)
        at += -1 if back else 1
        assert picture(opened, shot) == pictures[at]
    edits.apply(opened, shot.id, "datum", {"datum": {"origin": [1]}, "label": "Origin"})
    with pytest.raises(KeelError, match="nothing to redo"):
        edits.redo(opened, shot.id)
    edits.undo(opened, shot.id)
    assert picture(opened, shot) == pictures[at]


def test_an_edit_on_an_older_version_is_refused_and_changes_nothing(opened, filled):
    shot = filled
    ids = [t.id for t in live_tracks(opened, shot)][:2]
    seen, before = shot.revision, picture(opened, shot)
    edits.apply(opened, shot.id, "states", {"states": {"excluded": ids}}, seen)
    with pytest.raises(edits.StaleEdit):
        edits.apply(opened, shot.id, "states", {"states": {"check": ids}}, seen)
    count = len(opened.scalars(select(Edit.id).where(Edit.shot_id == shot.id)).all())
    edits.undo(opened, shot.id)
    assert picture(opened, shot) == before and count == 4 and opened.get(Track, ids[0]).state == "active"
