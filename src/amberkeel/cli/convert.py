"""`keel convert`: pictures from a video, a video from pictures, or another format."""

from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="A folder for pictures, or NAME.mp4.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@click.option("--first", type=int, default=None, help="Number of the first picture; the plate's own by default.")
@click.option(
    "--format", "kind", type=click.Choice(["png", "exr", "tif", "jpg", "dpx"]), help="The plate's own by default."
)
@encoding_option
def convert(plate, out, frames, first, kind, encoding) -> None:
    """Write PLATE (pictures or a video) as pictures, or as a video for review where --out ends in .mp4 or .mov."""
    from amberkeel.core.plate.convert import VIDEOS, write_sequence, write_video
    from amberkeel.core.plate.plate import open_plate

    try:
        with Bar() as report:
            opened = open_plate(plate, frames, encoding)
            if out.suffix.lower() in VIDEOS:
                write_video(opened, out, progress=report)
            else:
                write_sequence(opened, out, kind or "", first, report)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    click.echo(f"{len(opened.frames)} frames written to {out}.")
