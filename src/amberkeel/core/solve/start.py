"""The start: two frames with parallax, and the focal length that explains them and the frames between.

A single pair rarely settles the focal length, so it is swept on a log scale; at each value an essential matrix is
found robustly, a few frames between are resected, and a small adjustment with the focal length free ranks the start
by robust cost (Hartley and Zisserman 2004, chapters 9, 11 and 19).
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.solve.adjust import CAREFUL_DAMPING, adjust
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.refine import resect_camera
from amberkeel.core.solve.side_by_side import side_by_side

FIELDS_OF_VIEW = np.radians(np.geomspace(110.0, 10.0, 8))
"""Swept horizontal fields of view, radians."""

START_SCALE = 6.0
"""Cauchy scale of the start, in sigmas: rough, since lens and focal length are not known yet."""

MIN_COMMON, FEWEST_COMMON = 24, 6
"""Tracks that the frames of a pair share, and the fewest where no pair of a shot has that many."""

FEW, POINTS, FEWEST_POINTS = 40, 6, 5
"""Tracks up to which a shot has few, points that a frame's camera is found from at the least, and of so few."""

MOST_TRACKS = 160
"""Tracks that a pair is ranked by and a start adjusted with, about."""

LEAST_INLIERS = 8

LEAST_TRAVEL_PX = 1.0
"""Distance that the usual track travels from its start, pixels, below which the camera is locked off."""

HOMOGRAPHY_DRAWS = 400
"""Most samples drawn for a pair's homography: it only ranks pairs by what it leaves."""

EPIPOLAR_PX = 1.5
"""Distance from its epipolar line up to which a track is an inlier of an essential matrix, pixels."""

MOST_PARALLAX_PX, MOST_TRAVEL_PX = 30.0, 200.0
"""Parallax and travel beyond which a pair is ranked no higher."""

FOCAL_LIMITS = (0.05, 12.0)
"""Focal length of a start, in widths of the picture, outside of which it is refused."""

LEAST_PARALLAX, LEAST_PARALLAX_PX, CLEAR_PARALLAX_PX = 5.0, 0.25, 0.6
"""Parallax beyond a homography that counts as such: in sigmas of a track (noise alone leaves 2.2), but no less and no
more than so many pixels.
"""


APART, NEARLY_AS_GOOD = 0.34, 0.2
"""Share of its frames up to which a pair is of another time than the first, and share of that one's rank from which it
is tried next.
"""


@dataclass
class Start:
    """A two-frame start and its adjusted neighbours.

    Attributes
    ----------
    problem : with its cameras, its lens, and the points of the tracks that it was made with.
    cost : ranks it, lower is better. explained : share of the measurements that fit.
    """

    problem: Problem
    cost: float
    explained: float


@dataclass(frozen=True)
class Begun:
    """Where a solve began: two frame numbers, the parallax beyond a homography and the usual travel between them, in
    pixels, and how many tracks they share.
    """

    first: int
    last: int
    parallax_px: float
    travel_px: float
    tracks: int


@dataclass(frozen=True)
class Pair:
    """Two frame rows, the tracks they share, and in pixels their parallax beyond a homography and their travel."""

    a: int
    b: int
    tracks: np.ndarray
    parallax: float
    travel: float


def common_tracks(problem: Problem, a: int, b: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the used tracks seen in both frame rows, and their pixels there, (M,), (M, 2), (M, 2).

    Parameters
    ----------
    problem : with its measurements. a, b : rows of two frames.
    """
    track = problem.track
    ok = problem.inlier & problem.active[track]
    in_a, in_b = np.nonzero(ok & (problem.camera == a))[0], np.nonzero(ok & (problem.camera == b))[0]
    tracks, ia, ib = np.intersect1d(track[in_a], track[in_b], assume_unique=True, return_indices=True)
    return tracks, problem.xy[in_a[ia]], problem.xy[in_b[ib]]


def stands_still(problem: Problem) -> bool:
    """Return whether the tracks hardly move: a locked-off camera."""
    starts, lengths = problem.first[:-1], np.diff(problem.first)
    long_enough = problem.active & (lengths >= 2)
    travel = 0.0
    for share in (0.25, 0.5, 0.75, 1.0):
        later = starts + np.round(share * (lengths - 1)).astype(np.int64)
        moved = problem.xy[later[long_enough]] - problem.xy[starts[long_enough]]
        travel = max(travel, float(np.median(np.linalg.norm(moved, axis=1))) if len(moved) else 0.0)
    return travel < LEAST_TRAVEL_PX


def begun(problem: Problem, pair: Pair) -> Begun:
    """Return a pair as what is said of it; `problem` has its frames."""
    first, last = (int(problem.frames[row]) for row in (pair.a, pair.b))
    return Begun(first, last, pair.parallax, pair.travel, len(pair.tracks))


def chosen_pair(problem: Problem, first: int, last: int) -> Pair:
    """Return the pair of two frame numbers; raises SolveError where they share too few tracks, or are none."""
    rows = [int(np.searchsorted(problem.frames, frame)) for frame in (first, last)]
    if first >= last or any(r == len(problem.frames) or problem.frames[r] != f for r, f in zip(rows, (first, last))):
        raise SolveError(
            f"Frames {first} and {last} are not two frames of this shot.",
            f"Choose two of {problem.frames[0]}–{problem.frames[-1]}.",
        )
    tracks, xa, xb = common_tracks(problem, *rows)
    if len(tracks) < FEWEST_COMMON:
        raise SolveError(
            f"Frames {first} and {last} share {len(tracks)} tracks, too few to begin from.",
            f"Choose frames with {FEWEST_COMMON} or more in common: closer ones, or follow more features.",
        )
    return Pair(rows[0], rows[1], tracks, _parallax(xa, xb), float(np.median(np.linalg.norm(xb - xa, axis=1))))


def jerkiest(problem: Problem) -> tuple[int, int]:
    """Return two frame numbers on either side of the frame at which the picture's motion changes most abruptly.

    They lie as far from it as they still share tracks enough; raises SolveError where no two do.
    """
    track, order = problem.track, np.arange(1, len(problem.camera))
    step = (track[1:] == track[:-1]) & (problem.camera[1:] == problem.camera[:-1] + 1) & problem.active[track[1:]]
    moved, row = (problem.xy[1:] - problem.xy[:-1])[step], problem.camera[order[step]]
    motion = np.full((len(problem.frames), 2), np.nan)
    for k in np.unique(row):
        motion[k] = np.median(moved[row == k], axis=0)
    change = np.linalg.norm(np.diff(motion, axis=0), axis=1)
    at = int(np.nanargmax(change)) + 1 if np.isfinite(change).any() else len(problem.frames) // 2
    reach = min(at, len(problem.frames) - 1 - at)
    for away in range(max(reach, 1), 0, -1):
        a, b = max(at - away, 0), min(at + away, len(problem.frames) - 1)
        if a < b and len(common_tracks(problem, a, b)[0]) >= 2 * MIN_COMMON:
            return int(problem.frames[a]), int(problem.frames[b])
    raise SolveError("No two frames on either side of the jerkiest part share enough tracks.", "Choose two by hand.")


def find_pairs(problem: Problem, count: int = 2) -> list[Pair]:
    """Return the best starting pairs, by parallax beyond a homography and by the number of common tracks.

    Raises SolveError when too few tracks last long enough.
    """
    frames = len(problem.frames)
    anchors = np.unique(np.linspace(0, frames - 2, min(9, frames - 1)).astype(int))
    gaps = np.unique(np.round(np.geomspace(max(3, frames // 16), frames - 1, 7)).astype(int))
    pairs = []
    for a in anchors:
        for b in a + gaps:
            if b >= frames:
                continue
            tracks, xa, xb = common_tracks(problem, a, b)
            if len(tracks) < FEWEST_COMMON:
                continue
            pairs.append(
                Pair(int(a), int(b), tracks, _parallax(xa, xb), float(np.median(np.linalg.norm(xb - xa, axis=1))))
            )
    pairs = [pair for pair in pairs if len(pair.tracks) >= MIN_COMMON] or pairs
    if not pairs:
        raise SolveError(
            "Too few tracks last long enough to start a solve.", "Follow more features, or a shorter range."
        )
    noise = float(np.median(problem.sigma[problem.inlier])) if problem.inlier.any() else 0.0
    least = np.clip(LEAST_PARALLAX * noise, LEAST_PARALLAX_PX, CLEAR_PARALLAX_PX)
    # A scene that is one plane shows no parallax beyond a homography: then the frames that lie far apart serve.
    flat = max(p.parallax for p in pairs) < least
    shown = [min(p.travel, MOST_TRAVEL_PX) if flat else min(p.parallax, MOST_PARALLAX_PX) for p in pairs]
    rank = [px * np.sqrt(min(len(p.tracks), 200)) for px, p in zip(shown, pairs)]
    order = np.argsort(rank)[::-1].tolist()
    # What moves by itself can make all pairs of one time misleading: the second is of another time if it can be.
    apart = [k for k in order if _overlap(pairs[k], pairs[order[0]]) < APART and rank[k] > NEARLY_AS_GOOD * max(rank)]
    chosen: list[Pair] = []
    for k in [order[0], *apart[:1], *order[1:]]:
        if all(abs(pairs[k].a - p.a) + abs(pairs[k].b - p.b) > frames // 10 for p in chosen):
            chosen.append(pairs[k])
        if len(chosen) == count:
            break
    return chosen


def _overlap(one: Pair, other: Pair) -> float:
    """Return the share of the shorter of two pairs' frames that lies between those of the other too."""
    return max(0, min(one.b, other.b) - max(one.a, other.a)) / min(one.b - one.a, other.b - other.a)


def _parallax(xa: np.ndarray, xb: np.ndarray) -> float:
    """Return the upper-quartile distance in pixels that the best homography leaves."""
    step = max(1, len(xa) // MOST_TRACKS)
    xa, xb = np.ascontiguousarray(xa[::step]), np.ascontiguousarray(xb[::step])
    # Of a few, any four agree with one homography: what all of them leave says more.
    how = cv2.RANSAC if len(xa) >= MIN_COMMON else 0
    h, _ = cv2.findHomography(xa, xb, how, 2.0, maxIters=HOMOGRAPHY_DRAWS)
    if h is None:
        return 0.0
    moved = cv2.perspectiveTransform(xa[:, None], h)[:, 0]
    return float(np.percentile(np.linalg.norm(moved - xb, axis=1), 70))


def sweep(problem: Problem, pair: Pair, focals: np.ndarray, free_focal: bool) -> list[Start]:
    """Return the starts of a pair over focal lengths in pixels, best first.

    Parameters
    ----------
    problem : with nothing solved; it is left as it is. pair : two frames. focals : pixels. free_focal : whether
        each start may change its own.
    """
    _, xa, xb = common_tracks(problem, pair.a, pair.b)
    rows = pair.tracks[:: max(1, len(pair.tracks) // MOST_TRACKS)]
    part = problem.of_tracks(rows)
    starts = side_by_side(
        lambda focal: _try_focal(part, rows, pair, (xa, xb), float(focal), free_focal), focals, len(part.camera)
    )
    found = sorted((s for s in starts if s), key=lambda s: s.cost)
    for start in found:
        start.problem = problem.with_part(start.problem, rows)
    return found


def _try_focal(
    part: Problem,
    rows: np.ndarray,
    pair: Pair,
    seen: tuple[np.ndarray, np.ndarray],
    focal: float,
    free_focal: bool,
) -> Start | None:
    """Return the start of a pair at one focal length, or None; `part` has the tracks of `rows` alone, `seen` are the
    pixels (M, 2) of all common tracks in both frames.
    """
    lens, (xa, xb) = part.lens.with_value("focal", focal), seen
    pinhole = lens.as_lens(1, 1)
    na, nb = pinhole.normalise(xa), pinhole.normalise(xb)
    cv2.setRNGSeed(1)
    essential, mask = cv2.findEssentialMat(na, nb, np.eye(3), cv2.RANSAC, 0.999, EPIPOLAR_PX / focal)
    if essential is None or essential.shape != (3, 3):
        return None
    _, r, t, mask = cv2.recoverPose(essential, na, nb, np.eye(3), mask=mask)
    inliers = pair.tracks[mask.ravel() > 0]
    least = min(LEAST_INLIERS, len(rows) - 1)
    if len(inliers) < least:
        return None
    trial = part.copied()
    trial.lens = lens
    trial.rotations[pair.b], trial.centres[pair.b] = r.T, -r.T @ t.ravel()
    trial.solved[[pair.a, pair.b]] = True
    chosen, seed = np.ones(len(rows), bool), np.isin(rows, inliers)
    trial.triangulate(seed, START_SCALE)
    _resect_between(trial, pair, seed)
    trial.triangulate(chosen, START_SCALE)
    free = trial.solved.copy()
    free[pair.a] = False
    bundle, cut = trial.bundle(trial.solved, chosen, free, Freedom(("focal",) if free_focal else ()), START_SCALE)
    if len(bundle.rhos) < least:
        return None
    adjusted = adjust(bundle, 12, 3e-3, CAREFUL_DAMPING)
    if not FOCAL_LIMITS[0] < adjusted.bundle.lens.focal / (2.0 * lens.cx) < FOCAL_LIMITS[1]:
        return None
    trial.update(adjusted.bundle, cut)
    lost = int(chosen.sum()) - len(bundle.rhos)
    fit = np.linalg.norm(adjusted.bundle.residuals(), axis=1) * bundle.weight
    cost = adjusted.cost + lost * START_SCALE**2 * 4.0
    return Start(trial, cost / max(int(chosen.sum()), 1), float((fit < START_SCALE).mean()))


def _resect_between(problem: Problem, pair: Pair, tracks: np.ndarray) -> None:
    """Resect a few frames between the pair, each from its neighbour towards the pair's first frame."""
    between = np.unique(np.linspace(pair.a, pair.b, 8).astype(int))[1:-1]
    last = pair.a
    for row in between:
        problem.rotations[row], problem.centres[row] = problem.rotations[last], problem.centres[last]
        if resect_frame(problem, int(row), tracks, START_SCALE) > 0.3:
            problem.solved[row] = True
            last = row


def resect_frame(
    problem: Problem, row: int, tracks: np.ndarray, loss_scale: float, loose: np.ndarray | None = None
) -> float:
    """Find a frame's camera from triangulated tracks, from the pose it holds, in place; return the share that agrees.

    Parameters
    ----------
    row : of the frame. tracks : (P,) bool, which may serve. loss_scale : Cauchy scale in sigmas.
    loose : (P,) variance of each track's inverse depth, or None where the depths are taken as they are.
    """
    track = problem.track
    variance = np.zeros(len(problem.rhos)) if loose is None else loose
    n = np.nonzero((problem.camera == row) & problem.inlier & (tracks & problem.triangulated)[track])[0]
    if len(n) < (POINTS if problem.active.sum() > FEW else FEWEST_POINTS):
        return 0.0
    share, scene = 0.0, problem.scene()
    for widen in (8.0, 1.0):
        scale2 = (widen * loss_scale) ** 2
        share = resect_camera(
            scene, row, track[n], problem.corrected[n], 1.0 / problem.sigma[n], scale2, 25, variance[track[n]]
        )
    return float(share)
