"""A lens from an ST map that another program wrote: the model that comes closest to it, and how close that is.

A map says for each of its pixels where in the other picture it is sampled: S over that picture's width to the right, T
over its height upwards. Scale about the lens's axis is taken to be 1, as ST maps of one pixel density have it.
"""

from dataclasses import dataclass, replace
from itertools import product
from pathlib import Path

import numpy as np
from scipy.optimize import least_squares

from amberkeel.core.errors import LensError
from amberkeel.core.foreign import guarded
from amberkeel.core.lens.model import Lens
from amberkeel.core.lens.profile import LensProfile
from amberkeel.core.pictures.read import read_raw

STRAIGHTENS, BENDS = "undistort", "redistort"
WAYS = (STRAIGHTENS, BENDS)
"""What a map is for: its pixels are those of the straightened picture and sample the plate; or the other way round."""

SPOTS = 40
"""Pixels of a map, across and down, by which the lens is fitted."""

LEAST_SPOTS = 100

MODELS = {"radial": 3, "tangential": 5, "division": 1, "two-axis": 11}
"""Models that are tried, in their order, with the coefficients of each; "tangential" is radial and tangential."""

OFF_CENTRE = 0.2
"""How far from the picture's middle the lens's axis may lie, in widths and heights."""

MOST_SHAPE = 0.02
"""Relative difference of a map's shape from the plate's up to which it can be of the plate's picture."""

CLOSER = 0.7
"""Share of the simpler model's error below which one with more coefficients is taken."""

FINE_PX = 0.02
"""Error at which no further model is tried, pixels."""


@dataclass(frozen=True)
class FromMap:
    """A lens found from a map: its profile, and how far its map lies off the given one, pixels of the plate."""

    profile: LensProfile
    rms_px: float
    worst_px: float


def way_of(name: str) -> str:
    """Return what a map is for by its file's name; empty where it does not say."""
    lower = name.lower()
    if "undistort" in lower:
        return STRAIGHTENS
    return BENDS if "distort" in lower else STRAIGHTENS if "straight" in lower else ""


@guarded("This ST map", LensError)
def lens_of_map(
    path: Path, size: tuple[int, int], way: str, focal_px: float | None = None, pixel_aspect: float = 1.0
) -> FromMap:
    """Return the lens that an ST map is of.

    Parameters
    ----------
    path : of the map, float EXR or TIFF. size : (width, height) of the plate, pixels. way : one of `WAYS`. focal_px :
        focal length along x, pixels; a stand-in where None, with which the map of pixels is right all the same.
        pixel_aspect : width of a pixel over its height.

    Raises
    ------
    PlateError : no picture. LensError : no ST map, one of another picture, or of what no lens does.
    """
    if way not in WAYS:
        raise LensError(
            "Does this map straighten the plate, or bend a straightened picture?", f"Say which: {' or '.join(WAYS)}."
        )
    here, there = _spots(read_raw(Path(path), 2), size, way)
    first = Lens.centred(*size, focal_px or float(size[0]), 0.0, pixel_aspect)
    plain = np.concatenate([[0.5, 0.5], _corner(here, there, size, way), [1.0, 1.0] if way == BENDS else []])
    lens, off, found = _fitted(first, here, there, size, way, "radial", plain)
    # What axis and canvas the radial model found is no good start for every other one: both are tried.
    for model, begin in product(list(MODELS)[1:], (plain, found)):
        if _rms(off) < FINE_PX:
            break
        other, apart, _ = _fitted(first, here, there, size, way, model, begin)
        if _rms(apart) < CLOSER * _rms(off):
            lens, off = other, apart
    if lens.folds() is not None or _rms(off) > 0.02 * size[0]:
        raise LensError(f"No lens comes close to {Path(path).name}.", "Is it an ST map, and of this plate?")
    worst = float(np.linalg.norm(off, axis=1).max())
    said = f"The map is met to {_rms(off):.3f} px RMS, {worst:.2f} px at the most."
    profile = LensProfile(Path(path).stem[:80], lens, "map", focal_px is not None, notes=[said])
    return FromMap(profile, _rms(off), worst)


def _rms(off: np.ndarray) -> float:
    return float(np.sqrt((off**2).sum(1).mean()))


def _spots(given: np.ndarray, size: tuple[int, int], way: str) -> tuple[np.ndarray, np.ndarray]:
    """Return pixels (N, 2) of a map, and S and T (N, 2) there, T from the top, where it says anything."""
    high, wide = given.shape[:2]
    if given.dtype != np.float32 or given.ndim != 3 or given.shape[2] < 2:
        raise LensError("This is no ST map: it needs two channels of floating point.", "Give an EXR.")
    shape = (wide / high) / (size[0] / size[1])
    if way == BENDS and abs(shape - 1.0) > MOST_SHAPE:
        raise LensError(
            f"This map is {wide}x{high}, the plate {size[0]}x{size[1]}: it is not of its picture.",
            "A map that bends has the plate's size. Does it straighten?",
        )
    rows = np.unique(np.linspace(0, high - 1, SPOTS).astype(int))
    columns = np.unique(np.linspace(0, wide - 1, SPOTS).astype(int))
    st = given[np.ix_(rows, columns)][..., :2].astype(float).reshape(-1, 2)
    y, x = np.meshgrid(rows + 0.5, columns + 0.5, indexing="ij")
    here = np.stack([x.ravel(), y.ravel()], 1)
    if way == BENDS:
        here *= np.array(size) / [wide, high]
    known = np.isfinite(st).all(1) & (np.abs(st) < 4.0).all(1) & (st != 0.0).any(1)
    if way == STRAIGHTENS:
        known &= (st >= 0.0).all(1) & (st <= 1.0).all(1)
    if known.sum() < LEAST_SPOTS or np.ptp(st[known], axis=0).min() < 0.2:
        raise LensError("This is no ST map: S and T do not go over a picture.", "Give a map as 32 bit float.")
    return here[known], np.column_stack([st[known, 0], 1.0 - st[known, 1]])


def _fitted(
    first: Lens, here: np.ndarray, there: np.ndarray, size: tuple[int, int], way: str, model: str, begin: np.ndarray
) -> tuple[Lens, np.ndarray, np.ndarray]:
    """Return the lens with some of its coefficients free that comes closest, by how much it is off (N, 2), pixels of
    the plate, and what `begin` has become.

    Parameters
    ----------
    first : to begin from. here, there : as `_spots` has them. size : of the plate. way : of the map. model : one of
        `MODELS`. begin : the lens's axis in the plate (2,) and the plate's corner in the canvas (2,), for a map that
        bends the canvas's size too (2,): it is not known otherwise; all in sizes of the plate.
    """
    wide, high = size

    def lens_at(p: np.ndarray) -> Lens:
        lens = replace(first, principal_px=(p[0] * wide, p[1] * high))
        if model == "division":
            return replace(lens, division=float(p[4]))
        if model == "two-axis":
            return replace(lens, two_axis=tuple(p[4:14]), turn=float(p[14]))
        return replace(lens, radial=tuple(p[4:7]), tangential=tuple(p[7:9]) if model != "radial" else (0.0, 0.0))

    def off(p: np.ndarray) -> np.ndarray:
        lens, corner = lens_at(p), p[2:4] * [wide, high]
        if way == STRAIGHTENS:
            straight, bent = here - corner, there * [wide, high]
        else:
            straight, bent = there * p[-2:] * [wide, high] - corner, here
        normal = (straight - lens.principal_px) / np.array(lens.focal_px)
        return lens.distort(normal) * lens.focal_px + lens.principal_px - bent

    # Without any coefficient it would be another model.
    start = np.concatenate([begin[:4], np.full(MODELS[model], 1e-6), begin[4:]])
    low, most = np.full(len(start), -np.inf), np.full(len(start), np.inf)
    low[:2], most[:2] = 0.5 - OFF_CENTRE, 0.5 + OFF_CENTRE
    found = least_squares(
        lambda p: off(p).ravel(), np.clip(start, low, most), bounds=(low, most), x_scale="jac", ftol=1e-12,
        xtol=1e-12, gtol=1e-10, max_nfev=200,
    )  # fmt: skip
    return lens_at(found.x), off(found.x), np.delete(found.x, np.arange(4, 4 + MODELS[model]))


def _corner(here: np.ndarray, there: np.ndarray, size: tuple[int, int], way: str) -> np.ndarray:
    """Return about where the plate's corner lies in the canvas, in sizes of the plate: as the middle has it."""
    if way == BENDS:
        return np.zeros(2)
    middle = np.linalg.norm(there - 0.5, axis=1).argmin()
    return here[middle] / size - there[middle]
