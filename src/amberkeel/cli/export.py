"""`keel export`: a solve, a shot of the running application, or several, as packages for a recipient."""

from pathlib import Path

import click

from amberkeel.cli.shared import DEMO_DATA, Bar, fail
from amberkeel.core.errors import HandoffError, KeelError


@click.command()
@click.argument("what", nargs=-1, required=True)
@click.option("--recipient", default="layout", help="A recipient's file, or a ready-made or saved one by its name.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder in which packages lie.")
@click.option("--reason", default="", help="Why it may leave although a check does not hold.")
@click.option("--plate", "plates", multiple=True, help="Of folders: the plate of each, in their order.")
@click.option("--name", default="", help="Of folders: what the whole is called.")
@click.option("--each", is_flag=True, help="Of folders: a package for every one, not one for all.")
@click.option(
    "--sensor-width", default="", help="Of folders: width of the filmed part of the sensor, as 24 or 0.98 in."
)
@click.option("--whole-set", is_flag=True, help="Of shots: the others of the shot's set go along.")
@click.option("--production", default="", help="Of shots: the production, where a name is in several.")
@click.option("--data", type=click.Path(path_type=Path), help="Of shots: the running application's data folder.")
def export(what, recipient, out, reason, plates, name, each, sensor_width, whole_set, production, data) -> None:
    """Write proved packages of WHAT: folders with solve.json (and world.json or body.json beside it), or names of shots
    of the running application.
    """
    folders = [Path(one) for one in what if Path(one).exists() or len(Path(one).parts) > 1]
    try:
        if folders and len(folders) < len(what):
            raise HandoffError("Folders and names of shots do not go together.", "Export them one after the other.")
        if folders:
            from amberkeel.core.handoff.export_files import ExportOrder, export_files

            order = ExportOrder(folders, recipient, out, list(plates), name, each, reason, sensor_width)
            with Bar() as report:
                written = export_files(order, report)
            for made in written:
                _say(made.folder, [(one.format, one.px, one.units) for one in made.proofs], made.notes)
            return
        asked = {"recipient": recipient, "production": production, "whole_set": whole_set, "reason": reason}
        _shots(data or DEMO_DATA, names=what, out=out, **asked)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")


def _shots(data: Path, **asked) -> None:
    """Have packages made by the running application, as a `ShotsOrder` asks."""
    from amberkeel.jobs.ask_package import ShotsOrder, packages_of_shots
    from amberkeel.settings import join_running

    settings = join_running(data)
    with Bar() as report:
        found = packages_of_shots(settings, ShotsOrder(**asked), report)
    for made in found:
        said = [(proof["format"], proof["px"], proof["units"]) for proof in made.manifest["proof"]]
        _say(made.folder, said, made.manifest["notes"])


def _say(folder: Path, proofs: list[tuple[str, float | None, float]], notes) -> None:
    """Print where a package lies, how each format came back, and what is to be known of it."""
    click.echo(f"{folder}")
    for kind, px, units in proofs:
        seen = "" if px is None or px != px else f"{px:.4f} px, "
        click.echo(f"  {kind}: read back, {seen}{units:.1g} units")
    for note in notes:
        click.echo(f"  {note}")
