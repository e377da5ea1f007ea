"""Files by content hash in the media folder."""

import hashlib
import io
import os
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import numpy as np

from amberkeel.core.errors import KeelError

PIECE = 1 << 20
"""Bytes of a file that are read at once."""


class Media:
    """A folder of immutable files, named by the SHA-256 of what they hold."""

    def __init__(self, folder: Path):
        self.folder = Path(folder)

    def path(self, digest: str) -> Path:
        """Return where a hash lies; raises KeelError for what is no hash."""
        if len(digest) != 64 or not set(digest) <= set("0123456789abcdef"):
            raise KeelError("That is no file of ours.")
        return self.folder / digest[:2] / digest

    def put(self, data: bytes) -> str:
        """Keep bytes and return their hash; what is there already is not written again.

        A disk that refuses leaves nothing behind; it raises KeelError.
        """
        digest = hashlib.sha256(data).hexdigest()
        if not self._renewed(digest):
            with self._half(digest) as half:
                half.write(data)
        return digest

    def put_file(self, source: Path) -> str:
        """Keep what a file holds, however large it is, and return its hash; as `put` does."""
        with Path(source).open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
            if not self._renewed(digest):
                file.seek(0)
                with self._half(digest) as half:
                    shutil.copyfileobj(file, half, PIECE)
        return digest

    def _renewed(self, digest: str) -> bool:
        """Return whether a file is there; it is young again, so that a clean-up spares what is about to be used."""
        try:
            os.utime(self.path(digest))
        except FileNotFoundError:
            return False
        return True

    @contextmanager
    def _half(self, digest: str) -> Iterator[BinaryIO]:
        """Open a file that is a hash's once it was written whole, and has reached the disk."""
        path = self.path(digest)
        half = path.with_name(f"{digest}.{secrets.token_hex(4)}")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with half.open("wb") as file:
                yield file
                file.flush()
                os.fsync(file.fileno())
            os.replace(half, path)
        except OSError as error:
            half.unlink(missing_ok=True)
            raise KeelError(f"The media folder cannot be written ({error.strerror}).", "Make room on it.") from error

    def get(self, digest: str) -> bytes:
        """Return the bytes of a hash."""
        return self.path(digest).read_bytes()

    def put_arrays(self, **arrays: np.ndarray) -> str:
        """Keep named arrays and return their hash."""
        out = io.BytesIO()
        np.savez_compressed(out, **arrays)
        return self.put(out.getvalue())

    def get_arrays(self, digest: str) -> dict[str, np.ndarray]:
        """Return the arrays kept under a hash."""
        with np.load(self.path(digest), allow_pickle=False) as kept:
            return {name: kept[name] for name in kept.files}
