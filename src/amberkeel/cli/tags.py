"""`keel tags`: fiducial tags, as a table."""

from pathlib import Path

import click

from amberkeel.cli.shared import encoding_option, frame_range, written


@click.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="CSV file to write.")
@click.option("--family", default="36h11", help="36h11, 36h10, 25h9 or 16h5.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@encoding_option
@click.option("--corners", is_flag=True, help="The corners of large tags too, as 36h11-0007.1 to .4.")
def tags(plate, out, family, frames, encoding, corners) -> None:
    """Find fiducial tags in PLATE; write their centres as CSV: name, frame, x, y, sigma, state."""
    from amberkeel.core.follow.tags import follow_tags
    from amberkeel.core.handoff.track_table import tracks_csv
    from amberkeel.core.plate.plate import open_plate

    reports = []

    def work(report):
        tracks, found = follow_tags(open_plate(plate, frames, encoding), family, corners, report)
        reports.extend(found)
        return tracks

    written(out, work, tracks_csv)
    for r in reports:
        note = f"; {'; '.join(r.warnings)}" if r.warnings else ""
        click.echo(f"{r.name}  {len(r.frames)} frames, {r.sides[0]:.0f} to {r.sides[2]:.0f} px{note}")
    click.echo(f"{len(reports)} tags written to {out}.")
