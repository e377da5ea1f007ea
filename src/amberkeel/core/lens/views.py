"""Finding a filmed grid on pictures: chessboard, dots, a board of tags, or tags that lie each for itself.

Corners are found by OpenCV, tags by `follow.tags`; a chessboard's corners are then moved onto the saddle of the light.
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace

import cv2
import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.pixels import from_opencv, to_opencv
from amberkeel.core.progress import Progress, silent

PATTERNS = ("chess", "dots", "tags", "loose")
"""Loose tags: each a view of its own, of known size, anywhere in the set."""

SADDLE_SOFT_PX, SADDLE_STEPS, SADDLE_MOST_PX = 1.5, 3, 2.0
"""Softening before a corner's saddle is fitted, steps of the fit, and how far it may move a corner, pixels."""

TAG_SQUARE = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
"""A tag's corners, clockwise from its own top left, in sides."""

LEAST_TAG_PX = 40.0
"""Side of a loose tag below which it says too little."""


@dataclass(frozen=True)
class ChartOrder:
    """What grid was filmed and what lens is wanted.

    Attributes
    ----------
    columns, rows : inner corners of a chessboard, dots, or tags; of no meaning for loose tags. square_mm : distance of
        neighbours, or the side of a tag. pattern : one of PATTERNS. gap : of tags, as a share of the tag's side.
            family : of tags.
    pixel_aspect : width of a pixel over its height. radial : radial coefficients, 0 to 3. tangential : p1, p2 too.
    anamorphic : two-axis model, with the squeeze (fx against fy) free. model : "radial" or "division".
    """

    columns: int
    rows: int
    square_mm: float
    pattern: str = "chess"
    gap: float = 0.25
    family: str = "36h11"
    pixel_aspect: float = 1.0
    radial: int = 2
    tangential: bool = False
    anamorphic: bool = False
    model: str = "radial"


@dataclass(frozen=True)
class View:
    """A grid on one picture: its name, corners (N, 2) pixels, and their positions on the grid (N, 2) mm."""

    name: str
    corners: np.ndarray
    positions: np.ndarray


def check_order(order: ChartOrder) -> None:
    """Raise LensError where the grid asked for is none."""
    if order.pattern not in PATTERNS:
        raise LensError(f"There is no pattern “{order.pattern}”.", f"Choose {', '.join(PATTERNS)}.")
    least = 3 if order.pattern != "tags" else 1
    if order.pattern != "loose" and not (least <= order.columns <= 60 and least <= order.rows <= 60):
        raise LensError(
            f"A grid of {order.columns}x{order.rows} cannot be looked for.",
            f"Count {least} to 60 each way; of a chessboard, its inner corners.",
        )
    if not 0.0 < order.square_mm < 1e5:
        raise LensError(
            f"Squares of {order.square_mm:g} mm are impossible.", "Give the distance of neighbouring corners in mm."
        )


def find_charts(gray: np.ndarray, order: ChartOrder, name: str = "") -> list[View]:
    """Return the grids on a picture (H, W) uint8: one at the most, or each tag for itself where tags are loose.

    Parameters
    ----------
    gray : (H, W) uint8. order : the grid looked for. name : of the picture.
    """
    if order.pattern != "loose":
        view = find_chart(gray, order, name)
        return [view] if view else []
    from amberkeel.core.follow.tags import find_tags

    sides = [
        (tag, float(np.linalg.norm(np.roll(tag.corners, -1, 0) - tag.corners, axis=1).min()))
        for tag in find_tags(gray, order.family)
    ]
    return [
        View(f"{name} tag {tag.number}", tag.corners, TAG_SQUARE * order.square_mm)
        for tag, side in sides
        if side >= LEAST_TAG_PX
    ]


def find_chart(gray: np.ndarray, order: ChartOrder, name: str = "") -> View | None:
    """Return the grid on a picture (H, W) uint8, or None where there is none.

    Parameters
    ----------
    gray : (H, W) uint8. order : the grid looked for. name : of the picture.
    """
    x, y = np.meshgrid(np.arange(order.columns), np.arange(order.rows))
    positions = np.stack([x, y], -1).reshape(-1, 2) * order.square_mm
    if order.pattern == "tags":
        return _find_tags(gray, order, name)
    size = (order.columns, order.rows)
    if order.pattern == "dots":
        found, corners = cv2.findCirclesGrid(gray, size, flags=cv2.CALIB_CB_SYMMETRIC_GRID)
    else:
        found, corners = cv2.findChessboardCornersSB(
            gray, size, flags=cv2.CALIB_CB_NORMALIZE_IMAGE | cv2.CALIB_CB_ACCURACY
        )
    if not found:
        return None
    # OpenCV counts pixel centres from 0.
    corners = from_opencv(corners.reshape(-1, 2))
    return View(name, corners if order.pattern == "dots" else saddle_points(gray, corners), positions)


def saddle_points(gray: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Return chessboard corners (N, 2) moved onto the saddle of the light around them (after Chen and Zhang 2005).

    A quadric is fitted to the softened picture about each; its stationary point is the corner. Those that would move
    by over `SADDLE_MOST_PX` stay.
    """
    apart = np.linalg.norm(corners[:, None] - corners[None], axis=2) + 1e9 * np.eye(len(corners))
    half = int(np.clip(apart.min(1).mean() / 5.0, 3, 8))
    soft = cv2.GaussianBlur(gray, (0, 0), SADDLE_SOFT_PX).astype(np.float32)
    v, u = (grid.astype(float) for grid in np.mgrid[-half : half + 1, -half : half + 1])
    weight = np.exp(-(u * u + v * v) / (2.0 * (0.5 * half) ** 2)).ravel()
    terms = np.stack([u * u, u * v, v * v, u, v, np.ones_like(u)], -1).reshape(-1, 6)
    fit = np.linalg.solve((terms * weight[:, None]).T @ terms, (terms * weight[:, None]).T)
    out = corners.copy()
    for _ in range(SADDLE_STEPS):
        at = to_opencv(out[:, None] + np.stack([u.ravel(), v.ravel()], 1))
        a, b, c, d, e, _ = fit @ cv2.remap(soft, at[..., 0], at[..., 1], cv2.INTER_CUBIC).T
        bend = 4.0 * a * c - b * b
        step = np.stack([b * e - 2.0 * c * d, b * d - 2.0 * a * e], 1) / np.where(bend < 0.0, bend, -1e-9)[:, None]
        near = (bend < 0.0) & (np.linalg.norm(out + step - corners, axis=1) < SADDLE_MOST_PX)
        out[near] += step[near]
    return out


def _find_tags(gray: np.ndarray, order: ChartOrder, name: str) -> View | None:
    """Tags are numbered along rows from 0; corners clockwise from each tag's own top left."""
    from amberkeel.core.follow.tags import find_tags

    pitch = order.square_mm * (1.0 + order.gap)
    square = TAG_SQUARE * order.square_mm
    corners, positions = [], []
    for tag in find_tags(gray, order.family):
        if tag.number < order.columns * order.rows:
            corners.append(tag.corners)
            positions.append(square + np.array([tag.number % order.columns, tag.number // order.columns]) * pitch)
    return View(name, np.concatenate(corners), np.concatenate(positions)) if len(corners) >= 2 else None


def find_views(
    pictures: Iterable[tuple[str, np.ndarray]], order: ChartOrder, progress: Progress = silent, total: int = 1
) -> tuple[list[View], tuple[int, int]]:
    """Return the grids found on named grey pictures (H, W) uint8, and the pictures' size (width, height).

    Raises LensError when sizes differ or no picture shows the grid; another count that fits is then named.

    Parameters
    ----------
    pictures : (name, (H, W) uint8) each. order : the grid looked for. progress : called with the share done. total :
        number of pictures, for the progress.
    """
    check_order(order)
    views: list[View] = []
    size: tuple[int, int] | None = None
    kept: list = []
    for k, (name, gray) in enumerate(pictures):
        here = (gray.shape[1], gray.shape[0])
        if size and here != size:
            raise LensError(
                f"{name} is {here[0]}x{here[1]}, the others are {size[0]}x{size[1]}.",
                "One lens is told from pictures of one size.",
            )
        size = here
        found = find_charts(gray, order, name)
        views += found
        if not found and len(kept) < 3:
            kept.append(gray)
        progress((k + 1) / max(total, 1), f"Looking for the grid, {name}")
    if size is None:
        raise LensError("There are no pictures.", "Give a folder, a pattern or a video.")
    if not views:
        other = _other_count(kept, order)
        hint = (
            f"{other[0]}x{other[1]} inner corners fit: is that what was filmed?"
            if other
            else "Is the whole grid in the picture, sharp, and not blown out?"
        )
        if order.pattern == "loose":
            raise LensError(
                f"No picture shows a tag of {LEAST_TAG_PX:.0f} px or more.",
                "Is the family right, and the tag sharp and whole?",
            )
        raise LensError(f"No picture shows a grid of {order.columns}x{order.rows}.", hint)
    return views, size


def _other_count(grays: list[np.ndarray], order: ChartOrder) -> tuple[int, int] | None:
    if order.pattern in ("tags", "loose"):
        return None
    near = [(order.columns + a, order.rows + b) for a in (0, -1, 1, -2, 2) for b in (0, -1, 1, -2, 2) if a or b]
    for columns, rows in near:
        if columns >= 3 and rows >= 3:
            for gray in grays[:1]:
                if find_chart(gray, replace(order, columns=columns, rows=rows)):
                    return columns, rows
    return None
