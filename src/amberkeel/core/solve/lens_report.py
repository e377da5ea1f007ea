"""What a solve says of its lens: values with sigmas, what goes together, and what the shot does not determine."""

from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.lens import Lens
from amberkeel.core.solve import reasons
from amberkeel.core.solve.held_out import HeldOut
from amberkeel.core.solve.radial_lens import LENS_NAMES, RADIAL_NAMES, READOUT_NAME, RadialLens
from amberkeel.core.solve.reasons import Reason
from amberkeel.core.solve.uncertainty import Uncertainty

FOCAL_WORTH = 0.03
"""Relative sigma of the focal length from which a shot does not determine it."""

CORNER_WORTH_PX = 1.5
"""Sigma of a coefficient's effect at the corner of the picture, pixels, from which a shot does not determine it."""

CENTRE_WORTH = 0.01
"""Sigma of the optical centre, in widths of the picture, from which a shot does not determine it."""

READOUT_WORTH = 0.1
"""Sigma of the readout from which a shot does not determine it."""

TOGETHER = 0.9
"""Correlation from which two values go together."""


@dataclass(frozen=True)
class LensValue:
    """One value of the lens: its name, value, one sigma (0 where it was fixed), and whether the shot determines it."""

    name: str
    value: float
    sigma: float
    free: bool
    determined: bool


@dataclass(frozen=True)
class LensReport:
    """Values of a solved lens.

    Attributes
    ----------
    values : focal length in pixels, k1, k2, k3, cx, cy in pixels. names, correlation : of the free ones and "depth",
        the distance of the set in travels of the camera. notes : what the shot does not determine.
    trials : the held-out test.
    """

    values: list[LensValue] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    correlation: np.ndarray = field(default_factory=lambda: np.zeros((0, 0)))
    notes: list[Reason] = field(default_factory=list)
    trials: list[HeldOut] = field(default_factory=list)

    def tested(self, trials: list[HeldOut]) -> "LensReport":
        """Return the report with the held-out test: a value is determined where covariance and held-out tracks both
        say so.
        """
        silent = {t.name for t in trials if t.conclusive and not t.determined}
        values = [replace(v, determined=v.determined and v.name not in silent) for v in self.values]
        return replace(self, values=values, trials=trials, notes=self.notes + _trial_notes(trials))

    def noted(self, *notes: Reason) -> "LensReport":
        """Return the report with further notes."""
        return replace(self, notes=[*self.notes, *notes])

    def sigma(self, name: str) -> float:
        """Return one sigma of a value, 0 where it was fixed."""
        return next((v.sigma for v in self.values if v.name == name), 0.0)


def lens_report(lens: RadialLens, sure: Uncertainty, held: Lens | None) -> LensReport:
    """Return the report of a solved lens.

    Parameters
    ----------
    lens : as it was found. sure : how sure the solve is. held : the lens whose distortion was held, or None.
    """
    scale = np.sqrt(np.maximum(np.diagonal(sure.covariance), 1e-30))
    correlation = np.clip(sure.covariance / scale[:, None] / scale[None], -1.0, 1.0)
    values = [_value(lens, name, sure) for name in LENS_NAMES if held is None or name not in RADIAL_NAMES]
    names = list(sure.names)
    notes = _notes(lens, values, names, correlation)
    if lens.readout or READOUT_NAME in sure.names:
        sigma, free = sure.sigma(READOUT_NAME), READOUT_NAME in sure.names
        values.append(LensValue(READOUT_NAME, lens.readout, sigma, free, sigma < READOUT_WORTH))
    return LensReport(values, names, correlation, notes)


def _value(lens: RadialLens, name: str, sure: Uncertainty) -> LensValue:
    sigma = sure.sigma(name)
    if name == "focal":
        determined, sigma = sigma < FOCAL_WORTH, sigma * lens.focal
    elif name in RADIAL_NAMES:
        determined = sigma * _corner(lens, name) < CORNER_WORTH_PX
    else:
        determined = sigma < CENTRE_WORTH * 2 * lens.cx
    return LensValue(name, lens.value(name), sigma, name in sure.names, bool(determined))


def _notes(lens: RadialLens, values: list[LensValue], names: list[str], correlation: np.ndarray) -> list[Reason]:
    """Return what the shot does not determine, and which of that it trades for something else."""
    notes = [_undetermined(lens, value) for value in values if value.free and not value.determined]
    loose = {value.name for value in values if not value.determined}
    for i, name in enumerate(names):
        for j in range(i):
            if abs(correlation[i, j]) > TOGETHER and {names[j], name} & loose:
                figures = {"correlation": float(correlation[i, j])}
                notes.append(Reason(reasons.CORRELATED, (names[j], name), figures))
    return notes


def _undetermined(lens: RadialLens, value: LensValue) -> Reason:
    if value.name == "focal":
        return Reason(reasons.FOCAL_UNDETERMINED, figures={"sigma_percent": 100.0 * value.sigma / value.value})
    if value.name in RADIAL_NAMES:
        corner = value.sigma * _corner(lens, value.name)
        return Reason(reasons.RADIAL_UNDETERMINED, figures={"degree": float(value.name[1:]), "corner_px": corner})
    return Reason(reasons.CENTRE_UNDETERMINED, figures={"axis": float(value.name == "cy"), "sigma_px": value.sigma})


def _trial_notes(trials: list[HeldOut]) -> list[Reason]:
    """Return which values held-out tracks can do without although the test had the power to show otherwise."""
    return [
        Reason(reasons.HELD_OUT_FITS, (t.name,), {"share": t.share, "before_px": t.before_px, "after_px": t.after_px})
        for t in trials
        if t.conclusive and not t.determined
    ]


def _corner(lens: RadialLens, name: str) -> float:
    """Return how far one unit of a radial coefficient moves the picture's corner, pixels."""
    reach = 0.5 * np.hypot(2 * lens.cx, 2 * lens.cy / lens.aspect) / lens.focal
    return float(lens.focal * reach ** (2 * (RADIAL_NAMES.index(name) + 1) + 1))
