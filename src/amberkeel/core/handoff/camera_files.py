"""Cameras in files that others made: USD, glTF, COLLADA, solve.json or a table."""

from dataclasses import dataclass, replace
from pathlib import Path

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.foreign import guarded
from amberkeel.core.handoff.camera_paths import read_camera_path
from amberkeel.core.handoff.writers.base import Read
from amberkeel.core.handoff.writers.collada import read_collada
from amberkeel.core.handoff.writers.gltf import read_gltf
from amberkeel.core.handoff.writers.usd import read_stage


@dataclass(frozen=True)
class Picture:
    """The picture that a camera is for: width and height in pixels, and frames a second."""

    width: int
    height: int
    fps: float


@guarded("This camera", HandoffError)
def read_camera(path: Path, picture: Picture, offset: int, name: str) -> CameraPath:
    """Return the camera of a file, in our world.

    Parameters
    ----------
    path : of the file. picture : that it is for. offset : that was added to frame numbers. name : of the camera, where
        the file has several.

    Raises
    ------
    HandoffError : it is of no kind that is read, or holds no such camera.
    """
    kind = path.suffix.lower()
    if kind == ".json":
        from amberkeel.core.solve_order import load_path

        found = load_path(str(path))
        return replace(found, frames=found.frames - offset)
    if kind == ".csv":
        table = read_camera_path(path.name, path.read_bytes())
        return replace(table.camera(picture.width, picture.height), frames=table.frames - offset)
    if kind in (".usd", ".usda", ".usdc", ".usdz"):
        return _one(read_stage(path, offset), path, name)
    if kind in (".glb", ".gltf"):
        return _one(read_gltf(path, offset), path, name)
    if kind == ".dae":
        return _one(read_collada(path, picture.fps, offset), path, name)
    raise HandoffError(
        f"{path.name} is no camera that can be read.", "Give USD, glTF, COLLADA, a table (.csv) or solve.json."
    )


def _one(read: Read, path: Path, name: str) -> CameraPath:
    if name and name in read.cameras:
        return read.cameras[name]
    if len(read.cameras) == 1 and not name:
        return next(iter(read.cameras.values()))
    there = ", ".join(read.cameras) or "none"
    raise HandoffError(f"{path.name} has the cameras: {there}.", "Name one of them: --name." if read.cameras else "")
