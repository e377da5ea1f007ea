"""The sentences of what evidence says after a solve: what agrees, what fights, what all of it costs."""

from collections.abc import Sequence

from amberkeel.core.plate.sequence import runs_of
from amberkeel.core.solve.terms import COST, Figure

FIGHTS = 3.0
"""Sigmas from which a piece of evidence disagrees with the tracks or with another piece."""

OF_LENS = "lens"


def fights(figure: Figure) -> bool:
    """Return whether a piece of evidence disagrees with the rest."""
    return figure.kind not in (COST, OF_LENS) and abs(figure.sigmas) > FIGHTS


def evidence_sentence(figure: Figure) -> str:
    """Return what one piece of evidence says."""
    if figure.kind == COST:
        return f"With all constraints the tracks fit to {figure.found:.3f} px; without them to {figure.stated:.3f} px."
    unit = f" {figure.unit}" if figure.unit not in ("", "°") else figure.unit
    if figure.kind in ("distance", "angle", "swing-radius"):
        text = f"“{figure.name}” is {figure.found:.3f}{unit}, stated as {figure.stated:.3f}{unit}"
    else:
        text = f"“{figure.name}” is off by {figure.found:.3g}{unit} on the average"
    if not fights(figure):
        return f"{text}: {abs(figure.sigmas):.1f} sigma."
    worst = f", {figure.worst} most" if figure.worst else ""
    return (
        f"{text}: it disagrees by {abs(figure.sigmas):.0f} sigma{worst}. "
        "Measure it again, give it a wider sigma, or switch it off and compare."
    )


def missing_sentence(frames: Sequence[int], solved: Sequence[int]) -> str:
    """Return which frames a solve does not reach and what would join them, or "" where it reaches all.

    Parameters
    ----------
    frames : with tracks and without a camera. solved : frames with a camera.
    """
    if not len(frames):
        return ""
    runs = runs_of(int(f) for f in frames)
    said = ", ".join(f"{a}" if a == b else f"{a}–{b}" for a, b in runs)
    edge = runs[0][0] if runs[0][0] > int(solved[0]) else runs[0][1] + 1
    return (
        f"No camera was found for frames {said}: too few tracks carry across frame {edge}. "
        "What holds together is kept. Place a few long tracks across that frame by hand, then solve again from here."
    )
