"""`keel world`: the scene's coordinates from a solve."""

from pathlib import Path

import click

from amberkeel.cli.shared import fail
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("solve", type=click.Path(path_type=Path))
@click.option("--ground", default="", help="Tracks on the ground, names with commas between.")
@click.option("--origin", default="", help="The track at the origin, or several whose middle it is.")
@click.option("--spot", default="", help="Instead: a spot of the ground, as frame,x,y.")
@click.option("--heading", multiple=True, help="An axis along two tracks, as a0012,a0056,x (-z where none is said).")
@click.option("--distance", multiple=True, help="A measured length, as a0012,a0056,2.45m or with its sigma after it.")
@click.option("--survey", default="", help="A sheet of lengths (CSV: name, length, unit, sigma, from, to).")
@click.option("--unit", default="m", help="Meant where a length says none: m, cm, mm, in or ft.")
@click.option("--flip", is_flag=True, help="Up and down changed over.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="world.json to write.")
def world(solve, out, **asked) -> None:
    """Set the scene's coordinates of SOLVE (solve.json)."""
    from amberkeel.core.world.from_files import WorldOrder, load_solve, stated, world_of
    from amberkeel.core.world.world_file import world_text

    try:
        made = world_of(load_solve(solve), stated(WorldOrder(**asked)))
        out.parent.mkdir(parents=True, exist_ok=True)
        out.write_text(world_text(made))
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
    for note in made.missing:
        click.echo(note, err=True)
    unit = "m" if made.metric else "units"
    if made.ground:
        px = f", {made.ground.rms_px:.2f} px" if made.ground.rms_px is not None else ""
        click.echo(f"Ground: {made.ground.points} points, RMS {made.ground.rms:.4g} {unit}{px}.")
        for name, by in made.ground.off.items():
            click.echo(f"  {name} lies {by:+.4g} {unit} off it and is not counted.")
    for one in made.lengths:
        doubt = ", contradicts the others" if one.contradicts else ""
        click.echo(f"{one.name}: stated {one.stated:.4g} m, found {one.found:.4g} m ({100 * one.share:+.2f} %{doubt}).")
    if made.camera:
        click.echo(f"Camera height {made.camera.height[1]:.3f} {unit}, travels {made.camera.travel:.3f} {unit}.")
    click.echo(f"Written to {out}.")
