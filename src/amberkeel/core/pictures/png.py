"""Whether a PNG is whole, found out before a decoder sees it: libpng prints its complaints on the terminal."""

import zlib
from pathlib import Path
from typing import BinaryIO

from amberkeel.core.errors import PlateError

_SIGNATURE = b"\x89PNG\r\n\x1a\n"

_BUFFER, _PIECE = 2**20, 4096
"""Bytes read from disk, and summed, at once. Sums of over 5 KiB give up the interpreter's lock each time, and a picture
has sixty chunks of 8: waiting for the lock while a program comes in costs more than the sums.
"""

MOST_ACROSS = 1_000_000
"""Pixels along a side that libpng takes at the most."""

_DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
"""Bits a sample that each colour type may have (ISO/IEC 15948, table 11.1)."""


def check_png(path: Path) -> None:
    """Raise PlateError where a file is a PNG that was cut off or changed; other files pass.

    Every chunk's length and checksum are compared (ISO/IEC 15948, section 5.3).
    """
    with open(path, "rb", buffering=_BUFFER) as file:
        if file.read(8) != _SIGNATURE:
            return
        _check_head(file.read(21), path.name)
        file.seek(8)
        while True:
            kind = _chunk(file, path.name)
            if kind == b"IEND":
                return


def _check_head(head: bytes, name: str) -> None:
    """Raise PlateError for a size that is none, or that libpng does not take."""
    if len(head) < 21 or head[4:8] != b"IHDR":
        raise PlateError(f"{name} is damaged and cannot be read whole (no header).", "Copy it again.")
    width, height = int.from_bytes(head[8:12], "big"), int.from_bytes(head[12:16], "big")
    if not (1 <= width <= MOST_ACROSS and 1 <= height <= MOST_ACROSS):
        raise PlateError(f"{name} says it is {width}x{height}, which cannot be read.", "Is it complete?")
    if head[16] not in _DEPTHS.get(head[17], ()):
        raise PlateError(
            f"{name} is damaged and cannot be read whole (its pixels are of no known kind).", "Copy it again."
        )


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
