"""Marking readers of foreign files, and asking a child to read."""

import functools
import importlib
import logging
import os
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

from amberkeel.core import errors
from amberkeel.core.errors import KeelError
from amberkeel.core.foreign.plain import NotPlain, packed, unpacked

P = ParamSpec("P")
R = TypeVar("R")

GIB = 1 << 30

MOST_ANSWER = GIB
"""Bytes of what a reader hands back."""

SPARE_S = 60.0
"""Seconds beyond a reader's own that an answer is waited for: the nursery may have to start first."""

within_child: list[bool] = []
"""Not empty in a child of the nursery: there readers read."""


@dataclass(frozen=True)
class Limits:
    """What a reader may take: bytes of memory, and seconds."""

    memory: int = GIB
    seconds: float = 20.0


USUAL = Limits()


def guarded(
    what: str,
    refusal: type[KeelError],
    limits: "Limits | Callable[..., Limits]" = USUAL,
    help: str = "Is it damaged, or of another kind?",
) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Return a decorator for a function that reads what others made: it is called in a child process with limits.

    Parameters
    ----------
    what : the file, as a refusal names it: "This mesh". refusal : the error that is raised where it cannot be read.
    limits : of memory and time, or a function of what the reader is given that returns them. help : what could help.
    """

    def decorate(function: Callable[P, R]) -> Callable[P, R]:
        door = _Door(f"{function.__module__}:{function.__qualname__}", what, refusal, limits, help)

        @functools.wraps(function)
        def read(*given: P.args, **named: P.kwargs) -> R:
            return function(*given, **named) if within_child else door.ask(given, named)

        return read

    return decorate


@dataclass(frozen=True)
class _Door:
    reader: str
    what: str
    refusal: type[KeelError]
    limits: Limits | Callable[..., Limits]
    help: str

    def ask(self, given: tuple, named: dict) -> Any:
        """Have the file read; raise what the reader raises, or a refusal."""
        limits = self.limits if isinstance(self.limits, Limits) else self.limits(*given, **named)
        readable = [str(one) for one in (*given, *named.values()) if isinstance(one, Path)]
        with tempfile.TemporaryDirectory(prefix="keel-read-", ignore_cleanup_errors=True) as folder:
            asked = {
                "reader": self.reader, "given": given, "named": named, "folder": folder, "memory": limits.memory,
                "seconds": limits.seconds, "readable": [*readable, *_resolved(readable)],
            }  # fmt: skip
            answer = self._answered(packed(asked), limits.seconds)
        if "found" in answer:
            return answer["found"]
        if "refused" in answer:
            name, message, help = answer["refused"]
            kind = getattr(errors, name, KeelError)
            raise (kind if isinstance(kind, type) and issubclass(kind, KeelError) else KeelError)(message, help)
        if answer["failed"] == "memory":
            raise self.refusal(f"{self.what} needs more memory than a file may take.", "Make it smaller, or split it.")
        if answer["failed"] == "depth":
            raise self.refusal(f"{self.what} is nested too deep to be read.", self.help)
        logging.getLogger(__name__).warning("%s: %s", self.reader, answer["failed"])
        raise self.refusal(f"{self.what} cannot be read.", self.help)

    def _answered(self, message: bytes, seconds: float) -> dict[str, Any]:
        from amberkeel.core.foreign.nursery import received, send

        try:
            with _nursery.connection() as connection:
                connection.settimeout(seconds + SPARE_S)
                send(connection, message)
                answer = unpacked(received(connection, MOST_ANSWER))
        except TimeoutError:
            raise self.refusal(f"{self.what} takes longer than {seconds:.0f} s to read.", self.help) from None
        except (EOFError, NotPlain, OSError) as error:
            logging.getLogger(__name__).warning("%s: the child ended (%r)", self.reader, error)
            raise self.refusal(
                f"{self.what} cannot be read: reading it took too long, too much memory, or broke off.", self.help
            ) from None
        return answer


def _resolved(paths: list[str]) -> list[str]:
    """Return where files lie in truth: what is read through a link is what it leads to."""
    return [os.path.realpath(one) for one in paths]


def reader_of(name: str) -> Callable:
    """Return a guarded function by module and name; raises NotPlain for what is none."""
    module, _, path = name.partition(":")
    if not module.startswith("amberkeel.core."):
        raise NotPlain(name)
    found: Any = importlib.import_module(module)
    for part in path.split("."):
        found = getattr(found, part)
    if not hasattr(found, "__wrapped__"):
        raise NotPlain(name)
    return found


class _Nursery:
    """This process's nursery, started when it is first needed, and again where it has died. It ends with this process,
    or whichever forked one has its end of the socket last.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen | None = None
        self._control: socket.socket | None = None
        self._owner = 0

    def connection(self) -> socket.socket:
        """Return a connection to a child of the nursery."""
        own, other = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            with self._lock, other:
                if self._process is None or self._owner != os.getpid() or self._process.poll() is not None:
                    self._start()
                assert self._control is not None
                # Handed over by a socket that nobody else has: what it may read, no other program can ask for.
                socket.send_fds(self._control, [b"c"], [other.fileno()])
        except BaseException:
            own.close()
            raise
        return own

    def _start(self) -> None:
        self._control, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        alone = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "PXR_WORK_THREAD_LIMIT": "1",
                 "NUMBA_NUM_THREADS": "1", "OPENCV_FOR_THREADS_NUM": "1"}  # fmt: skip
        kept = {name: value for name, value in os.environ.items() if not name.startswith("AMBERKEEL_")}
        source = str(Path(__file__).resolve().parents[3])
        kept["PYTHONPATH"] = os.pathsep.join(filter(None, [source, kept.get("PYTHONPATH", "")]))
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "amberkeel.core.foreign.nursery", str(theirs.fileno())],
                pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL, env={**kept, **alone},
            )  # fmt: skip
        self._owner = os.getpid()


_nursery = _Nursery()


def get_ready() -> None:
    """Start the nursery ahead of the first file."""
    _nursery.connection().close()
