"""A box set onto the picture by dragging its corners: its edges are axis lines, and corners not dragged yet follow the
others.

Corner k lies at its X side by bit 0, its Y side by bit 1 and its Z side by bit 2 of k. For a known rotation and lens
the box's position and sides are linear in its corners' rays (as in Hartley and Zisserman 2004, 12.2, solved again by
depth); where lines do not tell those yet, rotation and focal length are found about the last ones by variable
projection.
"""

from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from amberkeel.core.errors import LensError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens.drawn import AXES
from amberkeel.core.lens.model import Lens

EDGES = tuple((k, k | 1 << a, AXES[a]) for a in range(3) for k in range(8) if not k & 1 << a)
"""Its twelve edges: two corners, and the axis along which they lie."""

SIDES = np.array([[(k >> a) & 1 for a in range(3)] for k in range(8)], float)

LOOSE = 0.02
"""Weight of a corner not dragged yet beside one that is: it stays where nothing else is known."""

TURN_HOLD, FOCAL_HOLD = 0.05, 0.04
"""How softly rotation (radians) and log focal length are held about their start while lines do not tell them."""

SHARED = float(np.sqrt(1.5))
"""By how much a box's points count as noisier: each corner serves on three lines, but is only two measurements."""

ASIDE = 0.05
"""How far beside the picture a corner may go before it is fetched back, as a share of the picture's size."""

LEAST_PX = 12.0
"""Smallest drag that makes a box, pixels."""

START_TURN, START_TILT = np.radians(30.0), np.radians(12.0)
"""Where lines tell no rotation: how far a new box is turned, and how far the camera looks down."""


@dataclass(frozen=True)
class BoxPose:
    """A lens and ``world_from_camera`` (3, 3) through which a box is seen."""

    lens: Lens
    rotation: np.ndarray


def guessed_pose(width: int, height: int, pixel_aspect: float = 1.0) -> BoxPose:
    """Return a pose for a box where nothing is known yet.

    Parameters
    ----------
    width, height : of the picture, pixels. pixel_aspect : width of a pixel over its height.
    """
    turn = rotation_exp(np.array([0.0, START_TURN, 0.0]))
    tilt = rotation_exp(np.array([-START_TILT, 0.0, 0.0]))
    level = np.diag([1.0, -1.0, -1.0])  # the camera's axes in a world with Y up and Z to the viewer
    return BoxPose(Lens.centred(width, height, 1.2 * width, pixel_aspect=pixel_aspect), turn @ level @ tilt)


def new_box(pose: BoxPose, start: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Return the corners (8, 2), pixels, of a box whose front face spans two pixels (2,), as deep as it is wide.

    Raises LensError when the two do not span a face.

    Parameters
    ----------
    pose : lens and turn of the box. start, end : (2,) pixels of a lower and the opposite upper corner.
    """
    if np.abs(np.subtract(end, start)).min() < LEAST_PX:
        raise LensError(
            "That drag spans no face of a box.", "Drag from a corner on the floor to the opposite corner on top."
        )
    u, v = (np.append(pose.lens.normalise(np.asarray(p, float)), 1.0) for p in (start, end))
    right, up, back = pose.rotation  # the world's axes in the camera
    # start + a right + b up lies on the ray of end: a right + b up - depth v = -u.
    a, b, _ = np.linalg.solve(np.stack([right, up, -v], 1), -u)
    camera = u + SIDES @ np.stack([a * right, b * up, -abs(a) * back])
    return _seen(pose.lens, camera)


def settle_box(corners: np.ndarray, dragged: np.ndarray, pose: BoxPose, known: bool) -> tuple[np.ndarray, BoxPose]:
    """Return where all corners lie (8, 2), pixels, when those `dragged` (8,) bool stay, and the pose that explains
    them.

    Parameters
    ----------
    corners : (8, 2) pixels as they are. pose : as lines give it where `known`, else where the search starts.
    """
    corners, dragged = np.asarray(corners, float), np.asarray(dragged, bool)
    if not known and dragged.sum() >= 3:
        pose = _turned(corners, dragged, pose)
    camera = _position(pose, corners, np.where(dragged, 1.0, LOOSE))
    seen = _seen(pose.lens, camera)
    size = np.array([pose.lens.width, pose.lens.height])
    if dragged.any() and not ((seen > -ASIDE * size) & (seen < (1.0 + ASIDE) * size)).all():
        seen = _seen(pose.lens, _in_reach(pose, camera, dragged))
    fine = np.isfinite(seen).all(1) & ~dragged
    return np.where(fine[:, None], seen, corners), pose


def _position(pose: BoxPose, corners: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """Return the corners (8, 3) in the camera of the box nearest to corners (8, 2) with weights (8,); its far end at
    about 1.
    """
    u = pose.lens.normalise(corners)
    # Unknown: the first corner (3,) and the three sides; each corner gives x - u z = 0 and y - v z = 0.
    position = np.concatenate([np.tile(np.eye(3), (8, 1, 1)), SIDES[:, None, :] * pose.rotation.T[None]], 2)
    depth = np.ones(8)
    for _ in range(4):
        rows = (position[:, :2] - u[:, :, None] * position[:, 2:3]) * (weight / depth)[:, None, None]
        *_, solution = np.linalg.svd(rows.reshape(16, 6))
        camera = position @ solution[-1]
        camera = camera * np.sign(np.median(camera[:, 2]))
        scale = np.abs(camera[:, 2]).mean()
        camera, depth = camera / scale, np.maximum(np.abs(camera[:, 2]) / scale, 0.05)
    return camera


def _in_reach(pose: BoxPose, camera: np.ndarray, dragged: np.ndarray) -> np.ndarray:
    """Return the box's corners (8, 3) with sides that no dragged corners tell made as long as the others."""
    sides = np.array([(camera[1 << a] - camera[0]) @ pose.rotation[a] for a in range(3)])
    spanned = np.array([len(set(SIDES[dragged, a])) == 2 for a in range(3)])
    usual = np.abs(sides[spanned]).mean() if spanned.any() else np.abs(sides).min()
    new = np.where(spanned, sides, usual * np.array([1.0, 1.0, -1.0]))
    first = int(np.nonzero(dragged)[0][0])
    return camera[first] + (SIDES - SIDES[first]) * new @ pose.rotation


def _turned(corners: np.ndarray, dragged: np.ndarray, pose: BoxPose) -> BoxPose:
    """Return the pose whose box comes nearest to the dragged corners, near the one given."""
    weight = np.where(dragged, 1.0, LOOSE)

    def moved(step: np.ndarray) -> BoxPose:
        lens = pose.lens.with_focal(pose.lens.focal_px[0] * float(np.exp(np.clip(step[3], -1.5, 1.5))))
        return BoxPose(lens, pose.rotation @ rotation_exp(np.ascontiguousarray(step[:3])))

    def residuals(step: np.ndarray) -> np.ndarray:
        there = moved(step)
        off = (_seen(there.lens, _position(there, corners, weight)) - corners) * weight[:, None]
        held = np.array([*step[:3] / TURN_HOLD, step[3] / FOCAL_HOLD])
        return np.concatenate([np.nan_to_num(off, nan=1e3, posinf=1e3, neginf=-1e3).ravel().clip(-1e3, 1e3), held])

    return moved(least_squares(residuals, np.zeros(4), max_nfev=8).x)


def _seen(lens: Lens, camera: np.ndarray) -> np.ndarray:
    """Return where positions (N, 3) in the camera are seen, pixels; NaN behind it."""
    ahead = camera[:, 2] > 1e-3
    px = lens.project(np.where(ahead[:, None], camera, [0.0, 0.0, 1.0]))
    return np.where(ahead[:, None], px, np.nan)


def box_lines(box: str, frame: int, corners: np.ndarray, dragged: np.ndarray) -> dict[str, dict]:
    """Return a box's twelve edges as drawn lines by name; an edge counts once both of its corners were dragged.

    Parameters
    ----------
    box : its name. frame : number. corners : (8, 2) pixels. dragged : (8,) bool, corners that a hand put.
    """
    out, counts = {}, dict.fromkeys(AXES, 0)
    for a, b, axis in EDGES:
        counts[axis] += 1
        ends = {
            "points": [np.round(corners[k], 3).tolist() for k in (a, b)],
            "ends": [a, b],
            "set": [bool(dragged[k]) for k in (a, b)],
        }
        out[f"{box} {axis.upper()}{counts[axis]}"] = {"frame": frame, "axis": axis, "box": box, **ends}
    return out


def boxes_of(lines: dict[str, dict], frame: int) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    """Return the boxes among a frame's drawn lines, by name: corners (8, 2) pixels, which were dragged (8,) bool."""
    out: dict[str, tuple[np.ndarray, np.ndarray]] = {}
    for line in lines.values():
        if not line.get("box") or int(line.get("frame", 0)) != frame:
            continue
        corners, dragged = out.setdefault(line["box"], (np.full((8, 2), np.nan), np.zeros(8, bool)))
        for k, point, fixed in zip(line["ends"], line["points"], line["set"]):
            corners[k], dragged[k] = point, fixed
    return {name: both for name, both in out.items() if np.isfinite(both[0]).all()}
