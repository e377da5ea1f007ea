"""`keel set`: a set, to which shots are tied."""

from pathlib import Path

import click

from amberkeel.cli.shared import fail
from amberkeel.core.errors import KeelError


@click.command()
@click.option("--name", required=True, help="What the set is called.")
@click.option("--survey", type=click.Path(path_type=Path), help="Surveyed points (CSV: name, x, y, z, sigma).")
@click.option("--unit", default="m", help="Of the survey: m, cm, mm, in or ft.")
@click.option("--solve", type=click.Path(path_type=Path), help="solve.json of the shot that makes the set.")
@click.option("--tags", type=click.Path(path_type=Path), help="Its tags (keel tags).")
@click.option("--tracks", default="", help="Its tracks whose points belong to the set, with commas between, or all.")
@click.option("--world", type=click.Path(path_type=Path), help="Its world.json: datum, proxies, probe objects.")
@click.option("--plate", default="", help="Its plate, to tie other shots by pictures.")
@click.option("--free", is_flag=True, help="Let shots bend it; it is frozen otherwise.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="set.json to write.")
def set(name, survey, unit, solve, tags, tracks, world, plate, free, out) -> None:
    """Make a set, to which shots are tied."""
    from amberkeel.core.ties.make_set import SetOrder, make_set
    from amberkeel.core.ties.set_file import points_csv, set_text

    names = tuple(one.strip() for one in tracks.split(",") if one.strip())
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        made = make_set(SetOrder(name, survey, unit, solve, tags, world, plate, names, free), out.parent)
        out.write_text(points_csv(made) if out.suffix == ".csv" else set_text(made))
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
    shots = f", tied by pictures of {made.shots[0].name} too" if made.shots else ""
    click.echo(f"{made.name}: {len(made.points)} points in {'metres' if made.metric else 'units'}{shots}.")
