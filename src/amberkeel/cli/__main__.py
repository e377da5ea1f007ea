"""Run the command line: python -m amberkeel.cli."""

import gc
import os
import sys

from amberkeel.cli import main

OBJECTS = 50_000
"""New objects after which cycles among them are looked for: a program that comes in makes many, and no cycles."""


def run() -> None:
    """Run a command and end the process at once: what is written is closed by then, and taking the interpreter down,
    module by module, takes a third of a second.
    """
    gc.set_threshold(OBJECTS)
    try:
        main()
    except SystemExit as end:
        if not isinstance(end.code, int | None):
            raise
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(end.code or 0)


run()
