"""How far the tracks are from a camera, as the page says it while one places them."""

import pytest
from scripts import run_module


def tracks(*spans, states=None, frames=20):
    """Tracks as the page has them, each on a range of frames from 1001 on."""
    own, row, live = [], [], [0] * frames
    for t, (a, b) in enumerate(spans):
        for frame in range(a, b + 1):
            own.append(frame)
            row.append(t)
            live[frame - 1001] += 1
    return {
        "ids": list(range(11, 11 + len(spans))),
        "frames": own, "track": row, "live": live, "origin": 1001, "states": states or ["active"] * len(spans),
    }  # fmt: skip


WHOLE = (1001, 1020)


@pytest.mark.parametrize(
    ("given", "said"),
    [
        (tracks(), "0 of 8 for a camera."),
        (tracks(*[WHOLE] * 6), "6 of 8 for a camera."),
        (tracks(*[WHOLE] * 9, states=["excluded"] * 3 + ["active"] * 6), "6 of 8 for a camera."),
        (tracks(*[WHOLE] * 8), "8 tracks: enough for a camera on all frames."),
        (tracks(*[WHOLE] * 3, *[(1001, 1010)] * 6), "9 tracks: enough for a camera. Frames 1011–1020 lack 2."),
        (tracks(*[WHOLE] * 4, *[(1001, 1019)] * 6), "10 tracks: enough for a camera. Frame 1020 lacks 1."),
        (
            tracks(*[WHOLE] * 4, *[(1004, 1012)] * 6),
            "10 tracks: enough for a camera. Frames 1013–1020 lack 1; so does another stretch.",
        ),
        (tracks(*[WHOLE] * 40), ""),
    ],
)
def test_it_is_said_how_many_are_lacking_and_where(given, said):
    assert run_module("tracks/reach", "return m.reach(a)", given) == said


def anchored(count, **changed):
    """Known coordinates of the first tracks."""
    return [{"kind": "anchor", "on": True, "track": 11 + k, "xyz": [1, 2, 3]} | changed for k in range(count)]


@pytest.mark.parametrize(
    ("count", "known", "constraints", "said"),
    [
        (6, 1, [], "6 of 7 for a camera."),
        (5, 2, [], "5 of 6 for a camera."),
        (6, 2, [], "6 tracks: enough for a camera on all frames."),
        (5, 0, anchored(3), "5 of 8 for a camera, or 3 of 6 known points."),
        (5, 1, anchored(4), "4 known points: enough for a camera."),
        (6, 0, anchored(6), "6 known points: enough for a camera."),
        (6, 0, anchored(6, on=False), "6 of 8 for a camera."),
        (6, 0, anchored(6, xyz=[1, None, 3]), "6 of 8 for a camera."),
        (6, 0, anchored(6, kind="line"), "6 of 8 for a camera."),
        (9, 0, anchored(3), "9 tracks: enough for a camera on all frames."),
    ],
)
def test_what_is_known_lowers_what_is_needed(count, known, constraints, said):
    given = [tracks(*[WHOLE] * count), known, constraints]
    assert run_module("tracks/reach", "return m.reach(...a)", given) == said


def test_how_much_of_the_lens_is_known():
    asked = [["unknown", "estimate"], ["start", "none"], ["known", "estimate"], ["known", "none"], ["known", "profile"]]
    assert run_module("tracks/reach", "return a.map((one) => m.lensKnown(...one))", asked) == [0, 0, 1, 2, 2]


def test_runs_of_frames_are_told_apart():
    runs = run_module("tracks/reach", "return m.lacking([5, 4, 2, 6, 0], 1001)")
    assert runs == [[1002, 1003, 2], [1005, 1005, 0]]
    assert run_module("tracks/reach", "return m.lacking([], 1001)") == []
