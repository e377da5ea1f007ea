"""What a picture's metadata tells: frame rate, focal length, sensor width, pixel aspect, and what is odd about it."""

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import OpenImageIO as oiio

from amberkeel.core.pictures.encoding import DISPLAY, LINEAR
from amberkeel.core.pictures.read import Opened, open_picture

_MM_A_UNIT = {2: 25.4, 3: 10.0, 4: 1.0}
"""Millimetres of Exif's units of focal plane resolution."""


@dataclass(frozen=True)
class PictureFacts:
    """Values that a picture's metadata states, None where it does not.

    Attributes
    ----------
    fps : frames a second. focal_mm, sensor_width_mm : the camera's. pixel_aspect : width over height.
    encoding : how values stand for light. odd : what is odd about the file, in words.
    """

    fps: Fraction | None
    focal_mm: float | None
    sensor_width_mm: float | None
    pixel_aspect: float | None
    encoding: str
    odd: tuple[str, ...]


NO_FACTS = PictureFacts(None, None, None, None, DISPLAY, ())
"""What is known where there is no file."""


def picture_facts(path: Path) -> PictureFacts:
    """Return what a picture's metadata tells; raises PlateError where it is no picture."""
    opened = open_picture(path)
    try:
        spec = opened.spec
        focal = _between(spec.getattribute("Exif:FocalLength"), 1.0, 5000.0)
        aspect = _between(spec.getattribute("PixelAspectRatio"), 0.2, 5.0)
        return PictureFacts(_rate(spec), focal, _sensor(spec), aspect, opened.encoding, tuple(_odd(opened)))
    finally:
        opened.source.close()


def _between(value, low: float, high: float) -> float | None:
    return float(value) if isinstance(value, int | float) and low <= value <= high else None


def _rate(spec: oiio.ImageSpec) -> Fraction | None:
    """Return the frame rate: EXR states it as a fraction, DPX as a number."""
    found = spec.getattribute("FramesPerSecond") or spec.getattribute("dpx:FrameRate")
    if isinstance(found, tuple) and len(found) == 2 and found[1]:
        found = found[0] / found[1]
    rate = _between(found, 1.0, 1000.0)
    if rate is None:
        return None
    whole = Fraction(round(rate))
    return whole if abs(rate - float(whole)) < 1e-3 else Fraction(rate).limit_denominator(1001)


def _sensor(spec: oiio.ImageSpec) -> float | None:
    """Return the sensor's width in mm, of Exif's focal plane resolution."""
    density = spec.getattribute("Exif:FocalPlaneXResolution")
    unit = _MM_A_UNIT.get(spec.get_int_attribute("Exif:FocalPlaneResolutionUnit", 2))
    if not isinstance(density, int | float) or density <= 0.0 or unit is None:
        return None
    turned = spec.get_int_attribute("Orientation", 1) > 4
    across = spec.full_height if turned else spec.get_int_attribute("Exif:PixelXDimension", spec.full_width)
    return _between(round(across / density * unit, 3), 0.5, 500.0)


def _odd(opened: Opened) -> list[str]:
    spec, out = opened.spec, []
    window, shown = (spec.x, spec.y, spec.width, spec.height), (spec.full_x, spec.full_y, *opened.size)
    if window != shown:
        inside = spec.x <= spec.full_x and spec.y <= spec.full_y
        covers = inside and spec.width >= shown[2] and spec.height >= shown[3]
        does = "what lies beyond it is left out" if covers else "the rest of it is black"
        out.append(f"Pixels are {spec.width}x{spec.height}, the display window is {shown[2]}x{shown[3]}: {does}.")
    if opened.part or opened.channel:
        out.append(f"The picture is taken from {_part_name(opened)}.")
    if spec.get_int_attribute("Orientation", 1) > 1:
        out.append("Turned upright, as its metadata says.")
    if opened.encoding not in (DISPLAY, LINEAR):
        out.append(f"Encoded as {opened.encoding}: shown and followed as display code values.")
    return out


def _part_name(opened: Opened) -> str:
    name = opened.spec.getattribute("oiio:subimagename") or f"part {opened.part + 1}"
    channels = ", ".join(opened.spec.channelnames[opened.channel : opened.channel + 3])
    return f"{name} ({channels})"


_OF_THE_FILE = (
    "compression", "orientation", "oiio:", "openexr:", "png:", "jpeg:", "tiff:", "dpx:image", "dpx:transfer", "icc",
    "planarconfig", "channels", "screenwindow", "tile", "thumbnail", "exif:pixel", "exif:imagewidth",
    "exif:imagelength", "iptc", "xmp",
)  # fmt: skip
"""Beginnings of names of metadata that is about how a file is stored, not about what was filmed."""


def kept_of(path: Path) -> list[oiio.ParamValue]:
    """Return a picture's metadata that a picture made of it keeps: timecode, frame rate, camera, lens, date.

    Raises
    ------
    PlateError : it is no picture.
    """
    opened = open_picture(path)
    try:
        return [one for one in opened.spec.extra_attribs if not one.name.lower().startswith(_OF_THE_FILE)]
    finally:
        opened.source.close()


def timecode_of(path: Path) -> str:
    """Return the timecode that a picture states, as 01:02:03:04; empty where it states none. Raises PlateError."""
    opened = open_picture(path)
    try:
        return str(opened.spec.get_string_attribute("smpte:TimeCode"))
    finally:
        opened.source.close()
