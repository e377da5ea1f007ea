"""Drawn lines as a file: the picture, what is known of the lens, and the lines (JSON, described in docs/lens-json.md)."""

import json
from pathlib import Path

from amberkeel.core.errors import LensError
from amberkeel.core.lens.drawn import DrawnLine, LensOrder, read_lines
from amberkeel.core.lens.sensor import checked_aspect


def read_line_file(path: Path) -> tuple[LensOrder, list[DrawnLine], float | None]:
    """Return what is wanted, the lines, and the sensor's width in mm or None; raises LensError for what is no such file."""
    try:
        document = json.loads(Path(path).read_text())
    except (OSError, UnicodeDecodeError, json.JSONDecodeError) as error:
        raise LensError(f"{path} cannot be read as lines.", 'Give JSON: {"image": {"width": …, "height": …}, "lines": […]}.') from error
    return read_line_document(document)


def read_line_document(document) -> tuple[LensOrder, list[DrawnLine], float | None]:
    """The same from a dictionary."""
    try:
        image = document["image"]
        width, height = int(image["width"]), int(image["height"])
        aspect = checked_aspect(float(image.get("pixel_aspect", 1.0)))
        sensor = document.get("sensor_width_mm")
        sensor = float(sensor) if sensor is not None else None
        focal, sigma = document.get("focal_px"), float(document.get("focal_sigma", 0.0))
        focal = float(focal) if focal is not None else None
        model, radial = str(document.get("model", "radial")), int(document.get("radial", 2))
        tangential, rows = bool(document.get("tangential", False)), document["lines"]
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise LensError("The lines' file is not complete.", f"“{error}” is missing or no number.") from error
    if not (16 <= width <= 65536 and 16 <= height <= 65536):
        raise LensError(f"A picture of {width}x{height} is impossible.", "Give the plate's size in pixels.")
    if sensor is not None and not 0.5 <= sensor <= 500.0:
        raise LensError(f"A sensor {sensor:g} mm wide is impossible.", "Give 0.5 to 500 mm, or leave it away.")
    if model not in ("radial", "division") or not 0 <= radial <= 3:
        raise LensError(f"There is no model “{model}” with {radial} coefficients.", "Choose radial with 0 to 3, or division.")
    order = LensOrder(width, height, aspect, focal, sigma, model, radial, tangential)
    return order, read_lines(rows, width, height), sensor
