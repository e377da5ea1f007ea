"""Why a track does not count, and what a solve notes: codes with figures. Sentences are made where they are shown."""

from collections.abc import Mapping
from dataclasses import dataclass, field

DISAGREES = "disagrees"
"""A track that is an outlier as a whole. Figure: agree_share, of its measurements."""

CHECK_MOVES = "check-moves"
"""A check track that is an outlier as a whole. Figure: agree_share."""

FOCAL_UNDETERMINED = "focal-undetermined"
"""Figure: sigma_percent of the focal length."""

RADIAL_UNDETERMINED = "radial-undetermined"
"""Figures: degree (1 for k1), corner_px, one sigma of its effect at the picture's corner."""

CENTRE_UNDETERMINED = "centre-undetermined"
"""Figures: axis (0 for x), sigma_px."""

CORRELATED = "correlated"
"""Two values that the shot trades for one another. Names: both. Figure: correlation."""

HELD_OUT_FITS = "held-out-fits"
"""Tracks held out fit as well with a value put elsewhere. Names: the value. Figures: share, by how much the focal
length was changed (0 where a coefficient was put at 0), before_px, after_px.
"""

DEPTH_REVERSED = "depth-reversed"
"""The twin with depth reversed fits as well."""

OTHER_FOCAL = "other-focal"
"""A shot that alone has another focal length than together.

Names: the shot. Figures: alone_px, sigma_px, together_px.
"""


@dataclass(frozen=True)
class Reason:
    """A code, the names it speaks of, and its figures."""

    code: str
    names: tuple[str, ...] = ()
    figures: dict[str, float] = field(default_factory=dict)


def as_document(reason: Reason) -> dict:
    """Return a reason as plain values for JSON."""
    return {"code": reason.code, "names": list(reason.names), "figures": dict(reason.figures)}


def read_reason(document: Mapping) -> Reason:
    """Return a reason from plain values."""
    return Reason(document["code"], tuple(document["names"]), dict(document["figures"]))
