"""Judge a camera that somebody else solved (USD, glTF, COLLADA, a table) by tracks of one's own.

python examples/judge_a_camera.py PLATE CAMERA TRACKS.csv
"""

import sys
from pathlib import Path

from amberkeel.core.handoff.judge import camera_for, judged
from amberkeel.core.handoff.track_table import Extent, read_tracks_csv
from amberkeel.core.plate.plate import open_plate


def main(plate_path: str, camera: str, table: str) -> None:
    """Print how well a camera fits."""
    plate = open_plate(plate_path)
    tracks = read_tracks_csv(Path(table).read_text(), Extent(plate.frames, plate.width, plate.height))
    found = judged(camera_for(Path(camera), plate), tracks)
    print(f"{found.rms_px:.3f} px RMS over {found.tracks} tracks, {100 * found.outliers:.1f} % do not agree")
    for frame, px in found.worst_frames(3):
        print(f"frame {frame}: {px:.2f} px")


if __name__ == "__main__":
    main(*sys.argv[1:])
