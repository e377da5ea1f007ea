"""`keel align`: one solve in another's world."""

from pathlib import Path

import click

from amberkeel.cli.shared import fail
from amberkeel.core.errors import KeelError


@click.command()
@click.argument("fixed", type=click.Path(path_type=Path))
@click.argument("own", type=click.Path(path_type=Path))
@click.option("--tags", nargs=2, type=click.Path(path_type=Path), help="Tables of the tags of both plates (keel tags).")
@click.option("--ties", type=click.Path(path_type=Path), help="A table of ties: fixed, own (names of tracks), name.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for solve.json and align.json.")
def align(fixed, own, tags, ties, out) -> None:
    """Bring OWN (a solve.json) into the world of FIXED, which stays as it is, by tags or other ties."""
    from amberkeel.core.ties.from_files import AlignFiles, align_files

    if bool(tags) == bool(ties):
        fail("Give either --tags, with the tables of both plates, or --ties.")
    try:
        found, names = align_files(AlignFiles(fixed, own, tags or None, ties, out))
    except KeelError as error:
        fail(str(error))
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another folder.")
    click.echo(
        f"{len(names)} ties, {int((~found.wrong).sum())} of them used: {found.rms:.4g} RMS off, in FIXED's units."
    )
    for k in sorted(range(len(names)), key=lambda k: -found.off[k]):
        click.echo(
            f"{names[k]:24s} {found.off[k]:.4g} off, {found.sigmas[k]:.1f} sigmas{'  wrong' if found.wrong[k] else ''}"
        )
    for note in found.notes:
        click.echo(note)
