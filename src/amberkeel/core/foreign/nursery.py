"""A process that forks a child for each foreign file; it has one thread and has loaded the readers' libraries.

Its parent hands it one end of a connection for each request, over which what is asked comes, and what was found goes
back, as `plain` packs both. The children are limited (`sandbox`) before they look at the file.
"""

import importlib
import os
import signal
import socket
import struct
import sys
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import Any

from amberkeel.core.errors import KeelError
from amberkeel.core.foreign import door
from amberkeel.core.foreign.plain import NotPlain, packed, unpacked
from amberkeel.core.foreign.sandbox import give_up

PRELOADED = (
    "numpy", "cv2", "OpenImageIO", "pxr.Usd", "pxr.UsdGeom", "trimesh", "collada", "av", "scipy.spatial",
    "amberkeel.core.handoff.camera_files", "amberkeel.core.world.mesh_files", "amberkeel.core.world.paintings",
    "amberkeel.core.lens.from_st_map", "amberkeel.core.ties.set_file", "amberkeel.core.solve_order",
)  # fmt: skip
"""What readers need and is long in coming; a child has it at once."""

_SIZE = struct.Struct("<Q")


def main(descriptor: int) -> None:
    """Serve until nobody is left who may ask.

    Parameters
    ----------
    descriptor : number of the socket that was inherited, over which connections come.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    control = socket.socket(fileno=descriptor)
    for name in PRELOADED:
        with suppress(ImportError):
            importlib.import_module(name)
    _keep_no_loops()
    while True:
        said, handles, _, _ = socket.recv_fds(control, 1, 1)
        if not said:
            return
        for handle in handles:
            connection = socket.socket(fileno=handle)
            if os.fork() == 0:
                control.close()
                _serve(connection)
                os._exit(0)
            connection.close()


def _keep_no_loops() -> None:
    """Let loops that are compiled in a child be forgotten with it: it may not write where the others are kept."""
    from numba.core.caching import FunctionCache

    FunctionCache.save_overload = lambda *_given: None  # type: ignore[method-assign]


def _serve(connection: socket.socket) -> None:
    """Read the file that one request is about, and answer."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    door.within_child.append(True)
    try:
        asked = unpacked(received(connection))
        folder = Path(asked["folder"])
        os.chdir(folder)
        os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
        reader = door.reader_of(asked["reader"])
        give_up(asked["memory"], asked["seconds"], folder, [Path(one) for one in asked["readable"]])
        answer: Any = {"found": reader(*asked["given"], **asked["named"])}
        out = packed(answer)
    except KeelError as error:
        out = packed({"refused": [type(error).__name__, error.message, error.help]})
    except MemoryError:
        out = packed({"failed": "memory"})
    except NotPlain as error:
        out = packed({"failed": f"NotPlain: {error}"})
    except RecursionError:
        out = packed({"failed": "depth"})
    except Exception as error:
        out = packed({"failed": f"{type(error).__name__}: {error}"[:300]})
    with suppress(OSError):
        send(connection, out)


def received(connection: socket.socket, most: int | None = None) -> bytes:
    """Return one message; raises EOFError where the other side has gone, NotPlain where it is longer than `most`."""
    (size,) = _SIZE.unpack(_exactly(connection, _SIZE.size))
    if most is not None and size > most:
        raise NotPlain("too much")
    return bytes(_exactly(connection, size))


def _exactly(connection: socket.socket, size: int) -> bytearray:
    out = bytearray(size)
    view, at = memoryview(out), 0
    while at < size:
        count = connection.recv_into(view[at:], min(size - at, 1 << 20))
        if not count:
            raise EOFError
        at += count
    return out


def send(connection: socket.socket, data: bytes) -> None:
    """Send one message."""
    connection.sendall(_SIZE.pack(len(data)))
    connection.sendall(data)


if __name__ == "__main__":
    main(int(sys.argv[1]))
