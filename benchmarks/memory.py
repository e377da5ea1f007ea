"""Peak memory of the whole solve on 300 frames of 1920x1080, and of following on 300 of 3840x2160."""

import subprocess
import sys
import tempfile
from pathlib import Path

import cv2

from amberkeel.core.pictures.write import write_png
from amberkeel.core.plate.plate import open_plate
from benchmarks.shots import FOLDER, shot_folder

FRAMES = 300


def run() -> None:
    """Print the peak memory of `./keel solve` and `./keel track`, each in a process of its own."""
    with tempfile.TemporaryDirectory() as out:
        done, peak = _peak("solve", str(long_plate("long", 2)), "--out", out)
        print(f"\nPeak memory, solving 300 frames of 1920x1080: {peak:.2f} GiB (target 1.5); {done}")
        done, peak = _peak("track", str(long_plate("huge", 4)), "--out", f"{out}/tracks.csv")
        print(f"Peak memory, following 400 features over 300 frames of 3840x2160: {peak:.2f} GiB (target 2); {done}")


def _peak(*arguments: str) -> tuple[str, float]:
    """Run the command line; return its last line and its peak memory in GiB."""
    script = (
        "import resource, sys, subprocess as s; r = s.run(sys.argv[1:], capture_output=True, text=True); "
        "print((r.stdout or r.stderr).strip().splitlines()[-1]); "
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    command = [sys.executable, "-c", script, sys.executable, "-m", "amberkeel.cli", *arguments]
    words, kibibytes = subprocess.run(command, capture_output=True, text=True).stdout.strip().splitlines()[-2:]
    return words, int(kibibytes) / 1024**2


def long_plate(name: str, scale: int) -> Path:
    """SKL_010 scaled up and run there and back again until there are 300 frames; repeated pictures are links."""
    folder = FOLDER / name
    if len(list(folder.glob("*.png"))) == FRAMES:
        return folder
    print("Making a long plate (once)", flush=True)
    folder.mkdir(parents=True, exist_ok=True)
    plate = open_plate(shot_folder("SKL_010") / "plate")
    count = len(plate.frames)
    for k in range(FRAMES):
        turn = k % (2 * count - 2)
        source = turn if turn < count else 2 * count - 2 - turn
        target = folder / f"long.{k + 1:04d}.png"
        if source < k:
            target.symlink_to(f"long.{source + 1:04d}.png")
            continue
        picture = plate.read(int(plate.frames[source]))
        write_png(target, cv2.resize(picture, None, fx=scale, fy=scale, interpolation=cv2.INTER_CUBIC))
    return folder
