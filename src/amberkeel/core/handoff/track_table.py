"""Tracks as CSV: name, frame, x, y, sigma, state.

Pixels, origin at the top left corner, y down, pixel centres at +0.5.
"""

import csv
import io
import math
from collections.abc import Iterator
from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.errors import FollowError
from amberkeel.core.foreign import Limits, guarded
from amberkeel.core.geometry.pixels import opencv_point
from amberkeel.core.plate.plate import Plate
from amberkeel.core.tracks import ACTIVE, AUTO, CHECK, EXCLUDED, HAND, TAG, TrackSet, from_pieces

COLUMNS = ("name", "frame", "x", "y", "sigma", "state")
TOP_LEFT, BOTTOM_LEFT = "top left", "bottom left"
ORIGINS = (TOP_LEFT, BOTTOM_LEFT)
DEFAULT_SIGMA_PX = 0.1
MOST_ROWS = 5_000_000
MOST_NAMED = 5

OUTSIDE = 0.02
"""Share of positions out of the picture from which the convention is doubted."""

TRIED = 60
"""Tracks, and pairs of frames, by which the convention is held against the pictures."""


def tracks_csv(tracks: TrackSet) -> str:
    """Return tracks as CSV, a row a sample."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for t, name in enumerate(tracks.names):
        for n in range(int(tracks.first[t]), int(tracks.first[t + 1])):
            x, y = tracks.xy[n]
            writer.writerow(
                [name, int(tracks.frames[n]), f"{x:.4f}", f"{y:.4f}", f"{tracks.sigma[n]:.4f}", tracks.states[t]]
            )
    return out.getvalue()


@dataclass(frozen=True)
class Extent:
    """What tracks must fit where the pictures are not at hand: frame numbers (F,), width and height in pixels."""

    frames: np.ndarray
    width: int
    height: int


def read_tracks_csv(text: str, plate: Plate | Extent, origin: str = TOP_LEFT) -> TrackSet:
    """Return tracks from CSV.

    Parameters
    ----------
    text : with a header that names at least name, frame, x and y, in any order; sigma and state may be left out.
    plate : whose frames and size the tracks must fit. origin : TOP_LEFT, or BOTTOM_LEFT where y rises upwards.

    Raises
    ------
    FollowError : no header, numbers that are none, frames outside the plate, a frame twice in one track, positions off
        the picture; each with its lines. Nothing is read in part.
    """
    if origin not in ORIGINS:
        raise FollowError(f"There is no origin “{origin}”.", f"Choose {' or '.join(ORIGINS)}.")
    return _read_table(text, Extent(np.array([plate.frames[0], plate.frames[-1]]), plate.width, plate.height), origin)


@guarded("This table of tracks", FollowError, Limits(seconds=60.0))
def _read_table(text: str, plate: Extent, origin: str) -> TrackSet:
    """Return what `read_tracks_csv` does."""
    rows = _rows(text)
    header = [h.strip().lower() for h in next(rows, [])]
    lacking = [c for c in COLUMNS[:4] if c not in header]
    if lacking:
        raise FollowError(
            f"The table has no column {', '.join(lacking)}.", f"Its first line must name {', '.join(COLUMNS)}."
        )
    at = {c: header.index(c) for c in COLUMNS if c in header}
    found: dict[str, dict[int, tuple]] = {}
    states: dict[str, str] = {}
    wrong: list[str] = []
    first, last = int(plate.frames[0]), int(plate.frames[-1])
    for line, row in enumerate(rows, 2):
        if not any(cell.strip() for cell in row):
            continue
        said = _row(row, at, first, last, found, states)
        if said:
            wrong.append(f"line {line}: {said}")
        if line > MOST_ROWS:
            raise FollowError(f"The table has more than {MOST_ROWS:,} lines.", "Split it.")
    if wrong:
        more = f", and {len(wrong) - MOST_NAMED} more" if len(wrong) > MOST_NAMED else ""
        raise FollowError(
            f"The table cannot be read: {'; '.join(wrong[:MOST_NAMED])}{more}.",
            "Mend these lines; nothing was brought in.",
        )
    if not found:
        raise FollowError("The table holds no tracks.")
    tracks = _tracks(found, states, plate, origin)
    _check_inside(tracks, plate)
    return tracks


def _rows(text: str) -> Iterator[list[str]]:
    """Yield the rows of a table, whatever ends its lines; raises FollowError where it is none."""
    try:
        # Bytes, since a StringIO keeps four of them a letter.
        lines = io.TextIOWrapper(io.BytesIO(text.lstrip("\ufeff").encode()), "utf-8", newline=None)
        yield from csv.reader(lines)
    except csv.Error as error:
        raise FollowError(f"That is no table ({error}).", "Give a CSV file with a row a sample.") from None


def _row(row: list[str], at: dict[str, int], first: int, last: int, found: dict, states: dict) -> str:
    """Take one row up; return what is wrong with it, or ""."""
    if len(row) <= max(at.values()):
        return "too few columns"
    name = row[at["name"]].strip()
    if not 1 <= len(name) <= 80:
        return "a name has 1 to 80 letters"
    try:
        frame, x, y = int(row[at["frame"]]), float(row[at["x"]]), float(row[at["y"]])
        sigma = float(row[at["sigma"]]) if "sigma" in at and row[at["sigma"]].strip() else DEFAULT_SIGMA_PX
    except ValueError:
        return "a number is none"
    if not all(map(math.isfinite, (x, y, sigma))):
        return "a number is not finite"
    if not first <= frame <= last:
        return f"frame {frame}, the plate runs {first}-{last}"
    if not 0.0 < sigma <= 100.0:
        return f"sigma {sigma:g} px"
    state = row[at["state"]].strip() or ACTIVE if "state" in at else ACTIVE
    if state not in (ACTIVE, CHECK, EXCLUDED):
        return f"state “{state}”"
    if states.setdefault(name, state) != state:
        return f"{name} has two states"
    if frame in found.setdefault(name, {}):
        return f"{name} has frame {frame} twice; two tracks of one name?"
    found[name][frame] = (x, y, sigma)
    return ""


def _tracks(found: dict, states: dict, plate: Extent, origin: str) -> TrackSet:
    pieces = []
    for samples in found.values():
        frames = np.array(sorted(samples))
        values = np.array([samples[f] for f in frames])
        xy = values[:, :2].copy()
        if origin == BOTTOM_LEFT:
            xy[:, 1] = plate.height - xy[:, 1]
        pieces.append((frames, xy, values[:, 2], np.ones(len(frames))))
    names = list(found)
    return from_pieces(names, pieces, [kind_of(name) for name in names], [states[name] for name in names])


def kind_of(name: str) -> str:
    """Return the kind that a track's name speaks of: tag, auto, or hand."""
    family, dash, number = name.split(".")[0].rpartition("-")
    if dash and number.isdecimal() and family[:1].isdigit() and "h" in family:
        return TAG
    return AUTO if name[:1] == "a" and name[1:5].isdecimal() else HAND


def _check_inside(tracks: TrackSet, plate: Extent) -> None:
    out = ((tracks.xy < 0) | (tracks.xy > [plate.width, plate.height])).any(1)
    if out.mean() > OUTSIDE:
        raise FollowError(
            f"{100 * out.mean():.0f} % of the places lie off the {plate.width}x{plate.height} picture.",
            "Is the table of another plate, in other units, or for a picture of another size?",
        )


def check_origin(tracks: TrackSet, plate: Plate, origin: str) -> None:
    """Hold tracks against the pictures, as stated and upside down; raises FollowError where the other way fits clearly
    better.

    A track shows the same spot on two frames a little apart; turned upside down it shows two different ones.

    Parameters
    ----------
    tracks : as read. plate : that they belong to. origin : where the table was said to count from.
    """
    spaced = [t for t in range(len(tracks)) if tracks.lengths[t] >= 3]
    chosen = spaced[:: max(1, len(spaced) // TRIED)][:TRIED]
    wanted: dict[int, list] = {}
    for t in chosen:
        r = tracks.rows(t)
        frames, xy = tracks.frames[r], tracks.xy[r]
        k = len(frames) // 2
        j = max(0, k - 4)
        wanted.setdefault(int(frames[j]), []).append((t, xy[j]))
        wanted.setdefault(int(frames[k]), []).append((t, xy[k]))
    cuts: dict[int, list] = {}
    for frame, positions in sorted(wanted.items()):
        gray = plate.gray(frame).astype(np.float32)
        for t, (x, y) in positions:
            cuts.setdefault(t, []).append(
                [cv2.getRectSubPix(gray, (13, 13), opencv_point(x, v)) for v in (y, plate.height - y)]
            )
    fits = np.array([[_alike(a[way], b[way]) for way in (0, 1)] for a, b in cuts.values()])
    if len(fits) >= 6 and np.median(fits[:, 1]) > np.median(fits[:, 0]) + 0.25:
        other = BOTTOM_LEFT if origin == TOP_LEFT else TOP_LEFT
        raise FollowError(
            f"These tracks fit the pictures when y is counted from the {other.split()[0]}, not the "
            f"{origin.split()[0]}.",
            f"Choose the origin “{other}”.",
        )


def _alike(a: np.ndarray, b: np.ndarray) -> float:
    a, b = a - a.mean(), b - b.mean()
    return float((a * b).sum() / max(np.sqrt((a * a).sum() * (b * b).sum()), 1e-6))
