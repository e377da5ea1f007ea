"""The scene's scale from measured lengths, balanced against each other."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.errors import WorldError

TAPE_SHARE, TAPE_METRES = 0.005, 0.002
"""One sigma of a length where none is stated: a share of it, and metres; what a tape on set gives."""

LEAST_ROBUST, CAUCHY = 3, 2.0
"""Lengths from which one may be wrong; sigmas from which it counts less."""

CONTRADICTS = 3.0
"""Sigmas from which a length contradicts the others."""

ROUNDS = 50


@dataclass(frozen=True)
class Scale:
    """A scale and what each length says of it.

    Attributes
    ----------
    factor : metres a unit of the solve. sigma : one sigma of it, as a share. found : (K,) the lengths as they come out,
    metres. share : (K,) by how much that is more than stated. sigmas : (K,) the same over what is expected. contradicts
    : (K,) bool.
    """

    factor: float
    sigma: float
    found: np.ndarray
    share: np.ndarray
    sigmas: np.ndarray
    contradicts: np.ndarray


def tape_sigma(metres: float) -> float:
    """Return one sigma of a length, metres, where none is stated."""
    return float(np.hypot(TAPE_SHARE * metres, TAPE_METRES))


def balance(units: np.ndarray, sigma_units: np.ndarray, metres: np.ndarray, sigma_metres: np.ndarray) -> Scale:
    """Return the scale by which lengths in the solve agree best with those stated: least squares of their logarithms,
    with Cauchy's weights where there are three or more.

    Parameters
    ----------
    units, sigma_units : (K,) lengths in the solve's unit, K >= 1. metres, sigma_metres : (K,) as stated.

    Raises
    ------
    WorldError : a length is nothing in the solve.
    """
    if (units <= 1e-9).any():
        raise WorldError("The two points for the scale are one and the same.", "Choose two points well apart.")
    ratio = np.log(metres / units)
    sigma = np.hypot(sigma_metres / metres, sigma_units / units)
    weights = np.ones(len(ratio))
    middle = float(np.median(ratio))
    for _ in range(ROUNDS if len(ratio) >= LEAST_ROBUST else 1):
        if len(ratio) >= LEAST_ROBUST:
            weights = 1.0 / (1.0 + ((ratio - middle) / (CAUCHY * sigma)) ** 2)
        held = weights / sigma**2
        before, middle = middle, float((held @ ratio) / held.sum())
        if abs(middle - before) < 1e-12:
            break
    factor = float(np.exp(middle))
    apart = (middle - ratio) / sigma
    found = factor * units
    # With two lengths neither is the wrong one: both bear half of what they disagree by.
    limit = CONTRADICTS if len(ratio) >= LEAST_ROBUST else CONTRADICTS / np.sqrt(2.0)
    return Scale(
        factor, float(1.0 / np.sqrt((weights / sigma**2).sum())), found, found / metres - 1.0, apart,
        np.abs(apart) > limit,
    )  # fmt: skip
