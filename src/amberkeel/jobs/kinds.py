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

    `run` does a job of a shot by its id; `arguments` is the model of what it is asked. One that is `short` never waits
    behind long ones; one that goes `beside` may run while another job of its shot does.
    """

    run: Callable[..., None]
    arguments: type[Arguments] = Arguments
    short: bool = False
    beside: bool = False


KINDS = {
    "ingest": JobKind(plate.ingest),
    "propose": JobKind(masks.propose),
    "accept": JobKind(masks.accept, short=True, beside=True),
    "carry": JobKind(masks.carry_shape, masks.Carry, short=True, beside=True),
    "learn": JobKind(masks.learn, masks.Learn),
    "matte": JobKind(masks.bring_matte, masks.BringMatte),
    "follow": JobKind(tracks.follow, tracks.Features),
    "sight": JobKind(tracks.sight, tracks.Features),
    "hand": JobKind(tracks.hand, tracks.Hand, short=True, beside=True),
    "surface": JobKind(tracks.surface, tracks.Surface, short=True, beside=True),
    "tags": JobKind(tracks.find_tags, tracks.Tags),
    "chart": JobKind(lens.chart, lens.Chart),
    "straighten": JobKind(lens.straighten, lens.Straighten),
    "solve": JobKind(solve.solve, solve.Solve, short=True),
    "demo": JobKind(demo.demo, demo.Demo),
    "rest": JobKind(demo.rest),
}

SHORT = frozenset(name for name, kind in KINDS.items() if kind.short)
BESIDE = frozenset(name for name, kind in KINDS.items() if kind.beside)


def read_arguments(kind: str, given: dict) -> Arguments:
    """Return what a job of a kind is asked; raises KeelError for an unknown kind or arguments it does not take."""
    if kind not in KINDS:
        raise KeelError(f"There is no job “{kind}”.")
    return read_typed(KINDS[kind].arguments, given, f"Job {kind}")


def work(kind: str, settings: Settings, shot_id: int, given: dict, progress: Progress) -> None:
    """Do a job of a shot."""
    KINDS[kind].run(settings, shot_id, read_arguments(kind, given), progress)
