"""The command line: what the browser does, on files, for scripts and farms."""

import json
import math
import sys
import time
from pathlib import Path

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from amberkeel.core.errors import KeelError


@click.group()
def main() -> None:
    """Amber Keel: matchmoving for the shots that would not solve."""


def _frame_range(_context, _option, value: str | None) -> tuple[int, int] | None:
    if value is None:
        return None
    first, dash, last = value.partition("-")
    if not (dash and first.isdigit() and last.isdigit() and int(first) < int(last)):
        raise click.BadParameter("write first and last frame as 1001-1072")
    return int(first), int(last)


@main.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for solve.json, camera.usda, points.csv.")
@click.option("--frames", callback=_frame_range, help="First and last frame, as 1001-1072.")
@click.option("--fps", default=None, help="Frame rate, as 24 or 24000/1001; from the video where it has one.")
@click.option("--pixel-aspect", type=click.FloatRange(0.1, 10.0), default=None, help="Width of a pixel over its height.")
@click.option("--sensor-width", type=click.FloatRange(1.0, 200.0), default=None, help="Sensor width in mm (for USD and --focal).")
@click.option("--focal", type=click.FloatRange(1.0, 5000.0), default=None, help="Known focal length in mm.")
@click.option("--distortion", type=click.Choice(["estimate", "none"]), default="estimate")
@click.option("--camera-motion", type=click.Choice(["auto", "free", "nodal"]), default="auto")
@click.option("--mattes", default=None, help="Matte sequence; white is ignored.")
@click.option("--tracks", default=None, help="Solve from this table of tracks (CSV) without following.")
@click.option("--origin", type=click.Choice(["top left", "bottom left"]), default="top left", help="Where the table counts y from.")
@click.option("--lens", default=None, type=click.Path(), help="Lens profile (JSON) whose distortion is held.")
@click.option("--zoom", is_flag=True, help="The focal length changes over frames, smoothly.")
@click.option("--with", "beside", multiple=True, help="A further plate filmed through the same lens; may be given again. Written to OUT/2 and so on.")
@click.option("--seed", type=int, default=0, help="Of every random choice.")
def solve(plate, out, frames, fps, pixel_aspect, sensor_width, focal, distortion, camera_motion, mattes, tracks, origin, lens, zoom, beside, seed) -> None:
    """Follow PLATE (folder, name.####.png or video) and solve its camera."""
    from amberkeel.core.solve_plate import SolveOrder, solve_plate

    if focal and not sensor_width:
        raise click.UsageError("--focal needs --sensor-width, since millimetres mean nothing without it.")
    if tracks and mattes:
        raise click.UsageError("--mattes keep features away while following; --tracks are followed already.")
    order = SolveOrder(plate, frames, fps, pixel_aspect, sensor_width, focal, distortion, camera_motion, mattes, seed, tracks, origin, lens, zoom, beside)
    began = time.monotonic()
    try:
        with _bar() as report:
            files = solve_plate(order, report)
        out.mkdir(parents=True, exist_ok=True)
        for name, text in files.items():
            (out / name).parent.mkdir(exist_ok=True)
            (out / name).write_text(text)
    except KeelError as error:
        _fail(str(error))
    except OSError as error:
        _fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    q = json.loads(files["solve.json"])
    for note in q["lens_report"]["notes"]:
        click.echo(note, err=True)
    click.echo(
        f"Solved {len(q['frames'])} frames in {time.monotonic() - began:.1f} s: "
        f"RMS {q['quality']['rms_px']:.3f} px, check {q['quality']['check_rms_px']:.3f} px, "
        f"focal length {q['lens']['focal_px'][0]:.1f} ±{q['quality']['focal_sigma_px']:.1f} px. Written to {out}."
    )


def _fail(message: str) -> None:
    click.echo(" ".join(message.split()), err=True)
    sys.exit(1)


class _bar:
    """A progress bar as a callback; plain lines where the output is no terminal."""

    def __enter__(self):
        console = Console(stderr=True)
        self.bar = Progress(TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=console, transient=True)
        self.lines = not console.is_terminal
        self.said = ""
        if not self.lines:
            self.bar.start()
            self.task = self.bar.add_task("Opening the plate", total=1.0)
        return self

    def __call__(self, share: float, doing: str) -> None:
        if self.lines:
            word = doing.split(",")[0].rstrip("0123456789 ")
            if word != self.said:
                self.said = word
                click.echo(f"{100 * share:3.0f} %  {doing}", err=True)
        else:
            self.bar.update(self.task, completed=share, description=doing)

    def __exit__(self, *_):
        if not self.lines:
            self.bar.stop()


@main.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="CSV file to write.")
@click.option("--frames", callback=_frame_range, help="First and last frame, as 1001-1072.")
@click.option("--mattes", default=None, help="Matte sequence; white is ignored.")
@click.option("--count", type=click.IntRange(20, 5000), default=400, help="Features wanted on a frame.")
@click.option("--copy", "stack", default=None, type=click.Path(path_type=Path, exists=True), help="JSON list of operations that make the tracking copy.")
def track(plate, out, frames, mattes, count, stack) -> None:
    """Find and follow features in PLATE; write them as CSV: name, frame, x, y, sigma, state.

    Pixels, origin at the top left corner of the picture, y down, centres of pixels at +0.5.
    """
    from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
    from amberkeel.core.handoff.track_table import tracks_csv
    from amberkeel.core.plate.copy import TrackingCopy, read_stack
    from amberkeel.core.plate.plate import matte_reader, open_plate

    def work(report):
        opened = open_plate(plate, frames)
        keep_off = matte_reader(mattes, opened) if mattes else None
        if stack:
            opened = TrackingCopy(opened, read_stack(json.loads(stack.read_text())))
        return follow_plate(opened, FollowSettings(DetectSettings(count=count)), keep_off, report)

    tracks = _written(out, work, tracks_csv)
    click.echo(f"{len(tracks)} tracks written to {out}.")


@main.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="CSV file to write.")
@click.option("--family", default="36h11", help="36h11, 36h10, 25h9 or 16h5.")
@click.option("--frames", callback=_frame_range, help="First and last frame, as 1001-1072.")
@click.option("--corners", is_flag=True, help="The corners of large tags too, as 36h11-0007.1 to .4.")
def tags(plate, out, family, frames, corners) -> None:
    """Find fiducial tags in PLATE; write their centres as CSV: name, frame, x, y, sigma, state."""
    from amberkeel.core.follow.tags import follow_tags
    from amberkeel.core.handoff.track_table import tracks_csv
    from amberkeel.core.plate.plate import open_plate

    reports = []

    def work(report):
        tracks, found = follow_tags(open_plate(plate, frames), family, corners, report)
        reports.extend(found)
        return tracks

    _written(out, work, tracks_csv)
    for r in reports:
        note = f"; {'; '.join(r.warnings)}" if r.warnings else ""
        click.echo(f"{r.name}  {len(r.frames)} frames, {r.sides[0]:.0f} to {r.sides[2]:.0f} px{note}")
    click.echo(f"{len(reports)} tags written to {out}.")


def _written(out: Path, work, table):
    """Do work behind a progress bar, write its table to a file, and return what it made."""
    try:
        with _bar() as report:
            made = work(report)
        out.parent.mkdir(parents=True, exist_ok=True)
        out.write_text(table(made))
    except KeelError as error:
        _fail(str(error))
    except json.JSONDecodeError as error:
        _fail(f"The file is no JSON ({error}).")
    except OSError as error:
        _fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
    return made


@main.group()
def lens() -> None:
    """Lenses from filmed grids and from drawn lines."""


@lens.command()
@click.argument("images")
@click.option("--inner", default="", help="Inner corners of the chessboard, dots or tags, as 9x6; not for loose tags.")
@click.option("--square-mm", type=float, required=True, help="Distance of neighbouring corners in mm; the side of a tag.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Lens profile (JSON) to write.")
@click.option("--pattern", type=click.Choice(["chess", "dots", "tags", "loose"]), default="chess", help="A board, or loose tags of known size anywhere in the set.")
@click.option("--gap", type=float, default=0.25, help="Space between tags as a share of their side.")
@click.option("--sensor-width", type=click.FloatRange(1.0, 200.0), default=None, help="Sensor width in mm, to be kept with the profile.")
@click.option("--pixel-aspect", type=float, default=1.0, help="Width of a pixel over its height.")
@click.option("--radial", type=click.IntRange(0, 3), default=2, help="Radial coefficients.")
@click.option("--tangential", is_flag=True, help="Tangential coefficients too.")
@click.option("--division", is_flag=True, help="The division model instead of radial coefficients.")
@click.option("--anamorphic", is_flag=True, help="Squeeze and a two-axis model, turned.")
def chart(images, inner, square_mm, out, pattern, gap, sensor_width, pixel_aspect, radial, tangential, division, anamorphic) -> None:
    """Calibrate a lens from IMAGES (folder, pattern or video) of a grid; write its profile."""
    from amberkeel.core.lens.chart import calibrate
    from amberkeel.core.lens.profile import profile_document, profile_from_chart
    from amberkeel.core.lens.stills import open_stills
    from amberkeel.core.lens.views import ChartOrder, find_views

    columns, cross, rows = ("0x0" if pattern == "loose" else inner).lower().partition("x")
    if not (cross and columns.isdigit() and rows.isdigit()):
        raise click.UsageError("--inner is written as 9x6: inner corners along a row, and rows.")
    model = "division" if division else "radial"
    order = ChartOrder(int(columns), int(rows), square_mm, pattern, gap, "36h11", pixel_aspect, radial, tangential, anamorphic, model)
    fits = []

    def work(report):
        total, pictures = open_stills(images)
        views, (width, height) = find_views(pictures, order, report, total)
        fits.append(calibrate(views, width, height, order))
        return profile_from_chart(fits[0], sensor_width_mm=sensor_width)

    _written(out, work, lambda profile: json.dumps(profile_document(profile), indent=1))
    fit = fits[0]
    for name, rms, astray in zip(fit.views, fit.view_rms, fit.astray):
        click.echo(f"{name}  {rms:.3f} px{'  left out: disagrees with the others' if astray else ''}")
    for note in fit.notes:
        click.echo(note)
    click.echo(
        f"{len(fit.views)} views, RMS {fit.rms_px:.3f} px: focal length {fit.lens.focal_px[0]:.1f} ±{fit.sigma['focal_px']:.1f} px, "
        f"map ±{fit.map_sigma_px:.2f} px. Written to {out}."
    )


@lens.command()
@click.argument("lines", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Lens profile (JSON) to write.")
def lines(lines, out) -> None:
    """Tell a lens from LINES, a JSON file of drawn straight edges and axis lines; write its profile."""
    from amberkeel.core.lens.fit import fit_lens
    from amberkeel.core.lens.line_file import camera_rows, read_line_file
    from amberkeel.core.lens.look import horizon_angles
    from amberkeel.core.lens.profile import profile_document, profile_from_lines

    def work(report):
        given = read_line_file(lines)
        fit = fit_lens(given.lines, given.order)
        return fit, given.placed(fit), given.sensor_width_mm

    def text(made) -> str:
        fit, placed, sensor = made
        return json.dumps(profile_document(profile_from_lines(fit, sensor_width_mm=sensor)) | {"cameras": camera_rows(fit, placed)}, indent=1)

    fit, placed, _ = _written(out, work, text)
    for line in fit.lines:
        click.echo(f"{line.name}  {line.before_px:.2f} px before, {line.after_px:.2f} px after{'  disagrees' if line.disagrees else ''}")
    for note in fit.notes:
        click.echo(note)
    for frame, rotation in fit.rotations.items() if fit.focal_known else ():
        roll, tilt = (math.degrees(a) for a in horizon_angles(rotation))
        click.echo(f"Frame {frame}: roll {roll:.2f}°, tilt {tilt:.2f}° (±{math.degrees(fit.rotation_sigma[frame][:2].max()):.2f}°)")
    if placed:
        x, y, z = (f"{v:.3f} ±{s:.3f}" for v, s in zip(placed[1].xyz, placed[1].sigma))
        click.echo(f"Frame {placed[0]}: the camera stands at {x}, {y}, {z} m from the origin")
    focal = f"focal length {fit.lens.focal_px[0]:.1f} ±{fit.focal_sigma_px:.1f} px" if fit.focal_known else "focal length not told"
    click.echo(f"{fit.lens.model.capitalize()} distortion {', '.join(f'{k} {v:+.4f}' for k, (v, _) in fit.values.items()) or 'none'}; {focal}. Written to {out}.")


@main.command()
@click.argument("plate")
@click.option("--lens", "profile", required=True, type=click.Path(path_type=Path), help="Lens profile (JSON).")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the straightened pictures.")
@click.option("--frames", callback=_frame_range, help="First and last frame, as 1001-1072.")
@click.option("--overscan", default="all", help="all (no pixel lost), crop (no empty pixel), same, or percent as 10.")
@click.option("--filter", type=click.Choice(["linear", "cubic", "lanczos"]), default="cubic")
@click.option("--format", "kind", type=click.Choice(["png", "exr", "tif", "jpg", "dpx"]), default=None, help="The plate's own by default.")
@click.option("--st-maps", is_flag=True, help="undistort_st.exr and redistort_st.exr too.")
def undistort(plate, profile, out, frames, overscan, filter, kind, st_maps) -> None:
    """Write PLATE straightened through a lens."""
    from amberkeel.core.lens.straighten import StraightenOrder, straighten_plate
    from amberkeel.core.plate.plate import open_plate
    from amberkeel.core.solve_plate import load_profile

    try:
        share = float(overscan) if overscan not in ("all", "crop", "same") else overscan
    except ValueError:
        raise click.UsageError("--overscan is all, crop, same, or a number of percent.")
    order = StraightenOrder(share, filter, kind or "", st_maps)
    try:
        with _bar() as report:
            opened = open_plate(plate, frames)
            canvas = straighten_plate(opened, load_profile(profile), out, order, report)
    except KeelError as error:
        _fail(str(error))
    except OSError as error:
        _fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    click.echo(f"{len(opened.frames)} frames of {canvas.width}x{canvas.height} written to {out}; the plate's corner lies at {canvas.left}, {canvas.top}.")


@main.group()
def mask() -> None:
    """Masks on files."""


@mask.command()
@click.argument("plate")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the matte sequence.")
@click.option("--frames", callback=_frame_range, help="First and last frame, as 1001-1072.")
@click.option("--format", "kind", type=click.Choice(["png", "exr"]), default="png")
def propose(plate, out, frames, kind) -> None:
    """Write mattes of what moves by itself in PLATE: white is masked, one file for every frame."""
    from amberkeel.core.masks.propose import propose_plate

    try:
        with _bar() as report:
            found, written = propose_plate(plate, out, frames, kind, report)
    except KeelError as error:
        _fail(str(error))
    except OSError as error:
        _fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    spans = ", ".join(f"{p.frames[0]}-{p.frames[-1]}" for p in found) or "nothing moves by itself"
    click.echo(f"{len(found)} regions ({spans}); {len(written)} mattes written to {out}.")


@main.command()
@click.argument("shot", type=click.Choice(["SKL_010", "SKL_020", "SKL_040", "SKL_050", "SKL_070"]))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for plate/, mattes/ and truth.json.")
@click.option("--count", type=int, default=None, help="Frames to render; all by default.")
def render(shot, out, count) -> None:
    """Render a demo shot with its mattes and its truth."""
    from amberkeel.core.sim.write import write_shot

    with _bar() as report:
        write_shot(shot, out, report, count)
    click.echo(f"{shot} rendered to {out}.")


@main.command()
@click.option("--port", type=int, default=8014, help="Port on loopback; another is taken when it is not free.")
@click.option("--data", type=click.Path(path_type=Path), default=None, help="Data folder; var/demo by default.")
def demo(port, data) -> None:
    """Run the application with its demo production."""
    from amberkeel.demo import run_demo

    try:
        run_demo(data or Path(__file__).parents[2] / "var" / "demo", port)
    except KeelError as error:
        _fail(str(error))


@main.command()
def warm() -> None:
    """Compile the inner loops now, so that no first job waits for it."""
    from amberkeel.core.warm import warm_up

    began = time.monotonic()
    warm_up()
    click.echo(f"Inner loops ready ({time.monotonic() - began:.0f} s).")


if __name__ == "__main__":
    main()
