"""Speed as ratios within one run: the whole solve against decode and flow, an adjustment's iteration against gtsam."""

import subprocess
import sys
import tempfile
import time

import cv2
import numpy as np

from amberkeel.core.follow import FollowSettings, follow_plate
from amberkeel.core.follow.detect import DetectSettings, find_features
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.solve.adjust import adjust
from benchmarks.scene import large_problem
from benchmarks.shots import shot_folder

FRAMES = (1001, 1072)


def run() -> None:
    """Print the ratios, and the time and memory of one iteration on a problem the size of a whole show's."""
    print(
        f"\nWhole solve, 72 frames of 960x540: {whole_solve():.2f} times decode and one flow pass (target 8, later 3)"
    )
    print(
        f"Following, 72 frames of 960x540: {following():.0f} % of the throughput of decoding and one bare flow pass "
        "(target 60 %)"
    )
    ours, theirs = iteration_ours(), iteration_gtsam()
    print(
        f"Adjustment, 200 cameras and 60,000 observations: {1e3 * ours:.0f} ms an iteration, gtsam "
        f"{1e3 * theirs:.0f} ms: "
        f"{theirs / ours:.1f} times faster (target 3)"
    )
    seconds, peak = iteration_huge()
    print(
        f"Adjustment, 2,000 cameras and 1,000,000 observations, tracks of up to 200 frames: {seconds:.1f} s an "
        f"iteration (target 6), peak memory {peak:.2f} GiB (target 4)"
    )


def whole_solve(repeats: int = 3) -> float:
    """Return the median time of `./keel solve` over that of decoding and following the same features by flow."""
    folder = shot_folder("SKL_010") / "plate"
    ratios = []
    for _ in range(repeats):
        began = time.perf_counter()
        baseline(folder)
        base = time.perf_counter() - began
        began = time.perf_counter()
        with tempfile.TemporaryDirectory() as out:
            command = [
                sys.executable,
                "-m",
                "amberkeel.cli",
                "solve",
                str(folder),
                "--out",
                out,
                "--frames",
                "1001-1072",
            ]
            subprocess.run(command, check=True, capture_output=True)
        took = time.perf_counter() - began
        print(f"  decode and flow {base:.2f} s, solve {took:.2f} s", flush=True)
        ratios.append(took / base)
    return float(np.median(ratios))


def following(repeats: int = 3) -> float:
    """Return our throughput in percent of a bare flow pass's: samples a second, both decoding the frames themselves.

    The bare pass follows, from each frame to the next, just the features that ours had there, with its window and
    levels.
    """
    plate = open_plate(shot_folder("SKL_010") / "plate", FRAMES)
    tracks = follow_plate(plate)
    grid = tracks.grid(plate.frames)
    side = 2 * FollowSettings().half_px(plate.width) + 1
    ratios = []
    for _ in range(repeats):
        began = time.perf_counter()
        follow_plate(plate)
        ours = time.perf_counter() - began
        began, before, count = time.perf_counter(), None, 0
        for k, frame in enumerate(plate.frames.tolist()):
            gray = to_gray(plate.read(frame))
            if before is not None:
                both = np.isfinite(grid[k - 1, :, 0]) & np.isfinite(grid[k, :, 0])
                cv2.calcOpticalFlowPyrLK(
                    before, gray, (grid[k - 1, both] - 0.5).astype(np.float32), None, winSize=(side, side), maxLevel=3
                )
                count += int(both.sum())
            before = gray
        bare = time.perf_counter() - began
        print(f"  bare {count / bare:.0f} samples a second, ours {count / ours:.0f}", flush=True)
        ratios.append(100.0 * bare / ours)
    return float(np.median(ratios))


def baseline(folder) -> None:
    """Decode the frames and run pyramidal flow once over the same number of features on each."""
    plate = open_plate(folder, FRAMES)
    before = None
    for frame in plate.frames.tolist():
        gray = to_gray(plate.read(frame))
        if before is None:
            xy = (find_features(gray, DetectSettings()) - 0.5).astype(np.float32)
        else:
            cv2.calcOpticalFlowPyrLK(before, gray, xy, None, winSize=(15, 15), maxLevel=3)
        before = gray


def iteration_ours(iterations: int = 10) -> float:
    """Return seconds an iteration of our adjustment."""
    bundle = large_problem()
    adjust(large_problem(cameras=8, points=60), 2, 0.0)
    began = time.perf_counter()
    adjust(bundle, iterations, -1.0)
    return (time.perf_counter() - began) / iterations


def iteration_gtsam(iterations: int = 3) -> float:
    """Return seconds an iteration of gtsam's Levenberg-Marquardt on the same problem, known focal length."""
    import gtsam
    from gtsam import symbol_shorthand

    b = large_problem()
    x, p = symbol_shorthand.X, symbol_shorthand.P
    graph, values = gtsam.NonlinearFactorGraph(), gtsam.Values()
    lens = b.lens
    calibration = gtsam.Cal3_S2(lens.focal, lens.focal, 0.0, lens.cx, lens.cy)
    noise = gtsam.noiseModel.Isotropic.Sigma(2, float(1.0 / b.weight[0]))
    robust = gtsam.noiseModel.Robust.Create(gtsam.noiseModel.mEstimator.Cauchy.Create(b.loss_scale), noise)
    for k in range(len(b.centres)):
        values.insert(x(k), gtsam.Pose3(gtsam.Rot3(b.rotations[k]), b.centres[k]))
    for k, point in enumerate(b.anchors + b.directions / b.rhos[:, None]):
        values.insert(p(k), point)
        for n in range(b.first[k], b.first[k + 1]):
            graph.add(gtsam.GenericProjectionFactorCal3_S2(b.xy[n], robust, x(int(b.camera[n])), p(k), calibration))
    hold = gtsam.noiseModel.Isotropic.Sigma(6, 1e-6)
    graph.add(gtsam.PriorFactorPose3(x(0), values.atPose3(x(0)), hold))
    graph.add(gtsam.PriorFactorPoint3(p(0), values.atPoint3(p(0)), gtsam.noiseModel.Isotropic.Sigma(3, 1e-3)))
    options = gtsam.LevenbergMarquardtParams()
    options.setlambdaInitial(1e-4)
    optimizer = gtsam.LevenbergMarquardtOptimizer(graph, values, options)
    optimizer.iterate()
    began = time.perf_counter()
    for _ in range(iterations):
        optimizer.iterate()
    return (time.perf_counter() - began) / iterations


def iteration_huge(iterations: int = 3) -> tuple[float, float]:
    """Return seconds an iteration of 2,000 cameras and 1,000,000 observations, and the process's peak in GiB.

    Focal length and k1 are free. It runs in a process of its own, so that the peak is its own.
    """
    script = (
        "import sys; from benchmarks.peak import peak_bytes; from benchmarks.speed import huge_seconds; "
        "print(huge_seconds(int(sys.argv[1])), peak_bytes())"
    )
    command = [sys.executable, "-c", script, str(iterations)]
    seconds, peak = subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()[-2:]
    return float(seconds), int(peak) / 1024**3


def huge_seconds(iterations: int) -> float:
    """Return seconds an iteration of the largest problem, the layout of its normal equations counted in."""
    free = ("focal", "k1")
    adjust(large_problem(8, 60, (4, 8), free=free), 2, 0.0)
    bundle = large_problem(2000, 10_100, (2, 200), free=free, step=0.01)
    began = time.perf_counter()
    adjust(bundle, iterations, -1.0)
    return (time.perf_counter() - began) / iterations
