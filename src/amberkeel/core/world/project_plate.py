"""A plate projected onto the proxies of a world, from files to files."""

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from amberkeel.core.errors import WorldError
from amberkeel.core.pictures.read import read_raw
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.plate import matte_reader, open_plate
from amberkeel.core.progress import Progress, span
from amberkeel.core.world.from_files import (
    ProjectOrder,
    frames_seen,
    light_of,
    load_solve,
    load_world,
    solids_in,
    textures,
)


@dataclass(frozen=True)
class ProjectFiles:
    """What is projected, how, and where it goes; see `keel project`."""

    plate: str
    solve: Path
    world: Path
    out: Path
    mode: str
    frames: tuple[int, int] | None = None
    mattes: str | None = None
    painted: Path | None = None
    sequence: bool = False
    encoding: str = ""


def project_plate(order: ProjectFiles, progress: Progress) -> list[str]:
    """Write the textures of a world's proxies, and what every frame sees of them where that is asked for; return the
    files' names. EXR plates stay linear light.

    Raises
    ------
    KeelError : a file cannot be read, or no frame sees a proxy.
    """
    document, world = load_solve(order.solve), load_world(order.world)
    plate = open_plate(order.plate, None, order.encoding)
    masked = matte_reader(order.mattes, plate) if order.mattes else None
    if order.painted:
        made, linear = _painted(order.painted, list(solids_in(world))), light_of(plate, int(plate.frames[0]))[1]
    else:
        asked = ProjectOrder(order.mode, order.frames, masked)
        made, linear = textures(document, world, plate, asked, span(progress, 0.0, 0.7))
    order.out.mkdir(parents=True, exist_ok=True)
    suffix, names = ".exr" if linear else ".png", []
    if not order.painted:
        for name, texture in made.items():
            names.append(f"{name}{suffix}")
            write_picture(order.out / names[-1], _written(texture, linear))
    if order.sequence:
        frames = [int(f["frame"]) for f in document["frames"] if f["frame"] in set(plate.frames.tolist())]
        for k, frame in enumerate(frames):
            progress(0.7 + 0.3 * k / len(frames), f"Projecting frame {frame}")
            seen = frames_seen(document, world, made, [frame])[frame]
            names.append(f"{plate.name}_projected.{frame}{suffix}")
            write_picture(order.out / names[-1], _written(seen, linear))
    return names


def _written(picture: np.ndarray, linear: bool) -> np.ndarray:
    """Return a picture (H, W, 4) whose alpha is 0 to 1 as it is written: linear light, or code values of 8 bits."""
    if linear:
        return picture.astype(np.float32)
    return np.clip(np.round(picture * [1.0, 1.0, 1.0, 255.0]), 0, 255).astype(np.uint8)


def _painted(folder: Path, names: list[str]) -> dict[str, np.ndarray]:
    """Return painted textures (S, T, 4) by proxy, from a folder."""
    out = {}
    for name in names:
        found = next((p for s in (".exr", ".png", ".jpg", ".tif") if (p := folder / f"{name}{s}").is_file()), None)
        if found is None:
            continue
        pixels = read_raw(found)
        pixels = pixels if pixels.ndim == 3 else cv2.cvtColor(pixels, cv2.COLOR_GRAY2RGB)
        scale = {np.dtype(np.uint8): 1.0, np.dtype(np.uint16): 1.0 / 257.0}.get(pixels.dtype, 1.0)
        picture = pixels.astype(np.float32) * scale
        full = 1.0 if pixels.dtype == np.float32 else 255.0
        alpha = picture[..., 3:4] / full if picture.shape[2] > 3 else np.ones_like(picture[..., :1])
        out[name] = np.concatenate([picture[..., :3], alpha], 2)
    if not out:
        raise WorldError(f"{folder.name} holds no painted texture.", f"They are called {names[0]}.png and so on.")
    return out
