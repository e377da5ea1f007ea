"""`keel project`: the plate on what stands for the set."""

from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("plate")
@click.option("--solve", required=True, type=click.Path(path_type=Path), help="solve.json of the plate.")
@click.option("--world", required=True, type=click.Path(path_type=Path), help="world.json with proxies.")
@click.option("--mode", type=click.Choice(["one", "blend", "median"]), default="median")
@click.option("--frames", callback=frame_range, help="Frames that lend their pictures, as 1001-1072; all by default.")
@click.option("--mattes", default=None, help="Matte sequence; white is left out.")
@click.option(
    "--painted",
    type=click.Path(path_type=Path),
    help="A folder of painted textures, by proxy (p1.png), or one picture.",
)
@click.option("--over", type=int, help="The frame that the one picture was painted over.")
@click.option("--behind", is_flag=True, help="What the mattes show hides the sequence, as if it stood before it.")
@click.option("--sequence", is_flag=True, help="What every frame sees of the textures too, as a sequence with alpha.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the textures.")
@encoding_option
def project(plate, solve, world, mode, frames, mattes, painted, over, behind, sequence, out, encoding) -> None:
    """Project PLATE onto the proxies of a world: textures, and what every frame sees of them."""
    from amberkeel.core.world.project_plate import ProjectFiles, project_plate

    try:
        with Bar() as report:
            order = ProjectFiles(
                plate, solve, world, out, mode, frames, mattes, painted, over, sequence, behind, encoding
            )
            names = project_plate(order, report)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    click.echo(f"{len(names)} files written to {out}: {', '.join(names[:4])}{' …' if len(names) > 4 else ''}")
