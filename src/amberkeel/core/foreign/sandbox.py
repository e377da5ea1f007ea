"""What a process gives up before it reads a foreign file: memory, time, and the disk.

Landlock (the kernel's manual, landlock(7)) takes the file system away where the kernel has it, Linux 5.13 and later;
elsewhere the limits of memory and time hold alone, and readers are asked not to follow references.
"""

import ctypes
import os
import resource
import signal
import struct
import sys
from collections.abc import Iterable
from pathlib import Path

_CREATE, _ADD, _RESTRICT = 444, 445, 446
_NO_NEW_PRIVILEGES = 38
_PATH_BENEATH = 1
_VERSION_FLAG = 1

_EXECUTE, _WRITE, _READ, _READ_DIR = 1 << 0, 1 << 1, 1 << 2, 1 << 3
_LATER = {2: 1 << 13, 3: 1 << 14, 5: 1 << 15}
"""Rights that later versions of the rules know, by version: to link across folders, to cut files off, and devices."""

_TCP = 0b11
"""Binding and connecting, since the fourth version."""

_SYSTEM = (
    "/usr/lib", "/usr/local/lib", "/lib", "/lib64", "/usr/share/zoneinfo", "/dev/urandom", "/dev/null",
    "/etc/ld.so.cache", "/proc/self",
)  # fmt: skip
"""Where libraries lie, and what they look at when they are loaded."""

_READING = _EXECUTE | _READ | _READ_DIR


def give_up(memory: int, seconds: float, folder: Path, readable: Iterable[Path]) -> None:
    """Limit this process for good.

    Parameters
    ----------
    memory : bytes of data it may hold. seconds : after which it is ended by the clock, and of all processors together.
    folder : in which it may write. readable : files and folders that it may read besides the program's own.
    """
    resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    whole = int(os.cpu_count() or 1) * (int(seconds) + 1)
    resource.setrlimit(resource.RLIMIT_CPU, (whole, whole))
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    _close_disk(folder, [*_program(), *readable])


def _program() -> list[Path]:
    """Return where the interpreter, its libraries and this program lie."""
    own = Path(__file__).resolve().parents[3]
    names = {sys.prefix, sys.base_prefix, sys.exec_prefix, *sys.path, str(own), *_SYSTEM}
    return [Path(name) for name in names if name]


def _close_disk(folder: Path, readable: list[Path]) -> bool:
    """Leave the disk but for some places; return whether the kernel can do so."""
    library = ctypes.CDLL(None, use_errno=True)
    version = library.syscall(_CREATE, None, 0, _VERSION_FLAG)
    if version < 1:
        return False
    every = (1 << 13) - 1
    for since, right in _LATER.items():
        every |= right if version >= since else 0
    rules = struct.pack("<QQ", every, _TCP) if version >= 4 else struct.pack("<Q", every)
    handle = library.syscall(_CREATE, rules, len(rules), 0)
    if handle < 0:
        return False
    for path, rights in [*((one, _READING) for one in readable), (folder, every)]:
        _allow(library, handle, path, rights)
    library.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    done = library.syscall(_RESTRICT, handle, 0) == 0
    os.close(handle)
    return done


def _allow(library: ctypes.CDLL, handle: int, path: Path, rights: int) -> None:
    try:
        opened = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except OSError:
        return
    try:
        if not path.is_dir():
            rights &= _EXECUTE | _WRITE | _READ | _LATER[3]
        rule = struct.pack("<Qi", rights, opened)
        library.syscall(_ADD, handle, _PATH_BENEATH, rule, 0)
    finally:
        os.close(opened)
