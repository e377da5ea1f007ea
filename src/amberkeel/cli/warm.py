"""`keel warm`: the inner loops compiled."""

import time

import click


@click.command()
def warm() -> None:
    """Compile the inner loops now, so that no first job waits for it."""
    from amberkeel.core.warm import warm_up

    began = time.monotonic()
    warm_up(whole=True)
    click.echo(f"Inner loops ready ({time.monotonic() - began:.0f} s).")
