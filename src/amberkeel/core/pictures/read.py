"""Read single pictures and mattes, judged by decoding them and not by their names."""

from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import MaskError, PlateError
from amberkeel.core.pictures.transfer import code_of_light

MAX_PIXELS = 8192 * 8192
"""Largest picture read, in pixels."""

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
    path = Path(path)
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
        stored = spec.format.basetype
        kind = oiio.UINT8 if eight_bit and stored in _INTEGERS else stored
        kind = kind if kind in (oiio.UINT8, oiio.UINT16) else oiio.FLOAT
        pixels = source.read_image(0, 0, 0, min(spec.nchannels, most_channels), kind)
        if pixels is None or source.has_error:
            reason = source.geterror().strip() or "no data"
            raise PlateError(f"{path.name} is damaged and cannot be read whole ({reason}).", "Copy it again.")
    finally:
        source.close()
    return np.ascontiguousarray(np.asarray(pixels).reshape(spec.height, spec.width, -1))


def read_picture(path: Path) -> np.ndarray:
    """Return a picture as (H, W, 3) uint8 sRGB.

    EXR and other float files are taken as linear light and encoded; integer files are taken as they are.
    Raises PlateError when the file is not a picture, whatever its name says.
    """
    return to_display(read_raw(path, 3, eight_bit=True))


def read_matte(path: Path, channel: str = "luma") -> np.ndarray:
    """Return one channel of a picture as (H, W) float32, 0 to 1, as stored.

    Raises MaskError where it has no such channel, PlateError where it is no picture.
    """
    pixels = read_raw(path)
    if pixels.dtype != np.float32:
        pixels = pixels.astype(np.float32) / np.iinfo(pixels.dtype).max
    depth = pixels.shape[2]
    if channel == "luma":
        return pixels[..., 0] if depth < 3 else pixels[..., :3] @ _LUMA
    alpha = depth - 1 if depth in (2, 4) else 3
    index = {"red": 0, "green": 1, "blue": 2, "alpha": alpha}.get(channel, depth)
    if index >= depth:
        raise MaskError(f"{Path(path).name} has no channel “{channel}”.", f"It has {depth}; choose another.")
    return pixels[..., index]


def is_white(matte: np.ndarray) -> np.ndarray:
    """Return which pixels of a matte (H, W) as `read_matte` gives it are white, (H, W) bool."""
    return matte >= WHITE


def to_display(pixels: np.ndarray) -> np.ndarray:
    """Return pixels (H, W, C) as (H, W, 3) uint8 sRGB; float pixels are linear light."""
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    if pixels.dtype == np.uint8:
        return np.ascontiguousarray(pixels)
    return np.round(255.0 * code_of_light(pixels)).astype(np.uint8)


def to_gray(picture: np.ndarray) -> np.ndarray:
    """Return the luma (H, W) uint8 of an RGB picture (H, W, 3) uint8."""
    return cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
