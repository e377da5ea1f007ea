"""The command line: what the browser does, on files, for scripts and farms.

A command is a file here and a name in `COMMANDS`.
"""

import importlib

import click

COMMANDS = (
    "solve",
    "diagnose",
    "improve",
    "track",
    "tags",
    "lens",
    "undistort",
    "redistort",
    "convert",
    "mask",
    "world",
    "mesh",
    "project",
    "align",
    "set",
    "tie",
    "together",
    "export",
    "judge",
    "render",
    "demo",
    "warm",
)
"""Each is the name of a module here and of the command in it."""


class _Commands(click.Group):
    """Loads a command's module when it is asked for, so that no command waits for the imports of another."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names of all commands."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Return a command, or None where there is none of that name."""
        if cmd_name not in COMMANDS:
            return None
        return getattr(importlib.import_module(f"amberkeel.cli.{cmd_name}"), cmd_name)


@click.group(cls=_Commands)
def main() -> None:
    """Amber Keel: matchmoving for the shots that would not solve."""
