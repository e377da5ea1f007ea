"""`keel render`: a demo plate with its mattes and its truth."""

from pathlib import Path

import click

from amberkeel.cli.shared import Bar

SHOTS = [f"SKL_{number}" for number in ("010", "020", "030", "040", "050", "070", "080", "090")]


@click.command()
@click.argument("shot", type=click.Choice(SHOTS))
@click.option(
    "--out", required=True, type=click.Path(path_type=Path), help="Folder for plate/, mattes/ and truth.json."
)
@click.option("--count", type=int, default=None, help="Frames to render; all by default.")
def render(shot, out, count) -> None:
    """Render a demo shot with its mattes and its truth."""
    from amberkeel.core.sim.write import write_shot

    with Bar() as report:
        write_shot(shot, out, report, count)
    click.echo(f"{shot} rendered to {out}.")
