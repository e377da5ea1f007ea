"""Read single pictures and mattes, judged by decoding them and not by their names.

A picture is what its display window shows: a smaller data window leaves the rest black, what lies beyond it is left
out. Of a file of several parts, or of many channels, the first red, green and blue are the picture.
"""

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import MaskError, PlateError
from amberkeel.core.pictures.encoding import DISPLAY, FILM_LOG, LINEAR, displayed
from amberkeel.core.pictures.png import check_png

MAX_PIXELS = 8192 * 8192
"""Largest picture read, in pixels."""

MOST_PARTS = 64
"""Parts of a file that are looked through for the picture."""

STRIP_PIXELS = 2**20
"""Pixels that are converted at a time, about."""

CHANNELS = ("luma", "red", "green", "blue", "alpha")
"""Channels that a matte may be taken from."""

WHITE = 0.5
"""Value from which a matte counts as white. It is compared as stored: half of EXR's light is half."""

_INTEGERS = (oiio.UINT8, oiio.UINT16, oiio.UINT32)
_FLOATS = (oiio.HALF, oiio.FLOAT, oiio.DOUBLE)
_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
_LOGARITHMIC = ("Printing density", "Logarithmic")

_SIGNATURES = (
    b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff", b"II*\0", b"MM\0*", b"II+\0", b"MM\0+", b"\x76\x2f\x31\x01",
    b"SDPX", b"XPDS",
)  # fmt: skip
"""How files begin: PNG, JPEG, TIFF of both orders, BigTIFF, EXR, and DPX of both orders."""

_LONGEST = max(map(len, _SIGNATURES))

Convert = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Opened:
    """A file opened for reading: the part that holds the picture, and the first of its channels."""

    source: oiio.ImageInput
    spec: oiio.ImageSpec
    part: int
    channel: int
    name: str

    @property
    def encoding(self) -> str:
        """How the file says that its values stand for light."""
        if self.spec.format.basetype in _FLOATS:
            return LINEAR
        transfer = self.spec.getattribute("dpx:Transfer")
        return FILM_LOG if transfer in _LOGARITHMIC else LINEAR if transfer == "Linear" else DISPLAY

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the display window, before the file's orientation is obeyed."""
        return self.spec.full_width or self.spec.width, self.spec.full_height or self.spec.height


def open_picture(path: Path) -> Opened:
    """Open a picture; the caller closes its source. Raises PlateError where it is none, or too large."""
    name, plain = path.name, oiio.ImageSpec()
    if path.is_file():
        check_signature(path)
        check_png(path)
    # Colours are wanted as stored, not darkened by their alpha.
    plain.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(str(path), plain)
    if source is None:
        with suppress(UnicodeDecodeError):
            oiio.geterror()
        raise _unreadable(name)
    try:
        part, channel = _picture_in(source, name)
        opened = Opened(source, source.spec(part, 0), part, channel, name)
        (width, height), spec = opened.size, opened.spec
        if max(width * height, spec.width * spec.height) > MAX_PIXELS or min(width, height) < 1:
            raise PlateError(f"{name} is {width}x{height}, larger than can be read.", "Scale it down first.")
        return opened
    except UnicodeDecodeError as error:
        source.close()
        raise _damaged(name, "its header is no text") from error
    except PlateError:
        source.close()
        raise


def _unreadable(name: str) -> PlateError:
    return PlateError(f"{name} cannot be read as a picture.", "Is it complete, and PNG, JPEG, TIFF, EXR or DPX?")


def check_signature(path: Path) -> None:
    """Raise PlateError where a file does not begin as one of the kinds that are read, before a decoder looks at it."""
    with open(path, "rb") as file:
        begins = file.read(_LONGEST)
    if not begins.startswith(_SIGNATURES):
        raise _unreadable(path.name)


def _damaged(name: str, reason: str) -> PlateError:
    return PlateError(f"{name} is damaged and cannot be read whole ({reason}).", "Copy it again.")


def reason_of(source: oiio.ImageInput) -> str:
    """Return why a decoder failed, without the folders it names."""
    try:
        lines = source.geterror().strip().splitlines()
    except UnicodeDecodeError:
        return "its header is no text"
    return " ".join(w for w in lines[0].split() if "/" not in w)[:120] if lines else "no data"


def _picture_in(source: oiio.ImageInput, name: str) -> tuple[int, int]:
    """Return the part and the channel where the picture begins: red, green and blue, or else the first there is."""
    parts = []
    for part in range(MOST_PARTS):
        spec = source.spec(part, 0)
        if spec.width < 1:
            break
        parts.append(spec)
        ends = [channel.lower().rsplit(".", 1)[-1] for channel in spec.channelnames]
        for k in range(len(ends) - 2):
            if not spec.deep and [e[:1] for e in ends[k : k + 3]] == ["r", "g", "b"]:
                return part, k
    flat = [k for k, spec in enumerate(parts) if not spec.deep]
    if not flat:
        raise PlateError(f"{name} holds depth samples only, no flat picture.", "Flatten it first.")
    return flat[0], 0


def read_raw(path: Path, most_channels: int = 4, eight_bit: bool = False) -> np.ndarray:
    """Return a picture (H, W, C) as deep as its file: uint8, uint16 or float32.

    Parameters
    ----------
    path : of the file. most_channels : further ones are left out. eight_bit : take every integer file as uint8.

    Raises
    ------
    PlateError : the file is not a picture, whatever its name says, is damaged, or is too large.
    """
    opened = open_picture(Path(path))
    return _converted(opened, most_channels, eight_bit, _as_float)


def _as_float(strip: np.ndarray) -> np.ndarray:
    return strip.astype(np.float32) if strip.dtype == np.float16 else strip


def _converted(opened: Opened, most_channels: int, shallow: bool, convert: Convert) -> np.ndarray:
    """Return a picture of which each strip of rows (h, W, C) is converted as it is read, so that no more than a strip
    is ever held as deep as its file; closes the source.

    Parameters
    ----------
    opened : the file. most_channels : further ones are left out. shallow : take integers as uint8, and half floats as
        such, where the conversion is the same for them.
    """
    spec = opened.spec
    out: np.ndarray | None = None
    (width, height), (left, top) = opened.size, (spec.x - spec.full_x, spec.y - spec.full_y)
    columns = slice(max(left, 0), min(left + spec.width, width))
    try:
        for first, pixels in _strips(opened, most_channels, shallow):
            if pixels is None or opened.source.has_error:
                raise _damaged(opened.name, reason_of(opened.source))
            strip = convert(np.asarray(pixels).reshape(-1, spec.width, pixels.shape[-1]))
            if out is None:
                out = np.zeros((height, width, *strip.shape[2:]), strip.dtype)
            rows = slice(max(top + first, 0), min(top + first + len(strip), height))
            if rows.start < rows.stop and columns.start < columns.stop:
                within = strip[rows.start - top - first : rows.stop - top - first]
                out[rows, columns] = within[:, columns.start - left : columns.stop - left]
    finally:
        opened.source.close()
    assert out is not None
    return _upright(out, spec.get_int_attribute("Orientation", 1))


def _upright(picture: np.ndarray, orientation: int) -> np.ndarray:
    """Return a picture turned as its metadata has it (Exif 2.3, table 6)."""
    if orientation in (5, 6, 7, 8):
        picture = picture.swapaxes(0, 1)
    flip_rows, flip_columns = orientation in (3, 4, 7, 8), orientation in (2, 3, 6, 7)
    if not flip_rows and not flip_columns and orientation != 5:
        return picture
    return np.ascontiguousarray(picture[:: -1 if flip_rows else 1, :: -1 if flip_columns else 1])


def _strips(opened: Opened, most_channels: int, shallow: bool) -> Iterator[tuple[int, np.ndarray | None]]:
    """Yield the rows of a picture from the top, some at a time, each with the first row's number from 0."""
    source, spec, part = opened.source, opened.spec, opened.part
    stored = spec.format.basetype
    channels = opened.channel, min(spec.nchannels, opened.channel + most_channels)
    kind = oiio.UINT8 if shallow and stored in _INTEGERS else stored
    kinds = (oiio.UINT8, oiio.UINT16, *((oiio.HALF,) if shallow else ()))
    kind = kind if kind in kinds else oiio.FLOAT
    high = max(1, STRIP_PIXELS // spec.width)
    if spec.tile_height:
        high = -(-high // spec.tile_height) * spec.tile_height
    for top in range(0, spec.height, high):
        rows = spec.y + top, spec.y + min(top + high, spec.height)
        if spec.tile_height:
            columns = spec.x, spec.x + spec.width
            yield top, source.read_tiles(part, 0, *columns, *rows, spec.z, spec.z + 1, *channels, kind)
        else:
            yield top, source.read_scanlines(part, 0, *rows, spec.z, *channels, kind)


def read_picture(path: Path, encoding: str = "") -> np.ndarray:
    """Return a picture as (H, W, 3) uint8 sRGB.

    Parameters
    ----------
    path : of the file. encoding : how its values stand for light, one of `encoding.ENCODINGS`; empty: as the file
        says, which is linear for floats, logarithmic where a DPX says so, and display code values else.

    Raises
    ------
    PlateError : the file is not a picture, whatever its name says, is damaged, or is too large.
    """
    opened = open_picture(Path(path))
    name = encoding or opened.encoding
    floats = opened.spec.format.basetype in _FLOATS
    return _converted(opened, 3, floats or name == DISPLAY, lambda strip: displayed(_three(strip), name))


def _three(pixels: np.ndarray) -> np.ndarray:
    """Return pixels (H, W, C) with three channels: grey ones three times."""
    return pixels if pixels.shape[2] >= 3 else np.repeat(pixels[..., :1], 3, axis=2)


def read_matte(path: Path, channel: str = "luma") -> np.ndarray:
    """Return one channel of a picture as (H, W) float32, 0 to 1, as stored.

    Raises MaskError where it has no such channel, PlateError where it is no picture.
    """
    opened = open_picture(Path(path))
    return _converted(opened, 4, False, lambda strip: _channel(strip, channel, opened.name))


def _channel(pixels: np.ndarray, channel: str, name: str) -> np.ndarray:
    """Return a channel (H, W) float32 of pixels (H, W, C); raises MaskError where there is none."""
    if pixels.dtype != np.float32:
        pixels = pixels.astype(np.float32) / np.iinfo(pixels.dtype).max
    depth = pixels.shape[2]
    if channel == "luma":
        with np.errstate(invalid="ignore", over="ignore"):
            return pixels[..., 0] if depth < 3 else pixels[..., :3] @ _LUMA
    alpha = depth - 1 if depth in (2, 4) else 3
    index = {"red": 0, "green": 1, "blue": 2, "alpha": alpha}.get(channel, depth)
    if index >= depth:
        raise MaskError(f"{name} has no channel “{channel}”.", f"It has {depth}; choose another.")
    return pixels[..., index]


def is_white(matte: np.ndarray) -> np.ndarray:
    """Return which pixels of a matte (H, W) as `read_matte` gives it are white, (H, W) bool."""
    return matte >= WHITE


def to_gray(picture: np.ndarray) -> np.ndarray:
    """Return the luma (H, W) uint8 of an RGB picture (H, W, 3) uint8."""
    return cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
