"""Measured slip as it is kept with an attempt: in the solve's coordinates, so that another datum changes nothing."""

import json
from dataclasses import dataclass

import numpy as np

from amberkeel.core.world.datum import Datum
from amberkeel.core.world.slip_report import SlipReport
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt


@dataclass(frozen=True)
class KeptSlip:
    """Places with their slip: `xyz` (S, 3) of the solve, `rows` (S,) of its path on which each was looked at first,
    `px` (S, F, 2), `sigma` (S, F), `expected` (S,) and `names`, "" for those that the program chose.
    """

    xyz: np.ndarray
    rows: np.ndarray
    px: np.ndarray
    sigma: np.ndarray
    expected: np.ndarray
    names: list[str]
    said: dict


def keep_slip(media: Media, told: SlipReport, datum: Datum, names: list[str], said: dict) -> str:
    """Keep measured slip; return where.

    Parameters
    ----------
    media : the folder. told : measured in the datum's world. datum : of it. names : of the places. said : the finding.
    """
    spots = told.measured.spots
    return media.put_arrays(
        xyz=datum.back(told.measured.xyz), rows=np.array([spot.row for spot in spots]),
        px=told.measured.px.astype(np.float32), sigma=told.measured.sigma.astype(np.float32),
        expected=told.expected.astype(np.float32), names=np.array(names, str), said=np.array(json.dumps(said), str),
    )  # fmt: skip


def slip_of(media: Media, attempt: Attempt) -> KeptSlip | None:
    """Return what was measured on an attempt, None where nothing was."""
    if not attempt.slip:
        return None
    kept = media.get_arrays(attempt.slip)
    return KeptSlip(
        kept["xyz"], kept["rows"], kept["px"].astype(float), kept["sigma"].astype(float),
        kept["expected"].astype(float), kept["names"].tolist(), json.loads(str(kept["said"])),
    )  # fmt: skip
