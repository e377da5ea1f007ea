"""What a solve tells of its lens: values with sigmas, what goes together, what the shot cannot tell and what would."""

from dataclasses import dataclass, field, replace

import numpy as np
from numba import njit

from amberkeel.core.lens import Lens
from amberkeel.core.solve.bundle import Bundle, _Workspace
from amberkeel.core.solve.held_out import HeldOut
from amberkeel.core.solve.lens_terms import LENS_NAMES

FOCAL_WORTH = 0.03
"""Relative sigma of the focal length from which a shot does not tell it."""

CORNER_WORTH_PX = 1.5
"""Sigma of a coefficient's effect at the corner of the picture, pixels, from which a shot does not tell it."""

TOGETHER = 0.9
"""Correlation from which two values go together."""

DEPTH = "depth"


@dataclass(frozen=True)
class LensValue:
    """One value of the lens: its name, value, one sigma (0 where it was fixed), and whether the shot tells it."""

    name: str
    value: float
    sigma: float
    free: bool
    told: bool


@dataclass(frozen=True)
class LensReport:
    """Values of a solved lens.

    Attributes
    ----------
    values : focal length in pixels, k1, k2, k3, cx, cy in pixels. names, correlation : of the free ones and "depth", the
        distance of the set in travels of the camera. notes : plain sentences on what the shot does not tell.
    trials : the held-out test.
    """

    values: list[LensValue] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    correlation: np.ndarray = field(default_factory=lambda: np.zeros((0, 0)))
    notes: list[str] = field(default_factory=list)
    trials: list[HeldOut] = field(default_factory=list)

    def tried(self, trials: list[HeldOut]) -> "LensReport":
        """Return the report with the held-out test: a value is told where covariance and check tracks both say so."""
        silent = {t.name for t in trials if t.fair and not t.told}
        values = [replace(v, told=v.told and v.name not in silent) for v in self.values]
        return replace(self, values=values, trials=trials, notes=self.notes + _trial_notes(trials))

    def sigma(self, name: str) -> float:
        """Return one sigma of a value, 0 where it was fixed."""
        return next((v.sigma for v in self.values if v.name == name), 0.0)


@njit(cache=True, nogil=True)
def _depth_row(first, camera, weight, slots, lens_count, size, blocks, inverses, rhos, usual, row):
    """Fill `row` (size,) with the derivative of the mean log depth by the cameras and the lens; return its own variance."""
    lens_at, own, count = size - lens_count, 0.0, 0
    for p in range(len(rhos)):
        if rhos[p] > 0.1 * usual:
            count += 1
    for p in range(len(rhos)):
        if not rhos[p] > 0.1 * usual:
            continue
        share = 1.0 / (rhos[p] * count)
        own += share * share * inverses[p, 2, 2]
        for n in range(first[p], first[p + 1]):
            slot = slots[camera[n]]
            if slot < 0 or weight[n] == 0.0:
                continue
            for a in range(6):
                for b in range(3):
                    row[6 * slot + a] += share * inverses[p, 2, b] * blocks[n, a, b]
        for k in range(lens_count):
            for b in range(3):
                row[lens_at + k] += share * inverses[p, 2, b] * blocks[first[p], 6 + k, b]
    return own


def lens_report(bundle: Bundle, spread: np.ndarray, free: tuple[int, ...], held: Lens | None) -> LensReport:
    """Return the report of an adjusted bundle, all cameras free, with its covariance (6 F + L, 6 F + L)."""
    work = _Workspace(bundle)
    work.reduce(bundle, 0.0)
    count, size = len(free), work.size
    row = np.zeros(size)
    usual = float(np.median(bundle.rhos[bundle.rhos > 0.0])) if (bundle.rhos > 0.0).any() else 0.0
    own = _depth_row(bundle.first, bundle.camera, bundle.weight, work.slots, count, size, work.blocks, work.inverses, bundle.rhos, usual, row)
    shown = [k for k, q in enumerate(free) if q < len(LENS_NAMES)]
    rows = np.zeros((len(shown) + 1, size))
    for j, k in enumerate(shown):
        rows[j, size - count + k] = 1.0
    rows[-1] = row
    covariance = rows @ spread @ rows.T
    covariance[-1, -1] += own
    scale = np.sqrt(np.maximum(np.diagonal(covariance), 1e-30))
    correlation = np.clip(covariance / scale[:, None] / scale[None], -1.0, 1.0)
    names = [LENS_NAMES[free[k]] for k in shown] + [DEPTH]
    sigma = dict(zip(names, np.sqrt(np.maximum(np.diagonal(covariance), 0.0)).tolist()))
    values = _values(bundle, sigma, names, held)
    return LensReport(values, names, correlation, _notes(bundle, values, names, correlation))


def _values(bundle: Bundle, sigma: dict[str, float], names: list[str], held: Lens | None) -> list[LensValue]:
    lens, out = bundle.lens, []
    numbers = {"focal": lens[0], "k1": lens[4], "k2": lens[5], "k3": lens[6], "cx": lens[2], "cy": lens[3]}
    for name in LENS_NAMES:
        if held is not None and name.startswith("k"):
            continue
        s = sigma.get(name, 0.0)
        if name == "focal":
            told, s = s < FOCAL_WORTH, s * lens[0]
        elif name.startswith("k"):
            told = s * _corner(bundle, name) < CORNER_WORTH_PX
        else:
            told = s < 0.01 * 2 * lens[2]
        out.append(LensValue(name, float(numbers[name]), float(s), name in names, bool(told)))
    return out


def _notes(bundle: Bundle, values: list[LensValue], names: list[str], correlation: np.ndarray) -> list[str]:
    notes, tied = [], []
    for i in range(len(names)):
        for j in range(i):
            if abs(correlation[i, j]) > TOGETHER:
                tied.append((names[j], names[i], correlation[i, j]))
    for value in values:
        if value.told or not value.free:
            continue
        if value.name == "focal":
            notes.append(
                f"The shot hardly tells its focal length (±{100 * value.sigma / value.value:.1f} %). "
                "Axis lines, a filmed grid or a known focal length would settle it; so would a distance measured towards the camera."
            )
        elif value.name.startswith("k"):
            notes.append(
                f"The shot does not tell {value.name}: at the corner it may be off by "
                f"{value.sigma * _corner(bundle, value.name):.1f} px. Straight edges near the picture's border, or a filmed grid, would settle it."
            )
        else:
            notes.append(f"The shot does not tell the optical centre's {value.name[1]} (±{value.sigma:.0f} px). Hold it in the middle, or film a grid.")
    for a, b, r in tied:
        loose = [v for v in values if v.name in (a, b) and not v.told]
        if loose:
            notes.append(f"{_title(a)} and {_title(b).lower()} go together (correlation {r:+.2f}): the shot trades one for the other.")
    return notes


def _trial_notes(trials: list[HeldOut]) -> list[str]:
    """Say which values held-out tracks can do without although they could tell."""
    notes = []
    for trial in trials:
        if trial.told or not trial.fair:
            continue
        fit = f"tracks held out fit as well ({trial.after_px:.3f} px, {trial.before_px:.3f} px before)"
        if trial.name == "focal":
            notes.append(f"With the focal length {trial.words} and all else adjusted again, {fit}: the shot does not tell it. Draw axis lines, or film a grid.")
        else:
            notes.append(f"With {trial.name} {trial.words}, {fit}: the shot does not need it. Straight edges near the picture's border would tell it.")
    return notes


def _corner(bundle: Bundle, name: str) -> float:
    """Return how far one unit of a radial coefficient moves the picture's corner, pixels."""
    lens = bundle.lens
    reach = 0.5 * np.hypot(2 * lens[2], 2 * lens[3] / lens[1]) / lens[0]
    return float(lens[0] * reach ** (2 * int(name[1]) + 1))


def _title(name: str) -> str:
    return {"focal": "Focal length", DEPTH: "Depth of the set"}.get(name, name)
