"""Read single pictures and mattes, judged by decoding them and not by their names."""

from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import MaskError, PlateError
from amberkeel.core.pictures.transfer import code_of_light

MAX_PIXELS = 8192 * 8192
"""Largest picture read, in pixels."""

STRIP_PIXELS = 2**20
"""Pixels that are converted at a time, about."""

CHANNELS = ("luma", "red", "green", "blue", "alpha")
"""Channels that a matte may be taken from."""

WHITE = 0.5
"""Value from which a matte counts as white. It is compared as stored: half of EXR's light is half."""

_INTEGERS = (oiio.UINT8, oiio.UINT16, oiio.UINT32)
_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)


def read_raw(path: Path, most_channels: int = 4, eight_bit: bool = False) -> np.ndarray:
    """Return a picture (H, W, C) as deep as its file: uint8, uint16 or float32.

    Parameters
    ----------
    path : of the file. most_channels : further ones are left out. eight_bit : take every integer file as uint8.

    Raises
    ------
    PlateError : the file is not a picture, whatever its name says, is damaged, or is too large.
    """
    return _converted(Path(path), most_channels, eight_bit, _as_float)


def _as_float(strip: np.ndarray) -> np.ndarray:
    return strip.astype(np.float32) if strip.dtype == np.float16 else strip


def _converted(path: Path, most_channels: int, eight_bit: bool, convert: Callable[[np.ndarray], np.ndarray]):
    """Return a picture of which each strip of rows (h, W, C) is converted as it is read, so that no more than a strip
    is ever held as deep as its file; arguments and errors as for `read_raw`, where files of half floats are not told
    apart from those of floats.
    """
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        raise PlateError(
            f"{path.name} cannot be read as a picture.", "Is it complete, and PNG, JPEG, TIFF, EXR or DPX?"
        )
    try:
        spec = source.spec()
        if spec.width * spec.height > MAX_PIXELS:
            raise PlateError(
                f"{path.name} is {spec.width}x{spec.height}, larger than can be read.", "Scale it down first."
            )
        out = None
        for top, pixels in _strips(source, spec, most_channels, eight_bit):
            if pixels is None or source.has_error:
                reason = source.geterror().strip() or "no data"
                raise PlateError(f"{path.name} is damaged and cannot be read whole ({reason}).", "Copy it again.")
            strip = convert(np.asarray(pixels).reshape(-1, spec.width, min(spec.nchannels, most_channels)))
            if out is None:
                out = np.empty((spec.height, *strip.shape[1:]), strip.dtype)
            out[top : top + len(strip)] = strip
        return out
    finally:
        source.close()


def _strips(source, spec, most_channels: int, eight_bit: bool) -> Iterator[tuple[int, np.ndarray | None]]:
    """Yield the rows of a picture from the top, some at a time, each with the first row's number from 0."""
    stored, channels = spec.format.basetype, min(spec.nchannels, most_channels)
    kind = oiio.UINT8 if eight_bit and stored in _INTEGERS else stored
    kinds = (oiio.UINT8, oiio.UINT16, *((oiio.HALF,) if eight_bit else ()))
    kind = kind if kind in kinds else oiio.FLOAT
    high = max(1, STRIP_PIXELS // spec.width)
    if spec.tile_height:
        high = -(-high // spec.tile_height) * spec.tile_height
    for top in range(0, spec.height, high):
        rows = spec.y + top, spec.y + min(top + high, spec.height)
        if spec.tile_height:
            columns = spec.x, spec.x + spec.width
            yield top, source.read_tiles(0, 0, *columns, *rows, spec.z, spec.z + 1, 0, channels, kind)
        else:
            yield top, source.read_scanlines(0, 0, *rows, spec.z, 0, channels, kind)


def read_picture(path: Path) -> np.ndarray:
    """Return a picture as (H, W, 3) uint8 sRGB.

    EXR and other float files are taken as linear light and encoded; integer files are taken as they are.
    Raises PlateError when the file is not a picture, whatever its name says.
    """
    return _converted(Path(path), 3, True, to_display)


def read_matte(path: Path, channel: str = "luma") -> np.ndarray:
    """Return one channel of a picture as (H, W) float32, 0 to 1, as stored.

    Raises MaskError where it has no such channel, PlateError where it is no picture.
    """
    return _converted(Path(path), 4, False, lambda strip: _channel(strip, channel, Path(path).name))


def _channel(pixels: np.ndarray, channel: str, name: str) -> np.ndarray:
    """Return a channel (H, W) float32 of pixels (H, W, C); raises MaskError where there is none."""
    if pixels.dtype != np.float32:
        pixels = pixels.astype(np.float32) / np.iinfo(pixels.dtype).max
    depth = pixels.shape[2]
    if channel == "luma":
        return pixels[..., 0] if depth < 3 else pixels[..., :3] @ _LUMA
    alpha = depth - 1 if depth in (2, 4) else 3
    index = {"red": 0, "green": 1, "blue": 2, "alpha": alpha}.get(channel, depth)
    if index >= depth:
        raise MaskError(f"{name} has no channel “{channel}”.", f"It has {depth}; choose another.")
    return pixels[..., index]


def is_white(matte: np.ndarray) -> np.ndarray:
    """Return which pixels of a matte (H, W) as `read_matte` gives it are white, (H, W) bool."""
    return matte >= WHITE


@cache
def _display_of_halves() -> np.ndarray:
    """Return what is displayed (65536,) uint8 of every half float, by its bits."""
    halves = np.arange(2**16, dtype=np.uint16).view(np.float16).astype(np.float32)
    return np.round(255.0 * code_of_light(halves)).astype(np.uint8)


def to_display(pixels: np.ndarray) -> np.ndarray:
    """Return pixels (H, W, C) as (H, W, 3) uint8 sRGB; float pixels are linear light."""
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    if pixels.dtype == np.uint8:
        return np.ascontiguousarray(pixels)
    if pixels.dtype == np.float16:
        return _display_of_halves()[np.ascontiguousarray(pixels).view(np.uint16)]
    return np.round(255.0 * code_of_light(pixels)).astype(np.uint8)


def to_gray(picture: np.ndarray) -> np.ndarray:
    """Return the luma (H, W) uint8 of an RGB picture (H, W, 3) uint8."""
    return cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
