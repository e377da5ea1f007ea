"""The sentences of what a solve notes: one for each code of `solve.reasons`."""

from collections.abc import Callable, Mapping
from typing import Any

from amberkeel.core.solve import reasons
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.uncertainty import DEPTH

FOLDS_ALIKE = 1.3
"""Ratio of the residual when left out to that when used, over the one that is expected, up to which they say the same.
"""

TITLES = {"focal": "Focal length", DEPTH: "Depth of the set"}


def sentence(reason: Reason) -> str:
    """Return a reason as one or two plain sentences."""
    return SENTENCES[reason.code](reason.figures, reason.names)


def folds_alike(folds: Mapping[str, Any]) -> bool:
    """Return whether tracks left out fit nearly as well as when they are used."""
    expected = folds.get("expected", 1.0)
    return expected is None or folds["rms_px"] < FOLDS_ALIKE * expected * folds["used_rms_px"]


NOT_CHECKED = "not checked"
"""What is said of a camera that no track judged which did not serve to find it."""


def checked(value: float | None, digits: int = 3) -> str:
    """Return a check residual for people, pixels.

    Parameters
    ----------
    value : pixels; None, or the 0 of older files, where nothing was withheld. digits : after the point.
    """
    return f"{value:.{digits}f} px" if value else NOT_CHECKED


def folds_sentence(folds: Mapping[str, Any]) -> str:
    """Return what leaving out every track once found, as `FoldsDocument` has it."""
    rating = "the camera holds without any of them" if folds_alike(folds) else "the solve leans on single tracks"
    if folds.get("expected", 1.0) is None:
        rating = "of known points each one carries much"
    return (
        f"Each track left out once, in {folds['count']} parts: {folds['rms_px']:.3f} px when left out, "
        f"{folds['used_rms_px']:.3f} px when used; {rating}. {100 * folds['outlier_share']:.1f} % of the measurements "
        "agree only when they are used."
    )


def title(name: str) -> str:
    """Return a lens value's name for people."""
    return TITLES.get(name, name)


def _focal(f: dict, _names: tuple) -> str:
    return (
        f"The shot hardly tells its focal length (±{f['sigma_percent']:.1f} %). Axis lines, a filmed grid or a known "
        "focal "
        "length would settle it; so would a distance measured towards the camera."
    )


def _radial(f: dict, _names: tuple) -> str:
    return (
        f"The shot does not tell k{f['degree']:.0f}: at the corner it may be off by {f['corner_px']:.1f} px. "
        "Straight edges near the picture's border, or a filmed grid, would settle it."
    )


def _centre(f: dict, _names: tuple) -> str:
    axis = "xy"[int(f["axis"])]
    return (
        f"The shot does not tell the optical centre's {axis} (±{f['sigma_px']:.0f} px). "
        "Hold it in the middle, or film a grid."
    )


def _correlated(f: dict, names: tuple) -> str:
    a, b = names
    return (
        f"{title(a)} and {title(b).lower()} go together (correlation {f['correlation']:+.2f}): "
        "the shot trades one for the other."
    )


def _held_out(f: dict, names: tuple) -> str:
    fit = f"tracks held out fit as well ({f['after_px']:.3f} px, {f['before_px']:.3f} px before)"
    where = put_elsewhere(names[0], f["share"])
    if names[0] == "focal":
        return (
            f"With the focal length {where} and all else adjusted again, {fit}: the shot does not tell it. "
            "Draw axis lines, or film a grid."
        )
    return (
        f"With {names[0]} {where}, {fit}: the shot does not need it. "
        "Straight edges near the picture's border would tell it."
    )


def put_elsewhere(name: str, share: float) -> str:
    """Return where the held-out test put a value: the focal length by a share, a coefficient at 0."""
    if name != "focal":
        return "at 0"
    return f"{100 * abs(share):.0f} % {'longer' if share > 0.0 else 'shorter'}"


def _other_focal(f: dict, names: tuple) -> str:
    return (
        f"{names[0]} alone tells a focal length of {f['alone_px']:.0f} ±{f['sigma_px']:.0f} px, together it is "
        f"{f['together_px']:.0f} px: was it really the same lens at the same focal length?"
    )


SENTENCES: dict[str, Callable[[dict, tuple], str]] = {
    reasons.DISAGREES: lambda f, _: "disagrees with the camera",
    reasons.CHECK_MOVES: lambda f, _: "check track, moves on its own",
    reasons.FOCAL_UNDETERMINED: _focal,
    reasons.RADIAL_UNDETERMINED: _radial,
    reasons.CENTRE_UNDETERMINED: _centre,
    reasons.CORRELATED: _correlated,
    reasons.HELD_OUT_FITS: _held_out,
    reasons.DEPTH_REVERSED: lambda f, _: (
        "The shot does not tell near from far: with depth reversed and the camera moving the other way it fits as "
        "well. "
        "An anchored point, axis lines or a second shot would settle it."
    ),
    reasons.OTHER_FOCAL: _other_focal,
}
