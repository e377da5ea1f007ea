"""A plate written anew: a sequence of pictures from a video, a video from a sequence, or another format of either."""

from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.facts import kept_of, timecode_of
from amberkeel.core.pictures.film import write_film
from amberkeel.core.pictures.read import read_raw
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.plate import Plate
from amberkeel.core.plate.sequence import Sequence
from amberkeel.core.progress import Progress, silent

FORMATS = ("png", "exr", "tif", "jpg", "dpx")
"""Formats of pictures that are written."""

VIDEOS = (".mp4", ".mov")
"""Endings of videos that are written, H.264 for review."""

QUALITY = 16
"""Constant rate factor of H.264, at which grain is still there."""


def own_format(plate: Plate) -> str:
    """Return the format of a plate's own pictures; png of a video's."""
    if isinstance(plate.source, Sequence):
        suffix = plate.source.suffix.lower().lstrip(".")
        return {"jpeg": "jpg", "tiff": "tif"}.get(suffix, suffix)
    return "png"


def raw_frame(plate: Plate, frame: int, suffix: str) -> np.ndarray:
    """Return a frame (H, W, C) as deep as its file: uint8, uint16 or float32; for JPEG integer files as uint8.

    Parameters
    ----------
    plate : whose. frame : number. suffix : of the file that it is written to.

    Raises
    ------
    PlateError : the file is damaged, or of another size.
    """
    if not isinstance(plate.source, Sequence):
        return plate.read(frame)
    path = plate.source.path(frame)
    pixels = read_raw(path, eight_bit=suffix == ".jpg")
    if pixels.shape[:2] != (plate.height, plate.width):
        raise PlateError(f"{path.name} is damaged or of another size.", "Copy it again.")
    return pixels


def kept_with(plate: Plate, frame: int) -> list[oiio.ParamValue]:
    """Return a frame's metadata that goes along with it, as `kept_of` has it."""
    return kept_of(plate.source.path(frame)) if isinstance(plate.source, Sequence) else []


def write_frames(
    plate: Plate,
    name: Callable[[int], str],
    out: Path,
    suffix: str,
    change: Callable[[np.ndarray, int], np.ndarray],
    progress: Progress,
    doing: str,
) -> None:
    """Write a plate's frames changed, as deep as they are, with their metadata.

    Parameters
    ----------
    plate : whose frames. name : of a frame's file, without its ending, by the frame's number. out : folder, made where
        it is not there. suffix : ending of the files. change : returns a frame's picture as it is written, from it and
        its number. progress : called with the share done. doing : what is said meanwhile.

    Raises
    ------
    PlateError : a frame that cannot be read, or a disk that refuses.
    """
    out.mkdir(parents=True, exist_ok=True)
    for k, frame in enumerate(plate.frames.tolist()):
        picture = change(raw_frame(plate, frame, suffix), frame)
        write_picture(out / f"{name(frame)}{suffix}", picture, kept=kept_with(plate, frame))
        progress((k + 1) / len(plate.frames), f"{doing} frame {frame}")


def write_sequence(
    plate: Plate, out: Path, format: str = "", first: int | None = None, progress: Progress = silent
) -> None:
    """Write a plate's frames as pictures ``name.####.format``, as deep as they are, with their metadata.

    Parameters
    ----------
    plate : a sequence or a video. out : folder. format : one of `FORMATS`; the plate's own where empty. first : number
        of the first picture; the plate's own where None. progress : called with the share done.

    Raises
    ------
    PlateError : no such format, a frame that cannot be read, or a disk that refuses.
    """
    if format and format not in FORMATS:
        raise PlateError(f"There is no format “{format}”.", f"Choose {', '.join(FORMATS)}.")
    later = 0 if first is None else first - int(plate.frames[0])
    suffix = "." + (format or own_format(plate))
    write_frames(
        plate, lambda f: f"{plate.name}.{f + later:04d}", out, suffix, lambda picture, _: picture, progress, "Writing"
    )


def write_video(
    plate: Plate, where: Path, fps: Fraction | None = None, most_width: int = 0, progress: Progress = silent
) -> None:
    """Write a plate as a video for review: H.264, as it is displayed, with its frame rate and its timecode if it has
    one.

    Parameters
    ----------
    plate : a sequence or a video. where : file, .mp4 or .mov. fps : frames a second; the plate's, or 24, where None.
        most_width : pixels, 0 for the plate's size. progress : called with the share done.

    Raises
    ------
    PlateError : another ending, a frame that cannot be read, or a disk that refuses.
    """
    if where.suffix.lower() not in VIDEOS:
        raise PlateError(f"{where.name} is no video that can be written.", "End its name in .mp4 or .mov.")
    scale = min(1.0, most_width / plate.width) if most_width else 1.0
    size = 2 * max(int(plate.width * plate.pixel_aspect * scale / 2), 1), 2 * max(int(plate.height * scale / 2), 1)
    code = timecode_of(plate.source.path(int(plate.frames[0]))) if isinstance(plate.source, Sequence) else ""
    where.parent.mkdir(parents=True, exist_ok=True)

    def shown() -> Iterator[np.ndarray]:
        for k, frame in enumerate(plate.frames.tolist()):
            picture = plate.read(frame)
            same = picture.shape[1::-1] == size
            yield picture if same else cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
            progress((k + 1) / len(plate.frames), f"Writing frame {frame}")

    try:
        write_film(where, shown(), size, fps or plate.fps or Fraction(24), QUALITY, code)
    except (OSError, av.FFmpegError) as error:
        raise PlateError(
            f"{where.name} cannot be written ({error}).", "Is there room on the disk, and may we write there?"
        ) from error
