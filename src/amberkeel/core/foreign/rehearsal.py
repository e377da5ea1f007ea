"""What a file may do to its reader, for rehearsing that it stays with the child (the tests call these by name)."""

import os
import signal
from pathlib import Path

from amberkeel.core.errors import PlateError, WorldError
from amberkeel.core.foreign.door import guarded


@guarded("This file", WorldError)
def forever() -> None:
    """Never end."""
    while True:
        pass


@guarded("This file", WorldError)
def hungry(size: int) -> int:
    """Take `size` bytes of memory."""
    return len(bytearray(size))


@guarded("This file", WorldError)
def crashing() -> None:
    """End as a decoder does that reads where nothing is."""
    os.kill(os.getpid(), signal.SIGSEGV)


@guarded("This file", WorldError)
def failing() -> None:
    """Fail as a parser does."""
    raise KeyError("what nobody thought of")


@guarded("This file", WorldError)
def falling() -> None:
    """Nest without end."""
    falling.__wrapped__()  # type: ignore[attr-defined]


@guarded("This file", WorldError)
def refusing() -> None:
    """Refuse in words."""
    raise PlateError("That is no plate.", "Give another.")


@guarded("This file", WorldError)
def looking(own: Path, beside: str) -> list[str]:
    """Return what the own file says, and what comes of reading another, and of writing beside the own one."""
    said = [own.read_text()]
    for act in (lambda: Path(beside).read_text(), lambda: own.with_name("new.txt").write_text("x")):
        try:
            said.append(str(act()))
        except OSError as error:
            said.append(type(error).__name__)
    return said
