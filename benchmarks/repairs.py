"""Repairs of the path against the simulator's truth: spikes found and bridged, smoothing, and the speed of findings."""

import time
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.evidence import Evidence, Measures
from amberkeel.core.diagnose.path import channels_of, spikes
from amberkeel.core.diagnose.pose_noise import pose_sigmas
from amberkeel.core.repair.aim import aimed
from amberkeel.core.repair.lattice import near_acceleration
from amberkeel.core.repair.smooth import bridged, smoothed
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from benchmarks import diagnosis

SHOTS = 12
SPIKES = 3
"""Spikes put into each path, on different frames."""

LEAST_SIGMAS, MOST_SIGMAS = 3.0, 12.0
"""Sizes of the spikes over what such a path usually misses its neighbours' parabola by."""

STRENGTH = 2.5
"""Frames over which a jittery path is smoothed."""

JITTER = 0.0006
"""Jitter of each position, as a share of the usual distance of the set."""


def solved(seed: int) -> tuple[Solution, diagnosis.Scene]:
    """Return a clean simulated shot, solved, and its scene."""
    made = diagnosis.scene(seed)
    tracks = diagnosis._observed(made)
    return solve_tracks(tracks, made.path.frames, diagnosis.WIDTH, diagnosis.HEIGHT, made.recipe), made


def with_spikes(path: CameraPath, sigmas: np.ndarray, chance: np.random.Generator) -> tuple[CameraPath, set[int]]:
    """Return a path with single frames put aside in one channel, and their rows.

    Parameters
    ----------
    path : solved. sigmas : (F, 6) of each pose. chance : of frames, channels and sizes.
    """
    values = channels_of(path)
    offsets = np.array([-3, -2, -1, 1, 2, 3])
    weights = np.linalg.pinv(np.stack([np.ones(6), offsets, offsets**2], 1))[0]
    missed = np.array([values[k] - weights @ values[k + offsets] for k in range(3, len(values) - 3)])
    usual = np.maximum(1.4826 * np.median(np.abs(missed), 0), np.median(sigmas, 0) * np.sqrt(1.0 + (weights**2).sum()))
    rows = 6 + np.sort(chance.choice((len(values) - 12) // 9, SPIKES, replace=False)) * 9
    out = values.copy()
    for row in rows:
        channel = int(chance.integers(6))
        size = chance.uniform(LEAST_SIGMAS, MOST_SIGMAS) * chance.choice([-1.0, 1.0])
        # On top of what the frame misses by anyway, so that it stands out by its size.
        out[row, channel] += size * usual[channel] - missed[row - 3, channel]
    middle = path.world_from_camera[len(path.frames) // 2]
    turns = middle @ Rotation.from_rotvec(out[:, 3:]).as_matrix()
    return replace(path, positions=out[:, :3] @ middle.T, world_from_camera=turns), set(rows.tolist())


def true_slip(solution: Solution, made: diagnosis.Scene) -> np.ndarray:
    """Return the slip of the scene's points by frame (F,), pixels, each put where the solved camera sees it best."""
    from amberkeel.core.world.true_slip import triangulated

    inside = (
        np.isfinite(made.px[..., 0]) & (made.px > 0).all(2) & (made.px < [diagnosis.WIDTH, diagnosis.HEIGHT]).all(2)
    )
    points, rows = np.nonzero(inside.T)
    px = made.px[rows, points]
    first = np.concatenate([[0], np.cumsum(inside.sum(0))]).astype(np.int64)
    good = np.zeros(inside.shape[1], np.bool_)
    placed = triangulated(solution.path, first, points, rows, px, good)
    error = ((solution.path.project_homogeneous(placed[points], rows) - px) ** 2).sum(1)
    ok = np.isfinite(error) & good[points]
    count = len(made.path.frames)
    return np.sqrt(np.bincount(rows[ok], error[ok], count) / np.maximum(np.bincount(rows[ok], minlength=count), 1))


def spiked(seed: int) -> tuple[int, int, int, list[float], list[float]]:
    """Return spikes put in, found of them, found beside them, and the slip on their frames over that of their
    neighbours, after bridging and as it was before any spike.
    """
    solution, made = solved(seed)
    evidence = Evidence(solution, Measures())
    path, rows = with_spikes(solution.path, pose_sigmas(evidence), np.random.default_rng(seed))
    bad = solution.judged(path)
    found = {one.row for one in spikes(path, pose_sigmas(Evidence(bad, Measures())))}
    repaired = bridged(bad, tuple(int(path.frames[r]) for r in rows))
    shares, clean = (_over_beside(true_slip(one, made), rows) for one in (repaired, solution))
    return len(rows), len(rows & found), len(found - rows), shares, clean


def _over_beside(slip: np.ndarray, rows: set[int]) -> list[float]:
    """Return the slip (F,) on some rows over that of the two frames on each side of them."""
    return [float(slip[r] / np.median(slip[[r - 2, r - 1, r + 1, r + 2]])) for r in rows]


def jittery(seed: int) -> tuple[float, float, float, float]:
    """Return the near lattice's acceleration before and after smoothing a jittery path, and its slip, pixels."""
    solution, made = solved(seed)
    away = np.linalg.norm(solution.points.positions()[solution.points.known] - solution.path.positions[0], axis=1)
    distance = float(np.median(away))
    shake = np.random.default_rng(seed).normal(0.0, JITTER * distance, solution.path.positions.shape)
    rows = np.arange(len(solution.path.frames))
    shaken = aimed(solution, replace(solution.path, positions=solution.path.positions + shake), rows)
    calm = smoothed(shaken, STRENGTH)
    rms = [float(np.sqrt(np.nanmean(near_acceleration(one.path, distance) ** 2))) for one in (shaken, calm)]
    return rms[0], rms[1], *(float(np.sqrt((true_slip(one, made) ** 2).mean())) for one in (shaken, calm))


def large() -> float:
    """Return the seconds that findings take on 300 frames and 1,500 tracks."""
    chance = np.random.default_rng(7)
    made = diagnosis.scene(1)
    count, frames = 1500, 300
    t = np.arange(frames, dtype=float)
    positions = np.stack([0.02 * t, 0.02 * np.sin(t / 9.0), 0.03 * t], 1)
    path = replace(
        made.path, frames=np.arange(1001, 1001 + frames), positions=positions,
        world_from_camera=np.tile(np.eye(3), (frames, 1, 1)),
    )  # fmt: skip
    points = chance.uniform([-8, -4, 5], [14, 4, 32], (count, 3))
    px = np.array([path.project(points, k) for k in range(frames)])
    tracks = diagnosis._observed(replace(made, path=path, points=points, px=px))
    solution = solve_tracks(tracks, path.frames, diagnosis.WIDTH, diagnosis.HEIGHT, made.recipe)
    diagnose(solution)
    began = time.perf_counter()
    diagnose(solution)
    return time.perf_counter() - began


def run() -> None:
    """Print the figures."""
    results = [spiked(2000 + seed) for seed in range(SHOTS)]
    put, right, wrong = (sum(r[k] for r in results) for k in range(3))
    shares, clean = (np.array([s for r in results for s in r[k]]) for k in (3, 4))
    print(
        f"\nspikes of {LEAST_SIGMAS:g} to {MOST_SIGMAS:g} sigmas: recall {right / put:.2f}, precision "
        f"{right / max(right + wrong, 1):.2f} (targets 0.9); bridged, slip there over that of their neighbours: median "
        f"{np.median(shares):.2f}, 90th percentile {np.percentile(shares, 90):.2f} (target 1.2; "
        f"before any spike {np.median(clean):.2f} and {np.percentile(clean, 90):.2f})"
    )
    calm = np.array([jittery(3000 + seed) for seed in range(SHOTS)])
    print(
        f"smoothing over {STRENGTH:g} frames: near acceleration down by {np.median(calm[:, 0] / calm[:, 1]):.1f} "
        f"(target 4), slip {np.median(calm[:, 2]):.3f} to {np.median(calm[:, 3]):.3f} px (target at most 0.05 more)"
    )
    print(f"findings on 300 frames and 1,500 tracks: {large():.2f} s (target 3 s)")
