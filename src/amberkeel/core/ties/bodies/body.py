"""A body in the world: its path and points, from its own solve and the camera's."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.solve.held_zoom import without_zoom
from amberkeel.core.solve.lens_plan import FIXED, LensChoice
from amberkeel.core.solve.motions import FREE
from amberkeel.core.solve.recipe import KNOWN_ROWS, NO_ROWS, Recipe
from amberkeel.core.ties.bodies.size import Relative, Size
from amberkeel.core.tracks import TrackSet
from amberkeel.core.world.datum import Datum


@dataclass(frozen=True)
class Body:
    """A body's path and points.

    Attributes
    ----------
    frames : (F,) numbers. positions : (F, 3) of its origin, units of the camera's world.
    world_from_body : (F, 3, 3); the body's axes are the world's on its first frame, or
        as `Axes` says. ids : (P,) tracks of its points.
    points : (P, 3) in the body's frame. size : how its size was told.
    own_from_solve : from the coordinates of its own solve to the body's.
    """

    frames: np.ndarray
    positions: np.ndarray
    world_from_body: np.ndarray
    ids: np.ndarray
    points: np.ndarray
    size: Size
    own_from_solve: Datum

    def world_points(self, row: int) -> np.ndarray:
        """Return the points (P, 3) in the world on a row."""
        return self.points @ self.world_from_body[row].T + self.positions[row]


def body_recipe(recipe: Recipe, camera: CameraPath, lens_told: bool = True) -> Recipe:
    """Return a recipe for a body's own solve: the lens, and how rows are read, are the known camera's.

    Parameters
    ----------
    recipe : what else is asked. camera : solved before. lens_told : whether its solve tells the lens; one that stands
        still does not, and distortion is found by the body, which moves.
    """
    lens = camera.lens
    bent = lens_told or bool(lens.coefficients.any())
    rows, readout = (KNOWN_ROWS, camera.readout) if camera.readout else (NO_ROWS, None)
    return replace(
        recipe, motion=FREE, held_lens=lens if bent else None, pixel_aspect=lens.pixel_aspect, zoom=False,
        focal_px=None, lens={"focal": LensChoice(FIXED, lens.focal_px[0])}, rows=rows, readout=readout,
    )  # fmt: skip


def beside(tracks: TrackSet, camera: CameraPath) -> TrackSet:
    """Return a body's tracks as they are solved beside a camera: on its frames, its zoom taken off.

    Parameters
    ----------
    tracks : measured. camera : solved before.

    Raises
    ------
    TieError : the camera has none of the tracks' frames.
    """
    own = without_zoom(tracks, camera)
    if len(tracks.frames) and not len(own.frames):
        raise TieError("The camera has none of the body's frames.", "Give the solve of the same plate.")
    return own


@dataclass(frozen=True)
class Axes:
    """What a body's own coordinates are: the track whose point is their origin, None for the middle of all points; and
    the frame on which its axes are the world's, None for the first.
    """

    origin: int | None = None
    frame: int | None = None


def in_world(relative: Relative, size: Size, axes: Axes = Axes()) -> Body:
    """Return a body in the camera's world, of a size that is told.

    Parameters
    ----------
    relative : the camera relative to the body, and the camera in the world. size : units of the world a unit of the
        body's solve. axes : of the body.

    Raises
    ------
    TieError : the track has no point, or the body is not solved on the frame.
    """
    middle = np.median(relative.xyz, axis=0) if axes.origin is None else relative.xyz[relative.point(axes.origin)]
    first = relative.turns[0 if axes.frame is None else relative.row(axes.frame)]
    own_from_solve = Datum(size.scale, first, -size.scale * first @ middle)
    return Body(
        relative.frames, relative.places(middle, size.scale), relative.turns @ first.T, relative.ids,
        own_from_solve.apply(relative.xyz), size, own_from_solve,
    )  # fmt: skip
