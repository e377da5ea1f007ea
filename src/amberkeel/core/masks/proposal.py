"""What is proposed to be masked, whatever found it, with its evidence."""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from amberkeel.core.errors import MaskError

MOVING, SWAYING, CHANGING, SHADOW = "moving", "swaying", "changing", "shadow"
"""Kinds: what moves by itself; what does so in its place, as leaves and water; what only changes its look, as screens
and lights; and what only changes the light.
"""

REFLECTION, CROSSING = "reflection", "crossing"
"""Mirror images; corners that a near and a far edge make only in the picture."""

KINDS = (MOVING, SWAYING, CHANGING, SHADOW, REFLECTION, CROSSING)


def check_kinds(kinds: Iterable[str]) -> None:
    """Raise MaskError where one of them is none of `KINDS`."""
    for one in kinds:
        if one not in KINDS:
            raise MaskError(f"There is no kind “{one}”.", f"Choose of {', '.join(KINDS)}.")


TAILED = 12
"""Tracks of a proposal whose tails are found, as its evidence."""


@dataclass(frozen=True)
class Proposal:
    """A region that should not be followed.

    Attributes
    ----------
    kind : one of `KINDS`.
    frames : (K,) frames on which it is seen. masks : (K, H, W) bool at the plate's size, packed along the last axis.
    tracks : indices of the tracks that show it. tails : for some of them, index, frames (M,) and where the background,
        or for a reflection what is mirrored, would have them (M, 2).
    speed : median departure of those tracks in plate pixels a frame, NaN where not known.
    share : largest share of the picture that it fills. background : how the background moved.
    """

    kind: str
    frames: np.ndarray
    masks: np.ndarray
    width: int
    tracks: list[int]
    tails: list[tuple[int, np.ndarray, np.ndarray]]
    speed: float
    share: float
    background: str

    def mask(self, frame: int) -> np.ndarray | None:
        """Return the region at a frame as bool (H, W), or None where it is not seen."""
        k = int(np.searchsorted(self.frames, frame))
        if k >= len(self.frames) or self.frames[k] != frame:
            return None
        return np.unpackbits(self.masks[k], axis=-1, count=self.width).astype(bool)


def packed(
    kind: str, frames, masks: list[np.ndarray], tracks: list[int], tails, speed: float, background: str
) -> Proposal:
    """Return a proposal from its masks, bool (H, W) each, one for each of `frames`.

    Parameters
    ----------
    kind : what it is. frames : numbers. masks : (H, W) bool for each. tracks : rows of the tracks on it. tails :
        their paths. speed : pixels a frame that it moves against the background. background : the background's kind
        of motion.
    """
    share = max(float(m.mean()) for m in masks)
    return Proposal(
        kind,
        np.asarray(frames),
        np.packbits(np.array(masks), axis=-1),
        masks[0].shape[1],
        list(tracks),
        list(tails),
        speed,
        share,
        background,
    )
