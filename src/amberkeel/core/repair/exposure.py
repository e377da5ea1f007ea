"""Where a solved camera is while the shutter is open.

A pose is that of mid-shutter. What a picture shows is the mean over the exposure, and where the camera turns back or is
struck that mean lies elsewhere: by ``a τ² / 24`` for an acceleration a and an open share τ of the frame interval.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.interpolate import BSpline, make_interp_spline
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath

INSTANTS = 13
"""Instants at which an exposure is sampled, evenly from its beginning to its end."""


AROUND = 7
"""Frames to each side that tell how the camera moves within one."""

DEGREE = 5
"""Of the splines through the poses. Where a camera is struck, motion is hardly slower than the frames: a cubic
overshoots the acceleration there by a fifth and more, a quintic by a twentieth.
"""


SMOOTH, STILL, EVEN = 0, 1, 2
"""How a camera moves within a frame: as the splines and the frames beside it tell; without any acceleration, a blow
having fallen between two exposures; or evenly from pose to pose, changing its way at mid-shutter.
"""


@dataclass(frozen=True)
class Motion:
    """A path as a motion in continuous time: splines through its poses, time counted in frames.

    Attributes
    ----------
    path : the camera, at least six frames.
    rates : (F, 3) radians a frame, by how much the camera turns faster than the splines say on each frame, about its
        own axes; None for not at all. They come from how far the pictures are blurred.
    ways : (F,) how the camera moves within each frame, one of SMOOTH, STILL and EVEN; None: smoothly on all.
    courses : splines of the path about its rows, as far as they were asked for; of the path alone.
    """

    path: CameraPath
    rates: np.ndarray | None = None
    ways: np.ndarray | None = None
    courses: dict[int, BSpline] = field(default_factory=dict, repr=False)

    def poses(self, row: int, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return positions (N, 3) and ``world_from_camera`` (N, 3, 3) at times (N,) about a row, in frames from it."""
        own, course = self.path.world_from_camera[row], self._course(row)
        way = SMOOTH if self.ways is None else int(self.ways[row])
        if way == EVEN:
            here, side = course(0.0), np.where(times[:, None] < 0.0, course(-1.0), course(1.0))
            at = here + np.abs(times[:, None]) * (side - here)
            return at[:, :3], own @ Rotation.from_rotvec(at[:, 3:] - here[3:]).as_matrix()
        at = course(times)
        turned = at[:, 3:] - course(0.0)[3:]
        if self.rates is not None:
            bend = self._bend(row, course) if way == SMOOTH else 0.0
            turned = turned + times[:, None] * self.rates[row]
            turned = turned + 0.5 * times[:, None] ** 2 * (bend - course.derivative(2)(0.0)[3:])
        return at[:, :3], own @ Rotation.from_rotvec(turned).as_matrix()

    def _course(self, row: int) -> BSpline:
        """Return position and rotation vector from the row's own pose, (6,), over frames from the row."""
        if row not in self.courses:
            self.courses[row] = self._made_course(row)
        return self.courses[row]

    def _made_course(self, row: int) -> BSpline:
        path, count = self.path, len(self.path.frames)
        first = int(np.clip(row - AROUND, 0, max(count - 2 * AROUND - 1, 0)))
        near = np.arange(first, min(first + 2 * AROUND + 1, count))
        turned = Rotation.from_matrix(path.world_from_camera[row].T @ path.world_from_camera[near]).as_rotvec()
        degree = min(DEGREE, (len(near) - 1) // 2 * 2 - 1)
        times = (path.frames[near] - path.frames[row]).astype(float)
        return make_interp_spline(times, np.hstack([path.positions[near], turned]), degree)

    def _bend(self, row: int, course: BSpline) -> np.ndarray:
        """Return the angular acceleration (3,) on a row from turns and rates of the frames beside it: the second
        derivative of the quintic that has both (Hermite interpolation).
        """
        assert self.rates is not None
        if row == 0 or row == len(self.rates) - 1:
            return course.derivative(2)(0.0)[3:]
        before, after = course(-1.0)[3:], course(1.0)[3:]
        rate = course.derivative()
        slower, faster = rate(-1.0)[3:] + self.rates[row - 1], rate(1.0)[3:] + self.rates[row + 1]
        return 2.0 * (before + after) - 0.5 * (faster - slower)

    def turn_rate(self, row: int) -> np.ndarray:
        """Return how fast the camera turns about its own axes on a row, radians a frame (3,)."""
        own = self._course(row).derivative()(0.0)[3:]
        return own if self.rates is None else own + self.rates[row]

    def turn_across(self, row: int) -> np.ndarray:
        """Return the turn (3,) from the frame before a row to the one after it, about the row's own axes, radians."""
        course = self._course(row)
        return (course(1.0) - course(-1.0))[3:]

    def extent(self, xyz: np.ndarray, row: int, shutter: float) -> tuple[float, float]:
        """Return the middle length of the streaks of points on a frame, and how far their means lie from mid-shutter,
        pixels.

        Parameters
        ----------
        xyz : (N, 3) points in the path's world, one at the least. row : of the path. shutter : open share of the frame.
        """
        way = self.streaks(xyz, row, shutter)
        length = np.linalg.norm(np.diff(way, axis=1), axis=2).sum(1)
        return float(np.nanmedian(length)), float(np.nanmedian(np.linalg.norm(way.mean(1), axis=1)))

    def streaks(self, xyz: np.ndarray, row: int, shutter: float) -> np.ndarray:
        """Return how points move over the picture while the shutter is open on a frame, pixels about where they are at
        mid-shutter, (N, INSTANTS, 2).

        Parameters
        ----------
        xyz : (N, 3) points in the path's world. row : of the path. shutter : open share of the frame interval, centred
            on the frame's own time.
        """
        positions, turns = self.poses(row, np.linspace(-0.5, 0.5, INSTANTS) * shutter)
        zoom = None if self.path.zoom is None else np.full(INSTANTS, self.path.zoom[row])
        opened = CameraPath(np.arange(INSTANTS), positions, turns, self.path.lens, zoom)
        points, rows = np.repeat(xyz, INSTANTS, 0), np.tile(np.arange(INSTANTS), len(xyz))
        px = opened.project(points, rows).reshape(len(xyz), INSTANTS, 2)
        return px - px[:, INSTANTS // 2, None]
