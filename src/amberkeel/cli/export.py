"""`keel export`: a solve, or several of one set, as a package for a recipient."""

from pathlib import Path

import click

from amberkeel.cli.shared import Bar, fail
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("folders", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--recipient", default="layout", help="A recipient's file, or a ready-made one (docs/handoff.md).")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder in which packages lie.")
@click.option("--plate", "plates", multiple=True, help="The plate of each folder, in their order.")
@click.option("--name", default="", help="Of the whole, where several shots of one set go together.")
@click.option("--each", is_flag=True, help="A package for every shot, not one for all.")
@click.option("--reason", default="", help="Why it may leave although a check does not hold.")
@click.option("--sensor-width", default="", help="Width of the filmed part of the sensor, as 24 or 0.98 in.")
def export(folders, recipient, out, plates, name, each, reason, sensor_width) -> None:
    """Write what lies in FOLDERS (solve.json, and world.json or body.json beside it) as a proved package."""
    from amberkeel.core.handoff.export_files import ExportOrder, export_files

    try:
        order = ExportOrder(list(folders), recipient, out, list(plates), name, each, reason, sensor_width)
        with Bar() as report:
            made = export_files(order, report)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    for one in made:
        click.echo(f"{one.folder}")
        for proof in one.proofs:
            seen = "" if proof.px != proof.px else f"{proof.px:.4f} px, "
            click.echo(f"  {proof.format}: read back, {seen}{proof.units:.1g} units")
        for note in one.notes:
            click.echo(f"  {note}")
