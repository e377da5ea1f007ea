"""`keel warm`: the inner loops compiled."""

import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import click


@click.command()
def warm() -> None:
    """Compile the inner loops now, so that no first job waits for it."""
    from amberkeel.core.warm import PARTS, warm_part

    began = time.monotonic()
    with ProcessPoolExecutor(len(PARTS), get_context("spawn")) as pool:
        list(pool.map(warm_part, PARTS))
    click.echo(f"Inner loops ready ({time.monotonic() - began:.0f} s).")
