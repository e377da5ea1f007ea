"""`keel mesh`: uneven ground through tracks."""

from pathlib import Path

import click

from amberkeel.cli.shared import fail
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("solve", type=click.Path(path_type=Path))
@click.option("--world", "world", required=True, type=click.Path(path_type=Path), help="world.json of the solve.")
@click.option("--tracks", required=True, help="Tracks on it, names with commas between, or all: all below the camera.")
@click.option("--longest", default="", help="Edges longer than that are dropped, as 0.6m.")
@click.option("--extend", default="", help="How far the edge is carried on outwards, as 30cm.")
@click.option("--smooth", is_flag=True, help="Smoothed as far as the points' sigmas allow.")
@click.option("--seen-from", type=int, help="Triangulate as this frame sees the points; from above without it.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="world.json to write, with the mesh in it.")
@click.option("--ply", type=click.Path(path_type=Path), help="The mesh alone as PLY too.")
def mesh(solve, world, tracks, longest, extend, smooth, seen_from, out, ply) -> None:
    """Mesh the ground of SOLVE (solve.json) through tracks."""
    from amberkeel.core.world.from_files import load_solve, load_world, with_mesh
    from amberkeel.core.world.mesh_files import write_mesh
    from amberkeel.core.world.world_file import world_text

    try:
        document, before = load_solve(solve), load_world(world)
        after, made, sticks = with_mesh(document, before, tracks, longest, smooth, extend, seen_from)
        out.write_text(world_text(after))
        if ply:
            write_mesh(made.solid, ply)
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
    click.echo(f"{len(made.rows)} points, {len(made.solid.faces)} triangles, edges up to {made.longest:.3g}.")
    if sticks:
        click.echo(f"Sticking out: {', '.join(sticks)}.")
