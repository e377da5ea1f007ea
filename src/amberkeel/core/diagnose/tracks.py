"""Single tracks that lie: a jump, a slow drift, sliding along an edge, an end that went astray.

A track's residuals are compared with its own noise, and with what the other tracks of the shot do: real following has
heavier tails than any stated noise, and only what stands out from the shot's own tracks is told.
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.diagnose.courses import (
    COLUMNS,
    DRIFT_OVER,
    DRIFT_SHARE,
    DRIFT_SIZE,
    END_FROM,
    END_SIZE,
    END_TO,
    MAD,
    NOISE,
    STEP_AT,
    STEP_OVER,
    STEP_SIZE,
    courses,
)  # fmt: skip
from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import MINOR, NOTABLE, Finding, Remedy, named, surety
from amberkeel.core.tracks import EXCLUDED

JUMP, DRIFT, END, SLIDE = "jump", "drift", "bad-end", "slides"

LEAST_UNITS = 5.0
"""How far a track must go astray, in its expected noise."""

OF_ALL = 8.0
"""The same in robust spreads of what the shot's tracks do."""

SURE = 8.0
"""Over its own error, a jump's or drift's size from which it is told."""

EXPLAINED = 0.6
"""Share of a drifting track's residuals that a straight line explains."""

TAIL = 0.24
"""Share of a track at either end within which a jump counts as a bad end."""

COUNTED = 0.4
"""Share of the measurements that are wrong which must count in the solve for that to matter."""

LEAST_PX = 0.5
"""How far a track must go astray in pixels: less is no harm."""

HARM_SHARE = 0.012
"""Share of the measurements around it from which a track that lies can bend the camera."""

TOGETHER = 0.2
"""Share of the live tracks that jump on one frame from which the frame is at fault, not they."""

SLIDE_UNITS, SLIDE_RATIO = 3.0, 5.0
"""Spread of a track's residuals along its edge, in units of expected noise, and over that across it."""

MOST_CUTS = 40
"""Stretches that one remedy cuts."""

_WORDS = {
    JUMP: ("jumps", "jump"),
    DRIFT: ("drifts slowly", "drift slowly"),
    END: ("goes astray at its end", "go astray at their ends"),
    SLIDE: ("slides along an edge", "slide along edges"),
}


@dataclass(frozen=True)
class Lie:
    """What is wrong with a track, by its row: the kind, the rows of the path from and to which it is wrong, how large
    in units of expected noise, and over its own error.
    """

    track: int
    kind: str
    first: int
    last: int
    units: float
    over: float


def findings(evidence: Evidence) -> list[Finding]:
    """Return one finding for each way in which tracks lie, with what to cut."""
    lies = lies_of(evidence)
    return [_told(evidence, kind, own) for kind in _WORDS if (own := [x for x in lies if x.kind == kind])]


def lies_of(evidence: Evidence) -> list[Lie]:
    """Return what is wrong with single tracks, at most one thing each; jumps that many share are the frame's."""
    at, first = evidence.judged_samples
    out = np.zeros((len(first) - 1, COLUMNS))
    courses(first, np.ascontiguousarray(evidence.whitened[at]), evidence.row[at], out)
    pixels = evidence.usual_unit
    usual = out[:, DRIFT_SIZE][out[:, NOISE] > 0.0]
    wild = max(LEAST_UNITS, _tail(usual))
    along = _edges(evidence, at, first)
    lies = []
    for track in np.nonzero((out[:, NOISE] > 0.0) & evidence.judged)[0].tolist():
        own, rows = out[track], evidence.row[at[first[track] : first[track + 1]]]
        lie = _lie(track, own, rows, wild, along[track])
        if lie is not None and lie.units * pixels[track] >= LEAST_PX:
            lies.append(lie)
    jumps = np.bincount([x.first for x in lies if x.kind == JUMP], minlength=len(evidence.live_counts))
    crowded = jumps > np.maximum(TOGETHER * evidence.live_counts, 3)
    return [x for x in lies if not (x.kind == JUMP and crowded[x.first])]


def _tail(values: np.ndarray) -> float:
    """Return the value beyond which one stands out from others (N,)."""
    if not len(values):
        return 0.0
    middle = float(np.median(values))
    return middle + OF_ALL * MAD * float(np.median(np.abs(values - middle)))


def _lie(track: int, own: np.ndarray, rows: np.ndarray, wild: float, along: float) -> Lie | None:
    n = len(rows)
    if own[STEP_SIZE] > LEAST_UNITS and own[STEP_OVER] > SURE:
        k = int(own[STEP_AT])
        if TAIL * n <= k <= (1.0 - TAIL) * n:
            return Lie(track, JUMP, int(rows[k]), int(rows[k]), own[STEP_SIZE], own[STEP_OVER])
        # So near an end, what lies beyond the jump is the part to cut.
        ends = (rows[k], rows[-1]) if k > n / 2 else (rows[0], rows[k - 1])
        return Lie(track, END, int(ends[0]), int(ends[1]), own[STEP_SIZE], own[STEP_OVER])
    if own[END_SIZE] > LEAST_UNITS * 0.7:
        a, z = int(own[END_FROM]), int(own[END_TO])
        return Lie(track, END, int(rows[a]), int(rows[z]), own[END_SIZE], own[END_SIZE] * np.sqrt(z - a + 1.0))
    drifts = own[DRIFT_SIZE] > wild and own[DRIFT_OVER] > SURE and own[DRIFT_SHARE] > EXPLAINED
    if n >= 12 and drifts:
        return Lie(track, DRIFT, int(rows[0]), int(rows[-1]), own[DRIFT_SIZE], own[DRIFT_OVER])
    if n >= 12 and along > max(SLIDE_UNITS, 0.6 * wild):
        return Lie(track, SLIDE, int(rows[0]), int(rows[-1]), along, along * np.sqrt(n))
    return None


def _edges(evidence: Evidence, at: np.ndarray, first: np.ndarray) -> np.ndarray:
    """Return how far each track (T,) slides along one line, in units of expected noise; 0 where it does not."""
    w = np.clip(evidence.whitened[at], -30.0, 30.0)
    count, own = len(first) - 1, np.repeat(np.arange(len(first) - 1), np.diff(first))
    n = np.maximum(np.diff(first), 1)
    xx, yy, xy = (np.bincount(own, w[:, a] * w[:, b], count) / n for a, b in ((0, 0), (1, 1), (0, 1)))
    middle, half = (xx + yy) / 2.0, np.hypot((xx - yy) / 2.0, xy)
    large, small = np.sqrt(middle + half), np.sqrt(np.maximum(middle - half, 0.0))
    return np.where(large > SLIDE_RATIO * np.maximum(small, 0.5), large, 0.0)


def _serves(evidence: Evidence, lie: Lie) -> bool:
    """Return whether what is wrong with a track still counts in the solve, which sets most of it aside by itself."""
    if evidence.solution.tracks.states[lie.track] == EXCLUDED:
        return False
    at = evidence.samples(lie.track)
    rows, counts = evidence.row[at], ~evidence.solution.outlier[at]
    if lie.kind == JUMP:
        before, after = counts[rows < lie.first], counts[rows >= lie.first]
        return bool(min(before.mean() if len(before) else 0.0, after.mean() if len(after) else 0.0) > COUNTED)
    wrong = counts[(rows >= lie.first) & (rows <= lie.last)]
    return bool(len(wrong) and wrong.mean() > COUNTED)


def _harms(evidence: Evidence, lies: list[Lie]) -> bool:
    """Return whether tracks that lie are many enough among those around them to bend the camera."""
    rows = np.concatenate([evidence.row[evidence.samples(lie.track)] for lie in lies])
    around = evidence.live_counts[rows]
    return bool((1.0 / np.maximum(around, 1)).mean() * len({lie.track for lie in lies}) > HARM_SHARE)


def _told(evidence: Evidence, kind: str, lies: list[Lie]) -> Finding:
    """Return the finding on tracks that lie in one way, the worst first: on those that count, where any does."""
    serve = [lie for lie in lies if _serves(evidence, lie)]
    lies = sorted(serve or lies, key=lambda lie: -lie.units * evidence.usual_unit[lie.track])
    solution, ids = evidence.solution, evidence.ids_of(lie.track for lie in lies)
    one, many = _WORDS[kind]
    pixels = lies[0].units * float(evidence.usual_unit[lies[0].track])
    name = solution.tracks.names[lies[0].track]
    where = f" at frame {evidence.frames_of(np.array([lies[0].first]))[0]}" if kind in (JUMP, END) else ""
    text = f"Track {name} {one}{where}, by {pixels:.1f} px."
    if len(lies) > 1:
        text = f"{len(lies)} tracks {many}; the worst is {name}{where}, by {pixels:.1f} px."
    if not serve:
        text += " The solve set what is wrong aside by itself."
    severity = NOTABLE if serve and _harms(evidence, serve) else MINOR
    frames = evidence.frames_of(np.unique(_rows_of(lies, kind)))
    figures = {"worst_px": pixels, "tracks": float(len(lies))}
    return Finding(
        kind, severity, surety(lies[0].over, SURE), text, frames, ids, _remedies(evidence, kind, lies), figures
    )


def _remedies(evidence: Evidence, kind: str, lies: list[Lie]) -> tuple[Remedy, ...]:
    """Return what to do with tracks that lie: cut what is wrong, before all of them is given up."""
    ids = evidence.ids_of(lie.track for lie in lies)
    if kind in (DRIFT, SLIDE):
        return (Remedy("exclude", named("Exclude", ids, evidence.solution.tracks), ids),)
    cuts = [_wrong_part(evidence, lie) for lie in lies[:MOST_CUTS]]
    cut = Remedy("cut", named("Cut what is wrong of", ids, evidence.solution.tracks), ids, cuts=tuple(cuts))
    return cut, Remedy("exclude", named("Exclude", ids, evidence.solution.tracks), ids)


def _wrong_part(evidence: Evidence, lie: Lie) -> tuple[int, int, int]:
    """Return a track's id and the first and last frame of what is wrong with it: of a jump the side that agrees less
    with the camera.
    """
    first, last = lie.first, lie.last
    if lie.kind == JUMP:
        at = evidence.samples(lie.track)
        rows, length = evidence.row[at], evidence.length[at]
        before, after = length[rows < lie.first], length[rows >= lie.first]
        if np.median(before) > np.median(after):
            first, last = int(rows[0]), lie.first - 1
        else:
            last = int(rows[-1])
    a, z = evidence.frames_of(np.array([first, last]))
    return int(evidence.solution.tracks.ids[lie.track]), a, z


def _rows_of(lies: list[Lie], kind: str) -> np.ndarray:
    if kind == JUMP:
        return np.array([lie.first for lie in lies])
    return np.concatenate([np.arange(lie.first, lie.last + 1) for lie in lies])
