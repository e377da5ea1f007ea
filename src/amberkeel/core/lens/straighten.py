"""Write a plate straightened through a lens, with its ST maps and a lens profile for the straightened pictures."""

import json
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import LensError
from amberkeel.core.lens.picture import Canvas, Resampler, canvas_for, redistort_map, st_map, undistort_map, upright_map
from amberkeel.core.lens.profile import LensProfile, profile_document
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.convert import FORMATS, own_format, write_frames
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent


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
    suffix = "." + (order.format or own_format(plate))
    out.mkdir(parents=True, exist_ok=True)
    if order.st_maps:
        write_st_maps(lens, canvas, out)
    resample = Resampler(undistort_map(lens, canvas), order.filter)

    def straight_of(picture: np.ndarray, frame: int) -> np.ndarray:
        if order.upright is None:
            return resample(picture)
        upright = upright_map(lens, canvas, order.upright, _row_of(order.upright, frame))
        return Resampler(upright, order.filter)(picture)

    write_frames(
        plate, lambda f: f"{plate.name}_straight.{f:04d}", out, suffix, straight_of, progress, "Straightening,"
    )
    straight = replace(
        profile.rescaled(plate.width, plate.height),
        lens=canvas.lens(lens),
        name=f"{profile.name}, straightened",
        sigma={},
    )
    (out / "straight.json").write_text(json.dumps(profile_document(straight), indent=1))
    return canvas


def bend_back(
    pictures: Plate,
    profile: LensProfile,
    straight: LensProfile,
    out: Path,
    order: StraightenOrder = StraightenOrder(),
    progress: Progress = silent,
) -> None:
    """Write straightened pictures as the lens saw them: the plate again, or what was made on the straightened one.

    Parameters
    ----------
    pictures : of the straightened canvas. profile : of the plate's lens. straight : `straight.json` of those pictures,
        which says where the plate lies in them. out : folder to write to. order : filter and format. progress : called
        with the share done.

    Raises
    ------
    LensError : the pictures are of another size than the straightened lens, or that is none of this lens.
    """
    plain, lens = straight.lens, profile.lens
    if (pictures.width, pictures.height) != (plain.width, plain.height):
        raise LensError(
            f"These pictures are {pictures.width}x{pictures.height}, the straightened lens is of "
            f"{plain.width}x{plain.height}.",
            "Give the straight.json that was written beside them.",
        )
    left, top = np.subtract(plain.principal_px, lens.principal_px)
    if max(abs(left - round(left)), abs(top - round(top))) > 0.01 or not np.allclose(plain.focal_px, lens.focal_px):
        raise LensError("This straightened lens was not made of that lens.", "Give both from one folder.")
    canvas = Canvas(plain.width, plain.height, round(left), round(top))
    resample = Resampler(redistort_map(lens, canvas), order.filter)
    suffix = "." + (order.format or own_format(pictures))
    stem = pictures.name.removesuffix("_straight")
    write_frames(
        pictures, lambda f: f"{stem}_bent.{f:04d}", out, suffix, lambda picture, _: resample(picture), progress,
        "Bending back,",
    )  # fmt: skip


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
