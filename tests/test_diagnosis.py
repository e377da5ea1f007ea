"""Faults put into clean simulated shots come out as the right finding; `./keel bench diagnosis` tries many of each."""

import numpy as np
import pytest

from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.finding import SEVERITIES, surety
from benchmarks import diagnosis

SEEDS = (3,)


@pytest.mark.parametrize(
    "fault",
    [
        diagnosis.jump, diagnosis.drift, diagnosis.bad_end, diagnosis.mover, diagnosis.flash, diagnosis.blur,
        diagnosis.doubled, diagnosis.dropped, diagnosis.knock, diagnosis.few, diagnosis.pan, diagnosis.distortion,
        diagnosis.zoom, diagnosis.rolling,
    ],
    ids=lambda fault: fault.__name__,
)  # fmt: skip
def test_a_fault_is_found_where_it_was_put(fault):
    results = [diagnosis.judged(fault, seed) for seed in SEEDS]
    assert all(found and placed for found, placed, _ in results), results


def test_a_clean_shot_has_nothing_above_minor():
    assert [diagnosis.clean(1000 + seed) for seed in SEEDS] == [[]]


def test_findings_are_ranked_and_a_real_solve_is_calm(solution):
    found = diagnose(solution)
    assert [one.rank for one in found] == sorted(one.rank for one in found)
    assert not [one for one in found if one.severity == SEVERITIES[0]]
    frames = set(solution.path.frames.tolist())
    for one in found:
        assert set(one.frames) <= frames and set(one.tracks) <= set(solution.tracks.ids.tolist())
        assert one.text.endswith(".") and 0.0 <= one.confidence <= 1.0
    assert np.isclose(surety(1.0, 1.0), 0.5) and surety(3.0, 1.0) == 0.9


def test_a_shot_of_one_depth_says_so():
    made = diagnosis.scene(8)
    made.points[:, 2] = 11.0 + 0.05 * made.points[:, 2]
    made.px = diagnosis._seen(made.path, made.points)
    found, _ = diagnosis._diagnosed(made)
    assert "one-depth" in [one.kind for one in found]
