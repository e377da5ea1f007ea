"""Probe objects: test geometry put into the scene to see slip."""

import numpy as np

from amberkeel.core.camera import CameraPath

NEAR_SHARE = 0.05
"""Depth, in sides of the card, below which a square is too near to be drawn."""

MARGIN = 1.6
"""Distance from the optical centre, in widths of the picture, beyond which nothing is drawn."""


def card_outlines(path: CameraPath, centre: np.ndarray, side: float, squares: int = 8, pieces: int = 3) -> list:
    """Return a checker card on the ground as it falls on each frame, zoom and rows that lag behind in it.

    Parameters
    ----------
    path : the camera in the world. centre : (3,) the card's middle, metres, on Y = its own height.
    side : the card's side in world units. squares : along a side. pieces : of each square's edge, to follow the lens.

    Returns
    -------
    For each frame a list of (M, 2) pixel outlines of the dark squares that lie wholly in front of the camera.
    """
    step = side / squares
    edge = np.arange(pieces) / pieces
    ring = np.concatenate(
        [
            np.stack([edge, 0 * edge], 1), np.stack([1 + 0 * edge, edge], 1),
            np.stack([1 - edge, 1 + 0 * edge], 1), np.stack([0 * edge, 1 - edge], 1),
        ]
    )  # fmt: skip
    dark = [(i, j) for i in range(squares) for j in range(squares) if (i + j) % 2 == 0]
    corners = np.array([[(ring + ij) * step - side / 2] for ij in np.array(dark, float)])[:, 0]
    xyz = np.zeros((*corners.shape[:2], 3))
    xyz[..., 0], xyz[..., 2] = corners[..., 0], corners[..., 1]
    xyz += centre
    frames = []
    for row in range(len(path.frames)):
        camera = path.to_camera(xyz.reshape(-1, 3), row)
        px = path.project_read(xyz.reshape(-1, 3), row).reshape(*corners.shape)
        ahead = (camera[:, 2].reshape(corners.shape[:2]) > NEAR_SHARE * side).all(1)
        near = (np.abs(px - np.array(path.lens.principal_px)) < MARGIN * path.lens.width).all((1, 2))
        frames.append([p for p, ok in zip(px, ahead & near) if ok])
    return frames
