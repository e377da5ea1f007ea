"""Render a simulated shot to files: plate, mattes and truth."""

import json
from pathlib import Path

from amberkeel.core.pictures.write import write_png
from amberkeel.core.progress import Progress, silent
from amberkeel.core.sim.render import render_all, truth
from amberkeel.core.sim.shots import SHOTS


def write_shot(name: str, folder: Path, progress: Progress = silent, count: int | None = None) -> None:
    """Render `name` into `folder`: plate/name.####.png, mattes/name_matte.####.png and truth.json.

    Parameters
    ----------
    name : of the shot. folder : to write to. progress : called with the share done. count : frames, or None for all.
    """
    progress(0.0, "Building the set")
    make = SHOTS[name]
    shot = make(frames=count) if count else make()
    stem = name.lower()
    for part in ("plate", "mattes"):
        (folder / part).mkdir(parents=True, exist_ok=True)
    for k, (frame, picture, matte) in enumerate(render_all(shot)):
        write_png(folder / "plate" / f"{stem}.{frame:04d}.png", picture)
        write_png(folder / "mattes" / f"{stem}_matte.{frame:04d}.png", matte)
        progress((k + 1) / len(shot.frames), f"Rendering {name}, frame {frame}")
    path = truth(shot)
    document = {
        "focal_px": path.lens.focal_px[0],
        "radial": path.lens.radial,
        "frames": path.frames.tolist(),
        "positions": path.positions.tolist(),
        "world_from_camera": path.world_from_camera.tolist(),
    }
    (folder / "truth.json").write_text(json.dumps(document))
