"""`keel undistort`: a plate straightened."""

from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("plate")
@click.option("--lens", "profile", required=True, type=click.Path(path_type=Path), help="Lens profile (JSON).")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the straightened pictures.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@click.option("--overscan", default="all", help="all (no pixel lost), crop (no empty pixel), same, or percent as 10.")
@click.option("--filter", type=click.Choice(["linear", "cubic", "lanczos"]), default="cubic")
@click.option(
    "--format",
    "kind",
    type=click.Choice(["png", "exr", "tif", "jpg", "dpx"]),
    default=None,
    help="The plate's own by default.",
)
@click.option(
    "--upright",
    default=None,
    help="A solve.json of a rolling shutter: rows are set upright as the camera turned (not for its travel).",
)
@encoding_option
@click.option("--st-maps", is_flag=True, help="undistort_st.exr and redistort_st.exr too.")
def undistort(plate, profile, out, frames, encoding, overscan, filter, kind, st_maps, upright) -> None:
    """Write PLATE straightened through a lens."""
    from amberkeel.core.lens.straighten import StraightenOrder, straighten_plate
    from amberkeel.core.plate.plate import open_plate
    from amberkeel.core.solve_order import load_path, load_profile

    try:
        share = float(overscan) if overscan not in ("all", "crop", "same") else overscan
    except ValueError as error:
        raise click.UsageError("--overscan is all, crop, same, or a number of percent.") from error
    try:
        path = load_path(upright) if upright else None
        order = StraightenOrder(share, filter, kind or "", st_maps, path)
        with Bar() as report:
            opened = open_plate(plate, frames, encoding)
            canvas = straighten_plate(opened, load_profile(profile), out, order, report)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    click.echo(
        f"{len(opened.frames)} frames of {canvas.width}x{canvas.height} written to {out}; the plate's corner lies at "
        f"{canvas.left}, {canvas.top}."
    )
