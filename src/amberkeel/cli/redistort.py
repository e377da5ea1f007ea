"""`keel redistort`: straightened pictures bent as the lens saw them."""

from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("pictures")
@click.option("--lens", required=True, type=click.Path(path_type=Path), help="Lens profile of the plate (JSON).")
@click.option(
    "--straight", required=True, type=click.Path(path_type=Path), help="The straight.json that `keel undistort` wrote."
)
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the bent pictures.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@click.option("--filter", type=click.Choice(["linear", "cubic", "lanczos"]), default="cubic")
@click.option(
    "--format", "kind", type=click.Choice(["png", "exr", "tif", "jpg", "dpx"]), help="The pictures' own by default."
)
@encoding_option
def redistort(pictures, lens, straight, out, frames, filter, kind, encoding) -> None:
    """Write straightened PICTURES, or what was rendered on them, as the plate's lens saw them."""
    from amberkeel.core.lens.straighten import StraightenOrder, bend_back
    from amberkeel.core.plate.plate import open_plate
    from amberkeel.core.solve_order import load_profile

    try:
        with Bar() as report:
            opened = open_plate(pictures, frames, encoding)
            order = StraightenOrder(filter=filter, format=kind or "")
            bend_back(opened, load_profile(lens), load_profile(straight), out, order, report)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    click.echo(f"{len(opened.frames)} frames written to {out}.")
