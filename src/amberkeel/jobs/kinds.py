"""The kinds of jobs: what runs each, with which arguments. A kind is a function in its stage's file and a line here."""

from collections.abc import Callable

from amberkeel.core.progress import Progress
from amberkeel.jobs import demo, lens, masks, plate, solve, tracks
from amberkeel.settings import Settings

Run = Callable[[Settings, int, dict, Progress], list[int]]
"""Does a job of a shot by its id and arguments; returns the numbers of the jobs that follow from it."""

KINDS: dict[str, Run] = {
    "ingest": plate.ingest,
    "propose": masks.propose,
    "accept": masks.accept,
    "carry": masks.carry_shape,
    "learn": masks.learn,
    "matte": masks.bring_matte,
    "follow": tracks.follow,
    "sight": tracks.sight,
    "hand": tracks.hand,
    "surface": tracks.surface,
    "tags": tracks.find_tags,
    "chart": lens.chart,
    "straighten": lens.straighten,
    "solve": solve.solve,
    "demo": demo.demo,
    "rest": demo.rest,
}
