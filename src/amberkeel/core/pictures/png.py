"""Whether a PNG is whole, found out before a decoder sees it: libpng prints its complaints on the terminal."""

import zlib
from pathlib import Path
from typing import BinaryIO

from amberkeel.core.errors import PlateError

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_PIECE = 2**20


def check_png(path: Path) -> None:
    """Raise PlateError where a file is a PNG that was cut off or changed; other files pass.

    Every chunk's length and checksum are compared (ISO/IEC 15948, section 5.3).
    """
    with open(path, "rb") as file:
        if file.read(8) != _SIGNATURE:
            return
        while True:
            kind = _chunk(file, path.name)
            if kind == b"IEND":
                return


def _chunk(file: BinaryIO, name: str) -> bytes:
    """Read one chunk; return its kind."""
    damaged = PlateError(f"{name} is damaged and cannot be read whole (cut off or changed).", "Copy it again.")
    head = file.read(8)
    if len(head) < 8:
        raise damaged
    left, kind = int.from_bytes(head[:4], "big"), head[4:]
    found = zlib.crc32(kind)
    while left:
        piece = file.read(min(left, _PIECE))
        if not piece:
            raise damaged
        left, found = left - len(piece), zlib.crc32(piece, found)
    if file.read(4) != found.to_bytes(4, "big"):
        raise damaged
    return kind
