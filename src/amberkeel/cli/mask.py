"""`keel mask`: mattes."""

import sys
from concurrent.futures import Future, ThreadPoolExecutor
from importlib import import_module
from pathlib import Path
from types import ModuleType

import click

from amberkeel.cli.shared import Bar, fail, frame_range
from amberkeel.core.errors import KeelError
from amberkeel.core.progress import Progress, span

SWITCH_SECONDS = 0.0003
"""After which another thread that waits has its turn."""


class _Coming:
    """A module that comes in on a thread of its own beside other work."""

    def __init__(self, name: str):
        self._name, self._pool = name, ThreadPoolExecutor(1)
        self._coming: Future[ModuleType] | None = None

    def __enter__(self) -> "_Coming":
        return self

    def __exit__(self, *_) -> None:
        self._pool.shutdown()

    def beside(self, progress: Progress) -> Progress:
        """Return a callback that begins it when it is first called: what the work itself needs has come in then."""

        def report(share: float, doing: str) -> None:
            self._coming = self._coming or self._pool.submit(import_module, self._name)
            progress(share, doing)

        return report

    def module(self) -> ModuleType:
        """Return the module once it is there."""
        return self._coming.result() if self._coming else import_module(self._name)


@click.group()
def mask() -> None:
    """Masks on files."""


@mask.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the matte sequence.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@click.option("--format", "kind", type=click.Choice(["png", "exr"]), default="png")
@click.option(
    "--kinds",
    default="moving,swaying,reflection,crossing",
    help="Of moving, swaying (leaves, water), changing (screens, lights), shadow, reflection, crossing.",
)
def propose(plate, out, frames, kind, kinds) -> None:
    """Write mattes of what moves by itself in PLATE: white is masked, one file for every frame."""
    import cv2

    from amberkeel.core.masks.flows import FlowReader
    from amberkeel.core.masks.proposal import check_kinds
    from amberkeel.core.plate.kept import kept
    from amberkeel.core.plate.plate import open_plate

    # Programs that come in hold the interpreter's lock, which flow asks for again and again.
    sys.setswitchinterval(SWITCH_SECONDS)
    # Frames are worked on side by side: OpenCV's own threads would only wait for one another.
    cv2.setNumThreads(1)
    chosen = tuple(kinds.split(","))
    try:
        check_kinds(chosen)
        flows = FlowReader(kept(open_plate(plate, frames)), 1)
        # The pictures are read and their flow is found while what follows features comes in, and the larger part of
        # the program comes in while features are followed.
        flows.begin()
        from amberkeel.core.masks.some_tracks import some_tracks

        with Bar() as report, _Coming("amberkeel.core.masks.propose") as proposing:
            tracks = some_tracks(flows.plate, proposing.beside(span(report, 0.0, 0.2)))
            work = span(report, 0.2, 1.0)
            found, written = proposing.module().propose_plate(flows, tracks, out, kind, work, chosen)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    spans = ", ".join(f"{p.frames[0]}-{p.frames[-1]}" for p in found) or "nothing moves by itself"
    click.echo(f"{len(found)} regions ({spans}); {len(written)} mattes written to {out}.")
