"""Recognise image sequences and videos among file names."""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from amberkeel.core.errors import PlateError

IMAGE_SUFFIXES = {".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr", ".dpx"}
VIDEO_SUFFIXES = {".mov", ".mp4", ".mkv", ".avi", ".mxf", ".webm", ".m4v"}
MOST_DIGITS = 9
"""Digits of a frame number at the most, leading zeros aside; a longer number in a file's name is none."""

Run = tuple[int, int]
"""First and last of frame numbers that follow one another."""

_NUMBERED = re.compile(r"^(?P<stem>.*?)(?P<number>\d+)(?P<suffix>\.[A-Za-z0-9]+)$")


@dataclass(frozen=True)
class Sequence:
    """Files ``stem + frame number + suffix`` in one folder.

    Attributes
    ----------
    folder : where the files lie. stem, suffix : what surrounds the number.
    names : file name by frame number, rising.
    """

    folder: Path
    stem: str
    suffix: str
    names: dict[int, str]

    @property
    def frames(self) -> list[int]:
        """Frame numbers that exist, rising."""
        return list(self.names)

    @property
    def gaps(self) -> list[Run]:
        """Runs of frame numbers between the first and the last that have no file."""
        return gaps_in(self.frames, self.frames[0], self.frames[-1])

    @property
    def label(self) -> str:
        """The pattern, with # for each digit."""
        digits = len(self.names[self.frames[0]]) - len(self.stem) - len(self.suffix)
        return f"{self.stem}{'#' * digits}{self.suffix}"

    def path(self, frame: int) -> Path:
        """Return the file of a frame."""
        return self.folder / self.names[frame]


def recognise(folder: Path, names: list[str]) -> list[Sequence]:
    """Group image file names of a folder into sequences, longest first."""
    groups: dict[tuple[str, str], dict[int, str]] = {}
    for name in sorted(names):
        match = _NUMBERED.match(name)
        if match and match["suffix"].lower() in IMAGE_SUFFIXES and len(match["number"].lstrip("0")) <= MOST_DIGITS:
            groups.setdefault((match["stem"], match["suffix"]), {})[int(match["number"])] = name
    found = [Sequence(folder, stem, suffix, dict(sorted(files.items()))) for (stem, suffix), files in groups.items()]
    return sorted(found, key=lambda s: (-len(s.names), s.stem))


def find_sequence(where: str | Path) -> Sequence:
    """Return the sequence meant by a folder or a pattern ``name.####.ext`` (``%04d`` and ``*`` work too).

    Raises PlateError when there is none, or when a folder holds several.
    """
    where = Path(where)
    if where.is_dir():
        found = recognise(where, [p.name for p in where.iterdir() if p.is_file()])
        if not found:
            raise PlateError(
                f"No numbered pictures in {where}.", "Files look like name.1001.png; PNG, JPEG, TIFF, EXR or DPX."
            )
        if len(found) > 1 and len(found[1].names) > 1:
            labels = ", ".join(s.label for s in found[:4])
            raise PlateError(
                f"{where} holds several sequences ({labels}).", "Name one as a pattern, such as name.####.png."
            )
        return found[0]
    pattern = re.compile(
        "^" + re.sub(r"(?:\\#|#)+|%0?\d*d|\\\*", r"\\d+", re.escape(where.name).replace("%", "%")) + "$"
    )
    if not where.parent.is_dir():
        raise PlateError(f"There is no folder {where.parent}.", "Check the path of the plate.")
    names = [p.name for p in where.parent.iterdir() if pattern.match(p.name)]
    found = recognise(where.parent, names)
    if not found:
        raise PlateError(f"No files match {where}.", "Give a folder, a pattern such as name.####.png, or a video.")
    return found[0]


def gaps_in(numbers: Iterable[int], first: int, last: int) -> list[Run]:
    """Return the runs of frame numbers from `first` to `last` that are not among `numbers`, which rise.

    Two files may be numbered two milliards apart: what lies between is never listed one by one.
    """
    out, expected = [], first
    for number in numbers:
        if number > last:
            break
        if number > expected:
            out.append((expected, number - 1))
        expected = max(expected, number + 1)
    return [*out, (expected, last)] if expected <= last else out


def runs_of(frames: Iterable[int], gap: int = 0) -> list[Run]:
    """Return frame numbers, which rise, as runs; gaps of up to `gap` frames are bridged."""
    runs: list[Run] = []
    for frame in frames:
        if runs and frame - runs[-1][1] <= gap + 1:
            runs[-1] = (runs[-1][0], frame)
        else:
            runs.append((frame, frame))
    return runs


def spans(frames: Iterable[int]) -> str:
    """Return frame numbers, which rise, in words: ``1004, 1010-1012``."""
    return run_words(runs_of(frames))


def run_words(runs: list[Run]) -> str:
    """Return runs of frame numbers in words, as `spans` does."""
    words = [str(a) if a == b else f"{a}-{b}" for a, b in runs]
    return ", ".join(words[:6]) + (f" and {len(words) - 6} more gaps" if len(words) > 6 else "")
