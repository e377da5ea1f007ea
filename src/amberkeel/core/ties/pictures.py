"""Ties proposed from the pictures of two shots.

First both are brought together roughly: features of chosen frames are described (Lowe 2004, OpenCV), matched both
ways, held to one epipolar geometry for each pair of frames (OpenCV's robust estimator, Barath et al. 2020), lifted to
space by the tracks about them, and one similarity is drawn from triples (Fischler and Bolles 1981). Then spots of one
shot that are followed and solved are sought in the other where they must lie, their patch turned, scaled and sheared as
the geometry has it, and measured there on several frames: that is what ties.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.errors import FollowError, TieError
from amberkeel.core.follow.patch import AFFINE, Fit, Patch
from amberkeel.core.geometry.pixels import from_opencv
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.ties.located import Located, located
from amberkeel.core.ties.side import Side
from amberkeel.core.world.align import similarity
from amberkeel.core.world.datum import Datum

LOOKED_AT = 5
"""Frames of each shot whose features are described."""

DESCRIBED = 1500
"""Features of a frame."""

DISTINCT = 0.8
"""Distance of the nearest descriptor over that of the next one up to which a match counts (Lowe 2004)."""

EPIPOLAR_PX, LEAST_MATCHES = 2.0, 16
"""How far a match may lie from its epipolar line, and matches of a pair of frames below which it shows nothing in
common.
"""

ABOUT, NEAR_SHARE = 4, 0.06
"""Tracks about a feature that say how far away it is, and how near they must lie, as a share of the picture's width."""

TRIPLES = 2000
AGREES_PX = 8.0
"""Distance, on the other's picture, up to which a lifted match agrees with a similarity."""

LEAST_AGREE = 12
"""Matches that must agree for shots to be brought together."""

MOST_SPOTS, MEASURED = 80, 6
"""Spots that are sought, and frames on which each is."""

HALF_PX = 9
"""Half a patch's side, pixels of the picture that it is cut from."""

LEAST_SCORE = 0.9
"""Correlation from which a patch is found."""

SEARCH_PX = (14.0, 5.0)
"""How far a spot may lie from where it must, first and once ties hold the shots together."""

TURNED = 0.6
"""Cosine of the angle between both views of a spot below which its patch looks different."""

LEAST_SEEN = 3
FAR_PX = 1.5
"""Frames on which a spot must be found, and residual of its rays above which they show different things, pixels RMS."""

UNSURE = 0.01
"""Sigma of a spot found, over its distance, above which its rays are too alike to place it."""


@dataclass(frozen=True)
class Found:
    """A spot of the fixed shot found in the other.

    Attributes
    ----------
    track : row of its track in the fixed shot. frames, xy, sigma, score : (n,), (n, 2), (n,), (n,) measured in the
        other. located : where it lies in the other's world. fixed_frame, fixed_xy : the patch that matched best there.
    """

    track: int
    frames: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    score: np.ndarray
    located: Located
    fixed_frame: int
    fixed_xy: np.ndarray


def found_in(own: Side, fixed: Side, change: Datum | None = None, progress: Progress = silent) -> list[Found]:
    """Return spots of a fixed shot that are found in another one's pictures.

    Parameters
    ----------
    own : the shot that is brought. fixed : the one that stays. change : from the first one's world to the second's,
        where that is known roughly; None to find it from the pictures. progress : called with the share done.

    Raises
    ------
    TieError : the pictures show nothing in common.
    """
    change = change or brought_roughly(own, fixed, span(progress, 0.0, 0.5))
    chosen = _spread(fixed)
    found: list[Found] = []
    for n, reach in enumerate(SEARCH_PX):
        found = _sought(own, fixed, change, chosen, reach, span(progress, 0.5 + 0.25 * n, 0.75 + 0.25 * n))
        if len(found) < 3:
            raise TieError(
                "The shots show too little in common to tie them by pictures.",
                "Tie them by hand, or choose a part of the shot that shows the same.",
            )
        change = _robust(np.array([f.located.xyz for f in found]), fixed.xyz[[f.track for f in found]])
    return found


def _robust(own: np.ndarray, fixed: np.ndarray) -> Datum:
    """Return the similarity that most points agree with, three spreads around their median being let go twice."""
    keep = np.ones(len(own), bool)
    change = similarity(own, fixed)
    for _ in range(4):
        off = np.linalg.norm(change.apply(own) - fixed, axis=1)
        keep = off <= max(3.0 * float(np.median(off)), 1e-9)
        change = similarity(own[keep], fixed[keep])
    return change


def brought_roughly(own: Side, fixed: Side, progress: Progress = silent) -> Datum:
    """Return the similarity from one shot's world to another's that their pictures show, to some pixels.

    Parameters
    ----------
    own : the shot that is brought. fixed : the one that stays. progress : called with the share done.

    Raises
    ------
    TieError : the pictures show nothing in common.
    """
    described = [_described(side) for side in (own, fixed)]
    progress(0.3, "Describing features")
    pairs = [(a, b) for a in described[0] for b in described[1]]
    rows: list[_Lifted] = []
    for n, (a, b) in enumerate(pairs):
        matched = _matched(a, b)
        if matched is not None:
            rows.append(_lifted(own, fixed, a, b, matched))
        progress(0.3 + 0.6 * (n + 1) / len(pairs), "Matching features")
    lifted = _joined(rows)
    if lifted is None or len(lifted.own) < LEAST_AGREE:
        raise TieError(
            "The pictures of these shots show nothing in common.",
            "Tie them by tags or by hand, or choose frames that show the same part of the set.",
        )
    return _drawn(fixed, lifted)


@dataclass(frozen=True)
class _Described:
    row: int
    xy: np.ndarray
    descriptors: np.ndarray


@dataclass(frozen=True)
class _Lifted:
    """Matches in space: both ends (M, 3), the fixed one's row (M,) and pixels (M, 2)."""

    own: np.ndarray
    fixed: np.ndarray
    row: np.ndarray
    px: np.ndarray


def _rows(side: Side) -> np.ndarray:
    return np.unique(np.linspace(0, len(side.path.frames) - 1, LOOKED_AT).astype(int))


def _described(side: Side) -> list[_Described]:
    out = []
    for row in _rows(side).tolist():
        xy, descriptors = described(side.plate.gray(int(side.path.frames[row])))
        if len(xy):
            out.append(_Described(row, xy, descriptors))
    return out


def described(gray: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the features of a picture (H, W) uint8: pixels (K, 2), and what they look like (K, 128)."""
    keys, descriptors = cv2.SIFT.create(DESCRIBED).detectAndCompute(gray, None)
    if not keys or descriptors is None:
        return np.zeros((0, 2)), np.zeros((0, 128), np.float32)
    return from_opencv(np.array([k.pt for k in keys])), np.sqrt(_shares(descriptors))


def _shares(descriptors: np.ndarray) -> np.ndarray:
    """Return descriptors as shares of their sum: their roots are compared (Arandjelovic and Zisserman 2012)."""
    return descriptors / np.maximum(descriptors.sum(1, keepdims=True), 1e-9)


def _matched(a: _Described, b: _Described) -> np.ndarray | None:
    """Return the features (M, 2) of two frames that match both ways and along one epipolar geometry, or None."""
    pairs = matched_both_ways(a.descriptors, b.descriptors)
    if len(pairs) < LEAST_MATCHES:
        return None
    x, y = a.xy[pairs[:, 0]].astype(np.float32), b.xy[pairs[:, 1]].astype(np.float32)
    _, inside = cv2.findFundamentalMat(x, y, cv2.USAC_MAGSAC, EPIPOLAR_PX, 0.999, 4000)
    if inside is None or inside.sum() < LEAST_MATCHES:
        return None
    return pairs[inside.ravel() > 0]


def matched_both_ways(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Return the rows (M, 2) of descriptors (K, 128) and (L, 128) that are each other's nearest and distinctly so."""
    if len(one) < 2 or len(other) < 2:
        return np.zeros((0, 2), int)
    matcher = cv2.BFMatcher(cv2.NORM_L2)
    there, back = _nearest(matcher, one, other), _nearest(matcher, other, one)
    return np.array([(i, j) for i, j in there.items() if back.get(j) == i], int).reshape(-1, 2)


def _nearest(matcher, one: np.ndarray, other: np.ndarray) -> dict[int, int]:
    out = {}
    for two in matcher.knnMatch(one, other, k=2):
        if len(two) == 2 and two[0].distance < DISTINCT * two[1].distance:
            out[two[0].queryIdx] = two[0].trainIdx
    return out


def _lifted(own: Side, fixed: Side, a: _Described, b: _Described, pairs: np.ndarray) -> _Lifted:
    first, second = _in_space(own, a.row, a.xy[pairs[:, 0]]), _in_space(fixed, b.row, b.xy[pairs[:, 1]])
    known = np.isfinite(first).all(1) & np.isfinite(second).all(1)
    return _Lifted(first[known], second[known], np.full(int(known.sum()), b.row), b.xy[pairs[:, 1]][known])


def _joined(rows: Sequence[_Lifted]) -> _Lifted | None:
    if not rows:
        return None
    return _Lifted(*(np.concatenate([getattr(one, name) for one in rows]) for name in ("own", "fixed", "row", "px")))


def _in_space(side: Side, row: int, px: np.ndarray) -> np.ndarray:
    """Return where pixels (N, 2) of a row lie (N, 3) by the inverse depths of the tracks about them; NaN where too few
    are near.
    """
    frame, path = int(side.path.frames[row]), side.path
    on = np.nonzero(side.tracks.frames == frame)[0]
    track = side.tracks.track_of_sample[on]
    known = np.isfinite(side.xyz[track]).all(1)
    at, xyz = side.tracks.xy[on][known], side.xyz[track][known]
    out = np.full((len(px), 3), np.nan)
    if len(at) < ABOUT:
        return out
    depth = path.to_camera(xyz, row)[:, 2]
    away = np.linalg.norm(px[:, None] - at[None], axis=2)
    nearest = np.argsort(away, axis=1)[:, :ABOUT]
    reach = np.take_along_axis(away, nearest, 1)
    rho = np.median(1.0 / depth[nearest], axis=1)
    good = (reach[:, -1] < NEAR_SHARE * path.lens.width) & (rho > 0.0)
    rays = np.concatenate([path.normalise(px, row), np.ones((len(px), 1))], 1)
    out[good] = path.positions[row] + (rays[good] / rho[good, None]) @ path.world_from_camera[row].T
    return out


def _drawn(fixed: Side, lifted: _Lifted) -> Datum:
    """Return the similarity of the triple of matches with which most agree on the fixed shot's pictures."""
    rng = np.random.default_rng(0)
    best, most, inside = None, 0, np.zeros(0, bool)
    for _ in range(TRIPLES):
        three = rng.choice(len(lifted.own), 3, replace=False)
        change = similarity(lifted.own[three], lifted.fixed[three])
        agree = _agreeing(fixed, lifted, change)
        if agree.sum() > most:
            best, most, inside = change, int(agree.sum()), agree
    if best is None or most < LEAST_AGREE:
        raise TieError("The pictures of these shots agree on no common space.", "Tie them by tags or by hand.")
    for _ in range(5):
        best = similarity(lifted.own[inside], lifted.fixed[inside])
        inside = _agreeing(fixed, lifted, best)
        if inside.sum() < LEAST_AGREE:
            break
    return best


def _agreeing(fixed: Side, lifted: _Lifted, change: Datum) -> np.ndarray:
    """Return which matches (M,) lie where a similarity puts them on the fixed shot's pictures."""
    with np.errstate(all="ignore"):
        px = fixed.path.project(change.apply(lifted.own), lifted.row)
        return np.linalg.norm(px - lifted.px, axis=1) < AGREES_PX


def _spread(fixed: Side) -> np.ndarray:
    """Return rows of tracks that are sought: the surest of each part of the picture in turn."""
    known = np.nonzero(np.isfinite(fixed.xyz).all(1) & (fixed.tracks.lengths >= LEAST_SEEN))[0]
    middle = fixed.tracks.xy[fixed.tracks.first[:-1] + fixed.tracks.lengths // 2][known]
    cell = (middle // (fixed.path.lens.width / 8.0)).astype(int)
    number = cell[:, 0] * 100 + cell[:, 1]
    order = np.lexsort((-fixed.tracks.lengths[known], number))
    known, number = known[order], number[order]
    _, begins, counts = np.unique(number, return_index=True, return_counts=True)
    turn = np.arange(len(known)) - np.repeat(begins, counts)
    return known[np.argsort(turn, kind="stable")][:MOST_SPOTS]


def _sought(own: Side, fixed: Side, change: Datum, chosen: np.ndarray, reach: float, progress: Progress) -> list[Found]:
    """Return the chosen tracks' spots that are found in the other shot near where they must lie."""
    in_fixed = change.camera(own.path)
    grays: dict[tuple[int, int], np.ndarray] = {}
    out = []
    for n, track in enumerate(chosen.tolist()):
        one = _one(own, fixed, in_fixed, track, reach, grays)
        if one is not None:
            out.append(one)
        progress((n + 1) / len(chosen), "Seeking spots in the other shot")
    return out


def _gray(side: Side, which: int, frame: int, grays: dict[tuple[int, int], np.ndarray]) -> np.ndarray:
    if (which, frame) not in grays:
        grays[which, frame] = side.plate.gray(frame)
    return grays[which, frame]


def _one(own: Side, fixed: Side, in_fixed, track: int, reach: float, grays) -> Found | None:
    """Return one spot as it is found in the other shot, or None."""
    xyz = fixed.xyz[track]
    samples = fixed.tracks.rows(track)
    theirs = fixed.path.rows_of(fixed.tracks.frames[samples])
    theirs = theirs[theirs >= 0]
    rows = _seen_on(in_fixed, xyz)
    if len(rows) < LEAST_SEEN or not len(theirs):
        return None
    measured = []
    for row in rows[np.unique(np.linspace(0, len(rows) - 1, MEASURED).astype(int))].tolist():
        other = _alike(fixed, in_fixed, xyz, theirs, row)
        if other is None:
            continue
        fit = _measured(own, fixed, in_fixed, xyz, (track, int(other), int(row)), reach, grays)
        if fit is not None:
            measured.append((row, int(other), fit))
    if len(measured) < LEAST_SEEN:
        return None
    found_rows = np.array([m[0] for m in measured])
    xy = np.array([m[2].position() for m in measured])
    sigma = np.array([max(float(np.sqrt(np.trace(m[2].covariance[:2, :2]) / 2.0)), 0.05) for m in measured])
    place = located(own.path, found_rows, xy, sigma)
    if place is None or place.rms > FAR_PX:
        return None
    away = float(np.linalg.norm(place.xyz - own.path.positions[found_rows[0]]))
    if np.sqrt(np.trace(place.covariance)) > UNSURE * away:
        return None
    best = max(measured, key=lambda m: m[2].score)
    at = np.nonzero(fixed.tracks.frames[samples] == fixed.path.frames[best[1]])[0][0]
    return Found(
        track, own.path.frames[found_rows], xy, sigma, np.array([m[2].score for m in measured]), place,
        int(fixed.path.frames[best[1]]), fixed.tracks.xy[samples][at],
    )  # fmt: skip


def _seen_on(path, xyz: np.ndarray) -> np.ndarray:
    """Return the rows of a path on whose picture a point (3,) lies, a patch from its edge."""
    rows = np.arange(len(path.frames))
    return rows[path.seen(np.repeat(xyz[None], len(rows), 0), rows, 2.0 * HALF_PX)[1]]


def _alike(fixed: Side, in_fixed, xyz: np.ndarray, rows: np.ndarray, row: int) -> int | None:
    """Return that row of the fixed shot from which a point looks most as it does on a row of the other; None where all
    look at it too differently.
    """
    way = in_fixed.positions[row] - xyz
    ways = fixed.path.positions[rows] - xyz
    distance = np.linalg.norm(ways, axis=1)
    cosine = ways @ way / np.maximum(distance * np.linalg.norm(way), 1e-12)
    size = np.log(fixed.path.lens.focal_px[0] / distance / (in_fixed.lens.focal_px[0] / np.linalg.norm(way)))
    best = int(np.argmax(cosine - 0.1 * np.abs(size)))
    return int(rows[best]) if cosine[best] > TURNED else None


def _measured(own: Side, fixed: Side, in_fixed, xyz, at: tuple[int, int, int], reach: float, grays) -> Fit | None:
    """Return how the patch of a track on a row of the fixed shot fits on a row of the other; None where it does not."""
    track, other, row = at
    samples = fixed.tracks.rows(track)
    sample = np.nonzero(fixed.tracks.frames[samples] == fixed.path.frames[other])[0][0]
    x, y = fixed.tracks.xy[samples][sample]
    warp = _warp(fixed, in_fixed, xyz, other, row)
    # The patch is drawn from the coarser of both pictures: a finer one sampled coarsely would alias.
    finer = np.sqrt(abs(np.linalg.det(warp[:2, :2]))) < 1.0
    picture: np.ndarray = _gray(fixed, 0, int(fixed.path.frames[other]), grays).astype(np.float32)
    blur = 0.5 / np.sqrt(abs(np.linalg.det(warp[:2, :2]))) - 0.4 if finer else 0.0
    if blur > 0.2:
        picture = np.asarray(cv2.GaussianBlur(picture, (0, 0), blur))
    try:
        patch = Patch(picture, x, y, (HALF_PX, HALF_PX), AFFINE)
    except FollowError:
        return None
    seen = _gray(own, 1, int(own.path.frames[row]), grays).astype(np.float32)
    begun = _begun(patch, seen, warp, reach)
    fit = patch.fit(seen, begun)
    moved = np.linalg.norm(fit.position() - warp[:2, 2])
    if not fit.ok or fit.score < LEAST_SCORE or moved > 1.5 * reach:
        return None
    change = fit.warp[:2, :2] @ np.linalg.inv(warp[:2, :2])
    values = np.linalg.svd(change, compute_uv=False)
    return fit if values[0] < 1.5 and values[1] > 0.66 else None


def _begun(patch: Patch, picture: np.ndarray, warp: np.ndarray, reach: float) -> np.ndarray:
    """Return the warp moved to where the patch, drawn as it must look there, matches best within reach, pixels."""
    drawn, half = patch_as_seen(patch, warp[:2, :2])
    centre = warp[:2, 2] - 0.5
    whole = np.round(centre).astype(int)
    far = half + int(np.ceil(reach))
    top, left = whole[1] - far, whole[0] - far
    if top < 0 or left < 0 or whole[1] + far >= picture.shape[0] or whole[0] + far >= picture.shape[1]:
        return warp
    area = picture[top : whole[1] + far + 1, left : whole[0] + far + 1]
    _, _, _, (dx, dy) = cv2.minMaxLoc(cv2.matchTemplate(area, drawn, cv2.TM_CCOEFF_NORMED))
    out = warp.copy()
    out[:2, 2] = np.array([left + dx + half, top + dy + half]) + 0.5
    return out


def patch_as_seen(patch: Patch, linear: np.ndarray) -> tuple[np.ndarray, int]:
    """Return a patch drawn turned and scaled by a linear map (2, 2), and half its side, pixels.

    Parameters
    ----------
    patch : as it was cut. linear : here_from_there.
    """
    corners = linear @ (HALF_PX * np.array([[-1, 1, 1, -1], [-1, -1, 1, 1]], float))
    half = int(np.clip(np.ceil(np.abs(corners).max()), 4, 40))
    v, u = np.mgrid[-half : half + 1, -half : half + 1].astype(np.float32)
    back = np.linalg.inv(linear)
    x, y = back[0, 0] * u + back[0, 1] * v + HALF_PX, back[1, 0] * u + back[1, 1] * v + HALF_PX
    drawn = cv2.remap(
        patch.pixels.astype(np.float32), x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REPLICATE,
    )  # fmt: skip
    return drawn, half


def _warp(fixed: Side, in_fixed, xyz: np.ndarray, other: int, row: int) -> np.ndarray:
    """Return the warp (3, 3) of a patch about a point from a row of the fixed shot to one of the other, the surface
    square to the line midway between both views.
    """
    a, b = fixed.path, in_fixed
    ways = [p / np.linalg.norm(p) for p in (a.positions[other] - xyz, b.positions[row] - xyz)]
    normal = (ways[0] + ways[1]) / np.linalg.norm(ways[0] + ways[1])
    along = np.cross([0.0, 1.0, 0.0] if abs(normal[1]) < 0.9 else [1.0, 0.0, 0.0], normal)
    along /= np.linalg.norm(along)
    up = np.cross(normal, along)
    step = 0.004 * np.linalg.norm(a.positions[other] - xyz)
    spots = xyz + step * np.array([np.zeros(3), along, up])
    first, second = a.project(spots, other), b.project(spots, row)
    here, there = (first[1:] - first[0]).T, (second[1:] - second[0]).T
    out = np.eye(3)
    out[:2, :2], out[:2, 2] = there @ np.linalg.inv(here), second[0]
    return out
