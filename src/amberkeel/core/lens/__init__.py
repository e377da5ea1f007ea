"""Lenses: the model, the evidence that tells it, and what is done with it."""

from amberkeel.core.lens.model import MM_PER_INCH, Lens, focal_px_from_mm

__all__ = ["MM_PER_INCH", "Lens", "focal_px_from_mm"]
