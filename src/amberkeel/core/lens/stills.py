"""Pictures of a grid: a folder or pattern of stills with any names, or a video."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.plate.look import gray_picture
from amberkeel.core.plate.sequence import IMAGE_SUFFIXES, VIDEO_SUFFIXES
from amberkeel.core.plate.video import VideoReader

MOST_STILLS = 120
"""Pictures looked at; of more, as many are taken evenly."""


def open_stills(where: str | Path) -> tuple[int, Iterator[tuple[str, np.ndarray]]]:
    """Return how many pictures there are and an iterator over (name, grey picture (H, W) uint8).

    Raises LensError when there are none.
    """
    where = Path(where)
    if where.is_file() and where.suffix.lower() in VIDEO_SUFFIXES:
        reader = VideoReader(where)
        chosen = _evenly(list(range(1, reader.count + 1)))
        return len(chosen), ((f"frame {k}", to_gray(reader.read(k))) for k in chosen)
    if where.is_dir():
        files = sorted(p for p in where.iterdir() if p.suffix.lower() in IMAGE_SUFFIXES)
    elif where.is_file():
        files = [where]
    else:
        pattern = where.name.replace("####", "*").replace("#", "?").replace("%04d", "*")
        files = (
            sorted(p for p in where.parent.glob(pattern) if p.suffix.lower() in IMAGE_SUFFIXES)
            if where.parent.is_dir()
            else []
        )
    if not files:
        raise LensError(
            f"There are no pictures at {where}.", "Give a folder, a pattern such as grid.####.png, or a video."
        )
    chosen = _evenly(files)
    return len(chosen), ((p.name, gray_picture(p)) for p in chosen)


def _evenly(items: list) -> list:
    if len(items) <= MOST_STILLS:
        return items
    return [items[k] for k in np.linspace(0, len(items) - 1, MOST_STILLS).astype(int)]
