"""`keel judge`: how well anybody's camera fits a plate."""

import json
from pathlib import Path

import click

from amberkeel.cli.shared import Bar, fail
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("plate")
@click.option("--camera", required=True, type=click.Path(path_type=Path), help="USD, glTF, COLLADA, CSV or solve.json.")
@click.option("--tracks", required=True, type=click.Path(path_type=Path), help="Table of tracks of this plate.")
@click.option("--lens", "profile", default=None, type=click.Path(path_type=Path), help="Lens profile: its distortion.")
@click.option("--name", default="", help="Of the camera, where the file has several.")
@click.option("--offset", default=0, help="What was added to the plate's frame numbers.")
@click.option("--out", default=None, type=click.Path(path_type=Path), help="File for all figures, as JSON.")
def judge(plate, camera, tracks, profile, name, offset, out) -> None:
    """Print how well a camera fits the tracks of PLATE, pixels."""
    from amberkeel.core.handoff.judge import camera_for, judged
    from amberkeel.core.handoff.track_table import Extent, read_tracks_csv
    from amberkeel.core.plate.plate import open_plate
    from amberkeel.core.solve_order import load_profile

    try:
        opened = open_plate(plate)
        lens = load_profile(profile).rescaled(opened.width, opened.height).lens if profile else None
        path = camera_for(camera, opened, lens, name, offset)
        table = tracks.read_text(encoding="utf-8-sig")
        with Bar() as report:
            found = judged(path, read_tracks_csv(table, Extent(opened.frames, opened.width, opened.height)), report)
    except KeelError as error:
        fail(str(error))
    except (OSError, UnicodeDecodeError):
        fail(f"{tracks.name} cannot be read. Give a table as keel track writes it.")
    click.echo(
        f"{found.rms_px:.3f} px RMS over {found.tracks} tracks, {found.median_px:.3f} px in the middle, "
        f"{100 * found.outliers:.1f} % of the measurements do not agree."
    )
    worst = ", ".join(f"{frame} ({px:.2f} px)" for frame, px in found.worst_frames())
    click.echo(f"Worst frames: {worst}.")
    if out is not None:
        document = {
            "rms_px": found.rms_px, "median_px": found.median_px, "outlier_share": found.outliers,
            "frames": [{"frame": int(f), "rms_px": None if px != px else px}
                       for f, px in zip(found.frames.tolist(), found.frame_px.tolist())],
            "tracks": [{"track": n, "rms_px": None if px != px else px}
                       for n, px in zip(found.names, found.track_px.tolist())],
        }  # fmt: skip
        try:
            out.write_text(json.dumps(document, indent=1) + "\n")
        except OSError as error:
            fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
