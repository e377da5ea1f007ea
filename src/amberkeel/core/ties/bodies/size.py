"""How large a body is: told by a length on it, by contact with the ground, by a stretch on which it stands still, by a
point of the set that it touches; or guessed, and said to be.

With the camera known, one number floats: the world's units a unit of the body's own solve. It multiplies the body's
distance from the camera, so a wrong one lends the body the camera's own motion (Ozden et al. 2004).
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import ACTIVE, CHECK

SURE = 0.1
"""Relative sigma up to which the camera's own motion is believed to tell a body's size."""

STILL_TURN = np.radians(3.0)
"""Turn over a stretch above which a body does not stand still there."""

MOST_ALONG = 0.5
"""Relative sigma from which a stretch on which the body stands still tells nothing of its size."""

LOW_SHARE = 0.02
"""Share of a body's points below its lowest one that counts: the lowest may be a wrong one."""


@dataclass(frozen=True)
class Relative:
    """A body's solve beside the camera's.

    Attributes
    ----------
    frames : (F,) numbers. cameras : (F, 3) of the camera in the world. turns : (F, 3, 3) world_from_solve, the body's
        solve being fixed to the body. inside : (F, 3) of the camera in the body's solve. ids : (P,) tracks with points.
    xyz : (P, 3) of them in the body's solve. covariance : (P, 3, 3) of those.
    """

    frames: np.ndarray
    cameras: np.ndarray
    turns: np.ndarray
    inside: np.ndarray
    ids: np.ndarray
    xyz: np.ndarray
    covariance: np.ndarray

    def away(self, xyz: np.ndarray) -> np.ndarray:
        """Return how far a point (3,) of the body's solve lies from the camera on each frame, along the world's axes
        (F, 3), units of the body's solve.
        """
        return np.einsum("fij,fj->fi", self.turns, xyz - self.inside)

    def places(self, xyz: np.ndarray, scale: float) -> np.ndarray:
        """Return where a point (3,) of the body's solve lies in the world on each frame (F, 3).

        Parameters
        ----------
        xyz : the point. scale : units of the world a unit of the body's solve.
        """
        return self.cameras + scale * self.away(xyz)

    def row(self, frame: int) -> int:
        """Return the row of a frame number; raises TieError where the body is not solved on it."""
        at = np.nonzero(self.frames == frame)[0]
        if not len(at):
            raise TieError(
                f"The body is not solved on frame {frame}.", f"Choose one of {self.frames[0]}-{self.frames[-1]}."
            )
        return int(at[0])

    def point(self, track: int) -> int:
        """Return the row of a track's point; raises TieError where the track has none."""
        at = np.nonzero(self.ids == track)[0]
        if not len(at):
            raise TieError("That track has no point on the body.", "Choose one that served in its solve.")
        return int(at[0])


@dataclass(frozen=True)
class Size:
    """A body's size: units of the world a unit of its own solve, one sigma of that over itself (None where it was
    guessed), and how it was told, in words.
    """

    scale: float
    sigma: float | None
    told: str


def relative_to(camera: CameraPath, solution: Solution) -> Relative:
    """Return a body's solve beside the camera's.

    Parameters
    ----------
    camera : in the world. solution : of the body's tracks alone: the camera relative to the body.

    Raises
    ------
    TieError : no frame in common, or no point.
    """
    own = solution.path
    rows = camera.rows_of(own.frames)
    on = rows >= 0
    if not on.any():
        raise TieError("The camera has none of the body's frames.", "Give the solve of the same plate.")
    states = np.array(solution.tracks.states)
    good = solution.points.known & ((states == ACTIVE) | (states == CHECK))
    if not good.any():
        raise TieError("The body has no points.", "Follow more features on it.")
    turns = camera.world_from_camera[rows[on]] @ np.swapaxes(own.world_from_camera[on], 1, 2)
    covariance = solution.point_covariance
    spread = np.full((len(good), 3, 3), np.nan) if covariance is None else covariance
    return Relative(
        own.frames[on], camera.positions[rows[on]], turns, own.positions[on], solution.tracks.ids[good],
        solution.points.positions(own.positions[0])[good], spread[good],
    )  # fmt: skip


def by_length(relative: Relative, ends: tuple[int, int], length: float, sigma: float = 0.0) -> Size:
    """Return a body's size by a known length between two of its points.

    Parameters
    ----------
    relative : the body. ends : ids of two tracks. length, sigma : units of the world.
    """
    if not length > 0.0:
        raise TieError(f"A length of {length:g} is impossible.", "Give one above 0.")
    a, b = (relative.point(track) for track in ends)
    between = relative.xyz[a] - relative.xyz[b]
    own = float(np.linalg.norm(between))
    if own == 0.0:
        raise TieError("Both ends are one point.", "Choose two tracks.")
    way = between / own
    spread = way @ (np.nan_to_num(relative.covariance[a]) + np.nan_to_num(relative.covariance[b])) @ way
    return Size(length / own, float(np.hypot(np.sqrt(max(spread, 0.0)) / own, sigma / length)), "a length on it")


def by_ground(relative: Relative, frame: int, height: float = 0.0) -> Size:
    """Return a body's size by its contact with the ground, a level plane, on a frame: its lowest point lies on it.

    Parameters
    ----------
    relative : the body. frame : number. height : of the ground, units of the world.
    """
    row = relative.row(frame)
    above = relative.cameras[row, 1] - height
    down = -(relative.turns[row] @ (relative.xyz - relative.inside[row]).T)[1]
    if above <= 0.0 or not (down > 0.0).any():
        raise TieError(
            f"On frame {frame} the camera is not above the ground, or the body not below the camera.",
            "Set the ground in the camera's World stage first, or tell the size by a length.",
        )
    lowest = float(np.quantile(down, 1.0 - LOW_SHARE))
    spread = np.sqrt(max(float(np.nanmedian(relative.covariance[:, 1, 1])), 0.0))
    return Size(above / lowest, float(spread / lowest), f"contact with the ground on frame {frame}")


def by_still(relative: Relative, first: int, last: int) -> Size:
    """Return a body's size by a stretch on which it stands still: there it must not move with the camera.

    Parameters
    ----------
    relative : the body. first, last : frame numbers.
    """
    on = slice(relative.row(first), relative.row(last) + 1)
    if on.stop - on.start < 2:
        raise TieError("Standing still takes two frames or more.", "Choose a stretch.")
    turned = relative.turns[on] @ relative.turns[on.start].T
    if np.arccos(np.clip((np.trace(turned, axis1=1, axis2=2) - 1.0) / 2.0, -1.0, 1.0)).max() > STILL_TURN:
        raise TieError(f"The body turns on frames {first}-{last}.", "Choose a stretch on which it stands still.")
    away = relative.away(np.median(relative.xyz, axis=0))[on]
    scale, sigma = _fitted(away - away.mean(0), relative.cameras[on] - relative.cameras[on].mean(0))
    if not scale > 0.0 or sigma > MOST_ALONG * scale:
        raise TieError(
            f"The camera moves too little on frames {first}-{last} to tell how far away the body is.",
            "Choose a stretch on which it walks, or tell the size by a length.",
        )
    return Size(scale, sigma / scale, f"standing still on frames {first}-{last}")


def by_tie(relative: Relative, track: int, frame: int, xyz: np.ndarray) -> Size:
    """Return a body's size by a known place that one of its points touches on a frame.

    Parameters
    ----------
    relative : the body. track : id. frame : number. xyz : (3,) of the place, in the world.
    """
    row, point = relative.row(frame), relative.point(track)
    ray = relative.turns[row] @ (relative.xyz[point] - relative.inside[row])
    way = np.asarray(xyz, float) - relative.cameras[row]
    scale = float(way @ ray / (ray @ ray))
    if not scale > 0.0:
        raise TieError("That place lies behind the camera.", "Look at its coordinates, and at the frame.")
    off = float(np.linalg.norm(way - scale * ray) / np.linalg.norm(way))
    return Size(scale, off, f"a place that it touches on frame {frame}")


def guessed(relative: Relative, usual: float) -> Size:
    """Return a body's size where nothing tells it: that by which it is shaken least by the camera's own motion, if the
    camera is shaken enough; else that by which it is as far away as things usually are.

    Parameters
    ----------
    relative : the body. usual : distance of the scene's points from the camera, units of the world.
    """
    away = relative.away(np.median(relative.xyz, axis=0))
    if len(away) >= 5:
        scale, sigma = _fitted(np.diff(away, n=2, axis=0), np.diff(relative.cameras, n=2, axis=0))
        if scale > 0.0 and sigma < SURE * scale:
            return Size(scale, sigma / scale, "the camera's shake, which it does not share")
    return Size(usual / float(np.median(np.linalg.norm(away, axis=1))), None, "")


def _fitted(own: np.ndarray, camera: np.ndarray) -> tuple[float, float]:
    """Return the scale by which ``camera + scale * own`` (N, 3) is least, and its sigma."""
    power = float((own * own).sum())
    if power == 0.0:
        return 0.0, np.inf
    scale = -float((own * camera).sum()) / power
    rest = camera + scale * own
    free = max(rest.size - 4, 1)
    return scale, float(np.sqrt((rest * rest).sum() / free / power))
