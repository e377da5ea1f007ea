"""From a plate on disk to mattes of what moves by itself, without browser or database."""

from pathlib import Path

import numpy as np

from amberkeel.core.follow import follow_plate
from amberkeel.core.masks.mattes import write_mattes
from amberkeel.core.masks.moving import Proposal, what_moves
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.progress import Progress, span


def propose_plate(
    where: str, out: Path, frames: tuple[int, int] | None, kind: str, progress: Progress
) -> tuple[list[Proposal], list[Path]]:
    """Follow a plate, find what moves, and write one matte for every frame; return the proposals and the files."""
    plate = open_plate(where, frames)
    tracks = follow_plate(plate, progress=span(progress, 0.0, 0.2))
    found = what_moves(plate, tracks, progress=span(progress, 0.2, 0.95))
    written = write_mattes(out, f"{plate.name}_matte", plate.frames, union(found, plate.height, plate.width), kind, span(progress, 0.95, 1.0))
    return found, written


def union(proposals: list[Proposal], height: int, width: int):
    """Return a function from frame to bool (H, W): True where any of the proposals is."""

    def masked(frame: int) -> np.ndarray:
        out = np.zeros((height, width), bool)
        for proposal in proposals:
            region = proposal.mask(frame)
            if region is not None:
                out |= region
        return out

    return masked
