"""Pictures that are only looked at, of plates that are not brought in yet: decoded in a child, which may fail."""

from pathlib import Path

import cv2
import numpy as np

from amberkeel.core.errors import PlateError
from amberkeel.core.foreign import guarded
from amberkeel.core.pictures.read import read_picture, to_gray
from amberkeel.core.plate.sequence import VIDEO_SUFFIXES, Sequence, find_sequence


@guarded("This picture", PlateError)
def picture_size(path: Path) -> tuple[int, int]:
    """Return width and height of a picture that can be decoded, pixels; raises PlateError for any other file."""
    picture = read_picture(path)
    return picture.shape[1], picture.shape[0]


@guarded("This picture", PlateError)
def small_picture(path: Path, encoding: str, width: int, pixel_aspect: float) -> np.ndarray:
    """Return a picture (h, w, 3) uint8 sRGB, made small and with square pixels.

    Parameters
    ----------
    path : of the file. encoding : how its values stand for light, as `read_picture` has it. width : at the most,
        pixels. pixel_aspect : width of a pixel over its height.

    Raises
    ------
    PlateError : it is no picture.
    """
    return shrunk(read_picture(path, encoding), width, pixel_aspect)


@guarded("This picture", PlateError)
def gray_picture(path: Path) -> np.ndarray:
    """Return the luma (H, W) uint8 of a picture; raises PlateError for any other file."""
    return to_gray(read_picture(path))


def shrunk(picture: np.ndarray, width: int, pixel_aspect: float = 1.0) -> np.ndarray:
    """Return a picture (H, W, 3) at most so many pixels wide, with square pixels.

    Parameters
    ----------
    picture : (H, W, 3). width : at the most. pixel_aspect : width of a pixel over its height.
    """
    height, across = picture.shape[:2]
    shown = across * max(pixel_aspect, 1.0)
    tall = height / min(pixel_aspect, 1.0)
    scale = min(1.0, width / shown)
    size = (int(round(shown * scale)), int(round(tall * scale)))
    return picture if size == (across, height) else cv2.resize(picture, size, interpolation=cv2.INTER_AREA)


def check_first(where: Path) -> Sequence | None:
    """Decode the first picture of a sequence in a child, before anything else opens it; return the sequence, None for a
    video, which is decoded in a child whenever it is opened.

    Raises
    ------
    PlateError : there is no sequence, or its first picture cannot be decoded.
    """
    if where.suffix.lower() in VIDEO_SUFFIXES and where.is_file():
        return None
    sequence = find_sequence(where)
    picture_size(sequence.path(sequence.frames[0]))
    return sequence
