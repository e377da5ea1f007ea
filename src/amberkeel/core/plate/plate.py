"""A plate: the pictures of one camera take, whatever holds them."""

from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING

import cv2
import numpy as np

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.encoding import known_encoding
from amberkeel.core.pictures.facts import NO_FACTS, PictureFacts, picture_facts
from amberkeel.core.pictures.read import is_white, read_matte, read_picture, to_gray
from amberkeel.core.plate.sequence import VIDEO_SUFFIXES, Sequence, find_sequence, gaps_in, run_words, spans

if TYPE_CHECKING:
    from amberkeel.core.plate.video import VideoReader

GRAY_BUDGET = 400 * 1024 * 1024
"""Bytes of decoded luma kept in memory by `GrayFrames`."""


@dataclass
class Plate:
    """Pictures by frame number.

    Attributes
    ----------
    name : a short name for messages and hand-overs.
    frames : (F,) int frame numbers, without gaps.
    width, height : pixels. fps : frames a second, or None where unknown.
    pixel_aspect : width of a pixel over its height. encoding : how the files' values stand for light, empty where each
        file says it. facts : what the first file's metadata states. times : (F,) seconds of each frame from the first,
        where the rate is not even.
    """

    name: str
    frames: np.ndarray
    width: int
    height: int
    source: "Sequence | VideoReader"
    fps: Fraction | None = None
    pixel_aspect: float = 1.0
    encoding: str = ""
    facts: PictureFacts = NO_FACTS
    times: np.ndarray | None = None
    _lock: Lock = field(default_factory=Lock, repr=False)

    @property
    def odd(self) -> tuple[str, ...]:
        """What is odd about the files, in words."""
        return self.facts.odd

    def read(self, frame: int) -> np.ndarray:
        """Return a frame as (H, W, 3) uint8 sRGB; raises PlateError on damage or another size."""
        if not isinstance(self.source, Sequence):
            with self._lock:
                return self.source.read(frame)
        picture = read_picture(self.source.path(frame), self.encoding)
        if picture.shape[:2] != (self.height, self.width):
            raise PlateError(
                f"Frame {frame} is {picture.shape[1]}x{picture.shape[0]}, the others are {self.width}x{self.height}.",
                "All frames of a plate must have one size.",
            )
        return picture

    def gray(self, frame: int) -> np.ndarray:
        """Return the luma (H, W) uint8 of a frame: what is followed."""
        return to_gray(self.read(frame))


def open_plate(where: str | Path, frames: tuple[int, int] | None = None, encoding: str = "") -> Plate:
    """Open a folder, a pattern ``name.####.ext`` or a video as a plate.

    Parameters
    ----------
    where : the plate. frames : first and last frame to use, or None for all. encoding : how values stand for light,
        one of `pictures.encoding.ENCODINGS`, empty for what the files say.

    Raises
    ------
    PlateError : nothing there, a gap in the frames, or not pictures at all.
    """
    where, encoding = Path(where), known_encoding(encoding)
    if where.suffix.lower() in VIDEO_SUFFIXES and where.is_file():
        return _open_video(where, frames, encoding)
    if where.is_file():
        read_picture(where)
        raise PlateError(f"{where.name} is a single picture.", "Give its folder, or a pattern such as name.####.png.")
    sequence = find_sequence(where)
    numbers = _range(sequence.frames, frames, sequence.label)
    first = read_picture(sequence.path(int(numbers[0])), encoding)
    name = sequence.stem.rstrip("._-") or where.name
    facts = picture_facts(sequence.path(int(numbers[0])))
    return Plate(
        name, numbers, first.shape[1], first.shape[0], sequence, facts.fps, facts.pixel_aspect or 1.0, encoding, facts
    )  # fmt: skip


def _open_video(where: Path, frames: tuple[int, int] | None, encoding: str) -> Plate:
    from amberkeel.core.plate.video import VideoReader

    reader = VideoReader(where, encoding)
    numbers = _range(list(range(1, reader.count + 1)), frames, where.name)
    times = None if reader.times is None else reader.times[numbers - 1] - reader.times[numbers[0] - 1]
    return Plate(
        where.stem, numbers, reader.width, reader.height, reader, reader.fps, reader.pixel_aspect, encoding,
        reader.facts, times,
    )  # fmt: skip


def _range(numbers: list[int], wanted: tuple[int, int] | None, label: str) -> np.ndarray:
    if wanted:
        inside = [n for n in numbers if wanted[0] <= n <= wanted[1]]
        if not inside:
            raise PlateError(
                f"{label} has no frames in {wanted[0]}-{wanted[1]}.", f"It runs from {numbers[0]} to {numbers[-1]}."
            )
        lacking = gaps_in(inside, *wanted)
    else:
        inside = numbers
        lacking = gaps_in(numbers, numbers[0], numbers[-1])
    if lacking:
        raise PlateError(
            f"{label} has no frame {run_words(lacking)}.", "Supply the missing frames or choose a range without them."
        )
    return np.array(inside, dtype=np.int64)


class GrayFrames:
    """Luma of a plate's frames: read ahead on a thread, the newest kept within a memory budget.

    `soften` blurs them a little (one sigma of a Gaussian in pixels; 0 leaves them as they are), against grain.
    """

    def __init__(self, plate: Plate, budget: int = GRAY_BUDGET, ahead: int = 3, soften: float = 0.0):
        self.plate = plate
        self.soften = soften
        self._room = max(4, budget // (plate.width * plate.height))
        self._ahead = ahead
        self._kept: dict[int, np.ndarray] = {}
        self._coming: dict[int, Future[np.ndarray]] = {}
        self._pool = ThreadPoolExecutor(1)

    def get(self, frame: int, step: int = 1) -> np.ndarray:
        """Return the luma (H, W) uint8 of a frame; frames further along `step` are read ahead."""
        for k in range(1, self._ahead + 1):
            self._fetch(frame + k * step)
        if frame not in self._kept:
            coming = self._coming.pop(frame, None)
            self._keep(frame, coming.result() if coming else self._read(frame))
        return self._kept[frame]

    def _read(self, frame: int) -> np.ndarray:
        gray = self.plate.gray(frame)
        return cv2.GaussianBlur(gray, (0, 0), self.soften) if self.soften else gray

    def _fetch(self, frame: int) -> None:
        inside = self.plate.frames[0] <= frame <= self.plate.frames[-1]
        if inside and frame not in self._kept and frame not in self._coming:
            self._coming[frame] = self._pool.submit(self._read, frame)

    def _keep(self, frame: int, gray: np.ndarray) -> None:
        while len(self._kept) >= self._room:
            furthest = max(self._kept, key=lambda f: abs(f - frame))
            del self._kept[furthest]
        self._kept[frame] = gray

    def close(self) -> None:
        """Stop reading ahead and let go of the frames."""
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._kept.clear()
        self._coming.clear()


def matte_reader(pattern: str | Path, plate: Plate):
    """Return a function from frame number to a bool mask (H, W), True where the matte is white (ignored).

    Raises PlateError when the mattes have another size or lack frames of the plate.
    """
    sequence = find_sequence(pattern)
    lacking = sorted(set(plate.frames.tolist()) - set(sequence.frames))
    if lacking:
        raise PlateError(
            f"The mattes {sequence.label} have no frame {spans(lacking)}.", "Supply one for every frame of the plate."
        )

    def read(frame: int) -> np.ndarray:
        matte = read_matte(sequence.path(frame))
        if matte.shape != (plate.height, plate.width):
            raise PlateError(
                f"Matte {frame} is {matte.shape[1]}x{matte.shape[0]}, the plate is {plate.width}x{plate.height}.",
                "Mattes must have the plate's size.",
            )
        return is_white(matte)

    read(int(plate.frames[0]))
    return read
