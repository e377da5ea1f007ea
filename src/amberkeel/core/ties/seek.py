"""A spot of one shot sought in a frame of another: along its epipolar line while nothing holds the shots together, near
where it must lie once they are aligned, or about a place that a person points at.

Both frames' features are matched (Lowe 2004) and held to one epipolar geometry of undistorted coordinates (Hartley and
Zisserman 2004, chapter 11): its line for the spot is drawn in the other picture, bent as the lens bends it. The matches
about the spot say how its patch is turned and scaled there; it is drawn so, compared along the line, and measured.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import FollowError, TieError
from amberkeel.core.follow.patch import AFFINE, Patch
from amberkeel.core.ties.pictures import (
    EPIPOLAR_PX,
    HALF_PX,
    LEAST_MATCHES,
    described,
    matched_both_ways,
    patch_as_seen,
)

BAND_PX, REACH_PX = 6.0, 16.0
"""How far from its line a spot is sought, and from a place that is pointed at, pixels."""

ABOUT = 8
"""Matches about a spot that say how its patch is turned and scaled."""

LEAST_LIKENESS, AS_GOOD_AS = 0.8, 0.97
"""Correlation from which a patch is found, and share of the best one from which another place looks as good."""

FAR_COST, FAR_PX = 0.1, 120.0
"""What a place loses of its correlation that lies this far from where the matches about the spot put it: things repeat
along a line.
"""

SHOWN_HALF = 24
"""Half a side of the patches that are shown, pixels of the picture that the spot is known in."""

LINE_POINTS = 60


@dataclass(frozen=True)
class View:
    """A frame of a solved shot: its picture (H, W) uint8, the camera's path, and the frame's row of it."""

    gray: np.ndarray
    path: CameraPath
    row: int


@dataclass(frozen=True)
class Sought:
    """Where a spot was sought in another picture.

    Attributes
    ----------
    line : (K, 2) pixels along the epipolar line, empty where a place was given. xy : (2,) where it was found, None
        where it was not. score : correlation there, of what was found best at least. warp : (3, 3) here_from_there of
        the patch, pixels about its middle. rivals : places that look as good.
    """

    line: np.ndarray
    xy: np.ndarray | None
    score: float
    warp: np.ndarray
    rivals: int = 0


def seek(own: View, fixed: View, xy: np.ndarray, near: np.ndarray | None = None) -> Sought:
    """Seek a spot of the fixed frame in the own one.

    Parameters
    ----------
    own : where it is sought. fixed : where it is known. xy : (2,) pixels of it there. near : (2,) pixels of the own
        frame about which it is sought, `REACH_PX` around; None for the epipolar line.

    Raises
    ------
    TieError : the frames show nothing in common, or the spot lies at the picture's edge.
    """
    here, there = _matches(own, fixed)
    if near is None:
        line = _line(own, fixed, here, there, xy)
        allowed = _along(own.gray.shape, line, BAND_PX)
    else:
        line = np.zeros((0, 2))
        allowed = _about(own.gray.shape, near, REACH_PX)
    local = _local(here, there, xy)
    try:
        patch = Patch(fixed.gray.astype(np.float32), float(xy[0]), float(xy[1]), (HALF_PX, HALF_PX), AFFINE)
    except FollowError as error:
        raise TieError("That spot is too close to the picture's edge.", "Pick one further inside.") from error
    begun, rivals = _best(patch, own.gray.astype(np.float32), local, allowed, near)
    fit = patch.fit(own.gray.astype(np.float32), begun)
    x, y = np.clip(np.round(fit.position() - 0.5).astype(int), 0, np.array(own.gray.shape[::-1]) - 1)
    good = fit.ok and fit.score >= LEAST_LIKENESS and bool(allowed[y, x])
    return Sought(line, fit.position() if good else None, float(fit.score), fit.warp if good else begun, rivals)


def shown(own: np.ndarray, fixed: np.ndarray, xy: np.ndarray, warp: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the patch where a spot is known and the same where it was found, turned and scaled alike; both
    (2 SHOWN_HALF + 1, the same, channels).

    Parameters
    ----------
    own, fixed : pictures (H, W, C). xy : (2,) of the spot in the fixed one. warp : (3, 3) here_from_there.
    """
    v, u = np.mgrid[-SHOWN_HALF : SHOWN_HALF + 1, -SHOWN_HALF : SHOWN_HALF + 1].astype(float)
    flat = warp @ np.stack([u.ravel(), v.ravel(), np.ones(u.size)])
    there = np.stack([u + xy[0], v + xy[1]])
    here = (flat[:2] / flat[2]).reshape(2, *u.shape)
    return _drawn(fixed, there), _drawn(own, here)


def _drawn(picture: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Return a picture at pixels (2, h, w)."""
    x, y = (at - 0.5).astype(np.float32)
    return cv2.remap(picture, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT)


def _matches(own: View, fixed: View) -> tuple[np.ndarray, np.ndarray]:
    """Return features (M, 2) of both frames that match, on the own and on the fixed picture, pixels."""
    a, b = described(own.gray), described(fixed.gray)
    pairs = matched_both_ways(a[1], b[1])
    if len(pairs) < LEAST_MATCHES:
        raise TieError(
            "These two frames show too little in common.", "Go to a frame of each on which the same part is seen."
        )
    return a[0][pairs[:, 0]], b[0][pairs[:, 1]]


def _line(own: View, fixed: View, here: np.ndarray, there: np.ndarray, xy: np.ndarray) -> np.ndarray:
    """Return the epipolar line (K, 2) of a spot in the own picture, pixels; keeps no match that contradicts it.

    Parameters
    ----------
    own, fixed : frames. here, there : (M, 2) matches. xy : (2,) the spot, in the fixed one.
    """
    lens, other = own.path.lens_at(own.row), fixed.path.lens_at(fixed.row)
    f, g = lens.focal_px[0], other.focal_px[0]
    a, b = f * own.path.normalise(here, own.row), g * fixed.path.normalise(there, fixed.row)
    matrix, inside = cv2.findFundamentalMat(
        b.astype(np.float32), a.astype(np.float32), cv2.USAC_MAGSAC, EPIPOLAR_PX, 0.999, 4000
    )
    if matrix is None or inside is None or inside.sum() < LEAST_MATCHES:
        raise TieError("These two frames agree on no epipolar geometry.", "Go to other frames, or make three ties.")
    spot = g * fixed.path.normalise(xy[None], fixed.row)[0]
    p, q, r = matrix[:3] @ [*spot, 1.0]
    length = np.hypot(p, q)
    foot, way = -r * np.array([p, q]) / length**2, np.array([-q, p]) / length
    corner = f * own.path.normalise(np.array([[0.0, 0.0], [lens.width, lens.height]]), own.row)
    reach = float(np.linalg.norm(corner[1] - corner[0]))
    ideal = foot + np.linspace(-reach, reach, 4 * LINE_POINTS)[:, None] * way
    with np.errstate(all="ignore"):
        px = lens.project(np.column_stack([ideal / f, np.ones(len(ideal))]))
    on = lens.holds(px)
    if on.sum() < 2:
        raise TieError("The spot's line misses this frame.", "It is not seen here: go to another frame.")
    return px[on]


def _along(shape: tuple[int, ...], line: np.ndarray, far: float) -> np.ndarray:
    """Return which pixels (H, W) of a picture lie within some pixels of a line (K, 2)."""
    canvas = np.zeros(shape[:2], np.uint8)
    cv2.polylines(canvas, [np.round(line - 0.5).astype(np.int32)], False, 1, int(2 * far + 1))
    return canvas > 0


def _about(shape: tuple[int, ...], near: np.ndarray, far: float) -> np.ndarray:
    canvas = np.zeros(shape[:2], np.uint8)
    cv2.circle(canvas, (int(near[0]), int(near[1])), int(far), 1, -1)
    return canvas > 0


def _local(here: np.ndarray, there: np.ndarray, xy: np.ndarray) -> np.ndarray:
    """Return the warp (3, 3) of a patch about a spot to the own picture, by the matches about it."""
    nearest = np.argsort(np.linalg.norm(there - xy, axis=1))[:ABOUT]
    a, b = there[nearest] - xy, here[nearest]
    found, _ = cv2.estimateAffinePartial2D(a, b, method=cv2.RANSAC, ransacReprojThreshold=6.0)
    out = np.eye(3)
    if found is None or not 0.1 < abs(np.linalg.det(found[:, :2])) < 10.0:
        out[:2, 2] = np.median(b - a, axis=0)
    else:
        out[:2] = found
    return out


def _best(
    patch: Patch, picture: np.ndarray, local: np.ndarray, allowed: np.ndarray, near: np.ndarray | None
) -> tuple[np.ndarray, int]:
    """Return the warp (3, 3) of a patch where it matches best among the allowed pixels, and how many other places
    match as well; places near where its surroundings lie, or near what is pointed at, come first.
    """
    drawn, half = patch_as_seen(patch, local[:2, :2])
    rows, columns = np.nonzero(allowed)
    top, left = max(rows.min() - half, 0), max(columns.min() - half, 0)
    area = picture[top : rows.max() + half + 1, left : columns.max() + half + 1]
    if min(area.shape) <= 2 * half:
        raise TieError("That spot is too close to the picture's edge.", "Pick one further inside.")
    found = cv2.matchTemplate(area, drawn, cv2.TM_CCOEFF_NORMED)
    score = np.full(picture.shape, -1.0, np.float32)
    score[top + half : top + half + found.shape[0], left + half : left + half + found.shape[1]] = found
    score[~allowed] = -1.0
    y, x = np.nonzero((score >= cv2.dilate(score, np.ones((9, 9), np.uint8))) & allowed)
    expected = local[:2, 2] if near is None else near
    away = np.hypot(x + 0.5 - expected[0], y + 0.5 - expected[1])
    best = np.argmax(score[y, x] - FAR_COST * np.minimum(away / FAR_PX, 1.0))
    warp = local.copy()
    warp[:2, 2] = np.array([x[best], y[best]]) + 0.5
    return warp, int((score[y, x] >= AS_GOOD_AS * score[y[best], x[best]]).sum()) - 1
