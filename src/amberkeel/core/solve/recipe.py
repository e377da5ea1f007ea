"""What a solve is asked to do."""

from dataclasses import dataclass, field

from amberkeel.core.lens import Lens
from amberkeel.core.solve.lens_terms import FIXED, LensPlan, LensTerm, lens_plan


@dataclass(frozen=True)
class Recipe:
    """What a solve is asked to do.

    Attributes
    ----------
    motion : "auto", "free" or "nodal". distortion : "estimate" (k1, and k2 and k3 where the shot tells them) or "none".
    focal_px : known focal length along x in pixels, or None. pixel_aspect : width of a pixel over its height.
    terms : by name (focal, k1, k2, k3, cx, cy) what is free, soft or fixed, beyond the above.
    held_lens : a lens whose distortion is held as a map of pixels; its focal length counts only by `terms`.
    zoom : whether the focal length changes over frames, smoothly.
    shared_with : names of the other shots that were solved with the same lens in one adjustment.
    check_share : share of tracks withheld. seed : of every random choice.
    """

    motion: str = "auto"
    distortion: str = "estimate"
    focal_px: float | None = None
    pixel_aspect: float = 1.0
    check_share: float = 0.06
    seed: int = 0
    terms: dict[str, LensTerm] = field(default_factory=dict)
    held_lens: Lens | None = None
    zoom: bool = False
    shared_with: tuple[str, ...] = ()

    def plan(self, width: int, height: int) -> LensPlan:
        """Return what the solve may do with the lens."""
        terms = dict(self.terms)
        if self.focal_px:
            terms.setdefault("focal", LensTerm(FIXED, self.focal_px))
        if self.held_lens:
            cx, cy = self.held_lens.principal_px
            terms |= {"cx": LensTerm(FIXED, cx), "cy": LensTerm(FIXED, cy)}
        return lens_plan(terms, width, height, self.pixel_aspect, self.distortion == "estimate" and not self.held_lens)
