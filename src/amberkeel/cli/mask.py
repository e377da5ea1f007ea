"""`keel mask`: mattes."""

import sys
from importlib import import_module
from pathlib import Path
from threading import Thread

import click

from amberkeel.cli.shared import Bar, fail, frame_range
from amberkeel.core.errors import KeelError
from amberkeel.core.progress import Progress, span

SWITCH_SECONDS = 0.0003
"""After which another thread that waits has its turn."""


def _beside(progress: Progress, name: str) -> Progress:
    """Return a callback that brings a module in beside the work from when it is first called: what the work itself
    needs has come in then. Whoever imports the module after that waits for it.
    """
    coming = Thread(target=import_module, args=(name,))

    def report(share: float, doing: str) -> None:
        if coming.ident is None:
            coming.start()
        progress(share, doing)

    return report


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

        with Bar() as report:
            tracks = some_tracks(flows.plate, _beside(span(report, 0.0, 0.2), "amberkeel.core.masks.propose"))
            from amberkeel.core.masks.propose import propose_plate

            found, written = propose_plate(flows, tracks, out, kind, span(report, 0.2, 1.0), chosen)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    spans = ", ".join(f"{p.frames[0]}-{p.frames[-1]}" for p in found) or "nothing moves by itself"
    click.echo(f"{len(found)} regions ({spans}); {len(written)} mattes written to {out}.")
