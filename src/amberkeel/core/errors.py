"""The errors that `core` raises: one family, each with a message a tracking artist can act on."""

import errno
import re

_FOLDERS = re.compile(r"(?<![\w.])/(?:[^\s/:;,'\"“”()]+/)+")


def without_folders(text: str) -> str:
    """Return a message in which files are named without their folders: who reads a page need not know those."""
    return _FOLDERS.sub("", text)


_FULL = {
    errno.ENOSPC: "The disk is full",
    errno.EDQUOT: "The disk space that is allowed is used up",
    errno.EROFS: "The disk cannot be written to",
}


def disk_words(error: OSError) -> str | None:
    """Return in words that a disk takes nothing more; None for any other error."""
    said = _FULL.get(error.errno or 0)
    if said is None:
        return None
    return f"{said}, for temporary files or for what is kept. Nothing was changed: make room, then do it again."


class KeelError(Exception):
    """Something the artist can act on.

    Parameters
    ----------
    message : str
        What is wrong, in one plain sentence.
    help : str
        What could help, in one plain sentence; may be empty.
    """

    def __init__(self, message: str, help: str = ""):
        super().__init__(message)
        self.message = message
        self.help = help

    def __str__(self) -> str:
        return f"{self.message} {self.help}".strip()


class UnreadableJson(KeelError, ValueError):
    """A file holds no JSON, or none that can be read."""


class ForeignError(KeelError):
    """A file that others made is not what it says it is."""


class PlateError(KeelError):
    """The plate cannot be read as a sequence of pictures."""


class FollowError(KeelError):
    """Features cannot be found or followed."""


class MaskError(KeelError):
    """A mask cannot be made, carried or used."""


class SolveError(KeelError):
    """No camera could be solved."""


class WorldError(KeelError):
    """The datum asked for cannot be set up."""


class TieError(KeelError):
    """Shots cannot be tied or aligned."""


class HandoffError(KeelError):
    """A file that is to leave cannot be written."""


class Cancelled(KeelError):
    """The caller asked the computation to stop; `kept` says in words what is left of it."""

    def __init__(self, kept: str = ""):
        super().__init__(f"Cancelled; {kept}" if kept else "Cancelled.")


class LensError(KeelError):
    """The evidence does not tell a lens, or tells an impossible one."""
