"""Everything killed in the middle of work, in a short form; `./keel bench faults` is the long one."""

import os

from benchmarks.faults import with_kills


def test_each_job_takes_effect_once_and_no_answered_edit_is_lost_whatever_dies(tmp_path_factory, monkeypatch):
    for name in [name for name in os.environ if name.startswith("AMBERKEEL_")]:
        monkeypatch.setenv(name, os.environ[name])
    victims = ["worker-all", "worker-people", "postgres", "redis", "web", "worker-all"]
    left = with_kills(tmp_path_factory.mktemp("faults"), jobs=10, shots=3, edits=60, victims=victims)
    assert set(left.states) <= {"done", "interrupted"} and left.states["done"] >= 8
    assert (left.wrong, left.lost) == (0, 0)
