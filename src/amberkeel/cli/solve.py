"""`keel solve`: a plate to a solved camera."""

import json
import time
from pathlib import Path

import click

from amberkeel.cli.shared import Bar, encoding_option, fail, frame_range
from amberkeel.core.errors import KeelError

MOTIONS = ["auto", "free", "nodal", "swing", "plane", "locked"]
STARTS = ("jerkiest", "hand", "known")


def starting(context: click.Context, option: click.Parameter, value: str | None) -> tuple[int, int] | str | None:
    """Return the frames to begin from as they were typed."""
    return value if value in STARTS else frame_range(context, option, value)


def weights_of(_context: click.Context, _option: click.Parameter, values: tuple[str, ...]) -> dict[str, float]:
    """Return by what factor each kind of track counts more, as it was typed."""
    out = {}
    for value in values:
        kind, _, factor = value.partition("=")
        try:
            out[kind] = float(factor)
        except ValueError as error:
            raise click.BadParameter(f"“{value}” is no weight; write hand=4.") from error
    return out


@click.command()
@click.argument("plate")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path), help="Folder for solve.json, camera.usda, points.csv."
)
@click.option("--frames", callback=frame_range, help="First and last frame, as 1001-1072.")
@encoding_option
@click.option("--fps", default=None, help="Frame rate, as 24 or 24000/1001; from the video where it has one.")
@click.option(
    "--pixel-aspect", type=click.FloatRange(0.1, 10.0), default=None, help="Width of a pixel over its height."
)
@click.option(
    "--sensor-width",
    "sensor_width_mm",
    type=click.FloatRange(1.0, 200.0),
    default=None,
    help="Sensor width in mm (for USD and --focal).",
)
@click.option("--focal", "focal_mm", type=click.FloatRange(1.0, 5000.0), default=None, help="Known focal length in mm.")
@click.option("--distortion", type=click.Choice(["estimate", "none"]), default="estimate")
@click.option("--camera-motion", "motion", type=click.Choice(MOTIONS), default="auto")
@click.option("--readout", default="auto", help="Rolling shutter: auto, off, or the share of the frame interval.")
@click.option("--readout-sigma", type=click.FloatRange(0.0, 1.0), default=0.0, help="One sigma of it; 0 holds it.")
@click.option("--constraints", default=None, help="What is known of the set (JSON, docs/constraints.md).")
@click.option(
    "--smooth", default=None, help="How the camera was carried: handheld, dolly, crane, tripod, or one sigma in m/s²."
)
@click.option("--refine", default=None, help="A solve.json, or a camera path (CSV, USD), to begin from.")
@click.option("--hold", default=None, help="A camera path (CSV, USD) that the camera is held to, within a centimetre.")
@click.option(
    "--folds",
    type=int,
    default=0,
    help="Leave out this many parts of the tracks in turn, to judge all of them; 0: none.",
)
@click.option(
    "--radius", type=float, default=10.0, help="Metres at which the points of a camera that does not move are put."
)
@click.option(
    "--start",
    callback=starting,
    default=None,
    help="Two frames to begin from, as 1004-1031; or jerkiest (around that), hand (the tracks led by hand), known (the "
    "points of known coordinates).",
)
@click.option("--within", callback=frame_range, default=None, help="Frames that --refine may change, as 1010-1031.")
@click.option(
    "--weight",
    "weights",
    multiple=True,
    callback=weights_of,
    help="Tracks of a kind (auto, hand, tag) count so many times more, as hand=4; may be given again.",
)
@click.option("--mattes", default=None, help="Matte sequence; white is ignored.")
@click.option(
    "--inside", default=None, help="Matte sequence, white on a body: it is followed and solved, nothing else."
)
@click.option("--camera", default=None, help="The background's solve.json: writes body.json in its world too.")
@click.option(
    "--size",
    default=None,
    help="What tells a body's size: length=TRACK,TRACK,1.20, ground=1003, still=1001-1012 or tie=TRACK,1003,x,y,z.",
)
@click.option("--tracks", default=None, help="Solve from this table of tracks (CSV) without following.")
@click.option(
    "--origin",
    type=click.Choice(["top left", "bottom left"]),
    default="top left",
    help="Where the table counts y from.",
)
@click.option("--lens", default=None, type=click.Path(), help="Lens profile (JSON) whose distortion is held.")
@click.option("--zoom", is_flag=True, help="The focal length changes over frames, smoothly.")
@click.option(
    "--with",
    "beside",
    multiple=True,
    help="A further plate filmed through the same lens; may be given again. Written to OUT/2 and so on.",
)
@click.option("--seed", type=int, default=0, help="Of every random choice.")
def solve(out: Path, **asked) -> None:
    """Follow PLATE (folder, name.####.png or video) and solve its camera."""
    from amberkeel.core.solve_plate import SolveOrder, solve_plate

    if asked["focal_mm"] and not asked["sensor_width_mm"]:
        raise click.UsageError("--focal needs --sensor-width, since millimetres mean nothing without it.")
    if asked["tracks"] and asked["mattes"]:
        raise click.UsageError("--mattes keep features away while following; --tracks are followed already.")
    began = time.monotonic()
    try:
        with Bar() as report:
            files = solve_plate(SolveOrder(**asked), report)
        out.mkdir(parents=True, exist_ok=True)
        for name, text in files.items():
            (out / name).parent.mkdir(exist_ok=True)
            (out / name).write_text(text)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    _tell(json.loads(files["solve.json"]), time.monotonic() - began, out)
    if "body.json" in files:
        from amberkeel.core.ties.bodies.body_file import size_sentence

        click.echo(size_sentence(json.loads(files["body.json"])))


def _tell(q: dict, seconds: float, out: Path) -> None:
    """Say what was found. What says it is loaded once it is needed."""
    from amberkeel.core.handoff.camera_wording import begun_sentence, camera_sentence, standing_sentence
    from amberkeel.core.handoff.evidence_wording import OF_LENS, evidence_sentence, missing_sentence
    from amberkeel.core.handoff.formats import FORMATS
    from amberkeel.core.handoff.wording import checked, folds_sentence
    from amberkeel.core.solve.motions import Rival
    from amberkeel.core.solve.terms import Figure
    from amberkeel.core.solve_order import WRITTEN

    said = camera_sentence(q["camera_motion"], [Rival(**rival) for rival in q["rivals"]])
    figures = [Figure(**figure) for figure in q["terms"]]
    notes = [evidence_sentence(figure) for figure in figures if figure.kind != OF_LENS]
    notes.append(begun_sentence(q["begun"]))
    missing = missing_sentence(q["missing_frames"], [f["frame"] for f in q["frames"]])
    for note in filter(None, [missing, said, standing_sentence(q["standing"]), *notes, *q["lens_report"]["notes"]]):
        click.echo(note, err=True)
    for one in (FORMATS[name] for name in WRITTEN):
        for lack in one.lacking(any(q["lens"]["radial"]), q["shutter"]["readout"]):
            click.echo(f"{one.name}: {lack}", err=True)
    if q["stopped"]:
        click.echo("Stopped early: this is what stood already.", err=True)
    if folds := q["quality"].get("folds"):
        click.echo(folds_sentence(folds), err=True)
    click.echo(
        f"Solved {len(q['frames'])} frame{'s' if len(q['frames']) > 1 else ''} in {seconds:.1f} s: "
        f"RMS {q['quality']['rms_px']:.3f} px, check {checked(q['quality']['check_rms_px'])}, "
        f"focal length {q['lens']['focal_px'][0]:.1f} ±{q['quality']['focal_sigma_px']:.1f} px. Written to {out}."
    )
