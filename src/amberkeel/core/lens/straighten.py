"""Write a plate straightened through a lens, with its ST maps and a lens profile for the straightened pictures."""

import json
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import LensError, PlateError
from amberkeel.core.lens.picture import Canvas, Resampler, canvas_for, redistort_map, st_map, undistort_map, upright_map
from amberkeel.core.lens.profile import LensProfile, profile_document
from amberkeel.core.pictures.read import read_raw
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.plate import Plate
from amberkeel.core.plate.sequence import Sequence
from amberkeel.core.progress import Progress, silent

FORMATS = ("png", "exr", "tif", "jpg", "dpx")


@dataclass(frozen=True)
class StraightenOrder:
    """How straightened pictures are written: `overscan` as for `canvas_for`, filter, file format ("" keeps the
    plate's), ST maps too; `upright` is the solved camera of a rolling shutter whose rows are set upright, or None;
    `canvas` is that of the straightened pictures where it is known already.
    """

    overscan: str | float = "all"
    filter: str = "cubic"
    format: str = ""
    st_maps: bool = False
    upright: CameraPath | None = None
    canvas: Canvas | None = None


def straighten_plate(
    plate: Plate,
    profile: LensProfile,
    out: Path,
    order: StraightenOrder = StraightenOrder(),
    progress: Progress = silent,
) -> Canvas:
    """Write the frames of a plate straightened into a folder; return their canvas.

    Float pictures stay float, 16 bit stays 16 bit (PNG, TIFF, DPX). `straight.json` is the lens of what was written.

    Parameters
    ----------
    plate : to straighten. profile : of its lens. out : folder to write to. order : overscan, filter, format, ST
        maps. progress : called with the share done.

    Raises
    ------
    LensError : a profile for another picture, or a lens that folds. PlateError : a file that cannot be read or written.
    """
    if order.format and order.format not in FORMATS:
        raise LensError(f"There is no format “{order.format}”.", f"Choose {', '.join(FORMATS)}.")
    lens = profile.rescaled(plate.width, plate.height).lens
    canvas = order.canvas or canvas_for(lens, order.overscan)
    suffix = "." + (order.format or _own_format(plate))
    out.mkdir(parents=True, exist_ok=True)
    if order.st_maps:
        write_st_maps(lens, canvas, out)
    resample = Resampler(undistort_map(lens, canvas), order.filter)
    for k, frame in enumerate(plate.frames.tolist()):
        if order.upright is not None:
            resample = Resampler(upright_map(lens, canvas, order.upright, _row_of(order.upright, frame)), order.filter)
        picture = resample(_raw(plate, frame, suffix))
        write_picture(out / f"{plate.name}_straight.{frame:04d}{suffix}", picture)
        progress((k + 1) / len(plate.frames), f"Straightening, frame {frame}")
    straight = replace(
        profile.rescaled(plate.width, plate.height),
        lens=canvas.lens(lens),
        name=f"{profile.name}, straightened",
        sigma={},
    )
    (out / "straight.json").write_text(json.dumps(profile_document(straight), indent=1))
    return canvas


def _row_of(path: CameraPath, frame: int) -> int:
    if not path.readout:
        raise LensError("This camera reads all rows at once.", "Straighten the plate without setting rows upright.")
    try:
        return path.index_of(frame)
    except KeyError:
        raise LensError(f"The camera does not reach frame {frame}.", "Straighten the frames that are solved.") from None


def write_st_maps(lens, canvas: Canvas, out: Path) -> None:
    """Write `undistort_st.exr` (the canvas's size, samples the plate) and `redistort_st.exr` (the plate's, samples the
    canvas).

    Parameters
    ----------
    lens : of the plate. canvas : of the straightened pictures. out : folder to write to.
    """
    undistort = st_map(undistort_map(lens, canvas), lens.width, lens.height)
    redistort = st_map(redistort_map(lens, canvas), canvas.width, canvas.height)
    write_picture(out / "undistort_st.exr", undistort, whole_float=True)
    write_picture(out / "redistort_st.exr", redistort, whole_float=True)


def _own_format(plate: Plate) -> str:
    if isinstance(plate.source, Sequence):
        suffix = plate.source.suffix.lower().lstrip(".")
        return {"jpeg": "jpg", "tiff": "tif"}.get(suffix, suffix)
    return "png"


def _raw(plate: Plate, frame: int, suffix: str) -> np.ndarray:
    """Return a frame (H, W, C) as deep as its file: uint8, uint16 or float32; for JPEG integer files as uint8."""
    if not isinstance(plate.source, Sequence):
        return plate.read(frame)
    path = plate.source.path(frame)
    pixels = read_raw(path, eight_bit=suffix == ".jpg")
    if pixels.shape[:2] != (plate.height, plate.width):
        raise PlateError(f"{path.name} is damaged or of another size.", "Copy it again.")
    return pixels
