"""What a solve is asked to do."""

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from amberkeel.core.camera import CameraPath
from amberkeel.core.lens import Lens
from amberkeel.core.solve.lens_plan import FIXED, LensChoice, LensPlan, lens_plan

if TYPE_CHECKING:
    from amberkeel.core.solve.evidence.statement import Constraint

ROWS = AUTO_ROWS, NO_ROWS, KNOWN_ROWS = "auto", "off", "known"

STARTS = JERKIEST, HAND_FIRST, KNOWN = "jerkiest", "hand", "known"

MOST_WEIGHT = 100.0
"""By what factor a kind of track may count more, at the most."""


@dataclass(frozen=True)
class Recipe:
    """What a solve is asked to do.

    Attributes
    ----------
    motion : one of `MOTIONS`. distortion : "estimate" (k1, and k2 and k3 where the shot determines
        them) or "none".
    focal_px : known focal length along x in pixels, or None. pixel_aspect : width of a pixel over its height.
    lens : by name (focal, k1, k2, k3, cx, cy) what is free, soft or fixed, beyond the above.
    held_lens : a lens whose distortion is held as a map of pixels; its focal length counts only by `lens`.
    zoom : whether the focal length changes over frames, smoothly.
    shared_with : names of the other shots that were solved with the same lens in one adjustment.
    rows : whether the shutter may be a rolling one: "auto" (tried where residuals betray it), "off", or "known", the
        `readout` being given: the share of the frame interval from the first row to the last; where `readout_sigma` is
        above 0 it is held softly.
    begin : a camera that was found before, from which this one is refined; None to begin afresh.
    within : first and last frame that a refinement may change, the lens and all other cameras being held; None for all.
    weights : by kind of track, by what factor its weight (one over sigma) is raised.
    evidence : what is known of the set and of the camera's path. fps : frames a second, for what is known of the path.
    folds : parts of the tracks that are left out in turn after the solve, to judge all of them; 0 for none.
    start : two frame numbers to begin from, "jerkiest" for two on either side of the jerkiest part, "hand" for the
        tracks led by hand and the tags alone, "known" for points whose coordinates are known, or None for what is found
        best.
    radius : of the sphere on which the points of a camera that does not move are put, metres.
    check_share : share of tracks withheld. seed : of every random choice.
    """

    motion: str = "auto"
    distortion: str = "estimate"
    focal_px: float | None = None
    pixel_aspect: float = 1.0
    check_share: float = 0.1
    seed: int = 0
    lens: dict[str, LensChoice] = field(default_factory=dict)
    held_lens: Lens | None = None
    zoom: bool = False
    shared_with: tuple[str, ...] = ()
    readout: float | None = None
    rows: str = AUTO_ROWS
    evidence: "tuple[Constraint, ...]" = ()
    fps: float = 24.0
    begin: CameraPath | None = None
    folds: int = 0
    radius: float = 10.0
    start: tuple[int, int] | str | None = None
    within: tuple[int, int] | None = None
    weights: dict[str, float] = field(default_factory=dict)
    readout_sigma: float = 0.0

    def plan(self, width: int, height: int) -> LensPlan:
        """Return what the solve may do with the lens of a picture of `width` x `height` pixels."""
        choices = dict(self.lens)
        if self.focal_px:
            choices.setdefault("focal", LensChoice(FIXED, self.focal_px))
        if self.held_lens:
            cx, cy = self.held_lens.principal_px
            choices |= {"cx": LensChoice(FIXED, cx), "cy": LensChoice(FIXED, cy)}
        return lens_plan(
            choices, width, height, self.pixel_aspect, self.distortion == "estimate" and not self.held_lens
        )
