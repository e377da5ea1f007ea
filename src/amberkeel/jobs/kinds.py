"""The kinds of jobs: what runs each, with which arguments. A kind is a function in its stage's file and a line here."""

from collections.abc import Callable
from dataclasses import dataclass

from amberkeel.core.errors import KeelError
from amberkeel.core.progress import Progress
from amberkeel.jobs import demo, lens, masks, plate, solve, tracks
from amberkeel.jobs.chain import Arguments
from amberkeel.settings import Settings
from amberkeel.store.typed import read_typed


@dataclass(frozen=True)
class JobKind:
    """A kind of job.

    `run` does a job of a shot by its id and returns the numbers of the jobs that follow from it; `arguments` is the
    model of what it is asked.
    """

    run: Callable[..., list[int]]
    arguments: type[Arguments] = Arguments


KINDS = {
    "ingest": JobKind(plate.ingest),
    "propose": JobKind(masks.propose),
    "accept": JobKind(masks.accept),
    "carry": JobKind(masks.carry_shape, masks.Carry),
    "learn": JobKind(masks.learn, masks.Learn),
    "matte": JobKind(masks.bring_matte, masks.BringMatte),
    "follow": JobKind(tracks.follow, tracks.Features),
    "sight": JobKind(tracks.sight, tracks.Features),
    "hand": JobKind(tracks.hand, tracks.Hand),
    "surface": JobKind(tracks.surface, tracks.Surface),
    "tags": JobKind(tracks.find_tags, tracks.Tags),
    "chart": JobKind(lens.chart, lens.Chart),
    "straighten": JobKind(lens.straighten, lens.Straighten),
    "solve": JobKind(solve.solve, solve.Solve),
    "demo": JobKind(demo.demo, demo.Demo),
    "rest": JobKind(demo.rest),
}


def read_arguments(kind: str, given: dict) -> Arguments:
    """Return what a job of a kind is asked; raises KeelError for an unknown kind or arguments it does not take."""
    if kind not in KINDS:
        raise KeelError(f"There is no job “{kind}”.")
    return read_typed(KINDS[kind].arguments, given, f"Job {kind}")


def work(kind: str, settings: Settings, shot_id: int, given: dict, progress: Progress) -> list[int]:
    """Do a job of a shot; return the numbers of the jobs that follow from it."""
    return KINDS[kind].run(settings, shot_id, read_arguments(kind, given), progress)
