"""The plate with probe objects that stick to the solved set, as a short movie (H.264, by PyAV)."""

from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.pictures.film import write_film
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED
from amberkeel.core.world.stage import Stage, Staged

MOST_WIDTH = 1280
"""Width of a movie at the most, pixels."""

QUALITY = 20
"""Constant rate factor of H.264."""

BOXES = 14
"""Probe objects, spread over the set."""

SIDE_SHARE = 0.03
"""Side of a box over its distance from the middle camera."""

_CORNERS = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], float)
_EDGES = [(a, b) for a in range(8) for b in range(a + 1, 8) if np.abs(_CORNERS[a] - _CORNERS[b]).sum() == 2.0]


def probe_boxes(solution: Solution) -> np.ndarray:
    """Return wireframe boxes (B, 8, 3) on points of the set, in the path's world: far from one another, on points that
    many frames hold.
    """
    path, tracks = solution.path, solution.tracks
    used = solution.points.known & np.array([s != EXCLUDED for s in tracks.states])
    xyz = solution.points.positions(path.positions[0])
    rows = np.nonzero(used)[0]
    rows = rows[np.argsort(-tracks.lengths[rows])][: 12 * BOXES]
    if not len(rows):
        return np.zeros((0, 8, 3))
    middle = len(path.frames) // 2
    px = path.project(xyz[rows], middle)
    chosen = [0]
    # Far from those that are there, over the picture (Gonzalez 1985).
    away = np.full(len(rows), np.inf)
    while len(chosen) < min(BOXES, len(rows)):
        away = np.minimum(away, np.nan_to_num(np.linalg.norm(px - px[chosen[-1]], axis=1), nan=0.0))
        chosen.append(int(away.argmax()))
    centres = xyz[rows[chosen]]
    reach = np.linalg.norm(centres - path.positions[middle], axis=1)
    return centres[:, None] + 0.5 * SIDE_SHARE * reach[:, None, None] * _CORNERS


def write_movie(
    where: Path,
    plate: Plate,
    solution: Solution,
    fps: Fraction = Fraction(24),
    progress: Progress = silent,
    staged: Staged | None = None,
    masked: Callable[[int], np.ndarray] | None = None,
) -> None:
    """Write the plate with test objects where the solved camera sees them: those of a scene, or boxes without any.

    Parameters
    ----------
    where : the file, .mp4. plate : its pictures. solution : solved from it. fps : frames a second. progress : the share
        done. staged : a scene's test objects and paintings, or None. masked : what stands before paintings and shadows,
        from frame to (H, W) bool, or None.
    """
    path, shown = solution.path, staged if staged and not staged.empty else None
    boxes = np.zeros((0, 8, 3)) if shown else probe_boxes(solution)
    scale = min(1.0, MOST_WIDTH / plate.width)
    size = 2 * int(plate.width * scale / 2), 2 * int(plate.height * scale / 2)
    stage = Stage(path, shown, size[0] / plate.width) if shown else None

    def drawn() -> Iterator[np.ndarray]:
        for k, frame in enumerate(path.frames.tolist()):
            picture = cv2.resize(_eight_bits(plate.read(frame)), size, interpolation=cv2.INTER_AREA)
            _draw(picture, path, k, boxes, np.array(size) / [plate.width, plate.height])
            if stage:
                stage.draw(picture, k, None if masked is None else masked(frame))
            cv2.putText(
                picture, str(frame), (10, size[1] - 12), cv2.FONT_HERSHEY_SIMPLEX, 0.5, (235, 229, 216), 1, cv2.LINE_AA
            )
            yield picture
            progress((k + 1) / len(path.frames), f"Drawing frame {frame}")

    write_film(where, drawn(), size, fps, QUALITY)


def _eight_bits(picture: np.ndarray) -> np.ndarray:
    """Return a picture (H, W, 3) as uint8."""
    if picture.ndim == 2:
        picture = np.repeat(picture[..., None], 3, 2)
    picture = picture[..., :3]
    if picture.dtype == np.uint8:
        return picture
    if picture.dtype == np.uint16:
        return (picture >> 8).astype(np.uint8)
    return (np.clip(picture, 0.0, 1.0) * 255.0 + 0.5).astype(np.uint8)


def _draw(picture: np.ndarray, path: CameraPath, row: int, boxes: np.ndarray, scale: np.ndarray) -> None:
    """Draw boxes into a picture, in place."""
    for corners in boxes:
        if (path.to_camera(corners, row)[:, 2] <= 0.0).any():
            continue
        px = path.project_read(corners, row) * scale
        if not np.isfinite(px).all() or (np.abs(px) > 1e5).any():
            continue
        for thick, colour in ((3, (16, 22, 28)), (1, (242, 163, 58))):
            for a, b in _EDGES:
                (ax, ay), (bx, by) = ((16 * px[[a, b]]).astype(int)).tolist()
                cv2.line(picture, (ax, ay), (bx, by), colour, thick, cv2.LINE_AA, 4)
