"""Drawn lines as a file: the picture, what is known of the lens, and the lines (JSON, docs/lens-json.md)."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.foreign.texts import read_json
from amberkeel.core.lens.camera_position import CameraPosition, camera_position
from amberkeel.core.lens.drawn import DrawnLine, LensOrder, read_lines
from amberkeel.core.lens.fit import LensFit
from amberkeel.core.lens.sensor import checked_aspect


@dataclass(frozen=True)
class LineFile:
    """What such a file holds: what is wanted, the lines, the sensor's width in mm or None, the name of a measured axis
    line with its length in metres or None, and the pixel (2,) of the origin on that line's frame or None.
    """

    order: LensOrder
    lines: list[DrawnLine]
    sensor_width_mm: float | None = None
    measured: tuple[str, float] | None = None
    origin: np.ndarray | None = None

    def placed(self, fit: LensFit) -> tuple[int, CameraPosition] | None:
        """Return the frame of the measured line and where the camera stands there; None where nothing was measured."""
        if self.measured is None:
            return None
        line = next((line for line in self.lines if line.name == self.measured[0]), None)
        if line is None:
            raise LensError(
                f"There is no line “{self.measured[0]}” that was measured.", "Give the name of an axis line."
            )
        return line.frame, camera_position(fit, line, self.measured[1], self.origin)


def camera_rows(fit: LensFit, placed: tuple[int, CameraPosition] | None) -> list[dict]:
    """Return the cameras that lines tell as plain dictionaries, one a frame: rotation with sigma in radians, and
    metres where placed.
    """
    rows = [
        {"frame": f, "world_from_camera": r.tolist(), "rotation_sigma": fit.rotation_sigma[f].tolist()}
        for f, r in fit.rotations.items()
        if fit.focal_known
    ]
    for row in rows:
        if placed and placed[0] == row["frame"]:
            row |= {"position": placed[1].xyz.tolist(), "position_sigma": placed[1].sigma.tolist()}
    return rows


def read_line_file(path: Path) -> LineFile:
    """Return what a file of drawn lines holds; raises LensError for what is no such file."""
    try:
        document = read_json(path)
    except (OSError, ValueError) as error:
        raise LensError(
            f"{path} cannot be read as lines.", 'Give JSON: {"image": {"width": …, "height": …}, "lines": […]}.'
        ) from error
    return read_line_document(document)


def read_line_document(document) -> LineFile:
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
        measured, origin = document.get("measured"), document.get("origin")
        measured = (str(measured["line"]), float(measured["metres"])) if measured else None
        origin = np.array(origin, float).reshape(2) if origin is not None else None
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise LensError("The lines' file is not complete.", f"“{error}” is missing or no number.") from error
    if not (16 <= width <= 65536 and 16 <= height <= 65536):
        raise LensError(f"A picture of {width}x{height} is impossible.", "Give the plate's size in pixels.")
    if sensor is not None and not 0.5 <= sensor <= 500.0:
        raise LensError(f"A sensor {sensor:g} mm wide is impossible.", "Give 0.5 to 500 mm, or leave it away.")
    if model not in ("radial", "division") or not 0 <= radial <= 3:
        raise LensError(
            f"There is no model “{model}” with {radial} coefficients.", "Choose radial with 0 to 3, or division."
        )
    order = LensOrder(width, height, aspect, focal, sigma, model, radial, tangential)
    if measured and not 1e-3 <= measured[1] <= 1e4:
        raise LensError(f"A line of {measured[1]:g} m is impossible.", "Give its length in metres, 0.001 to 10000.")
    return LineFile(order, read_lines(rows, width, height), sensor, measured, origin)
