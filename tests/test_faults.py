"""Everything killed in the middle of work, and many people at once, in a short form;
`./keel bench faults` and `./keel bench load` are the long ones.
"""

import os

from benchmarks.faults import with_kills
from benchmarks.load import under_load


def test_each_job_takes_effect_once_and_no_answered_edit_is_lost_whatever_dies(tmp_path_factory, monkeypatch):
    for name in [name for name in os.environ if name.startswith("AMBERKEEL_")]:
        monkeypatch.setenv(name, os.environ[name])
    victims = ["worker-all", "worker-people", "postgres", "redis", "web", "worker-all"]
    left = with_kills(tmp_path_factory.mktemp("faults"), jobs=10, shots=3, edits=60, victims=victims)
    assert set(left.states) <= {"done", "interrupted"} and left.states["done"] >= 8
    assert (left.wrong, left.lost) == (0, 0)


def test_many_people_on_one_shot_lose_no_edit(tmp_path_factory, monkeypatch):
    for name in [name for name in os.environ if name.startswith("AMBERKEEL_")]:
        monkeypatch.setenv(name, os.environ[name])
    done = under_load(tmp_path_factory.mktemp("load"), streams=60, people=6, seconds=6.0, least=12)
    assert set(done.statuses) == {200} and done.answered == done.kept > 10 and done.told > 60
