"""Follow and solve a plate, and hand its camera over as USD and glTF, each read back and proved.

python examples/solve_and_hand_over.py PLATE OUT
"""

import sys
from pathlib import Path

from amberkeel.core.follow.follow import follow_plate
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.package import PackageOrder, make_package
from amberkeel.core.handoff.recipient import Recipient
from amberkeel.core.handoff.scene import scene_of
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.solve.solve import solve_tracks


def main(plate_path: str, out: str) -> None:
    """Solve a plate and hand it over."""
    plate = open_plate(plate_path)
    tracks = follow_plate(plate)
    solution = solve_tracks(tracks, plate.frames, plate.width, plate.height)
    print(f"{solution.counts['tracks_used']} tracks, {solution.rms_px:.3f} px, check {solution.check_rms_px:.3f} px")
    scene = scene_of(solve_document(solution, plate=plate.name), sensor_mm=24.0, name=plate.name)
    recipient = Recipient(name="layout", formats=["usda", "glb"], unit="cm", plates="none")
    made = make_package(PackageOrder(recipient, scene, Path(out), {}))
    for proof in made.proofs:
        print(f"{proof.format} comes back within {proof.px:.4f} px")
    print(made.folder.name)


if __name__ == "__main__":
    main(*sys.argv[1:])
