"""A camera from a handful of tracks: how often there is one, how far off it is, and how far off it says it is."""

from dataclasses import dataclass, replace
from time import perf_counter

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.progress import silent
from amberkeel.core.solve.adjust_shot import finished
from amberkeel.core.solve.motions import NODAL
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import ask, conclude, solve_tracks
from amberkeel.core.solve.turn import ONLY_TURNS
from amberkeel.core.tracks import TrackSet, from_pieces
from amberkeel.core.world.true_slip import slip_px

FRAMES = np.arange(1001, 1101)
SIZE = 1280, 720
NOISE_PX = 0.15
COUNTS = (8, 10, 12, 16, 23)
SEEDS = range(4)


@dataclass(frozen=True)
class Case:
    """A simulated shot: its camera, the tracks and their points (T, 3), and what was never tracked (P, 3) with where it
    is seen (F, P).
    """

    kind: str
    path: CameraPath
    tracks: TrackSet
    points: np.ndarray
    elsewhere: np.ndarray
    seen: np.ndarray


def walk(rng: np.random.Generator) -> CameraPath:
    """Return a walk of two metres forwards and to the side, with its steps."""
    t = np.linspace(0.0, 1.0, len(FRAMES))
    step = 0.02 * np.sin(2 * np.pi * (3.5 * t + rng.uniform()))
    positions = np.stack([rng.uniform(0.6, 1.4) * t, step, rng.uniform(0.5, 2.0) * t], 1)
    turns = np.stack([0.012 * np.sin(19 * t), -0.06 * t, 0.01 * np.sin(9 * t)], 1)
    return CameraPath(FRAMES, positions, np.array([rotation_exp(turn) for turn in turns]), _lens(rng))


def creep(rng: np.random.Generator) -> CameraPath:
    """Return a slow move of less than a metre, the camera looking about a little."""
    t = np.linspace(0.0, 1.0, len(FRAMES))
    positions = np.stack([rng.uniform(0.3, 0.6) * t, 0.05 * np.sin(4 * t), rng.uniform(0.2, 0.6) * t], 1)
    turns = np.array([rotation_exp(np.array([0.02 * np.sin(5 * s), -0.04 * s, 0.01 * s])) for s in t])
    return CameraPath(FRAMES, positions, turns, _lens(rng))


def pan(rng: np.random.Generator) -> CameraPath:
    """Return a pan of fifteen degrees with a nod."""
    t, nod = np.linspace(-1.0, 1.0, len(FRAMES)), rng.uniform(0.02, 0.06)
    turns = np.array([rotation_exp(np.array([nod * np.sin(3 * s), 0.13 * s, 0.02 * s * s])) for s in t])
    return CameraPath(FRAMES, np.zeros((len(FRAMES), 3)), turns, _lens(rng))


KINDS = {"walking": walk, "creeping": creep, "panning": pan}


def _lens(rng: np.random.Generator) -> Lens:
    return Lens.centred(*SIZE, rng.uniform(1000.0, 1900.0))


def made(kind: str, count: int, seed: int) -> Case:
    """Return a simulated shot with so many tracks, seen on every frame."""
    rng = np.random.default_rng([seed, count, len(kind)])
    path = KINDS[kind](rng)
    heading, height = rng.uniform(-0.7, 0.7, 4000), rng.uniform(-0.35, 0.35, 4000)
    points = rng.uniform(3.5, 15.0, 4000)[:, None] * np.stack([np.sin(heading), height, np.cos(heading)], 1)
    px = np.array([path.project(points, k) for k in range(len(FRAMES))])
    ahead = np.array([path.to_camera(points, k)[:, 2] > 0.1 for k in range(len(FRAMES))])
    seen = ahead & ((px > 8) & (px < np.array(SIZE) - 8)).all(2)
    whole = np.flatnonzero(seen.all(0))
    own = spread(px[:, whole].mean(0), count, rng)
    rows = whole[own]
    noisy = px[:, rows] + rng.normal(0.0, NOISE_PX, (len(FRAMES), count, 2))
    pieces = [(FRAMES, noisy[:, n], np.full(len(FRAMES), NOISE_PX), np.ones(len(FRAMES))) for n in range(count)]
    tracks = from_pieces([f"h{n:02d}" for n in range(count)], pieces, ["hand"] * count)
    others = np.setdiff1d(np.flatnonzero(seen.sum(0) > 30), rows)[:150]
    return Case(kind, path, tracks, points[rows], points[others], seen[:, others])


def spread(px: np.ndarray, count: int, rng: np.random.Generator) -> np.ndarray:
    """Return rows of points (M, 2) that lie well spread, as a hand places tracks: each far from those before it."""
    chosen = [int(rng.integers(len(px)))]
    for _ in range(count - 1):
        some = rng.choice(len(px), min(12, len(px)), replace=False)
        away = np.linalg.norm(px[some, None] - px[chosen][None], axis=2).min(1)
        chosen.append(int(some[np.argmax(away)]))
    return np.array(chosen)


def from_truth(case: Case, recipe: Recipe):
    """Return the solution that the best adjustment finds, begun from the true camera and lens."""
    asked = ask(case.tracks, FRAMES, *SIZE, recipe)
    problem = asked.problem()
    problem.lens = asked.plan.start.with_value("focal", case.path.lens.focal_px[0])
    problem.rotations[:], problem.centres[:] = case.path.world_from_camera, case.path.positions
    if case.kind == "panning":
        problem.movable[:] = ONLY_TURNS
    problem.solved[:] = True
    problem.triangulate(problem.active, 3.0)
    solved = finished(problem, asked.freedom, asked.plan.later, silent)
    if case.kind == "panning":
        solved = replace(solved, motion=NODAL)
    return conclude(asked, solved, solved.uncertainty())


def slip(case: Case, solution) -> float:
    """Return the slip of what was never tracked, pixels RMS."""
    each = slip_px(solution.path, case.path, case.elsewhere, case.seen)
    return float(np.sqrt(np.nanmean(each**2)))


@dataclass
class Result:
    """What came of a simulated shot: its slip, that of the best adjustment from the truth, and how far off its focal
    length is in stated sigmas; the check residual over that of points which never served; seconds.
    """

    slip: float
    best: float
    score: float
    check: float
    seconds: float


def tried(case: Case) -> Result | None:
    """Return what came of a case; None where there is no camera on all frames."""
    began = perf_counter()
    try:
        solution = solve_tracks(case.tracks, FRAMES, *SIZE, Recipe())
    except SolveError:
        return None
    seconds, own = perf_counter() - began, slip(case, solution)
    if len(solution.path.frames) < len(FRAMES):
        return None
    of = case.path.lens.focal_px[0]
    score = (solution.path.lens.focal_px[0] - of) / max(solution.focal_sigma_px, 1e-9)
    never_used = np.hypot(own, NOISE_PX * np.sqrt(2.0))
    check = (solution.check_rms_px or np.nan) / never_used
    return Result(own, slip(case, from_truth(case, Recipe())), score, check, seconds)


def run() -> None:
    """Print for each number of tracks how often there is a camera, and how good it and what it says of itself are."""
    print()
    for count in COUNTS:
        cases = [made(kind, count, seed) for kind in KINDS for seed in SEEDS]
        found = [one for one in map(tried, cases) if one]
        if not found:
            print(f"{count} tracks: no camera of {len(cases)}")
            continue
        ratio = np.array([one.slip / one.best for one in found])
        sure = np.mean([abs(one.score) < 2.0 for one in found])
        check = np.array([one.check for one in found])
        print(
            f"{count} tracks: {len(found)} of {len(cases)} solved, target {0.95 if count >= 10 else 0.85:.0%}; "
            f"focal length within two sigmas in {sure:.0%}, target 90 %; slip over the best possible "
            f"{np.median(ratio):.2f} in the middle, {ratio.max():.2f} at most, target 1.5; check residual over that of "
            f"points never used {np.nanmin(check):.2f} to {np.nanmax(check):.2f}, target 0.77 to 1.3; "
            f"{np.median([one.seconds for one in found]):.1f} s, target 0.5 s",
            flush=True,
        )
