"""Write a plate straightened through a lens, with its ST maps and a lens profile for the straightened pictures."""

import json
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import LensError, PlateError
from amberkeel.core.lens.picture import Canvas, Resampler, canvas_for, redistort_map, st_map, undistort_map
from amberkeel.core.lens.profile import LensProfile, profile_document
from amberkeel.core.plate.decode import code_of_light, light_of_code, read_picture
from amberkeel.core.plate.plate import Plate
from amberkeel.core.plate.sequence import Sequence
from amberkeel.core.progress import Progress, silent

FORMATS = ("png", "exr", "tif", "jpg", "dpx")


@dataclass(frozen=True)
class StraightenOrder:
    """How straightened pictures are written: `overscan` as for `canvas_for`, filter, file format ("" keeps the
    plate's), ST maps too.
    """

    overscan: str | float = "all"
    filter: str = "cubic"
    format: str = ""
    st_maps: bool = False


def straighten_plate(
    plate: Plate,
    profile: LensProfile,
    out: Path,
    order: StraightenOrder = StraightenOrder(),
    progress: Progress = silent,
) -> Canvas:
    """Write the frames of a plate straightened into a folder; return their canvas.

    Float pictures stay float, 16 bit stays 16 bit (PNG, TIFF, DPX). `straight.json` is the lens of what was written.

    Raises
    ------
    LensError : a profile for another picture, or a lens that folds. PlateError : a file that cannot be read or written.
    """
    if order.format and order.format not in FORMATS:
        raise LensError(f"There is no format “{order.format}”.", f"Choose {', '.join(FORMATS)}.")
    lens = profile.rescaled(plate.width, plate.height).lens
    canvas = canvas_for(lens, order.overscan)
    suffix = "." + (order.format or _own_format(plate))
    out.mkdir(parents=True, exist_ok=True)
    if order.st_maps:
        write_st_maps(lens, canvas, out)
    resample = Resampler(undistort_map(lens, canvas), order.filter)
    for k, frame in enumerate(plate.frames.tolist()):
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


def write_st_maps(lens, canvas: Canvas, out: Path) -> None:
    """Write `undistort_st.exr` (the canvas's size, samples the plate) and `redistort_st.exr` (the plate's, samples the
    canvas).
    """
    write_picture(out / "undistort_st.exr", st_map(undistort_map(lens, canvas), lens.width, lens.height), oiio.FLOAT)
    write_picture(
        out / "redistort_st.exr", st_map(redistort_map(lens, canvas), canvas.width, canvas.height), oiio.FLOAT
    )


def _own_format(plate: Plate) -> str:
    if isinstance(plate.source, Sequence):
        suffix = plate.source.suffix.lower().lstrip(".")
        return {"jpeg": "jpg", "tiff": "tif"}.get(suffix, suffix)
    return "png"


def _raw(plate: Plate, frame: int, suffix: str) -> np.ndarray:
    """Return a frame (H, W, 3) as deep as its file: uint8, uint16 or float32."""
    if not isinstance(plate.source, Sequence):
        return plate.read(frame)
    path = plate.source.path(frame)
    source = oiio.ImageInput.open(str(path))
    if source is None:
        read_picture(path)
    try:
        spec = source.spec()
        kind = {oiio.UINT8: oiio.UINT8, oiio.UINT16: oiio.UINT16}.get(spec.format.basetype, oiio.FLOAT)
        kind = oiio.UINT8 if suffix == ".jpg" and kind == oiio.UINT16 else kind
        pixels = source.read_image(0, 0, 0, min(spec.nchannels, 4), kind)
    finally:
        source.close()
    if pixels is None or (spec.width, spec.height) != (plate.width, plate.height):
        raise PlateError(f"{path.name} is damaged or of another size.", "Copy it again.")
    return np.ascontiguousarray(np.asarray(pixels).reshape(spec.height, spec.width, -1))


def write_picture(path: Path, picture: np.ndarray, kind=None) -> None:
    """Write (H, W, C) uint8, uint16 or float32 to a file; EXR is half float unless `kind` says otherwise."""
    output = oiio.ImageOutput.create(str(path))
    if output is None:
        raise PlateError(f"{path.name} is no format that can be written.", oiio.geterror())
    if kind is None:
        kind = {np.dtype(np.uint8): oiio.UINT8, np.dtype(np.uint16): oiio.UINT16}.get(picture.dtype, oiio.HALF)
        kind = oiio.HALF if path.suffix == ".exr" and picture.dtype == np.float32 else kind
    spec = oiio.ImageSpec(picture.shape[1], picture.shape[0], picture.shape[2], kind)
    if path.suffix == ".exr" and picture.dtype == np.uint8:
        picture, spec = (
            light_of_code(picture),
            oiio.ImageSpec(picture.shape[1], picture.shape[0], picture.shape[2], oiio.HALF),
        )
    if path.suffix != ".exr" and picture.dtype == np.float32:
        picture = np.round(255.0 * code_of_light(picture)).astype(np.uint8)
        spec = oiio.ImageSpec(picture.shape[1], picture.shape[0], picture.shape[2], oiio.UINT8)
    if not (output.open(str(path), spec) and output.write_image(np.ascontiguousarray(picture)) and output.close()):
        raise PlateError(
            f"{path} cannot be written ({output.geterror().strip()}).",
            "Is there room on the disk, and may we write there?",
        )
