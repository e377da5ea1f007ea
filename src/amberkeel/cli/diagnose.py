"""`keel diagnose`: what is weak about a solve, as JSON."""

import json
from pathlib import Path

import click
from pydantic import ValidationError

from amberkeel.cli.shared import fail
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("solve", type=click.Path(path_type=Path))
@click.option(
    "--tracks", default=None, type=click.Path(path_type=Path), help="Its table; tracks.csv beside it if left out."
)
@click.option(
    "--out", default=None, type=click.Path(path_type=Path), help="File for the findings; to the screen if left out."
)
def diagnose(solve: Path, tracks: Path | None, out: Path | None) -> None:
    """Find what is weak about SOLVE (a solve.json with its tracks.csv); write findings as JSON, worst first."""
    import numpy as np

    from amberkeel.core.diagnose.diagnose import diagnose as find
    from amberkeel.core.diagnose.finding import finding_document
    from amberkeel.core.foreign.texts import read_json
    from amberkeel.core.handoff.judged import judged_again
    from amberkeel.core.handoff.solve_file import read_document
    from amberkeel.core.handoff.track_table import Extent, read_tracks_csv

    table = tracks or solve.parent / "tracks.csv"
    try:
        document = read_document(read_json(solve))
        frames = np.array([f["frame"] for f in document["frames"]] + list(document["missing_frames"]))
        extent = Extent(
            np.arange(frames.min(), frames.max() + 1), document["image"]["width"], document["image"]["height"]
        )
        tracks_of = read_tracks_csv(table.read_text(encoding="utf-8-sig"), extent)
        found = find(judged_again(document, tracks_of))
    except KeelError as error:
        fail(str(error))
    except ValidationError:
        fail(f"{solve} is no solve.json of version 2. Give a file as keel solve writes it.")
    except (OSError, UnicodeDecodeError, json.JSONDecodeError) as error:
        name = getattr(error, "filename", None) or solve
        fail(f"{name} cannot be read. Give a solve.json with its tracks.csv beside it.")
    text = json.dumps([finding_document(one) for one in found], indent=1)
    if out is None:
        click.echo(text)
        return
    try:
        out.write_text(text)
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
    click.echo(f"{len(found)} findings written to {out}.")
