"""`keel lens`: a lens from a filmed grid or from drawn lines."""

import json
import math
from pathlib import Path

import click

from amberkeel.cli.shared import written


@click.group()
def lens() -> None:
    """Lenses from filmed grids and from drawn lines."""


@lens.command()
@click.argument("images")
@click.option("--inner", default="", help="Inner corners of the chessboard, dots or tags, as 9x6; not for loose tags.")
@click.option(
    "--square-mm", type=float, required=True, help="Distance of neighbouring corners in mm; the side of a tag."
)
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Lens profile (JSON) to write.")
@click.option(
    "--pattern",
    type=click.Choice(["chess", "dots", "tags", "loose"]),
    default="chess",
    help="A board, or loose tags of known size anywhere in the set.",
)
@click.option("--gap", type=float, default=0.25, help="Space between tags as a share of their side.")
@click.option(
    "--sensor-width",
    type=click.FloatRange(1.0, 200.0),
    default=None,
    help="Sensor width in mm, to be kept with the profile.",
)
@click.option("--pixel-aspect", type=float, default=1.0, help="Width of a pixel over its height.")
@click.option("--radial", type=click.IntRange(0, 3), default=2, help="Radial coefficients.")
@click.option("--tangential", is_flag=True, help="Tangential coefficients too.")
@click.option("--division", is_flag=True, help="The division model instead of radial coefficients.")
@click.option("--anamorphic", is_flag=True, help="Squeeze and a two-axis model, turned.")
def chart(
    images, inner, square_mm, out, pattern, gap, sensor_width, pixel_aspect, radial, tangential, division, anamorphic
) -> None:
    """Calibrate a lens from IMAGES (folder, pattern or video) of a grid; write its profile."""
    from amberkeel.core.lens.chart import calibrate
    from amberkeel.core.lens.profile import profile_document, profile_from_chart
    from amberkeel.core.lens.stills import open_stills
    from amberkeel.core.lens.views import ChartOrder, find_views

    columns, cross, rows = ("0x0" if pattern == "loose" else inner).lower().partition("x")
    if not (cross and columns.isdigit() and rows.isdigit()):
        raise click.UsageError("--inner is written as 9x6: inner corners along a row, and rows.")
    model = "division" if division else "radial"
    order = ChartOrder(
        int(columns), int(rows), square_mm, pattern, gap, "36h11", pixel_aspect, radial, tangential, anamorphic, model
    )
    fits = []

    def work(report):
        total, pictures = open_stills(images)
        views, (width, height) = find_views(pictures, order, report, total)
        fits.append(calibrate(views, width, height, order))
        return profile_from_chart(fits[0], sensor_width_mm=sensor_width)

    written(out, work, lambda profile: json.dumps(profile_document(profile), indent=1))
    fit = fits[0]
    for name, rms, astray in zip(fit.views, fit.view_rms, fit.astray):
        click.echo(f"{name}  {rms:.3f} px{'  left out: disagrees with the others' if astray else ''}")
    for note in fit.notes:
        click.echo(note)
    click.echo(
        f"{len(fit.views)} views, RMS {fit.rms_px:.3f} px: focal length {fit.lens.focal_px[0]:.1f} "
        f"±{fit.sigma['focal_px']:.1f} px, "
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
        return json.dumps(
            profile_document(profile_from_lines(fit, sensor_width_mm=sensor)) | {"cameras": camera_rows(fit, placed)},
            indent=1,
        )

    fit, placed, _ = written(out, work, text)
    for line in fit.lines:
        click.echo(
            f"{line.name}  {line.before_px:.2f} px before, {line.after_px:.2f} px "
            f"after{'  disagrees' if line.disagrees else ''}"
        )
    for note in fit.notes:
        click.echo(note)
    for frame, rotation in fit.rotations.items() if fit.focal_known else ():
        roll, tilt = (math.degrees(a) for a in horizon_angles(rotation))
        click.echo(
            f"Frame {frame}: roll {roll:.2f}°, tilt {tilt:.2f}° "
            f"(±{math.degrees(fit.rotation_sigma[frame][:2].max()):.2f}°)"
        )
    if placed:
        x, y, z = (f"{v:.3f} ±{s:.3f}" for v, s in zip(placed[1].xyz, placed[1].sigma))
        click.echo(f"Frame {placed[0]}: the camera stands at {x}, {y}, {z} m from the origin")
    focal = (
        f"focal length {fit.lens.focal_px[0]:.1f} ±{fit.focal_sigma_px:.1f} px"
        if fit.focal_known
        else "focal length not told"
    )
    click.echo(
        f"{fit.lens.model.capitalize()} distortion "
        f"{', '.join(f'{k} {v:+.4f}' for k, (v, _) in fit.values.items()) or 'none'}; {focal}. Written to {out}."
    )


@lens.command("map")
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--size", required=True, help="Width and height of the plate, as 1920x1080.")
@click.option(
    "--way",
    type=click.Choice(["undistort", "redistort"]),
    default=None,
    help="Whether the map straightens the plate, or bends a straightened picture; by its name where left out.",
)
@click.option("--focal-px", type=click.FloatRange(1.0), default=None, help="Focal length in pixels, if it is known.")
@click.option("--pixel-aspect", type=float, default=1.0, help="Width of a pixel over its height.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Lens profile (JSON) to write.")
def from_map(path, size, way, focal_px, pixel_aspect, out) -> None:
    """Fit a lens to PATH, an ST map (EXR, TIFF); write its profile, and say how close it comes."""
    from amberkeel.core.lens.from_st_map import lens_of_map, way_of
    from amberkeel.core.lens.profile import profile_document

    wide, cross, high = size.lower().partition("x")
    if not (cross and wide.isdigit() and high.isdigit() and int(wide) and int(high)):
        raise click.UsageError("--size is written as 1920x1080.")

    def work(_):
        return lens_of_map(path, (int(wide), int(high)), way or way_of(path.name), focal_px, pixel_aspect)

    found = written(out, work, lambda made: json.dumps(profile_document(made.profile), indent=1))
    click.echo(
        f"{found.profile.lens.model.capitalize()} model: {found.rms_px:.3f} px RMS, {found.worst_px:.2f} px at the "
        f"most. Written to {out}."
    )
