"""Peak memory of the whole solve on 300 frames of 1920x1080."""

import resource
import subprocess
import sys
import tempfile
from pathlib import Path

import cv2

from amberkeel.core.plate.decode import write_png
from amberkeel.core.plate.plate import open_plate
from benchmarks.shots import FOLDER, shot_folder

FRAMES = 300


def run() -> None:
    """Print the peak memory of `./keel solve` in a process of its own."""
    folder = long_plate()
    with tempfile.TemporaryDirectory() as out:
        command = [sys.executable, "-m", "amberkeel.cli", "solve", str(folder), "--out", out]
        done = subprocess.run(command, capture_output=True, text=True)
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024**2
    print(f"\nPeak memory, 300 frames of 1920x1080: {peak:.2f} GiB (target 1.5); {(done.stdout or done.stderr).strip().splitlines()[-1]}")


def long_plate() -> Path:
    """SKL_010 scaled up and run there and back again until there are 300 frames."""
    folder = FOLDER / "long"
    if len(list(folder.glob("*.png"))) == FRAMES:
        return folder
    print("Making a long plate (once)", flush=True)
    folder.mkdir(parents=True, exist_ok=True)
    plate = open_plate(shot_folder("SKL_010") / "plate")
    count = len(plate.frames)
    for k in range(FRAMES):
        turn = k % (2 * count - 2)
        picture = plate.read(int(plate.frames[turn if turn < count else 2 * count - 2 - turn]))
        write_png(folder / f"long.{k + 1:04d}.png", cv2.resize(picture, (1920, 1080), interpolation=cv2.INTER_CUBIC))
    return folder
