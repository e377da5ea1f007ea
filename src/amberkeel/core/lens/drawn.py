"""Lines drawn over a plate: straight edges, and axis lines that run along the world's X, Y or Z."""

import math
from dataclasses import dataclass

import numpy as np

from amberkeel.core.errors import LensError

AXES = ("x", "y", "z")

DRAWN_SIGMA_PX = 0.3
"""Noise of a drawn point where none is stated, pixels."""

MAX_LINES, MAX_POINTS = 200, 500
LEAST_LENGTH_PX = 4.0


@dataclass(frozen=True)
class DrawnLine:
    """One drawn line.

    Attributes
    ----------
    points : (N, 2) pixels, origin top left, centres of pixels at +0.5, in order along the line.
    axis : "x", "y" or "z" of the world, or "" for an edge that is only straight.
    frame : on which it is drawn. sigma : noise of its points, pixels. name : for messages.
    straight : whether it serves for distortion too (with three points or more).
    """

    points: np.ndarray
    axis: str = ""
    frame: int = 0
    sigma: float = DRAWN_SIGMA_PX
    name: str = ""
    straight: bool = True

    @property
    def length(self) -> float:
        """Distance of its ends, pixels."""
        return math.dist(self.points[-1], self.points[0])


@dataclass(frozen=True)
class LensOrder:
    """What lines are asked to tell.

    Attributes
    ----------
    width, height : picture in pixels. pixel_aspect : width of a pixel over its height.
    focal_px : along x; None when unknown. focal_sigma : its relative sigma; 0 holds it.
    model : "radial" or "division". radial : radial coefficients wanted, 0 to 3. tangential : p1 and p2 too.
    centre_px : optical centre; the middle when None.
    """

    width: int
    height: int
    pixel_aspect: float = 1.0
    focal_px: float | None = None
    focal_sigma: float = 0.0
    model: str = "radial"
    radial: int = 2
    tangential: bool = False
    centre_px: tuple[float, float] | None = None

    def steps(self) -> list[tuple[str, ...]]:
        """Return the groups of coefficients in the order in which they are tried."""
        if self.model == "division":
            return [("division",)]
        return [(f"k{k + 1}",) for k in range(self.radial)] + ([("p1", "p2")] if self.tangential else [])


def read_lines(rows: list, width: int, height: int) -> list[DrawnLine]:
    """Return drawn lines from plain dictionaries: points, and if wished axis, frame, sigma, name, set.

    A line of which an end is not set yet (an edge of a box, `lens.box`) is left out.

    Raises LensError when one cannot be a line of this picture.

    Parameters
    ----------
    rows : dictionaries, pixels. width, height : of the picture, pixels.
    """
    if not isinstance(rows, list) or not rows:
        raise LensError("There are no lines.", "Draw along edges that are straight in the set.")
    if len(rows) > MAX_LINES:
        raise LensError(f"There are {len(rows)} lines.", f"{MAX_LINES} at the most serve at once.")
    counted = [row for row in rows if not (isinstance(row, dict) and row.get("set") and not all(row["set"]))]
    return [_read_line(row, k + 1, width, height) for k, row in enumerate(counted)]


def _read_line(row, number: int, width: int, height: int) -> DrawnLine:
    name = str(row.get("name") or f"line {number}") if isinstance(row, dict) else f"line {number}"
    if not isinstance(row, dict):
        raise LensError(f"Line {number} is no object with points.", 'Write {"axis": "x", "points": [[x, y], …]}.')
    try:
        points = np.array(row.get("points"), dtype=float)
        frame, sigma = int(row.get("frame", 0)), float(row.get("sigma", DRAWN_SIGMA_PX))
    except (TypeError, ValueError, OverflowError) as error:
        raise LensError(f"{_title(name)} has points that are no numbers.", "Give each as [x, y] in pixels.") from error
    if points.ndim != 2 or points.shape[1] != 2 or len(points) < 2:
        raise LensError(f"{_title(name)} needs two points or more.", "Give each as [x, y] in pixels.")
    if len(points) > MAX_POINTS:
        raise LensError(f"{_title(name)} has {len(points)} points.", f"{MAX_POINTS} at the most serve on one line.")
    if not np.isfinite(points).all():
        raise LensError(f"{_title(name)} has a point that is no number.", "Give finite pixels.")
    if (np.abs(points - [width / 2, height / 2]) > [1.5 * width, 1.5 * height]).any():
        raise LensError(
            f"{_title(name)} lies far off the picture of {width}x{height}.", "Were these lines drawn on another size?"
        )
    if not (math.isfinite(sigma) and 0.01 <= sigma <= 50.0):
        raise LensError(f"{_title(name)} has a sigma of {sigma:g} px.", "Give 0.01 to 50 px.")
    axis = str(row.get("axis") or "").lower()
    if axis not in ("", *AXES):
        raise LensError(f"{_title(name)} runs along “{axis}”.", "Give x, y or z, or leave the axis away.")
    line = DrawnLine(points, axis, frame, sigma, name, bool(row.get("straight", True)))
    if line.length < LEAST_LENGTH_PX:
        raise LensError(f"{_title(name)} has no length: its ends lie {line.length:.1f} px apart.", "Draw it longer.")
    return line


def _title(name: str) -> str:
    return name[:1].upper() + name[1:]
