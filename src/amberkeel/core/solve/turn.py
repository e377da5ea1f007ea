"""A camera that only turns: rotations from tracks alone, for a sweep of focal lengths.

Under rotation the rays of two frames differ by one rotation, whatever the depth (Hartley and Zisserman 2004, 8.4). For
each focal length neighbouring frames are joined by the rotation that fits their common rays best (Kabsch 1976),
robustly reweighted; the chain is then adjusted with points as directions. A camera that swings turns about a point that
is not its entrance pupil: the pupil is at an arm, fixed in the camera, from a point that stands still.
"""

from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress
from amberkeel.core.solve.adjust import CAREFUL_DAMPING, adjust
from amberkeel.core.solve.covering import COVERING, covering
from amberkeel.core.solve.grow import GROW_SCALE, adjust_all, settle
from amberkeel.core.solve.lens_plan import Freedom, LensPlan
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import ARM_NAMES, RadialLens
from amberkeel.core.solve.side_by_side import side_by_side
from amberkeel.core.solve.start import FEW, START_SCALE, common_tracks
from amberkeel.core.solve.terms import SoftLens

FIELDS_OF_VIEW = np.radians(np.geomspace(110.0, 3.0, 10))
"""Swept horizontal fields of view, radians."""

LEAST_COMMON, FEWEST_COMMON = 6, 3
"""Common tracks below which two neighbouring frames cannot be joined, and where a shot has but a few."""

JOINTS = 24
"""Frames that the sweep is done with, about."""

JOINT_TRACKS = 60
"""Tracks that each of them should have."""

CLOSE = 1.2
"""By how much more the residuals of some of the tracks may be than those of all."""

COARSE = 3
"""Fields of view tried first; where rotation at none of them explains the tracks, it does so at no other: the misfit of
a camera that moves hardly depends on it.
"""

ROUGH = 3.0
"""By how much more the sweep's residuals may be: its lens has no distortion yet."""

REWEIGHTED = 4
"""Rounds of reweighting a pair's rotation."""

ASIDE = 0.2
"""One sigma of the pupil's distance from the view axis through the pivot, over the arm's length."""

LATERAL = tuple(SoftLens(name, 0.0, ASIDE, shown=False) for name in ("arm_x", "arm_y"))
"""What is known of where the pupil is aside of that axis."""

KNEE_PX = 1.5
"""Distance at which the weight of a ray is halved, pixels."""


ONLY_TURNS = np.array([True, True, True, False, False, False])
"""Degrees in which a camera that only turns moves."""

FOCAL_LIMITS = (0.05, 40.0)
"""Focal length of a pan, in widths of the picture, outside of which it is refused."""


class Neighbours(NamedTuple):
    """Two neighbouring frames: rows, and the pixels of their common tracks in both (M, 2)."""

    a: int
    b: int
    xa: np.ndarray
    xb: np.ndarray


def turning(problem: Problem, plan: LensPlan, width: int, progress: Progress, most: float = np.inf) -> Problem | None:
    """Return a problem with all frames solved as a camera that only turns, adjusted.

    Parameters
    ----------
    problem : with nothing solved; it is left as it is. plan : what the solve may do with the lens. width : of the
        picture, pixels. most : median whitened residual above which rotation does not explain the tracks.

    Returns
    -------
    The problem, or None where rotation does not explain the tracks.

    Raises
    ------
    SolveError : neighbouring frames without common tracks.
    """
    focals = 0.5 * width / np.tan(FIELDS_OF_VIEW / 2.0) if plan.search else np.array([plan.start.focal])
    joints = np.unique(np.linspace(0, len(problem.frames) - 1, JOINTS).astype(int))
    pairs = neighbours(problem, joints)
    at_joints = np.zeros(len(problem.frames), bool)
    at_joints[joints] = True
    part = problem.of_tracks(covering(problem, JOINT_TRACKS, at_joints))
    best, least = None, np.inf
    for k, some in enumerate(_coarse_first(len(focals))):
        progress(0.35 * k, "Trying a camera that only turns")
        tried = side_by_side(lambda at: _tried(part, plan, pairs, joints, float(focals[at])), some, len(part.camera))
        for trial, cost in tried:
            if cost < least:
                best, least = trial, cost
        if best is None or misfit(best) > ROUGH * most:
            return None
    assert best is not None
    rows = covering(problem, COVERING)
    part = problem.of_tracks(rows)
    part.lens = best.lens
    part.movable[:] = ONLY_TURNS
    part.rotations = _chain(neighbours(problem, np.arange(len(problem.frames))), best.lens, len(part.frames))
    part.solved[:] = True
    settle(part, plan.free, 20, START_SCALE)
    settle(part, plan.free, 20)
    if misfit(part) > CLOSE * most:
        return None
    out = problem.with_part(part, rows)
    settle(out, plan.free, 20)
    return out if misfit(out) <= most else None


def _coarse_first(count: int) -> list[list[int]]:
    """Return which focal lengths are tried first, spread over all of them, and which then."""
    spread = np.unique(np.linspace(0, count - 1, COARSE + 2).round().astype(int)[1:-1]).tolist() if count > 1 else [0]
    return [spread, [k for k in range(count) if k not in spread]]


def misfit(problem: Problem) -> float:
    """Return the median whitened residual."""
    distances, _ = problem.whitened(problem.active)
    return float(np.median(distances)) if len(distances) else np.inf


def neighbours(problem: Problem, rows: np.ndarray) -> list[Neighbours]:
    """Return neighbouring frames among some rows (K,) with their common tracks.

    Raises
    ------
    SolveError : two of them have too few.
    """
    out, least = [], LEAST_COMMON if problem.active.sum() > FEW else FEWEST_COMMON
    for a, b in zip(rows.tolist(), rows[1:].tolist()):
        tracks, xa, xb = common_tracks(problem, a, b)
        if len(tracks) < least:
            raise SolveError(
                f"Frames {problem.frames[a]} and {problem.frames[b]} have {len(tracks)} tracks in common.",
                "Place a few long tracks across them by hand, or solve a shorter range.",
            )
        out.append(Neighbours(a, b, xa, xb))
    return out


def _chain(pairs: list[Neighbours], lens: RadialLens, count: int) -> np.ndarray:
    """Return rotations ``world_from_camera`` (count, 3, 3) that follow from one another; rows between pairs are left at
    the identity.
    """
    out = np.tile(np.eye(3), (count, 1, 1))
    rays = _rays(lens.as_lens(1, 1).normalise(np.concatenate([x for pair in pairs for x in (pair.xa, pair.xb)])))
    at = 0
    for pair in pairs:
        size = len(pair.xa)
        ra, rb = rays[at : at + size], rays[at + size : at + 2 * size]
        out[pair.b] = out[pair.a] @ _rotation(ra, rb, KNEE_PX / lens.focal)
        at += 2 * size
    return out


def _rays(xy: np.ndarray) -> np.ndarray:
    rays = np.column_stack([xy, np.ones(len(xy))])
    return rays / np.linalg.norm(rays, axis=1, keepdims=True)


def _rotation(ra: np.ndarray, rb: np.ndarray, knee: float) -> np.ndarray:
    """Return the rotation a_from_b of rays (M, 3), those that disagree weighted down; `knee` is in radians."""
    weight = np.ones(len(ra))
    for _ in range(REWEIGHTED):
        rotation = Rotation.align_vectors(ra, rb, weights=weight)[0].as_matrix()
        weight = 1.0 / (1.0 + (np.linalg.norm(ra - rb @ rotation.T, axis=1) / knee) ** 2)
    return rotation


def _tried(
    problem: Problem, plan: LensPlan, pairs: list[Neighbours], joints: np.ndarray, focal: float
) -> tuple[Problem, float]:
    """Return the problem with the joints solved at one focal length, adjusted, and its mean cost a track; `problem`
    has those tracks alone that serve.
    """
    trial = problem.copied()
    trial.lens = plan.start.with_value("focal", focal)
    trial.movable[:] = ONLY_TURNS
    trial.rotations = _chain(pairs, trial.lens, len(trial.frames))
    trial.solved[joints] = True
    chosen = np.ones(len(trial.rhos), bool)
    trial.triangulate(chosen, START_SCALE)
    freedom = Freedom(("focal",) if plan.search else ())
    bundle, rows = trial.bundle(trial.solved, chosen, trial.all_but_first, freedom, START_SCALE)
    if not len(bundle.rhos):
        return trial, np.inf
    adjusted = adjust(bundle, 10, 3e-3, CAREFUL_DAMPING)
    trial.update(adjusted.bundle, rows)
    if (
        not np.isfinite(adjusted.cost)
        or not FOCAL_LIMITS[0] < trial.lens.focal / (2.0 * trial.lens.cx) < FOCAL_LIMITS[1]
    ):
        return trial, np.inf
    return trial, adjusted.cost / len(bundle.camera)


def swinging(turned: Problem, freedom: Freedom) -> tuple[Problem, Freedom]:
    """Return a camera that only turns made one that swings, adjusted, and what is free of it.

    The arm's length along the view axis is the unit of the world. A swing shows how points differ in inverse depth but
    hardly their mean, which goes with the focal length.

    Parameters
    ----------
    turned : as `turning` returns it; it is left as it is. freedom : what of the lens may change.
    """
    wider = replace(freedom.with_value("arm_x").with_value("arm_y"), terms=(*freedom.terms, *LATERAL))
    trial = turned.copied()
    trial.lens = turned.lens.with_value("arm_z", 1.0)
    if np.median(adjust_all(trial, wider, 40, 1e-6, START_SCALE).bundle.rhos) < 0.0:
        trial.mirror_depths()
    adjust_all(trial, wider, 40, 1e-6, GROW_SCALE)
    return trial, wider


def released(problem: Problem) -> Problem:
    """Return a problem whose cameras stand where their entrance pupils are, and may move from there."""
    out = problem.copied()
    out.centres = problem.centres + problem.rotations @ problem.lens.arm
    for name in ARM_NAMES:
        out.lens = out.lens.with_value(name, 0.0)
    out.movable[:] = True
    return out
