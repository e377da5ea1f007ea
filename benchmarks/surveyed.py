"""A camera from known coordinates alone: how far off it is on every frame, beside what their noise allows."""

from time import perf_counter

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.progress import silent
from amberkeel.core.solve.adjust_shot import finished
from amberkeel.core.solve.evidence.constrained import bound_to
from amberkeel.core.solve.evidence.statement import Anchor
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import ask, conclude, solve_tracks
from amberkeel.core.solve.surveyed import anchor_in_cameras, freedom_of, place, survey_of
from benchmarks.few import FRAMES, KINDS, SIZE, Case, made

SIGMA_M, SEEDS = 0.005, range(6)

CASES = ((4, True), (6, True), (6, False), (8, False))
"""How many points, and whether the focal length is known."""


def asked_of(case: Case, known: bool, rng: np.random.Generator, points: np.ndarray) -> Recipe:
    """Return what is asked: the tracks' coordinates, each within its sigma."""
    off = rng.normal(0.0, SIGMA_M, points.shape)
    evidence = tuple(
        Anchor(track=name, xyz=tuple(xyz), sigma=SIGMA_M) for name, xyz in zip(case.tracks.names, points + off)
    )
    return Recipe(focal_px=case.path.lens.focal_px[0] if known else None, evidence=evidence)


def from_truth(case: Case, recipe: Recipe) -> CameraPath:
    """Return the camera that the best adjustment finds, begun from the true one."""
    asked = ask(case.tracks, FRAMES, *SIZE, recipe)
    problem, survey = asked.problem(), survey_of(recipe.evidence, asked.measured)
    place(problem, survey)
    problem.least = 4
    problem.lens = asked.plan.start.with_value("focal", case.path.lens.focal_px[0])
    problem.rotations[:], problem.centres[:] = case.path.world_from_camera, case.path.positions
    problem.solved[:] = True
    anchor_in_cameras(problem, survey)
    freedom, later = freedom_of(asked)
    bound = bound_to(problem, asked.measured, recipe.evidence, recipe.fps)
    solved = finished(problem, freedom.with_terms(bound.terms), later, silent)
    return conclude(asked, solved, solved.uncertainty(), tested=False).path


def off(path: CameraPath, true: CameraPath) -> np.ndarray:
    """Return how far the camera stands from where it was on each frame, metres."""
    return np.linalg.norm(path.positions - true.positions, axis=1)


def run() -> None:
    """Print for each number of points how far off the camera is, over what the best adjustment from the truth is."""
    print()
    for count, known in CASES:
        worst, each, seconds, lost = [], [], [], 0
        for kind in KINDS:
            for seed in SEEDS:
                case = made(kind, count, 200 + seed)
                points = case.points
                recipe = asked_of(case, known, np.random.default_rng(seed), points)
                began = perf_counter()
                try:
                    path = solve_tracks(case.tracks, FRAMES, *SIZE, recipe).path
                except SolveError:
                    lost += 1
                    continue
                seconds.append(perf_counter() - began)
                one, best = off(path, case.path), off(from_truth(case, recipe), case.path)
                ratio = one / np.maximum(best, np.median(best))
                worst.append(ratio.max())
                each.append(np.median(one))
        print(
            f"{count} known points, focal length {'known' if known else 'unknown'}: {len(worst)} of "
            f"{len(worst) + lost} shots solved; distance from the true camera over that of the best adjustment, worst "
            f"frame of a shot, {np.median(worst):.2f} in the middle, {np.max(worst):.2f} at most, target 1.5; usually "
            f"{1000 * np.median(each):.0f} mm; {np.median(seconds):.1f} s",
            flush=True,
        )
