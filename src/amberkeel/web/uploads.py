"""A file that a page sends, judged by its size alone: whoever reads it judges the rest."""

from dataclasses import dataclass
from pathlib import Path

from flask import request

from amberkeel.core.errors import KeelError

MOST_SUFFIX = 8
"""Characters of a suffix that are kept, the dot included."""


@dataclass(frozen=True)
class Upload:
    """A file that was sent, whole: its name, without folders, and its bytes."""

    name: str
    data: bytes

    @property
    def stem(self) -> str:
        """The name without its suffix."""
        return Path(self.name).stem

    @property
    def suffix(self) -> str:
        """The name's suffix in small letters, with its dot; empty where there is none."""
        return Path(self.name).suffix.lower()[:MOST_SUFFIX]

    def text(self) -> str:
        """Return what it holds as text; raises KeelError where it is none."""
        try:
            return self.data.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            raise KeelError(f"{self.name} is no text.", "Send a table or JSON in UTF-8.") from error


def uploaded(kinds: str, most: int, field: str = "file") -> Upload:
    """Return the file that the request holds.

    Parameters
    ----------
    kinds : what may be chosen, as a refusal names it. most : bytes at the most. field : of the form.

    Raises
    ------
    KeelError : there is no file, or it is larger than that.
    """
    sent = request.files.get(field)
    if sent is None or not sent.filename:
        raise KeelError("There is no file.", f"Choose {kinds}.")
    name = sent.filename.replace("\\", "/").rsplit("/", 1)[-1]
    data = sent.read(most + 1)
    if len(data) > most:
        raise KeelError(f"{name} is larger than {most >> 20} MB.", f"Choose {kinds}, smaller than that.")
    return Upload(name, data)
