"""Accuracy shot by shot: slip and focal length of automatic solves against the simulator's truth."""

import numpy as np

from amberkeel.core.follow import follow_plate
from amberkeel.core.masks.moving import what_moves
from amberkeel.core.masks.propose import union
from amberkeel.core.plate.plate import matte_reader, open_plate
from amberkeel.core.sim.render import surface_points, truth
from amberkeel.core.sim.slipway import slipway
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.world.true_slip import slip_px
from benchmarks.shots import shot_folder

POINTS = 400


def run() -> None:
    """Print the accuracy table."""
    folder = shot_folder("SKL_010")
    shot = slipway()
    path, (xyz, seen) = truth(shot), surface_points(shot, POINTS)
    plate = open_plate(folder / "plate")
    print("\nshot      masked   slip RMS  worst 5%   target   focal error  stated sigma   target    RMS   check")
    first = follow_plate(plate)
    proposed = union(what_moves(plate, first).proposals, plate.height, plate.width)
    given = matte_reader(folder / "mattes", plate)
    for name, mattes, target in (("nothing", None, 0.25), ("proposed", proposed, 0.12), ("mattes", given, 0.12)):
        solution = solve_tracks(
            first if mattes is None else follow_plate(plate, mattes=mattes), plate.frames, plate.width, plate.height
        )
        slip = slip_px(solution.path, path, xyz, seen)
        rms = np.sqrt(np.nanmean(slip**2))
        focal, true = solution.path.lens.focal_px[0], path.lens.focal_px[0]
        word = "met" if rms <= target and abs(focal / true - 1) <= 0.01 else "MISSED"
        print(
            f"SKL_010   {name:8s} {rms:6.3f} px {np.nanpercentile(slip, 95):6.3f} px  {target:.2f} px"
            f"   {100 * (focal / true - 1):+8.3f} %    {100 * solution.focal_sigma_px / focal:8.3f} %   1.00 %"
            f"  {solution.rms_px:.3f}  {solution.check_rms_px:.3f}  {word}"
        )
