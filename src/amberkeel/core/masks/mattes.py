"""Mattes in and out: image sequences read as masks, written as files, and turned into shapes."""

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.raster import Matte, contour
from amberkeel.core.masks.shape import Key, evenly, polygon
from amberkeel.core.pictures.read import CHANNELS, is_white, read_matte
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.plate import Plate
from amberkeel.core.plate.sequence import find_sequence
from amberkeel.core.progress import Progress, silent

WRITERS = 2
"""Mattes that are written at a time."""

SHAPE_POINTS = 28
"""Points of a shape traced from a matte."""


def bring_in(
    pattern: str | Path, plate: Plate, channel: str = "luma", inverted: bool = False, offset: int = 0,
    progress: Progress = silent,
) -> tuple[dict[int, np.ndarray], list[int]]:  # fmt: skip
    """Read a matte sequence for a plate.

    Parameters
    ----------
    pattern : folder or ``name.####.ext``. offset : added to the matte's frame numbers to give the plate's.

    Returns
    -------
    mattes : bool (H, W) by plate frame, True where masked. lacking : plate frames without a matte.

    Raises
    ------
    MaskError : another size than the plate, no frame in common, or no such channel.
    """
    if channel not in CHANNELS:
        raise MaskError(f"There is no channel “{channel}”.", f"Choose {', '.join(CHANNELS)}.")
    sequence = find_sequence(pattern)
    frames = [f for f in plate.frames.tolist() if f - offset in sequence.names]
    if not frames:
        low, high = sequence.frames[0] + offset, sequence.frames[-1] + offset
        raise MaskError(
            f"The mattes are frames {low}-{high}; the plate is {plate.frames[0]}-{plate.frames[-1]}.",
            "Give an offset in frames that brings them together.",
        )
    mattes = {}
    for k, frame in enumerate(frames):
        matte = read_matte(sequence.path(frame - offset), channel)
        if matte.shape != (plate.height, plate.width):
            raise MaskError(
                f"Matte {frame - offset} is {matte.shape[1]}x{matte.shape[0]}, the plate is "
                f"{plate.width}x{plate.height}.",
                "Mattes must have the plate's size.",
            )
        mattes[frame] = is_white(matte) ^ inverted
        progress((k + 1) / len(frames), f"Reading mattes, frame {frame}")
    return mattes, sorted(set(plate.frames.tolist()) - set(frames))


def write_mattes(
    folder: Path,
    stem: str,
    frames: np.ndarray,
    masked: Callable[[int], np.ndarray],
    kind: str = "png",
    progress: Progress = silent,
) -> list[Path]:
    """Write one matte a frame, white where masked, as 8-bit PNG or half-float EXR numbered as the plate is.

    Parameters
    ----------
    folder : to write to. stem : beginning of the names. frames : (F,) numbers. masked : from frame to (H, W)
        bool. kind : "png" or "exr". progress : called with the share done.
    """
    if kind not in ("png", "exr"):
        raise MaskError(f"Mattes leave as png or exr, not {kind}.")
    folder.mkdir(parents=True, exist_ok=True)
    written: list[Path] = []
    begun: deque[Future] = deque()
    # Compressing and writing one is done beside the next; few wait, so that memory stays small.
    with ThreadPoolExecutor(WRITERS) as pool:
        for k, frame in enumerate(np.asarray(frames).tolist()):
            path = folder / f"{stem}.{frame:04d}.{kind}"
            mask = np.asarray(masked(frame))
            picture = mask * np.uint8(255) if kind == "png" else mask.astype(np.float32)
            begun.append(pool.submit(write_picture, path, picture))
            if len(begun) > WRITERS:
                begun.popleft().result()
            written.append(path)
            progress((k + 1) / len(frames), f"Writing mattes, frame {frame}")
        for one in begun:
            one.result()
    return written


def trace(masks: Matte, frames: list[int], every: int = 4, points: int = SHAPE_POINTS) -> dict[int, Key]:
    """Return keys of a shape around the largest part of a matte, with points that stay with their position on the
    outline.

    A key is set on every `every`-th frame, on the first and the last. Raises MaskError where the matte is empty.

    Parameters
    ----------
    masks : from frame number to (H, W) bool, or None. frames : numbers. every : frames between two keys. points :
        of the outline.
    """
    some = {f: m for f in frames if (m := masks(f)) is not None and m.any()}
    seen = list(some)
    if not seen:
        raise MaskError("The matte is empty on every frame.", "There is nothing to draw a shape around.")
    chosen = sorted({*seen[::every], seen[-1]})
    keys, before = {}, None
    for frame in chosen:
        outline = evenly(contour(some[frame]), points)
        before = _in_step(outline, before)
        keys[frame] = Key(polygon(before))
    return keys


def _in_step(outline: np.ndarray, before: np.ndarray | None) -> np.ndarray:
    """Return the outline started at the point that best keeps every point near its position on the one before."""
    if before is None:
        return outline
    a, b = outline - outline.mean(0), before - before.mean(0)
    costs = [((np.roll(a, -k, 0) - b) ** 2).sum() for k in range(len(a))]
    return np.roll(outline, -int(np.argmin(costs)), 0)
