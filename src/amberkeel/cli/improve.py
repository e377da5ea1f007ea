"""`keel improve`: a plate to its best camera, remedies tried by themselves."""

import time
from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.cli.solve import MOTIONS
from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.wording import checked


@click.command()
@click.argument("plate")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path), help="Folder for the solve's files and report.html."
)
@click.option("--effort", type=click.Choice(["quick", "usual", "thorough"]), default="usual", help="How much is tried.")
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@encoding_option
@click.option("--fps", default=None, help="Frame rate, as 24 or 24000/1001; from the video where it has one.")
@click.option(
    "--pixel-aspect", type=click.FloatRange(0.1, 10.0), default=None, help="Width of a pixel over its height."
)
@click.option(
    "--sensor-width", "sensor_width_mm", type=click.FloatRange(1.0, 200.0), default=None, help="Sensor width, mm."
)
@click.option("--focal", "focal_mm", type=click.FloatRange(1.0, 5000.0), default=None, help="Known focal length in mm.")
@click.option("--distortion", type=click.Choice(["estimate", "none"]), default="estimate")
@click.option("--camera-motion", "motion", type=click.Choice(MOTIONS), default="auto")
@click.option("--mattes", default=None, help="Matte sequence; white is ignored.")
@click.option("--tracks", default=None, help="Begin from this table of tracks (CSV) without following.")
@click.option("--seed", type=int, default=0, help="Of every random choice.")
def improve(out: Path, effort: str, **asked) -> None:
    """Follow and solve PLATE, try what could help, keep what withheld tracks call better, and write a report."""
    from amberkeel.core.improve_plate import improve_plate
    from amberkeel.core.solve_plate import SolveOrder

    if asked["focal_mm"] and not asked["sensor_width_mm"]:
        raise click.UsageError("--focal needs --sensor-width, since millimetres mean nothing without it.")
    began = time.monotonic()
    try:
        with Bar() as report:
            worked = improve_plate(SolveOrder(**asked), effort, report)
        out.mkdir(parents=True, exist_ok=True)
        for name, text in worked.files.items():
            (out / name).write_text(text)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    for trial in worked.improved.trials:
        words = trial.comparison.words if trial.comparison else trial.failed
        click.echo(f"{'Kept' if trial.kept else 'Not kept'}: {trial.remedy.words}. {words}", err=True)
    a, b = worked.first, worked.improved.solution
    click.echo(
        f"RMS {a.rms_px:.3f} to {b.rms_px:.3f} px, check {checked(a.check_rms_px)} to {checked(b.check_rms_px)} in "
        f"{time.monotonic() - began:.0f} s. Written to {out}."
    )
