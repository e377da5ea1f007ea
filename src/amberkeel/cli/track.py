"""`keel track`: features found and followed, as a table."""

from pathlib import Path

import click

from amberkeel.cli.shared import encoding_option, frame_range, written


@click.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="CSV file to write.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@encoding_option
@click.option("--mattes", default=None, help="Matte sequence; white is ignored.")
@click.option("--count", type=click.IntRange(20, 5000), default=400, help="Features wanted on a frame.")
@click.option(
    "--copy",
    "stack",
    default=None,
    type=click.Path(path_type=Path, exists=True),
    help="JSON list of operations that make the tracking copy.",
)
def track(plate, out, frames, encoding, mattes, count, stack) -> None:
    """Find and follow features in PLATE; write them as CSV: name, frame, x, y, sigma, state.

    Pixels, origin at the top left corner of the picture, y down, centres of pixels at +0.5.
    """
    from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
    from amberkeel.core.foreign.texts import read_json
    from amberkeel.core.handoff.track_table import tracks_csv
    from amberkeel.core.plate.copy import TrackingCopy, read_stack
    from amberkeel.core.plate.plate import matte_reader, open_plate

    def work(report):
        opened = open_plate(plate, frames, encoding)
        for words in opened.odd:
            click.echo(words, err=True)
        keep_off = matte_reader(mattes, opened) if mattes else None
        if stack:
            opened = TrackingCopy(opened, read_stack(read_json(stack)))
        return follow_plate(opened, FollowSettings(DetectSettings(count=count)), keep_off, report)

    tracks = written(out, work, tracks_csv)
    click.echo(f"{len(tracks)} tracks written to {out}.")
