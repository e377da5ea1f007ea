"""Filmed grids: for trying calibration on a lens that is known."""

from collections.abc import Callable
from functools import lru_cache

import cv2
import numpy as np

from amberkeel.core.lens import Lens
from amberkeel.core.pictures.transfer import code_of_light

FINE = 3
"""Samples a pixel, each way."""

DARK, PAPER, WALL = 0.06, 0.8, 0.25

Paint = Callable[[np.ndarray], np.ndarray]
"""The light (…) of positions (…, 2) on the board, in mm."""


def filmed(
    lens: Lens,
    camera_from_board: np.ndarray,
    shift: np.ndarray,
    paint: Paint,
    rng: np.random.Generator,
    grain: float = 1.2,
) -> np.ndarray:
    """Return a picture (H, W) uint8 of a flat board.

    Parameters
    ----------
    camera_from_board (3, 3), shift (3,) mm : where the board's origin is, x along its columns, y along its rows.
    paint : the board. grain : standard deviation of grain in code values.
    """
    ray = _rays(lens)
    depth = (camera_from_board[:, 2] @ shift) / (ray @ camera_from_board[:, 2])
    light = paint(((ray * depth[..., None] - shift) @ camera_from_board)[..., :2])
    light = cv2.GaussianBlur(light.reshape(lens.height, FINE, lens.width, FINE).mean((1, 3)), (0, 0), 0.5)
    return np.clip(np.round(255.0 * code_of_light(light) + rng.normal(0, grain, light.shape)), 0, 255).astype(np.uint8)


@lru_cache(maxsize=2)
def _rays(lens: Lens) -> np.ndarray:
    """Return a lens's rays (H, W, 3), finely; those of the last lenses are kept, which most pictures share."""
    x, y = np.meshgrid((np.arange(lens.width * FINE) + 0.5) / FINE, (np.arange(lens.height * FINE) + 0.5) / FINE)
    return np.concatenate([lens.normalise(np.stack([x, y], -1)), np.ones((*x.shape, 1))], -1)


def chess(columns: int = 10, rows: int = 7, square_mm: float = 25.0) -> Paint:
    """Return a chessboard of `columns` x `rows` squares whose first inner corner is the board's origin.

    Parameters
    ----------
    columns, rows : squares each way. square_mm : side of a square.
    """

    def paint(mm: np.ndarray) -> np.ndarray:
        position = mm / square_mm + 1.0
        return _on_paper(position, [columns, rows], 0.6, lambda at: np.floor(at).sum(-1) % 2 == 0)

    return paint


def dots(columns: int = 9, rows: int = 6, pitch_mm: float = 25.0, radius_mm: float = 7.0) -> Paint:
    """Return dark dots on paper; the first one's centre is the board's origin.

    Parameters
    ----------
    columns, rows : dots each way. pitch_mm : between centres. radius_mm : of a dot.
    """

    def paint(mm: np.ndarray) -> np.ndarray:
        def dark(at: np.ndarray) -> np.ndarray:
            return np.linalg.norm((at - np.floor(at) - 0.5) * pitch_mm, axis=-1) < radius_mm

        return _on_paper(mm / pitch_mm + 0.5, [columns, rows], 0.5, dark)

    return paint


def tags(columns: int, rows: int, side_mm: float, gap: float = 0.25, first: int = 0) -> Paint:
    """Return a board of tags of family 36h11, numbered along rows from `first`; the first one's top left is the
    board's origin.

    Parameters
    ----------
    columns, rows : tags each way. side_mm : of a tag. gap : between two, as a share of the side. first : number.
    """
    book = cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_APRILTAG_36h11)
    bits = np.array([cv2.aruco.generateImageMarker(book, first + k, 8) for k in range(columns * rows)]) > 127

    def paint(mm: np.ndarray) -> np.ndarray:
        def dark(position: np.ndarray) -> np.ndarray:
            cell = np.clip(np.floor(position).astype(int), 0, [columns - 1, rows - 1])
            at = np.floor((position - cell) * (1.0 + gap) * 8.0).astype(int)
            inside = ((at >= 0) & (at < 8)).all(-1)
            at = np.clip(at, 0, 7)
            return inside & ~bits[cell[..., 1] * columns + cell[..., 0], at[..., 1], at[..., 0]]

        return _on_paper(mm / (side_mm * (1.0 + gap)), [columns, rows], 0.3, dark)

    return paint


def _on_paper(position: np.ndarray, size: list[int], margin: float, dark: Paint) -> np.ndarray:
    """Return the light of a board whose pattern fills `size` cells, with a margin of paper, before a wall.

    Parameters
    ----------
    position : (…, 2) in cells. size : cells each way. margin : in cells. dark : whether positions (N, 2) are dark.
    """
    light = np.full(position.shape[:-1], WALL)
    light[((position > -margin) & (position < np.array(size) + margin)).all(-1)] = PAPER
    inside = ((position > 0) & (position < size)).all(-1)
    light[inside] = np.where(dark(position[inside]), DARK, PAPER)
    return light
