"""Read frames of a video in any order, cheapest in rising order (PyAV).

A container's own count of frames is not believed: some count one that cannot be decoded, some count empty ones that
repeat the last. What decodes is the plate; what is odd about it is said.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import av
import numpy as np
from av.video.reformatter import Colorspace, ColorTrc

from amberkeel.core.errors import PlateError
from amberkeel.core.foreign import Limits, guarded
from amberkeel.core.pictures.encoding import DISPLAY, FILM_LOG, HLG, LINEAR, PQ, displayed
from amberkeel.core.pictures.facts import PictureFacts
from amberkeel.core.plate.sequence import spans

UNEVEN = 0.02
"""Share of a frame's usual duration by which durations may differ before the rate counts as variable."""

HIGH_DEFINITION = 720
"""Rows from which colours that say nothing of their matrix are taken as Rec. 709's, not Rec. 601's."""

_ENCODINGS: dict[int, str] = {
    ColorTrc.SMPTE2084: PQ,
    ColorTrc.ARIB_STD_B67: HLG,
    ColorTrc.LINEAR: LINEAR,
    ColorTrc.LOG: FILM_LOG,
    ColorTrc.LOG_SQRT: FILM_LOG,
}
_UNSAID = (2, 0)
"""Matrix coefficients that are unspecified, or plain RGB (ISO/IEC 23091-2)."""

INTERLACED_SHARE = 0.5
"""Share of frames marked as interlaced from which a video is taken as such."""


@dataclass(frozen=True)
class VideoIndex:
    """What decoding a whole video once has told.

    Attributes
    ----------
    stamps : presentation time of each frame in units of the stream's time base, None where it has none.
    keys : numbers from 0 of the frames that can be sought. times : (F,) seconds from the first frame, or None where
        the rate is even. fps : frames a second. encoding : how values stand for light. interlaced : whether frames
        hold two fields. turn : quarter turns counter-clockwise that show it upright. size : width and height as shown.
    odd : what is odd about it, in words.
    """

    stamps: tuple[int | None, ...]
    keys: tuple[int, ...]
    times: np.ndarray | None
    fps: Fraction
    pixel_aspect: float
    encoding: str
    interlaced: bool
    turn: int
    size: tuple[int, int]
    odd: tuple[str, ...]


def _open(path: Path) -> tuple[av.container.InputContainer, av.VideoStream]:
    try:
        container = av.open(str(path), metadata_errors="ignore")
        stream = container.streams.video[0]
    except (av.FFmpegError, IndexError, OSError, UnicodeError) as error:
        raise PlateError(f"{path.name} cannot be read as a video.", "Is the file complete?") from error
    stream.thread_type = "AUTO"
    return container, stream


def _decoded(container: av.container.InputContainer, stream: av.VideoStream) -> Iterator[av.VideoFrame | None]:
    """Yield the frames that can be decoded, and None for each packet that cannot."""
    packets = container.demux(stream)
    while True:
        try:
            packet = next(packets)
        except StopIteration:
            return
        except av.FFmpegError:
            yield None
            return
        try:
            yield from packet.decode()
        except av.FFmpegError:
            yield None


BYTES_A_SECOND = 1e6
"""Of a video file, decoded in a second by a slow machine that is busy."""


def _limits(path: Path) -> Limits:
    return Limits(2 << 30, 20.0 + path.stat().st_size / BYTES_A_SECOND)


@lru_cache(64)
def _index(path: Path, _changed: int, _bytes: int) -> VideoIndex:
    """Return a video's index, made once; the two last arguments stand for what the file holds."""
    return index_of(path)


@guarded("This video", PlateError, _limits)
def index_of(path: Path) -> VideoIndex:
    """Return what decoding a video from its beginning to its end tells.

    Raises
    ------
    PlateError : it is no video, holds no frames, or changes its size on the way.
    """
    container, stream = _open(path)
    stamps: list[int | None] = []
    keys, broken, corrupt, interlaced, sizes, first = [], 0, [], 0, set(), None
    with container:
        for frame in _decoded(container, stream):
            if frame is None:
                broken += 1
                continue
            first = first or frame
            if frame.key_frame:
                keys.append(len(stamps))
            if frame.is_corrupt:
                corrupt.append(len(stamps) + 1)
            interlaced += bool(frame.interlaced_frame)
            sizes.add((frame.width, frame.height))
            stamps.append(frame.pts)
        declared, base = stream.frames, stream.time_base
        rate = Fraction(stream.average_rate or stream.guessed_rate or 24)
        lasts = stream.duration * base if stream.duration and base else _alone(container)
        aspect = stream.sample_aspect_ratio
    if first is None:
        raise PlateError(f"{path.name} holds no frames that can be decoded.", "Copy or export it again.")
    if len(sizes) > 1:
        told = ", ".join(f"{w}x{h}" for w, h in sorted(sizes))
        raise PlateError(f"{path.name} changes its size on the way ({told}).", "Export it at one size.")
    turn = round(first.rotation / 90) % 4
    times, rate, uneven = _timing(stamps, float(base or 0), rate)
    combed = interlaced > INTERLACED_SHARE * len(stamps)
    odd = [
        *_counted(len(stamps), declared, broken, float(lasts * rate)),
        *_marred(corrupt),
        *uneven,
        *_shape(combed, turn),
    ]
    width, height = sizes.pop()
    if turn % 2:
        width, height = height, width
    shape = float(aspect) if aspect else 1.0
    return VideoIndex(
        tuple(stamps), tuple(keys), times, rate, 1.0 / shape if turn % 2 else shape,
        _ENCODINGS.get(int(first.color_trc), DISPLAY), combed, turn, (width, height), tuple(odd),
    )  # fmt: skip


def _alone(container: av.container.InputContainer) -> Fraction:
    """Return the seconds that a container with one stream says it lasts, else 0: sound may last longer."""
    return Fraction(container.duration or 0, av.time_base) if len(container.streams) == 1 else Fraction(0)


def _counted(decoded: int, declared: int, broken: int, lasts: float) -> list[str]:
    """Say where a container counts other than what decodes, is cut off, or where decoding failed."""
    out = []
    if not declared and lasts > decoded + max(2.0, 0.05 * decoded):
        out.append(f"The file should last about {lasts:.0f} frames; {decoded} can be decoded: those are the plate.")
    if declared > decoded:
        out.append(f"The file counts {declared} frames, of which {decoded} can be decoded: those are the plate.")
    if broken:
        out.append(f"{broken} {'piece' if broken == 1 else 'pieces'} of the file could not be decoded.")
    return out


def _marred(corrupt: list[int]) -> list[str]:
    return [f"Decoded with damage: {spans(corrupt)}."] if corrupt else []


def _shape(combed: bool, turn: int) -> list[str]:
    out = []
    if combed:
        out.append("Interlaced: each frame holds two fields. The first is used, the rows between are interpolated.")
    if turn:
        out.append(f"Turned upright by {90 * min(turn, 4 - turn)}°, as its metadata says.")
    return out


def _timing(stamps: list[int | None], base: float, rate: Fraction) -> tuple[np.ndarray | None, Fraction, list[str]]:
    """Return the frames' times where they are uneven, the rate, and what is odd about them."""
    if len(stamps) < 3 or not base or any(s is None for s in stamps):
        return None, rate, []
    times = np.array(stamps, float) * base
    steps = np.diff(times)
    usual = float(np.median(steps))
    if usual <= 0.0 or (steps <= 0.0).any():
        return None, rate, ["The frames' times do not rise; they are taken as even."]
    tolerance = max(UNEVEN * usual, 1.5 * base)
    uneven = np.flatnonzero(np.abs(steps - usual) > tolerance)
    if not len(uneven):
        return None, rate, []
    whole = np.round(steps[uneven] / usual)
    is_gap = (np.abs(steps[uneven] - whole * usual) <= tolerance * whole) & (whole >= 2)
    if is_gap.all() and len(uneven) <= 0.2 * len(steps):
        at = ", ".join(f"{k + 1} ({int(n) - 1})" for k, n in zip(uneven[:6], whole))
        more = f" and {len(uneven) - 6} more" if len(uneven) > 6 else ""
        return times - times[0], _nominal(usual), [f"Frames were dropped after frame {at}{more}, by their times."]
    low, high = 1.0 / steps.max(), 1.0 / steps.min()
    said = f"The frame rate varies, {low:.2f} to {high:.2f} fps: each frame's own time is kept."
    return times - times[0], Fraction(1.0 / float(steps.mean())).limit_denominator(1001), [said]


def _nominal(step: float) -> Fraction:
    """Return the rate that a usual duration in seconds stands for: a whole number, or one of the 1001s, if near."""
    for rate in (Fraction(round(1.0 / step)), Fraction(1000 * round(1.001 / step), 1001)):
        if rate and abs(float(rate) * step - 1.0) < 2e-3:
            return rate
    return Fraction(1.0 / step).limit_denominator(1001)


class VideoReader:
    """Frames of a video, numbered from 1.

    Attributes
    ----------
    width, height, fps, pixel_aspect, times, encoding : as `VideoIndex` has them. facts : the same as metadata.
    count : frames that decode.

    Raises PlateError when the file is no video.
    """

    def __init__(self, path: Path, encoding: str = ""):
        self.path = Path(path)
        try:
            held = self.path.stat()
        except OSError as error:
            raise PlateError(f"{self.path.name} cannot be read as a video.", "Is it there?") from error
        self.index = _index(self.path, held.st_mtime_ns, held.st_size)
        self.width, self.height = self.index.size
        self.fps, self.pixel_aspect = self.index.fps, self.index.pixel_aspect
        self.times, self.count = self.index.times, len(self.index.stamps)
        self.encoding = encoding or self.index.encoding
        self.facts = PictureFacts(self.fps, None, None, self.pixel_aspect, self.encoding, self.index.odd)
        stamps = self.index.stamps
        known = [s for s in stamps if s is not None]
        self._seeks = len(known) == len(stamps) and all(a < b for a, b in zip(known, known[1:]))
        self._container, self._stream = _open(self.path)
        self._frames, self._next = _decoded(self._container, self._stream), 1

    def _rewind(self) -> None:
        self.close()
        self._container, self._stream = _open(self.path)
        self._frames, self._next = _decoded(self._container, self._stream), 1

    def read(self, frame: int) -> np.ndarray:
        """Return frame number `frame` (from 1) as (H, W, 3) uint8 sRGB."""
        if not 1 <= frame <= self.count:
            raise PlateError(f"{self.path.name} has no frame {frame}.", f"It has {self.count} frames.")
        if frame < self._next or self._key_before(frame) > self._next:
            self._seek(frame)
        for picture in self._frames:
            if picture is None:
                continue
            self._next += 1
            if self._next == frame + 1:
                return self._shown(picture)
        raise PlateError(f"Frame {frame} of {self.path.name} cannot be decoded.", "Copy or export it again.")

    def _key_before(self, frame: int) -> int:
        """Return the number from 1 of the last frame at or before one that can be sought, 0 where seeking is unsure."""
        if not self._seeks:
            return 0
        k = int(np.searchsorted(self.index.keys, frame - 1, side="right")) - 1
        return self.index.keys[k] + 1 if k >= 0 else 0

    def _seek(self, frame: int) -> None:
        """Stand before a frame, or before the key frame that it needs."""
        key = self._key_before(frame)
        stamp = self.index.stamps[key - 1] if key > 1 else None
        if stamp is None:
            self._rewind()
            return
        self._container.seek(stamp, stream=self._stream)
        self._frames = self._numbered(key)

    def _numbered(self, key: int) -> Iterator[av.VideoFrame | None]:
        """Yield frames after a seek, of which the first tells where it led; from the start where that is unknown."""
        frames = _decoded(self._container, self._stream)
        first = next((f for f in frames if f is not None), None)
        if first is None or first.pts not in self.index.stamps[:key]:
            self._seeks = False
            self._rewind()
            yield from self._frames
            return
        self._next = self.index.stamps.index(first.pts) + 1
        yield first
        yield from frames

    def _shown(self, picture: av.VideoFrame) -> np.ndarray:
        """Return a decoded frame upright, as (H, W, 3) uint8 sRGB."""
        deep = picture.format.components[0].bits > 8 or self.encoding != DISPLAY
        matrix = None
        if picture.colorspace in _UNSAID:
            matrix = Colorspace.ITU709 if picture.height >= HIGH_DEFINITION else Colorspace.ITU601
        pixels = picture.to_ndarray(format="rgb48le" if deep else "rgb24", src_colorspace=matrix)
        out = displayed(pixels, self.encoding)
        if self.index.interlaced:
            out = _one_field(out)
        return np.ascontiguousarray(np.rot90(out, self.index.turn))

    def close(self) -> None:
        """Close the file."""
        self._container.close()


def _one_field(picture: np.ndarray) -> np.ndarray:
    """Return a picture (H, W, 3) whose odd rows are the means of the even ones around them."""
    out = picture.copy()
    above = picture[0::2].astype(np.uint16)
    below = np.concatenate([above[1:], above[-1:]])
    out[1::2] = ((above + below + 1) // 2)[: len(out[1::2])]
    return out
