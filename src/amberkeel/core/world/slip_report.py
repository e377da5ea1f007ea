"""What measured slip says of a solve: places over the picture, what was expected of them, and whether that agrees."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.finding import CALM, NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.errors import WorldError
from amberkeel.core.world.planes import plane_under
from amberkeel.core.world.slip import MeasuredSlip, Spot
from amberkeel.core.world.slip_lens import CLEAR_SIGMAS, FocalSaid
from amberkeel.core.world.under import Sight, surface_under

COLUMNS, ROWS = 12, 7
"""Places over the picture on each frame that is looked at."""

LOOKED_AT = 0.1, 0.3, 0.5, 0.7, 0.9
"""Where in the shot those frames lie."""

EDGE_SHARE = 0.05
"""Rim of the picture that is left out, in its width."""

FLAT_PX = 1.5
"""How far points may lie off a plane for it to be a place's surface, pixels RMS."""

AGREES = 0.01
"""How far a proxy may lie from the plane through the points at a place to be its surface, over the distance."""

UNSEEN_PX = 0.15
"""Slip that nobody sees in a picture at its own size."""

DISAGREES = 2.5
"""How many times what the solve expects the usual slip must be for the two to disagree."""

MOST_FRAMES = 6

SLIPS, HOLDS = "slips", "holds"


def places(sight: Sight, covariance: np.ndarray | None) -> list[Spot]:
    """Return places over the picture on some frames: on planes through the solved points there, or proxies on them.

    Parameters
    ----------
    sight : any frame of the camera, in the world. covariance : (P, 3, 3) of its points, or None.
    """
    path, width, height = sight.path, sight.path.lens.width, sight.path.lens.height
    edge, out = EDGE_SHARE * width, []
    for share in LOOKED_AT:
        row = round(share * (len(path.frames) - 1))
        here = Sight(path, row, sight.solids, sight.ids, sight.xyz)
        for y in np.linspace(edge, height - edge, ROWS):
            for x in np.linspace(edge, width - edge, COLUMNS):
                found = _place(here, np.array([x, y]), covariance)
                if found is not None:
                    out.append(found)
    return out


def _place(sight: Sight, xy: np.ndarray, covariance: np.ndarray | None) -> Spot | None:
    """Return the place at a pixel: on the plane through the points there, or on a proxy that lies with it."""
    try:
        found = plane_under(sight.path, sight.row, xy, sight.xyz, covariance)
    except WorldError:
        return None
    if found.rms_px > FLAT_PX:
        return None
    try:
        on = surface_under(sight, xy, ground=False)
    except WorldError:
        return Spot(found.at, found.plane.normal, sight.row)
    away = float(np.linalg.norm(found.at - sight.path.positions[sight.row]))
    agrees = float(np.linalg.norm(on.xyz - found.at)) < AGREES * away
    return Spot(on.xyz, on.normal, sight.row) if agrees else Spot(found.at, found.plane.normal, sight.row)


@dataclass(frozen=True)
class SlipReport:
    """Measured slip beside what the solve expects: `expected` (S,) pixels RMS, NaN where unknown; `usual` and
    `usual_expected`, the middle ones of both, noise of the measuring in each; `focal`, what the places say of the focal
    length, or None.
    """

    measured: MeasuredSlip
    expected: np.ndarray
    usual: float
    usual_expected: float
    focal: FocalSaid | None = None


def report(
    measured: MeasuredSlip, predicted: np.ndarray, found: np.ndarray, focal: FocalSaid | None = None
) -> SlipReport:
    """Return measured slip beside what is predicted.

    Parameters
    ----------
    measured : slip. predicted : (S,) by the solve's covariance, pixels RMS, NaN where unknown. found : (S,) bool,
        places on surfaces that the points tell: what a person put in may stand where no surface is. focal : what they
        say of the focal length, or None.
    """
    noise = np.sqrt(2.0 * np.nanmean(measured.sigma**2, axis=1))
    expected = np.hypot(predicted, noise)
    own = found if found.any() else np.ones(len(expected), bool)
    middle = float(np.nanmedian(expected[own])) if np.isfinite(expected[own]).any() else float("nan")
    return SlipReport(measured, expected, float(np.nanmedian(measured.by_spot[own])), middle, focal)


def finding(told: SlipReport, path: CameraPath) -> Finding:
    """Return what measured slip says beside predicted slip, as a finding."""
    if told.focal is not None and told.focal.contradicts:
        return _wrong_focal(told, told.focal)
    by_frame, figures = told.measured.by_frame, {"slip_px": told.usual, "expected_px": told.usual_expected}
    count = len(told.measured.spots)
    known = np.isfinite(told.usual_expected)
    over = told.usual / max(told.usual_expected, 1e-6) if known else 1.0
    if told.usual < UNSEEN_PX or (known and over < DISAGREES):
        words = f"; {told.usual_expected:.2f} px were expected" if known else ""
        text = f"Places pinned to the set slip by {told.usual:.2f} px, measured at {count} places{words}."
        return Finding(HOLDS, CALM, 1.0, text, figures=figures)
    worst = np.argsort(-np.nan_to_num(by_frame))[:MOST_FRAMES]
    frames = tuple(sorted(int(path.frames[row]) for row in worst))
    beside = f", {over:.1f} times what the solve expects" if known else ""
    text = f"Places pinned to the set slip by {told.usual:.2f} px{beside}: the camera is worse than its residuals say."
    advice = Remedy(
        "advice", "Is the lens held wrongly, or do tracks of one thing that moves lead? Look at the worst frames."
    )
    serious = SERIOUS if told.usual > 3.0 * UNSEEN_PX else NOTABLE
    return Finding(SLIPS, serious, surety(over, DISAGREES) if known else 0.6, text, frames, (), (advice,), figures)


def _wrong_focal(told: SlipReport, focal: FocalSaid) -> Finding:
    """Return that the plate's own texture wants another focal length than the solve has."""
    more = "longer" if focal.share > 0.0 else "shorter"
    text = (
        f"The plate's texture at {len(told.measured.spots)} places wants a focal length of {focal.focal_px:.0f} px, "
        f"{100 * abs(focal.share):.1f} % {more} than the solve's ({abs(focal.sigmas):.1f} sigmas), though they slip by "
        f"{told.usual:.2f} px only: cameras and points have bent to fit."
    )
    figures = {"slip_px": told.usual, "focal_px": focal.focal_px, "focal_sigma_px": focal.sigma}
    remedy = Remedy("focal", "Solve with the focal length free")
    return Finding(SLIPS, SERIOUS, surety(abs(focal.sigmas), CLEAR_SIGMAS), text, (), (), (remedy,), figures)
