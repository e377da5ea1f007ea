"""Pictures through a lens: straightened, bent again, and the maps between the two.

A straightened picture keeps the plate's focal length and pixel size on a larger or smaller canvas:
``u = principal + focal * x_u``, so that the plate's own pixel grid lies where the optical centre is.

ST maps: the red channel is S, x over the width of the picture sampled, rising to the right; green is T, rising upwards:
``S = x / width``, ``T = 1 - y / height`` with x, y in pixels from the top left corner and centres of pixels at +0.5.
The map named "undistort" has the canvas's size and samples the plate; "redistort" has the plate's and samples the
canvas.
"""

from dataclasses import dataclass, replace

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import ROW_PASSES, CameraPath, poses_at, row_times
from amberkeel.core.errors import LensError
from amberkeel.core.geometry.pixels import pixel_grid, to_opencv
from amberkeel.core.lens.model import Lens

FILTERS = {"linear": cv2.INTER_LINEAR, "cubic": cv2.INTER_CUBIC, "lanczos": cv2.INTER_LANCZOS4}

MOST_OVERSCAN = 3.0
"""Times the plate's width or height beyond which a canvas is refused."""

ROW_STEPS = 33
"""Rows of a picture for which the camera's turn is taken; between them it is interpolated."""

_BORDER_STEPS = 400


@dataclass(frozen=True)
class Canvas:
    """The straightened picture's size, and where the plate's own top left corner lies in it, pixels."""

    width: int
    height: int
    left: int
    top: int

    def lens(self, lens: Lens) -> Lens:
        """Return the lens of the straightened picture: no distortion, its optical centre moved with the canvas."""
        centre = (lens.principal_px[0] + self.left, lens.principal_px[1] + self.top)
        plain = replace(lens, radial=(0.0,) * 3, tangential=(0.0,) * 2, division=0.0, two_axis=(0.0,) * 10, turn=0.0)
        return replace(plain, width=self.width, height=self.height, principal_px=centre)


def canvas_for(lens: Lens, overscan: str | float = "all") -> Canvas:
    """Return a canvas for a lens's straightened pictures.

    Parameters
    ----------
    overscan : "all" loses no pixel of the plate; "crop" is the largest part without an empty pixel, no larger than the
        plate; "same" is the plate's size; a number adds that many percent to width and height.

    Raises
    ------
    LensError : the model folds over inside the picture, or the canvas grows beyond reason.
    """
    fold = lens.folds()
    if fold is not None:
        raise LensError(
            f"The lens folds the picture over at {100 * fold:.0f} % of its half diagonal.",
            "Correct its coefficients first.",
        )
    if overscan == "same":
        return Canvas(lens.width, lens.height, 0, 0)
    if isinstance(overscan, (int, float)) and not isinstance(overscan, bool):
        if not -50.0 <= overscan <= 200.0:
            raise LensError(f"An overscan of {overscan:g} % is out of range.", "Give -50 to 200 %.")
        left, top = (int(round(0.005 * overscan * n)) for n in (lens.width, lens.height))
        return Canvas(lens.width + 2 * left, lens.height + 2 * top, left, top)
    sides = _straight_border(lens)
    if overscan == "all":
        everywhere = np.concatenate(sides)
        low, high = np.floor(everywhere.min(0) + 1e-6), np.ceil(everywhere.max(0) - 1e-6)
    elif overscan == "crop":
        west, east, north, south = sides
        low = np.ceil([max(west[:, 0].max(), 0.0), max(north[:, 1].max(), 0.0)])
        high = np.floor([min(east[:, 0].min(), lens.width), min(south[:, 1].min(), lens.height)])
    else:
        raise LensError(f"“{overscan}” is no overscan.", "Choose all, crop, same, or a number of percent.")
    width, height = (int(v) for v in high - low)
    if width > MOST_OVERSCAN * lens.width or height > MOST_OVERSCAN * lens.height:
        raise LensError(
            f"To lose no pixel the canvas would be {width}x{height}.",
            "Use a percentage instead; such corners are stretched beyond use.",
        )
    return Canvas(width, height, -int(low[0]), -int(low[1]))


def _straight_border(lens: Lens) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return the plate's left, right, top and bottom border straightened, (N, 2) pixels of the plate's own grid."""
    s, w, h = np.linspace(0.0, 1.0, _BORDER_STEPS), float(lens.width), float(lens.height)
    sides = (
        np.stack([0 * s, s * h], 1),
        np.stack([0 * s + w, s * h], 1),
        np.stack([s * w, 0 * s], 1),
        np.stack([s * w, 0 * s + h], 1),
    )
    return tuple(lens.normalise(side) * np.array(lens.focal_px) + np.array(lens.principal_px) for side in sides)


def undistort_map(lens: Lens, canvas: Canvas) -> np.ndarray:
    """Return where each pixel of the canvas lies in the plate, (h, w, 2) float64 pixels with centres at +0.5."""
    u = pixel_grid(canvas.width, canvas.height) - [canvas.left, canvas.top]
    x = (u - np.array(lens.principal_px)) / np.array(lens.focal_px)
    return lens.distort(x) * np.array(lens.focal_px) + np.array(lens.principal_px)


def upright_map(lens: Lens, canvas: Canvas, path: CameraPath, row: int) -> np.ndarray:
    """Return where each pixel of the canvas lies in the plate of a rolling shutter, (h, w, 2) float64 pixels: the
    canvas shows what all rows would have seen had they been read with the middle one.

    Each ray of the middle row's camera is seen by a row that is read earlier or later, by a camera that has turned
    meanwhile (Forssén and Ringaby 2010). Only the turn is undone: the camera's own travel shifts near things by their
    depth, and stays.

    Parameters
    ----------
    lens : of the plate. canvas : of the straightened pictures. path : with its readout. row : of the path.
    """
    focal, principal = np.array(lens.focal_px), np.array(lens.principal_px)
    straight = (pixel_grid(canvas.width, canvas.height) - [canvas.left, canvas.top] - principal) / focal
    rays = np.concatenate([straight.reshape(-1, 2), np.ones((straight.size // 2, 1))], 1)
    seen = undistort_map(lens, canvas).reshape(-1, 2)
    for _ in range(ROW_PASSES):
        turned = _turned_rays(rays, seen[:, 1], path, row, lens.height)
        seen = lens.distort(turned) * focal + principal
    return seen.reshape(straight.shape)


def _turned_rays(rays: np.ndarray, y: np.ndarray, path: CameraPath, row: int, height: int) -> np.ndarray:
    """Return rays (N, 3) of the middle row's camera as those of the rows at y (N,) have them, normalised (N, 2)."""
    steps = np.linspace(-0.5, 0.5, ROW_STEPS) * height + 0.5 * height
    times = row_times(steps, height, path.readout)
    rotations, _ = poses_at(path.world_from_camera, path.positions, np.full(len(times), row), times)
    turns = Rotation.from_matrix(np.swapaxes(rotations, 1, 2) @ path.world_from_camera[row]).as_rotvec()
    each = Rotation.from_rotvec(np.stack([np.interp(y, steps, turns[:, k]) for k in range(3)], 1))
    out = each.apply(rays)
    return out[:, :2] / np.maximum(out[:, 2:], 1e-6)


def redistort_map(lens: Lens, canvas: Canvas) -> np.ndarray:
    """Return where each pixel of the plate lies in the canvas, (h, w, 2) float64 pixels with centres at +0.5."""
    x = lens.normalise(pixel_grid(lens.width, lens.height))
    return x * np.array(lens.focal_px) + np.array(lens.principal_px) + [canvas.left, canvas.top]


class Resampler:
    """Samples pictures at positions (h, w, 2), pixels, prepared once for many pictures; black outside a picture."""

    def __init__(self, positions: np.ndarray, filter: str = "cubic"):
        if filter not in FILTERS:
            raise LensError(f"There is no filter “{filter}”.", f"Choose {', '.join(FILTERS)}.")
        # OpenCV counts pixel centres from 0.
        at = to_opencv(positions)
        self.maps = cv2.convertMaps(at[..., 0], at[..., 1], cv2.CV_16SC2)
        self.filter = FILTERS[filter]

    def __call__(self, picture: np.ndarray) -> np.ndarray:
        """Return a picture (H, W, C) uint8, uint16 or float32 sampled (h, w, C)."""
        return cv2.remap(picture, *self.maps, self.filter, borderMode=cv2.BORDER_CONSTANT, borderValue=0)


def st_map(positions: np.ndarray, width: int, height: int) -> np.ndarray:
    """Return positions (h, w, 2) in a picture of `width` x `height` as an ST map (h, w, 3) float32.

    Parameters
    ----------
    positions : (h, w, 2) pixels in the other picture. width, height : of that picture, pixels.
    """
    s, t = positions[..., 0] / width, 1.0 - positions[..., 1] / height
    return np.stack([s, t, np.zeros_like(s)], -1).astype(np.float32)


def bent_grid(lens: Lens, columns: int = 12, rows: int = 8, steps: int = 24) -> list[np.ndarray]:
    """Return the lines of a straight grid as the lens bends them, each (N, 2) pixels, over the whole picture and a
    little more.

    Parameters
    ----------
    lens : that bends it. columns, rows : of the grid. steps : points between two of its nodes.
    """
    sides = np.concatenate(_straight_border(lens))
    low, high = sides.min(0), sides.max(0)
    middle = np.array(lens.principal_px)
    pitch = (high - low) / [columns, rows]
    lines = []
    for axis, count in ((0, columns), (1, rows)):
        along = np.linspace(low[1 - axis], high[1 - axis], steps * 2)
        for k in range(-count // 2, count // 2 + 1):
            line = np.empty((len(along), 2))
            line[:, axis], line[:, 1 - axis] = middle[axis] + k * pitch[axis], along
            lines.append(line)
    bent = lens.distort((np.array(lines) - middle) / np.array(lens.focal_px)) * np.array(lens.focal_px) + middle
    return [line[np.isfinite(line).all(1)] for line in bent]
