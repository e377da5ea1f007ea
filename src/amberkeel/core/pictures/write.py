"""Write single pictures to files, and as bytes for pages."""

from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.transfer import code_of_light, light_of_code

_KINDS = {np.dtype(np.uint8): oiio.UINT8, np.dtype(np.uint16): oiio.UINT16}


def write_picture(
    path: Path, picture: np.ndarray, whole_float: bool = False, kept: Sequence[oiio.ParamValue] = ()
) -> None:
    """Write a picture to a file of the format that its name says.

    Parameters
    ----------
    path : of the file. picture : (H, W) or (H, W, C), uint8 or uint16 code values, or float32 linear light. Into EXR,
        uint8 goes as linear light; into any other format, light goes as sRGB code values of 8 bits.
    whole_float : write 32-bit float into EXR instead of half float. kept : metadata that goes along, as `kept_of` has
        it; a format takes of it what it knows.

    Raises
    ------
    PlateError : no such format, or the disk refuses.
    """
    path = Path(path)
    pixels = picture[..., None] if picture.ndim == 2 else picture
    if path.suffix == ".exr":
        pixels = light_of_code(pixels) if pixels.dtype == np.uint8 else pixels
        kind = oiio.FLOAT if whole_float else oiio.HALF
    else:
        if pixels.dtype == np.float32:
            pixels = np.round(255.0 * code_of_light(pixels)).astype(np.uint8)
        kind = _KINDS[pixels.dtype]
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], kind)
    for one in kept:
        spec.attribute(one.name, one.type, one.value)
    if path.suffix == ".exr":
        spec.attribute("compression", "zip")
    output = oiio.ImageOutput.create(str(path))
    if output is None:
        raise PlateError(f"{path.name} is no format that can be written.", oiio.geterror())
    if not (output.open(str(path), spec) and output.write_image(np.ascontiguousarray(pixels)) and output.close()):
        raise PlateError(
            f"{path} cannot be written ({output.geterror().strip()}).",
            "Is there room on the disk, and may we write there?",
        )


def write_png(path: Path, picture: np.ndarray) -> None:
    """Write (H, W) or (H, W, 3) uint8 as PNG; raises PlateError when the disk refuses."""
    pixels = picture[..., ::-1] if picture.ndim == 3 else picture
    if not cv2.imwrite(str(path), np.ascontiguousarray(pixels), [cv2.IMWRITE_PNG_COMPRESSION, 3]):
        raise PlateError(f"{path} cannot be written.", "Is there room on the disk, and may we write there?")


def encode_jpeg(picture: np.ndarray, quality: int = 88) -> bytes:
    """Return an RGB picture (H, W, 3) uint8 as JPEG bytes."""
    pixels = np.ascontiguousarray(picture[..., ::-1])
    return cv2.imencode(".jpg", pixels, [cv2.IMWRITE_JPEG_QUALITY, quality])[1].tobytes()


def encode_png(picture: np.ndarray, compression: int = 3) -> bytes:
    """Return (H, W) or (H, W, 3 or 4) uint8, colours as RGB, as PNG bytes."""
    pixels = picture
    if picture.ndim == 3:
        pixels = cv2.cvtColor(picture, cv2.COLOR_RGBA2BGRA if picture.shape[2] == 4 else cv2.COLOR_RGB2BGR)
    return cv2.imencode(".png", pixels, [cv2.IMWRITE_PNG_COMPRESSION, compression])[1].tobytes()


def decode_gray_png(data: bytes) -> np.ndarray:
    """Return the picture (H, W) uint8 of PNG bytes that `encode_png` made."""
    picture = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE)
    if picture is None:
        raise PlateError("A kept picture is damaged.", "Bring it in again.")
    return np.asarray(picture)
