"""Proof before anything leaves: what was written is read back with another library where there is one, and its points
are seen by its own camera, beside the same through the scene's camera.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.writers.base import CAMERA, POINTS, Convention, Read, Writer, carried

MOST_PX = 0.02
"""Difference, pixels, above which nothing leaves without a reason given."""

MOST_POINTS, MOST_FRAMES = 2000, 120
"""Points and frames that are compared, spread over all."""


@dataclass(frozen=True)
class Proof:
    """What reading a format back showed.

    Attributes
    ----------
    format : key. px : largest difference of a point's place in any camera's picture; NaN where the format has no
        camera. units : largest difference of a point or a camera's position, in the scene's units. frames : whether
        frame numbers are the same. trouble : what did not come back, in words.
    """

    format: str
    px: float
    units: float
    frames: bool
    trouble: tuple[str, ...] = ()

    @property
    def holds(self) -> bool:
        """Whether it may leave."""
        return self.frames and not self.trouble and not self.px > MOST_PX


def prove(scene: Scene, writer: Writer, convention: Convention, folder: Path, stem: str) -> Proof:
    """Return what reading a written format back shows.

    Parameters
    ----------
    scene : that was written. writer : of the format. convention : in which it was written. folder, stem : where.
    """
    said = carried(scene, writer.lacks)
    read = writer.read(folder, stem, convention)
    trouble: list[str] = []
    units = _points_off(said, read, trouble) if POINTS not in writer.lacks else 0.0
    units = max(units, *(_body_off(body, read, trouble) for body in said.bodies), 0.0) if read.bodies else units
    moving = [thing for body in said.bodies if read.bodies for thing in body.things]
    faces = sum(len(thing.faces) for thing in (*said.things, *moving))
    if read.faces is not None and read.faces != faces:
        trouble.append(f"{read.faces} of {faces} triangles came back.")
    if CAMERA in writer.lacks:
        return Proof(writer.key, np.nan, units, True, tuple(trouble))
    px, same = 0.0, True
    for one in said.cameras:
        path = read.cameras.get(one.name) or (next(iter(read.cameras.values())) if len(said.cameras) == 1 else None)
        if path is None:
            trouble.append(f"The camera {one.name} did not come back.")
            continue
        same &= np.array_equal(path.frames, one.path.frames)
        if same:
            units = max(units, float(np.abs(path.positions - one.path.positions).max()))
            px = max(px, _seen_off(said, one.path, path, read))
    return Proof(writer.key, px, units, same, tuple(trouble))


def _points_off(scene: Scene, read: Read, trouble: list[str]) -> float:
    """Return how far the points that came back lie off, units."""
    names, xyz = scene.points.names, scene.points.xyz
    if not len(names):
        return 0.0
    if not isinstance(read.points, dict):
        trouble.append("The points did not come back by name.")
        return np.inf
    found = [read.points.get(name, read.points.get("_".join(name.split()))) for name in names]
    lost = sum(one is None for one in found)
    if lost:
        trouble.append(f"{lost} of {len(names)} points did not come back.")
    off = [np.abs(a - b).max() for a, b in zip(found, xyz) if a is not None]
    return float(max(off, default=0.0))


def _body_off(body, read: Read, trouble: list[str]) -> float:
    found = read.bodies.get(body.name)
    if found is None or found.shape != body.positions.shape:
        trouble.append(f"The body {body.name} did not come back.")
        return np.inf
    return float(np.abs(found - body.positions).max())


def _seen_off(scene: Scene, path: CameraPath, again: CameraPath, read: Read) -> float:
    """Return by how many pixels a point is seen elsewhere through what came back, at the most."""
    names, xyz = scene.points.names, scene.points.xyz
    some = np.unique(np.linspace(0, len(names) - 1, MOST_POINTS).astype(int)) if len(names) else np.zeros(0, int)
    own, there = xyz[some], xyz[some]
    if isinstance(read.points, dict):
        there = np.array([read.points.get(names[k], xyz[k]) for k in some.tolist()]).reshape(-1, 3)
    if not len(own):
        # With no points, spots in front of the camera stand in for them.
        ahead = path.world_from_camera[:, :, 2] * 5.0
        own = there = path.positions + ahead
    most = 0.0
    for row in np.unique(np.linspace(0, len(path.frames) - 1, MOST_FRAMES).astype(int)).tolist():
        with np.errstate(all="ignore"):
            a, b = path.project(own, row), again.project(there, row)
            seen = (path.to_camera(own, row)[:, 2] > 0.0) & path.lens.holds(a)
        if seen.any():
            most = max(most, float(np.linalg.norm((a - b)[seen], axis=1).max()))
    return most
