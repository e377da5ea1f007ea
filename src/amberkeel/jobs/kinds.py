"""The kinds of jobs: what runs each, with which arguments. A kind is a function in its stage's file and a line here."""

from collections.abc import Callable
from dataclasses import dataclass

from amberkeel.core.errors import KeelError
from amberkeel.core.progress import Progress
from amberkeel.jobs import bodies, casebook, demo, handoff, lens, masks, plate, solve, ties, together, tracks, world
from amberkeel.jobs.chain import Arguments
from amberkeel.settings import Settings
from amberkeel.store.typed import read_typed


@dataclass(frozen=True)
class JobKind:
    """A kind of job.

    `name` is what people read; `run` does a job of a shot by its id; `arguments` is the model of what it is asked. One
    that is `short` never waits behind long ones; one that goes `beside` may run while another job of its shot does.
    """

    name: str
    run: Callable[..., None]
    arguments: type[Arguments] = Arguments
    short: bool = False
    beside: bool = False


KINDS = {
    "ingest": JobKind("Plate coming in", plate.ingest),
    "propose": JobKind("Look for what moves", masks.propose),
    "look": JobKind("Look for what moves, ahead of masks", masks.look),
    "accept": JobKind("Mask what moves", masks.accept, short=True, beside=True),
    "carry": JobKind("Carry a shape", masks.carry_shape, masks.Carry, short=True, beside=True),
    "learn": JobKind("Learn a matte", masks.learn, masks.Learn),
    "matte": JobKind("Bring a matte in", masks.bring_matte, masks.BringMatte),
    "follow": JobKind("Follow features", tracks.follow, tracks.Features),
    "sight": JobKind("Sightings", tracks.sight, tracks.Features),
    "hand": JobKind("Follow a track placed by hand", tracks.hand, tracks.Hand, short=True, beside=True),
    "surface": JobKind("Follow a surface", tracks.surface, tracks.Surface, short=True, beside=True),
    "tags": JobKind("Find tags", tracks.find_tags, tracks.Tags),
    "chart": JobKind("Lens from a grid", lens.chart, lens.Chart),
    "straighten": JobKind("Straighten the plate", lens.straighten, lens.Straighten),
    "solve": JobKind("Solve", solve.solve, solve.Solve, short=True),
    "diagnose": JobKind("Diagnose", casebook.diagnose, short=True, beside=True),
    "trial": JobKind("Try a remedy", casebook.try_remedy, casebook.Try),
    "movie": JobKind("Draw a movie", casebook.movie),
    "improve": JobKind("Work on the shot", casebook.improve, casebook.Improve),
    "slip": JobKind("Measure slip", world.measure, short=True, beside=True),
    "project": JobKind("Project the plate", world.project, world.Project, beside=True),
    "align": JobKind("Align to the set", ties.align, ties.Align),
    "tiepictures": JobKind("Ties from pictures", ties.pictures),
    "tie": JobKind("Tie to the set", ties.tie, ties.Align),
    "together": JobKind("Adjust the set's shots together", together.together, together.Together),
    "body": JobKind("Solve a body", bodies.solve_body, bodies.Body),
    "package": JobKind("Make a package", handoff.package, handoff.Pack, beside=True),
    "adopt": JobKind("Keep a camera of others", handoff.adopt, handoff.Adopt),
    "demo": JobKind("Render a demo plate", demo.demo, demo.Demo),
    "quay": JobKind("Make the set of the quay", demo.quay),
    "rest": JobKind("Turn to the other demo shots", demo.rest),
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
