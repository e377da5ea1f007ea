"""Lenses against the simulator's truth: drawn lines, filmed grids, automatic solves, and the speed of straightening."""

import time
from dataclasses import replace

import cv2
import numpy as np

from amberkeel.core.follow import follow_plate
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.lens.chart import calibrate
from amberkeel.core.lens.drawn import LensOrder, read_lines
from amberkeel.core.lens.fit import fit_lens
from amberkeel.core.lens.picture import FILTERS, Resampler, canvas_for, undistort_map
from amberkeel.core.lens.views import ChartOrder, find_views
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.grids import chess, filmed
from amberkeel.core.sim.render import surface_points, truth
from amberkeel.core.sim.shots import EDGES, SHOTS
from amberkeel.core.solve.held_lens import straight_px
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.world.true_slip import slip_px
from benchmarks.shots import shot_folder

DRAWS = 40
CENTRE_GRID = (25, 15)


def run() -> None:
    """Print the tables."""
    lines()
    solves()
    chart()
    straighten()


def map_error(found: Lens, true: Lens, scaled: bool) -> float:
    """Return the RMS distance of straightened positions over the picture, pixels; `scaled` about the best scale."""
    x, y = np.meshgrid(np.linspace(0, true.width, CENTRE_GRID[0]), np.linspace(0, true.height, CENTRE_GRID[1]))
    px = np.stack([x, y], -1).reshape(-1, 2)
    a, b = straight_px(found, px) - true.principal_px, straight_px(true, px) - true.principal_px
    scale = (a * b).sum() / (a * a).sum() if scaled else 1.0
    return float(np.sqrt(((scale * a - b) ** 2).sum(1).mean()))


def lines() -> None:
    """Straight edges and axis lines drawn on the first frame, many times over."""
    print(f"\n{DRAWS} draws of 0.3 px noise on one frame")
    for name in ("SKL_020", "SKL_040"):
        shot = SHOTS[name](samples=1)
        path, frame = truth(shot), int(shot.frames[0])
        order, true = LensOrder(shot.lens.width, shot.lens.height), shot.lens
        rows = []
        for seed in range(DRAWS):
            drawn, late = (
                read_lines(drawn_lines(shot, EDGES[name](), int(f), seed=seed + own), true.width, true.height)
                for f, own in ((frame, 0), (shot.frames[-1], DRAWS))
            )
            found = fit_lens(drawn, order)
            alone, both = (fit_lens([replace(line, axis="") for line in some], order) for some in (drawn, drawn + late))
            error = found.lens.focal_px[0] / true.focal_px[0] - 1.0
            up = np.degrees(np.arccos(np.clip(found.rotations[frame][1] @ path.world_from_camera[0][1], -1.0, 1.0)))
            rows.append(
                (
                    error,
                    error * found.lens.focal_px[0] / found.focal_sigma_px,
                    up,
                    map_error(alone.lens, true, False),
                    map_error(both.lens, true, False),
                    map_error(both.lens, true, True),
                )
            )
        error, score, up, single, plain, scaled = np.array(rows).T
        print(
            f"{name}: focal error {100 * np.sqrt((error**2).mean()):.2f} % RMS, {100 * np.abs(error).max():.2f} % at "
            "most (target 2 %); "
            f"within two sigma {100 * (np.abs(score) < 2).mean():.0f} % (95 %); horizon {up.mean():.3f}°, "
            f"{up.max():.3f}° at most (0.3°)"
        )
        print(
            f"         straight edges alone, first and last frame as in the demo: map {plain.mean():.2f} px RMS "
            "(target 0.5 px on SKL_020), "
            f"{scaled.mean():.2f} px about the best scale; first frame alone {single.mean():.2f} px"
        )


def solves() -> None:
    """The automatic solve, distortion unknown."""
    for name in ("SKL_020", "SKL_040"):
        shot, plate = SHOTS[name](), open_plate(shot_folder(name) / "plate")
        solution = solve_tracks(follow_plate(plate), plate.frames, plate.width, plate.height)
        slip = slip_px(solution.path, truth(shot), *surface_points(shot, 400))
        focal = 100 * (solution.path.lens.focal_px[0] / shot.lens.focal_px[0] - 1.0)
        k = ", ".join(f"{v:+.4f}" for v in solution.path.lens.radial if v)
        print(
            f"{name} solved: focal {focal:+.2f} % (target 1 %), k {k}, slip {np.sqrt(np.nanmean(slip**2)):.3f} px "
            "(target 0.2)"
        )


def chart() -> None:
    """A simulated chessboard on fourteen pictures."""
    lens = replace(Lens.centred(960, 540, 900.0), radial=(-0.12, 0.04, 0.0), principal_px=(486.0, 266.0))
    rng = np.random.default_rng(5)
    pictures = []
    for k in range(14):
        rotation = rotation_exp(np.array([rng.uniform(-0.6, 0.6), rng.uniform(-0.6, 0.6), rng.uniform(-0.3, 0.3)]))
        shift = np.array([rng.uniform(-80, 80), rng.uniform(-30, 30), rng.uniform(330, 450)]) - rotation @ np.array(
            [112.5, 75.0, 0.0]
        )
        pictures.append((f"grid {k}", filmed(lens, rotation, shift, chess(), rng)))
    order = ChartOrder(9, 6, 25.0)
    views, (width, height) = find_views(pictures, order)
    found = calibrate(views, width, height, order)
    focal = 100 * (found.lens.focal_px[0] / 900.0 - 1.0)
    print(
        f"Chart, {len(views)} views: focal {focal:+.3f} % (target 0.2 %), map "
        f"{map_error(found.lens, lens, False):.3f} px (target 0.1), RMS {found.rms_px:.3f} px"
    )


def straighten(repeats: int = 20) -> None:
    """Straightening against OpenCV's remap with the same filter, and a drag's fit."""
    lens = replace(Lens.centred(1920, 1080, 1280.0), radial=(-0.15, 0.03, 0.0))
    positions = undistort_map(lens, canvas_for(lens, "same"))
    picture, at = (
        np.random.default_rng(1).integers(0, 255, (1080, 1920, 3), np.uint8),
        (positions - 0.5).astype(np.float32),
    )
    x, y, ours = np.ascontiguousarray(at[..., 0]), np.ascontiguousarray(at[..., 1]), Resampler(positions)

    def seconds(work) -> float:
        work()
        began = time.perf_counter()
        for _ in range(repeats):
            work()
        return (time.perf_counter() - began) / repeats

    bare = seconds(lambda: cv2.remap(picture, x, y, FILTERS["cubic"]))
    share = bare / seconds(lambda: ours(picture))
    print(f"Straightening 1920x1080: {share:.2f} of the speed of OpenCV's remap (target 0.7)")
    shot = SHOTS["SKL_040"](samples=1)
    drawn = read_lines(drawn_lines(shot, EDGES["SKL_040"](), int(shot.frames[0])), 960, 540)
    first = fit_lens(drawn, LensOrder(960, 540))
    print(
        f"A drag's fit: {1.0 / seconds(lambda: fit_lens(drawn, LensOrder(960, 540), first)):.0f} a second (target "
        "30, with the page's own work)"
    )
