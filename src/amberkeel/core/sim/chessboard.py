"""A filmed chessboard: for trying calibration on a lens that is known."""

import cv2
import numpy as np

from amberkeel.core.lens import Lens
from amberkeel.core.plate.decode import code_of_light

FINE = 3
"""Samples a pixel, each way."""

DARK, PAPER, WALL = 0.06, 0.8, 0.25


def chessboard(lens: Lens, camera_from_board: np.ndarray, shift: np.ndarray, rng: np.random.Generator, columns: int = 10, rows: int = 7, square_mm: float = 25.0, grain: float = 1.2) -> np.ndarray:
    """Return a picture (H, W) uint8 of a board of `columns` x `rows` squares.

    Parameters
    ----------
    camera_from_board (3, 3), shift (3,) mm : where it is; its first inner corner is the board's origin, x along the columns.
    grain : standard deviation of grain in code values.
    """
    x, y = np.meshgrid((np.arange(lens.width * FINE) + 0.5) / FINE, (np.arange(lens.height * FINE) + 0.5) / FINE)
    ray = np.concatenate([lens.normalise(np.stack([x, y], -1)), np.ones((*x.shape, 1))], -1)
    depth = (camera_from_board[:, 2] @ shift) / (ray @ camera_from_board[:, 2])
    place = ((ray * depth[..., None] - shift) @ camera_from_board / square_mm + 1.0)[..., :2]
    inside = ((place > 0) & (place < [columns, rows])).all(-1)
    paper = ((place > -0.6) & (place < [columns + 0.6, rows + 0.6])).all(-1)
    light = np.where(inside, np.where(np.floor(place).sum(-1) % 2 == 0, DARK, PAPER), np.where(paper, PAPER, WALL))
    light = cv2.GaussianBlur(light.reshape(lens.height, FINE, lens.width, FINE).mean((1, 3)), (0, 0), 0.5)
    code = 255.0 * code_of_light(light)
    return np.clip(np.round(code + rng.normal(0, grain, code.shape)), 0, 255).astype(np.uint8)
