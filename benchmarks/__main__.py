"""`./keel bench [PART…]`, a part being one of `PARTS`: each line with its figure and its target."""

import sys

from benchmarks import (
    accuracy,
    apart,
    bodies,
    diagnosis,
    faults,
    few,
    handoff,
    hostile,
    known,
    lens,
    load,
    masks,
    memory,
    motions,
    repairs,
    speed,
    surveyed,
    ties,
    tracks,
    world,
)

PARTS = {
    "accuracy": accuracy.run,
    "motions": motions.run,
    "known": known.run,
    "few": few.run,
    "apart": apart.run,
    "surveyed": surveyed.run,
    "tracks": tracks.run,
    "lens": lens.run,
    "bodies": bodies.run,
    "ties": ties.run,
    "handoff": handoff.run,
    "masks": masks.run,
    "speed": speed.run,
    "memory": memory.run,
    "faults": faults.run,
    "load": load.run,
    "hostile": hostile.run,
    "diagnosis": diagnosis.run,
    "repairs": repairs.run,
    "world": world.run,
}


def main() -> None:
    """Run the parts named on the command line, or all."""
    wanted = sys.argv[1:] or list(PARTS)
    unknown = [w for w in wanted if w not in PARTS]
    if unknown:
        sys.exit(f"There is no part “{unknown[0]}”; choose of {', '.join(PARTS)}.")
    for name in wanted:
        PARTS[name]()


if __name__ == "__main__":
    main()
