"""Files by content hash in the media folder."""

import hashlib
import io
import os
import secrets
from pathlib import Path

import numpy as np

from amberkeel.core.errors import KeelError


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
        path = self.path(digest)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            half = path.with_name(f"{digest}.{secrets.token_hex(4)}")
            try:
                half.write_bytes(data)
                os.replace(half, path)
            except OSError as error:
                half.unlink(missing_ok=True)
                raise KeelError(
                    f"The media folder cannot be written ({error.strerror}).", "Make room on it."
                ) from error
        else:
            # Young again, so that a clean-up spares what is about to be used.
            os.utime(path)
        return digest

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
