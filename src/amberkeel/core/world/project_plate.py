"""A plate projected onto the proxies of a world, from files to files."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from amberkeel.core.errors import WorldError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.solve_file import SolveDocument
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
from amberkeel.core.world.paintings import fitting, flat, painted_onto, read_painting
from amberkeel.core.world.world_file import World, datum_in


@dataclass(frozen=True)
class ProjectFiles:
    """What is projected, how, and where it goes; see `keel project`. `painted` is a folder of textures, or a picture
    painted over the frame `over`; `behind` lets what is masked hide the sequence.
    """

    plate: str
    solve: Path
    world: Path
    out: Path
    mode: str
    frames: tuple[int, int] | None = None
    mattes: str | None = None
    painted: Path | None = None
    over: int | None = None
    sequence: bool = False
    behind: bool = False
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
    linear = light_of(plate, int(plate.frames[0]))[1]
    if order.behind and masked is None:
        raise WorldError("There is nothing that it could lie behind.", "Give the mattes with --mattes.")
    if order.painted and order.painted.is_dir():
        made = _painted(order.painted, list(solids_in(world)), linear)
    elif order.painted:
        made = _laid(order, document, world, (plate.width, plate.height), linear)
    else:
        asked = ProjectOrder(order.mode, order.frames, masked)
        made = textures(document, world, plate, asked, span(progress, 0.0, 0.7))[0]
    order.out.mkdir(parents=True, exist_ok=True)
    suffix, names = ".exr" if linear else ".png", []
    if not (order.painted and order.painted.is_dir()):
        for name, texture in made.items():
            names.append(f"{name}{suffix}")
            write_picture(order.out / names[-1], _written(texture, linear))
    if order.sequence:
        frames = [int(f["frame"]) for f in document["frames"] if f["frame"] in set(plate.frames.tolist())]
        for k, frame in enumerate(frames):
            progress(0.7 + 0.3 * k / len(frames), f"Projecting frame {frame}")
            seen = frames_seen(document, world, made, [frame])[frame]
            if order.behind and masked is not None:
                seen[masked(frame), 3] = 0.0
            names.append(f"{plate.name}_projected.{frame}{suffix}")
            write_picture(order.out / names[-1], _written(seen, linear))
    return names


def _written(picture: np.ndarray, linear: bool) -> np.ndarray:
    """Return a picture (H, W, 4) whose alpha is 0 to 1 as it is written: linear light, or code values of 8 bits."""
    return picture.astype(np.float32) if linear else flat(picture)


def _laid(
    order: ProjectFiles, document: SolveDocument, world: World, size: tuple[int, int], linear: bool
) -> dict[str, np.ndarray]:
    """Return the textures that a picture painted over one frame makes, by proxy."""
    assert order.painted is not None
    path, solids = datum_in(world).camera(read_path(document)), solids_in(world)
    row = -1 if order.over is None else int(path.rows_of(np.array([order.over]))[0])
    if row < 0:
        raise WorldError("The painted frame has no camera.", "Say with --over which solved frame it was painted over.")
    painting = fitting(read_painting(order.painted, linear), *size)
    return painted_onto(path, row, solids, list(solids), painting, {})


def _painted(folder: Path, names: list[str], linear: bool) -> dict[str, np.ndarray]:
    """Return painted textures (S, T, 4) by proxy, from a folder."""
    suffixes = (".exr", ".png", ".jpg", ".tif")
    found = {name: next((p for s in suffixes if (p := folder / f"{name}{s}").is_file()), None) for name in names}
    out = {name: read_painting(path, linear) for name, path in found.items() if path}
    if not out:
        raise WorldError(f"{folder.name} holds no painted texture.", f"They are called {names[0]}.png and so on.")
    return out
