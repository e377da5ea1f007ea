"""`keel together`: shots of one set adjusted in one world."""

import json
from pathlib import Path

import click

from amberkeel.cli.shared import Bar, fail
from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.wording import checked


@click.command()
@click.argument("folders", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--share-lens", is_flag=True, help="All were filmed through one lens with one setting.")
@click.option("--sensor-width", "sensor_mm", type=click.FloatRange(1.0, 200.0), default=None, help="In mm, for USD.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder; each shot gets one in it.")
def together(folders, share_lens, sensor_mm, out) -> None:
    """Adjust shots together: FOLDERS hold solve.json and tracks.csv in one world, the reference first (keel tie)."""
    from amberkeel.core.ties.together_files import together_files

    try:
        with Bar() as report:
            files = together_files(folders, share_lens, sensor_mm, report)
        for name, text in files.items():
            (out / name).parent.mkdir(parents=True, exist_ok=True)
            (out / name).write_text(text)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    for name, text in files.items():
        if name.endswith("together.json"):
            told = json.loads(text)
            rms, check = told["rms_px"], told["check_rms_px"]
            click.echo(
                f"{Path(name).parent}: residual {rms['before']:.3f} px alone, {rms['after']:.3f} px together; check "
                f"residual {checked(check['before'])} and {checked(check['after'])}."
            )
    click.echo(f"Written to {out}.")
