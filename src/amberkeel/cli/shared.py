"""What the commands share: frame ranges, a progress bar, and errors in words."""

import json
import signal
import sys
from pathlib import Path
from typing import NoReturn

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from amberkeel.core.errors import Cancelled, KeelError
from amberkeel.core.progress import phase_of

DEMO_DATA = Path(__file__).parents[3] / "var" / "demo"
"""The data folder of the application where none is named."""


def frame_range(_context: click.Context, _option: click.Parameter, value: str | None) -> tuple[int, int] | None:
    """Return the first and last frame of an option such as 1001-1072."""
    if value is None:
        return None
    first, dash, last = value.partition("-")
    if not (dash and first.isdigit() and last.isdigit() and int(first) < int(last)):
        raise click.BadParameter("write first and last frame as 1001-1072")
    return int(first), int(last)


encoding_option = click.option(
    "--encoding",
    default="",
    help="How values stand for light: display, linear, film log, pq or hlg; as the files say where it is left out.",
)


def fail(message: str) -> NoReturn:
    """Say what went wrong and end with 1."""
    click.echo(" ".join(message.split()), err=True)
    sys.exit(1)


class Bar:
    """A progress bar as a callback; plain lines where the output is no terminal."""

    def __enter__(self) -> "Bar":
        console = Console(stderr=True)
        self.stop = False
        self.before = signal.signal(signal.SIGINT, self._asked_to_stop)
        self.bar = Progress(
            TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=console, transient=True
        )
        self.lines = not console.is_terminal
        self.said = ""
        if not self.lines:
            self.bar.start()
            self.task = self.bar.add_task("Opening the plate", total=1.0)
        return self

    def _asked_to_stop(self, *_) -> None:
        """Stop at the next sign of progress; asked again, stop at once."""
        self.stop = True
        signal.signal(signal.SIGINT, signal.default_int_handler)

    def __call__(self, share: float, doing: str) -> None:
        """Show how far the work is, and what it is doing; raises Cancelled once Ctrl-C was pressed."""
        if self.stop:
            self.stop = False
            raise Cancelled()
        if self.lines:
            word = phase_of(doing)
            if word != self.said:
                self.said = word
                click.echo(f"{100 * share:3.0f} %  {doing}", err=True)
        else:
            self.bar.update(self.task, completed=share, description=doing)

    def __exit__(self, *_):
        signal.signal(signal.SIGINT, self.before)
        if not self.lines:
            self.bar.stop()


def written(out: Path, work, table):
    """Do work behind a progress bar, write its table to a file, and return what it made."""
    try:
        with Bar() as report:
            made = work(report)
        out.parent.mkdir(parents=True, exist_ok=True)
        out.write_text(table(made))
    except KeelError as error:
        fail(str(error))
    except json.JSONDecodeError as error:
        fail(f"The file is no JSON ({error}).")
    except OSError as error:
        fail(f"{out} cannot be written ({error.strerror}). Choose another file.")
    return made
