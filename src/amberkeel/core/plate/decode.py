"""Decode single pictures: any supported file to 8-bit sRGB."""

from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import PlateError

MAX_PIXELS = 8192 * 8192
"""Largest picture read, in pixels."""


def read_picture(path: Path) -> np.ndarray:
    """Return a picture as (H, W, 3) uint8 sRGB.

    EXR and other float files are taken as linear light and encoded; integer files are taken as they are.
    Raises PlateError when the file is not a picture, whatever its name says.
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
        wanted = oiio.UINT8 if spec.format.basetype in (oiio.UINT8, oiio.UINT16, oiio.UINT32) else oiio.FLOAT
        pixels = source.read_image(0, 0, 0, min(spec.nchannels, 3), wanted)
        if pixels is None or source.has_error:
            reason = source.geterror()
            raise PlateError(
                f"{path.name} is damaged and cannot be read whole ({reason.strip() or 'no data'}).", "Copy it again."
            )
    finally:
        source.close()
    return to_display(np.asarray(pixels).reshape(spec.height, spec.width, -1))


def to_display(pixels: np.ndarray) -> np.ndarray:
    """Return pixels (H, W, C) as (H, W, 3) uint8 sRGB; float pixels are linear light."""
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    if pixels.dtype == np.uint8:
        return np.ascontiguousarray(pixels)
    return np.round(255.0 * code_of_light(pixels)).astype(np.uint8)


def code_of_light(light: np.ndarray) -> np.ndarray:
    """Return sRGB code values 0 to 1 (IEC 61966-2-1) of linear light, which is cut to 0 to 1; no number counts as 0."""
    light = np.clip(np.nan_to_num(light), 0.0, 1.0)
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)


def light_of_code(picture: np.ndarray) -> np.ndarray:
    """Return linear light, float32 0 to 1, of uint8 sRGB code values of any shape."""
    return _LIGHT[picture]


_CODE = np.arange(256) / 255.0
_LIGHT = np.where(_CODE <= 0.04045, _CODE / 12.92, ((_CODE + 0.055) / 1.055) ** 2.4).astype(np.float32)


def to_gray(picture: np.ndarray) -> np.ndarray:
    """Return the luma (H, W) uint8 of an RGB picture (H, W, 3) uint8."""
    return cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)


def write_png(path: Path, picture: np.ndarray) -> None:
    """Write (H, W) or (H, W, 3) uint8 as PNG; raises PlateError when the disk refuses."""
    pixels = picture[..., ::-1] if picture.ndim == 3 else picture
    if not cv2.imwrite(str(path), np.ascontiguousarray(pixels), [cv2.IMWRITE_PNG_COMPRESSION, 3]):
        raise PlateError(f"{path} cannot be written.", "Is there room on the disk, and may we write there?")


def encode_jpeg(picture: np.ndarray, quality: int = 88) -> bytes:
    """Return an RGB picture (H, W, 3) uint8 as JPEG bytes."""
    return cv2.imencode(".jpg", np.ascontiguousarray(picture[..., ::-1]), [cv2.IMWRITE_JPEG_QUALITY, quality])[
        1
    ].tobytes()
