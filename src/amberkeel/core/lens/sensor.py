"""What the camera was: sensor formats by size, what a resolution says of pixel aspect, crops, lengths in words."""

from dataclasses import dataclass

from amberkeel.core.errors import KeelError, LensError
from amberkeel.core.units import typed_length


@dataclass(frozen=True)
class SensorFormat:
    """A sensor or film gate by its size in mm."""

    name: str
    width_mm: float
    height_mm: float


FORMATS = (
    SensorFormat("Full frame, 36 x 24 mm", 36.0, 24.0),
    SensorFormat("Full frame, 16:9 part", 36.0, 20.25),
    SensorFormat("35 mm film, full gate, 24.9 x 18.7 mm", 24.89, 18.66),
    SensorFormat("35 mm film, sound gate, 22.0 x 16.0 mm", 21.95, 16.0),
    SensorFormat("35 mm film, three perforations, 24.9 x 13.9 mm", 24.89, 13.87),
    SensorFormat("35 mm film, two perforations, 22.0 x 9.35 mm", 21.95, 9.35),
    SensorFormat("35 mm size digital, 24 x 13.5 mm", 24.0, 13.5),
    SensorFormat("APS-C, 23.6 x 15.7 mm", 23.6, 15.7),
    SensorFormat("65 mm film, 52.5 x 23.0 mm", 52.48, 23.01),
    SensorFormat("Medium format, 43.8 x 32.9 mm", 43.8, 32.9),
    SensorFormat("Four thirds, 17.3 x 13.0 mm", 17.3, 13.0),
    SensorFormat("16 mm film, wide, 12.5 x 7.4 mm", 12.52, 7.41),
    SensorFormat("16 mm film, 10.3 x 7.5 mm", 10.26, 7.49),
    SensorFormat("1 inch, 13.2 x 8.8 mm", 13.2, 8.8),
    SensorFormat("2/3 inch, 16:9, 9.6 x 5.4 mm", 9.59, 5.39),
    SensorFormat("2/3 inch, 4:3, 8.8 x 6.6 mm", 8.8, 6.6),
    SensorFormat("1/2.3 inch, 6.2 x 4.6 mm", 6.17, 4.55),
    SensorFormat("Phone, 9.8 x 7.3 mm", 9.8, 7.3),
)


@dataclass(frozen=True)
class PixelFormat:
    """A picture format that a resolution may be: its name, pixel aspect, and the aspect of the picture it shows."""

    name: str
    pixel_aspect: float
    shows: float


_KNOWN = {
    (720, 486): [("NTSC, 4:3", 10 / 11), ("NTSC, wide 16:9", 40 / 33)],
    (720, 480): [("NTSC, 4:3", 10 / 11), ("NTSC, wide 16:9", 40 / 33)],
    (704, 480): [("NTSC, 4:3", 10 / 11), ("NTSC, wide 16:9", 40 / 33)],
    (720, 576): [("PAL, 4:3", 12 / 11), ("PAL, wide 16:9", 16 / 11)],
    (704, 576): [("PAL, 4:3", 12 / 11), ("PAL, wide 16:9", 16 / 11)],
    (1440, 1080): [("HD recorded at 1440, 16:9", 4 / 3), ("Square pixels, 4:3", 1.0)],
    (960, 720): [("HD recorded at 960, 16:9", 4 / 3), ("Square pixels, 4:3", 1.0)],
    (1280, 1080): [("HD recorded at 1280, 16:9", 1.5), ("Square pixels", 1.0)],
    (1828, 1332): [("Scanned film, squeezed by 2", 2.0), ("Square pixels", 1.0)],
    (1828, 1556): [("Scanned film, squeezed by 2", 2.0), ("Square pixels", 1.0)],
    (2048, 1556): [("Scanned film, full gate", 1.0), ("Scanned film, squeezed by 2", 2.0)],
    (4096, 3112): [("Scanned film, full gate", 1.0), ("Scanned film, squeezed by 2", 2.0)],
    (3656, 2664): [("Scanned film", 1.0), ("Scanned film, squeezed by 2", 2.0)],
    (3656, 3112): [("Scanned film, squeezed by 2", 2.0), ("Square pixels", 1.0)],
}

NEARLY_SQUARE = 1.45
"""Aspect of width over height below which a large picture may hold a squeezed one."""


def pixel_formats(width: int, height: int) -> list[PixelFormat]:
    """Return the formats that a resolution may be, likeliest first.

    Raises LensError for a size that is none.
    """
    if width < 1 or height < 1:
        raise LensError(f"{width}x{height} is no picture size.", "Give width and height in pixels.")
    rows = _KNOWN.get((width, height))
    if rows is None:
        rows = [("Square pixels", 1.0)]
        if width >= 1800 and width / height < NEARLY_SQUARE:
            rows += [("Squeezed by 2", 2.0), ("Squeezed by 1.8", 1.8), ("Squeezed by 1.5", 1.5)]
            if width / height < 1.4:
                rows = rows[1:] + rows[:1]
        elif width >= 1800 and width / height < 1.95:
            rows += [("Squeezed by 1.33", 4 / 3), ("Squeezed by 1.25", 1.25)]
    return [PixelFormat(name, aspect, aspect * width / height) for name, aspect in rows]


SHORTEST_MM = 0.5
"""Least length that a sensor, a focal length or a measured line can have, mm."""


def length_mm(text: str, most: float = 5000.0, plain: str = "mm") -> float:
    """Return a length in mm from words such as "24.9", "24.9 mm" or "0.98 in".

    Parameters
    ----------
    text : as typed. most : longest that is taken, mm. plain : unit of a bare number.

    Raises
    ------
    LensError : it is no length, or out of range.
    """
    try:
        value = 1000.0 * typed_length(text, "The length", plain)
    except KeelError as error:
        raise LensError(str(error)) from error
    if not SHORTEST_MM <= value <= most:
        raise LensError(f"A length of {value:g} mm is out of range.", f"Give {SHORTEST_MM:g} to {most:g} mm.")
    return value


def checked_aspect(value: float) -> float:
    """Return a pixel aspect; raises LensError when it is impossible."""
    if not 0.1 <= value <= 10.0:
        raise LensError(
            f"A pixel aspect of {value:g} is impossible.", "Give the width of a pixel over its height, as 1 or 2."
        )
    return value


def filmed_width_mm(sensor_width_mm: float, crop: float = 1.0) -> float:
    """Return the width of the part of a sensor that the plate shows; `crop` is that part's share of the width, above 0
    to 1.

    Cropping changes the field of view, not the lens: what is left is a smaller sensor.
    """
    if not 0.05 <= crop <= 1.0:
        raise LensError(f"A crop to {100 * crop:g} % of the width is impossible.", "Give 5 % to 100 %.")
    return sensor_width_mm * crop


def width_from_equivalent(focal_mm: float, equivalent_mm: float) -> float:
    """Return a sensor's width from a focal length and its equivalent on 36 x 24 mm, which compares diagonals; 3:2 is
    taken.
    """
    return 36.0 * focal_mm / equivalent_mm
