"""What every format has: how it is written and read back, what it cannot say, and in which unit and axes it is."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.scene import Scene, Thing

Z_FROM_Y_UP = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]])
"""From our world, Y up, to one with Z up: X stays, what was towards the viewer goes back along -Y."""

GL_FROM_CAMERA = np.diag([1.0, -1.0, -1.0])
"""From our camera axes (x right, y down, z forward) to those of most formats (y up, looking along -Z)."""

UNSTATED_WIDTH = 1000
"""Width, pixels, that a camera is read with whose file does not say how large its picture is."""

DISTORTION, READOUT, ZOOM, SHIFT, POINTS, CAMERA, FRAMES = (
    "distortion", "readout", "zoom", "shift", "points", "camera", "frames",
)  # fmt: skip
"""What a format may be unable to say."""


@dataclass(frozen=True)
class Convention:
    """How numbers leave: metres in a unit, the axis that is up ("y" or "z"), what is added to frame numbers, whether
    the result is left-handed (X mirrored), where a format allows that, and the frame rate, of formats in seconds.
    """

    unit_m: float = 1.0
    up: str = "y"
    offset: int = 0
    left_handed: bool = False
    fps: float = 24.0

    @property
    def axes(self) -> np.ndarray:
        """Take directions of our world to the delivered one, (3, 3)."""
        turn = Z_FROM_Y_UP if self.up == "z" else np.eye(3)
        return np.diag([-1.0, 1.0, 1.0]) @ turn if self.left_handed else turn

    def points(self, xyz: np.ndarray) -> np.ndarray:
        """Take points (..., 3) to delivered units and axes."""
        return xyz @ self.axes.T / self.unit_m

    def back(self, xyz: np.ndarray) -> np.ndarray:
        """Take delivered points (..., 3) to our world."""
        return xyz * self.unit_m @ self.axes

    def turns(self, rotations: np.ndarray) -> np.ndarray:
        """Take rotations (..., 3, 3) world_from_own to the delivered world; mirrored ones are no rotations any more."""
        return self.axes @ rotations


@dataclass(frozen=True)
class Read:
    """What was read back from a file, in our world and frame numbers.

    Attributes
    ----------
    cameras : by name, None where the format holds none. points : by name (3,), or an array (P, 3) where it has no
        names. bodies : of each, by name, positions (F, 3). faces : triangles in all.
    """

    cameras: dict[str, CameraPath] = field(default_factory=dict)
    points: dict[str, np.ndarray] | np.ndarray | None = None
    bodies: dict[str, np.ndarray] = field(default_factory=dict)
    faces: int | None = None


@dataclass(frozen=True)
class Writer:
    """A format.

    Attributes
    ----------
    key : as recipients name it. holds : in words. write : makes files (name to bytes) from a scene and a convention,
        names beginning with a stem. read : reads what was written from a folder, with the stem. lacks : what it
        cannot say. fixed_unit, fixed_up : where the format says both, whatever is wished. own_frames : whether frame
        numbers are the plate's own, whatever is wished.
    """

    key: str
    holds: str
    write: Callable[[Scene, Convention, str], dict[str, bytes]]
    read: Callable[[Path, str, Convention], Read]
    lacks: tuple[str, ...] = ()
    fixed_unit: float | None = None
    fixed_up: str = ""
    mirrored: bool = False
    own_frames: bool = False

    def convention(self, wished: Convention) -> Convention:
        """Return the convention in which the format is written where another one is wished."""
        unit = self.fixed_unit or wished.unit_m
        left = wished.left_handed and self.mirrored
        offset = 0 if self.own_frames else wished.offset
        return replace(wished, unit_m=unit, up=self.fixed_up or wished.up, left_handed=left, offset=offset)


def cross_lines(size: float) -> tuple[np.ndarray, np.ndarray]:
    """Return a locator's cross: vertices (6, 3) about the origin, and lines (3, 2) as rows of them.

    Parameters
    ----------
    size : from end to end, in the coordinates in which it is written.
    """
    vertices = 0.5 * size * np.concatenate([np.eye(3), -np.eye(3)])
    return vertices, np.array([[0, 3], [1, 4], [2, 5]])


def texture_files(things: Iterable[Thing], stem: str) -> dict[str, bytes]:
    """Return the pictures that lie beside a format's file, by name; `texture_name` says which is whose."""
    return {texture_name(one, stem): one.texture for one in things if one.textured}


def texture_name(thing: Thing, stem: str) -> str:
    """Return the name of a thing's picture beside a format's file."""
    return f"{stem}_{thing.name}.png"


def carried(scene: Scene, lacks: tuple[str, ...]) -> Scene:
    """Return a scene as a format can say it: a zoom becomes its middle focal length, a shifted axis the picture's
    middle, distortion and readout go.

    Parameters
    ----------
    scene : that leaves. lacks : what the format cannot say.
    """
    cameras = []
    for one in scene.cameras:
        path, lens = one.path, one.path.lens
        if ZOOM in lacks and path.zoom is not None:
            lens = lens.with_focal(lens.focal_px[0] * float(np.median(path.zoom)))
            path = replace(path, zoom=None)
        if SHIFT in lacks:
            lens = replace(lens, principal_px=(lens.width / 2.0, lens.height / 2.0))
        if DISTORTION in lacks:
            lens = lens.with_coefficients(np.zeros(17))
        path = replace(path, lens=lens, readout=0.0 if READOUT in lacks else path.readout)
        cameras.append(replace(one, path=path))
    return replace(scene, cameras=tuple(cameras))


def departure(scene: Scene, lacks: tuple[str, ...], what: str) -> float:
    """Return by how many pixels one thing that a format cannot say moves the picture at the most, over its corners and
    frames; 0 where the scene has nothing of the kind.

    Parameters
    ----------
    scene : that leaves. lacks : what the format cannot say. what : one of those.
    """
    if what not in lacks or what == READOUT:
        return 0.0
    most = 0.0
    for one, other in zip(scene.cameras, carried(scene, (what,)).cameras):
        lens = one.path.lens
        border = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0], [1.0, 1.0], [0.5, 0.0], [0.0, 0.5]])
        for row in {0, len(one.path.frames) // 2, len(one.path.frames) - 1}:
            rays = one.path.normalise(border * [lens.width, lens.height], row)
            there = other.path.lens_at(row).project(np.column_stack([rays, np.ones(len(rays))]))
            most = max(most, float(np.nanmax(np.linalg.norm(there - border * [lens.width, lens.height], axis=1))))
    return most


def pinhole_path(
    frames: np.ndarray,
    positions: np.ndarray,
    rotations: np.ndarray,
    size: tuple[int, int],
    focal_px: np.ndarray,
    principal: tuple[float, float] | None = None,
    pixel_aspect: float = 1.0,
) -> CameraPath:
    """Return a camera path that was read, without distortion.

    Parameters
    ----------
    frames : (F,) rising. positions : (F, 3). rotations : (F, 3, 3) world_from_camera, our axes. size : picture, pixels.
    focal_px : (F,) along x. principal : pixels, the middle where None. pixel_aspect : width of a pixel over its height.
    """  # fmt: skip
    from amberkeel.core.lens import Lens

    if not len(frames):
        raise HandoffError("The camera has no frames.")
    lens = Lens.centred(size[0], size[1], float(focal_px[0]), 0.0, pixel_aspect)
    if principal is not None:
        lens = replace(lens, principal_px=principal)
    zoom = np.asarray(focal_px) / focal_px[0]
    return CameraPath(frames, positions, rotations, lens, None if np.abs(zoom - 1.0).max() < 1e-7 else zoom)
