"""All that is proposed to be masked on a plate, and its mattes; from files too, without browser or database."""

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np

from amberkeel.core.masks.crossings import find_crossings
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.mattes import write_mattes
from amberkeel.core.masks.mirrors import find_reflections
from amberkeel.core.masks.moving import what_moves
from amberkeel.core.masks.proposal import (
    CHANGING,
    CROSSING,
    MOVING,
    REFLECTION,
    SHADOW,
    SWAYING,
    TAILED,
    Proposal,
    check_kinds,
)
from amberkeel.core.masks.some_tracks import more_tracks
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.tracks import TrackSet

ONE_NOUN = {
    MOVING: "region that moves by itself", SWAYING: "region that moves in its place",
    CHANGING: "region that changes its look", SHADOW: "shadow", REFLECTION: "reflection",
    CROSSING: "set of false corners",
}  # fmt: skip
NOUN = {
    MOVING: "regions that move by themselves", SWAYING: "regions that move in their places",
    CHANGING: "regions that change their look", SHADOW: "shadows", REFLECTION: "reflections",
    CROSSING: "sets of false corners",
}  # fmt: skip

USUAL = (MOVING, SWAYING, REFLECTION, CROSSING)
"""Kinds that are masked where nobody chooses: light and look alone let features be followed."""


def propose(
    plate: Plate,
    tracks: TrackSet,
    masked: Callable[[int], np.ndarray] | None = None,
    progress: Progress = silent,
    flows: FlowReader | None = None,
    more: Callable[[], TrackSet] | None = None,
    tailed: int = TAILED,
) -> tuple[list[Proposal], dict[int, np.ndarray]]:
    """Return what should be masked: what moves by itself, reflections, false corners, in this order; and by frame which
    spots (gh, gw) move.

    Parameters and errors are those of `what_moves`.

    Parameters
    ----------
    plate : whose pictures are looked at. tracks : followed on it. masked : from frame number to (H, W) bool, or
        None. progress : called with the share done. flows : of the plate, perhaps begun already, or None.
    more : follows more features, for where no camera explains these: proposals then have tracks of its own.
    tailed : tracks of the false corners of which it is told where the background would have taken them, at the most.
    """
    moving = what_moves(plate, tracks, masked, span(progress, 0.0, 0.9), flows=flows, more=more)
    background, tracks = moving.background, moving.tracks
    own = np.zeros(len(tracks), bool)
    own[[t for p in moving.proposals for t in p.tracks]] = True
    reflections = find_reflections(plate, tracks, background, span(progress, 0.9, 0.95))
    mirrored = own.copy()
    mirrored[[t for p in reflections for t in p.tracks]] = True
    crossings = find_crossings(plate, tracks, mirrored, background, span(progress, 0.95, 1.0), tailed)
    return moving.proposals + reflections + crossings, moving.bodies


def in_words(proposals: list[Proposal]) -> str:
    """Return how many of which kind were found, as a sentence."""
    counts = [(k, sum(p.kind == k for p in proposals)) for k in NOUN]
    parts = [f"{n} {(ONE_NOUN if n == 1 else NOUN)[k]}" for k, n in counts if n]
    return f"Found {', '.join(parts)}." if parts else "Nothing was found that should be masked."


def propose_plate(
    flows: FlowReader,
    tracks: TrackSet,
    out: Path,
    kind: str,
    progress: Progress,
    kinds: Sequence[str] = USUAL,
) -> tuple[list[Proposal], list[Path]]:
    """Find what to mask on a plate, and write one matte for every frame; return the proposals and the files.

    Parameters
    ----------
    flows : of the plate, perhaps begun already. tracks : of `some_tracks`. out : folder to write to.
    kind : "png" or "exr". progress : called with the share done. kinds : of proposals that are masked.

    Raises
    ------
    MaskError : there is no such kind.
    """
    check_kinds(kinds)
    plate = flows.plate
    share = span(progress, 0.0, 0.94)
    every, _ = propose(plate, tracks, progress=share, flows=flows, more=lambda: more_tracks(plate), tailed=0)
    found = [p for p in every if p.kind in kinds]
    written = write_mattes(
        out,
        f"{plate.name}_matte",
        plate.frames,
        union(found, plate.height, plate.width),
        kind,
        span(progress, 0.94, 1.0),
    )
    return found, written


def union(proposals: list[Proposal], height: int, width: int):
    """Return a function from frame to bool (H, W): True where any of the proposals is.

    Parameters
    ----------
    proposals : to join. height, width : of the picture, pixels.
    """

    def masked(frame: int) -> np.ndarray:
        out = np.zeros((height, width), bool)
        for proposal in proposals:
            region = proposal.mask(frame)
            if region is not None:
                out |= region
        return out

    return masked
