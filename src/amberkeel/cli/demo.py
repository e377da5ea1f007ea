"""`keel demo`: the application with its demo production."""

from pathlib import Path

import click

from amberkeel.cli.shared import DEMO_DATA, fail
from amberkeel.core.errors import KeelError


@click.command()
@click.option("--port", type=int, default=8014, help="Port on loopback; another is taken when it is not free.")
@click.option("--data", type=click.Path(path_type=Path), default=None, help="Data folder; var/demo by default.")
def demo(port, data) -> None:
    """Run the application with its demo production."""
    from amberkeel.demo import run_demo

    try:
        run_demo(data or DEMO_DATA, port)
    except KeelError as error:
        fail(str(error))
