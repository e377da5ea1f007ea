"""Whether an application runs with a data folder: one lock held while it does, records that are whole, and what a start
before has left behind.
"""

import ctypes
import fcntl
import json
import os
import secrets
import signal
import socket
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from amberkeel.core.errors import KeelError

LOCK, RECORD = "running.lock", "running.json"

MARK = "AMBERKEEL_STARTED_WITH"
"""In the environment of every service: the data folder that it was started with, by which it is found again."""

END_S = 10.0
"""Seconds that a process has to end by itself."""

ASK_S = 2.0
"""Seconds that a port has to answer."""

_PR_SET_PDEATHSIG = 1


class RunsAlready(KeelError):
    """An application runs with the data folder, or is being started.

    Attributes
    ----------
    address : where its pages are; empty while it is being started.
    """

    def __init__(self, folder: Path, address: str):
        self.address = address
        if address:
            super().__init__(f"It runs already: {address}", "Stop that one first, or name another folder with --data.")
        else:
            super().__init__(f"Another start with {folder.name} is under way.", "Wait until it prints its address.")


class Lock:
    """A file that one process holds; it lets go when it ends, however that happens."""

    def __init__(self, folder: Path):
        """Take a data folder's lock.

        Parameters
        ----------
        folder : that is to be run with.

        Raises
        ------
        RunsAlready : another process holds it.
        """
        # Not inherited: what this process starts must not hold it after it.
        self._file = os.open(folder / LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._file)
            raise RunsAlready(folder, answering(folder)) from None

    def release(self) -> None:
        """Let it go; twice does no harm."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


def held(folder: Path) -> bool:
    """Return whether a process runs with a data folder, or is starting."""
    try:
        Lock(folder).release()
    except RunsAlready:
        return True
    except OSError:
        return False
    return False


def answering(folder: Path) -> str:
    """Return the address that a data folder's record names, if something answers there; empty otherwise."""
    address = read_record(folder / RECORD).get("address")
    return address if isinstance(address, str) and answers(address) else ""


def answers(address: str) -> bool:
    """Return whether something listens at an address."""
    try:
        parts = urlsplit(address)
        if not parts.hostname or not parts.port:
            return False
        with socket.create_connection((parts.hostname, parts.port), timeout=ASK_S):
            return True
    except (OSError, ValueError):
        return False


def read_record(path: Path) -> dict[str, Any]:
    """Return what a record says; one that is not there, is empty or is broken says nothing."""
    try:
        said = json.loads(path.read_text())
    except (OSError, ValueError):
        return {}
    return said if isinstance(said, dict) else {}


def write_record(path: Path, said: dict[str, Any]) -> None:
    """Write a record that its owner alone may read, whole or not at all."""
    half = path.with_name(f"{path.name}.{secrets.token_hex(4)}")
    half.touch(mode=0o600)
    half.write_text(json.dumps(said))
    half.replace(path)


def dying_with_parent(by: signal.Signals) -> Callable[[], None]:
    """Return what a child calls before it runs its program, so that it gets a signal when its parent ends.

    Parameters
    ----------
    by : the signal. It is for the child alone: what that starts it ends itself.
    """
    parent = os.getpid()
    library = ctypes.CDLL(None, use_errno=True)

    def ask() -> None:
        library.prctl(_PR_SET_PDEATHSIG, int(by), 0, 0, 0)
        if os.getppid() != parent:
            os._exit(1)

    return ask


def left_behind(folder: Path) -> list[int]:
    """Return the processes of an earlier start with a data folder, whose starter is gone."""
    mark = f"{MARK}={folder}".encode()
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            if mark in (entry / "environ").read_bytes().split(b"\0") and int(entry.name) != os.getpid():
                found.append(int(entry.name))
        except OSError:
            continue
    return found


def end_left_behind(folder: Path) -> int:
    """End the processes that an earlier start with a data folder has left; return how many they were. The lock must be
    held: nobody else has any use for them then.
    """
    first = left_behind(folder)
    for number, patience in ((signal.SIGINT, END_S), (signal.SIGKILL, END_S)):
        for pid in left_behind(folder):
            try:
                os.kill(pid, number)
            except OSError:
                continue
        until = time.monotonic() + patience
        while left_behind(folder) and time.monotonic() < until:
            time.sleep(0.1)
    return len(first)
