"""Single tracks that lie: a jump, a slow drift, an end that went astray.

A track's residuals are compared with its own noise, which its differences from frame to frame tell whatever else is
wrong with it (von Neumann et al. 1941).
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.diagnose.evidence import LEAST_SAMPLES, MAD, RAYLEIGH_MEDIAN, Evidence
from amberkeel.core.diagnose.finding import MINOR, NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.tracks import EXCLUDED

JUMP, DRIFT, END, MISFIT = "jump", "drift", "bad-end", "model-misfit"

LEAST_UNITS = 5.0
"""How far a track must go astray, in its expected noise."""

SURE = 8.0
"""Over its own error, a jump's or drift's size from which it is told."""

WINDOW = 8
"""Measurements on each side of a jump that are compared."""

AT_ONCE = 0.6
"""Share of a jump that must happen from one frame to the next."""

STAYS = 0.25
"""Spread after a jump, over its size, up to which the track stays where it jumped to; one that wanders is lost."""

EXPLAINED = 0.6
"""Share of a drifting track's residuals that a straight line explains."""

TAIL = 0.24
"""Share of a track at either end within which a jump counts as a bad end."""

END_SHARE = 0.4
"""Longest bad end, as a share of the track."""

END_UNITS = 3.5
"""Length of residuals, in units of expected noise, that makes an end bad."""

MANY = 0.08
"""Share of the tracks that lie from which the model of the camera is at fault, not they."""

COUNTED = 0.4
"""Share of the measurements that are wrong which must count in the solve for that to matter."""

LEAST_PX = 0.5
"""How far a track must go astray in pixels: less is no harm."""

TOGETHER = 0.2
"""Share of the live tracks that jump on one frame from which the frame is at fault, not they."""

_WORDS = {
    JUMP: ("jumps", "jump"),
    DRIFT: ("drifts slowly", "drift slowly"),
    END: ("goes astray at its end", "go astray at their ends"),
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
    lies = [lie for track in _judged(evidence) if (lie := _lie(evidence, track)) is not None]
    jumps = np.bincount([lie.first for lie in lies if lie.kind == JUMP], minlength=len(evidence.live_counts))
    crowded = jumps > np.maximum(TOGETHER * evidence.live_counts, 3)
    lies = [lie for lie in lies if not (lie.kind == JUMP and crowded[lie.first])]
    judged = sum(1 for _ in _judged(evidence))
    served = [lie for lie in lies if _serves(evidence, lie)]
    if len(served) > max(MANY * judged, 5):
        return [_misfit(evidence, served, judged)]
    return [_told(evidence, kind, own) for kind in (JUMP, END, DRIFT) if (own := [x for x in lies if x.kind == kind])]


def _serves(evidence: Evidence, lie: Lie) -> bool:
    """Return whether what is wrong with a track still counts in the solve, which sets most of it aside by itself."""
    if evidence.solution.tracks.states[lie.track] == EXCLUDED:
        return False
    at = evidence.samples(lie.track)
    rows, counts = evidence.row[at], ~evidence.solution.outlier[at]
    if lie.kind == JUMP:
        return bool(min(counts[rows < lie.first].mean(), counts[rows >= lie.first].mean()) > COUNTED)
    return bool(counts[(rows >= lie.first) & (rows <= lie.last)].mean() > COUNTED)


def _misfit(evidence: Evidence, lies: list[Lie], judged: int) -> Finding:
    """Return the finding that so many tracks lie that it is the model."""
    text = (
        f"{len(lies)} of {judged} tracks disagree in part, all over the picture: more likely the camera was taken "
        "otherwise than it is (its lens, a zoom, rows read in turn) than that they all lie."
    )
    remedies = (Remedy("free-distortion"), Remedy("zoom"), Remedy("rows"))
    ids, share = evidence.ids_of(sorted({lie.track for lie in lies})), len(lies) / judged
    return Finding(MISFIT, SERIOUS, surety(share, MANY), text, (), ids, remedies, {"share": share})


def _judged(evidence: Evidence) -> Iterator[int]:
    """Yield tracks that serve, or that the solve itself has set aside: what a person excluded is settled."""
    solution = evidence.solution
    for track, (state, number) in enumerate(zip(solution.tracks.states, solution.tracks.ids.tolist())):
        if state != EXCLUDED or number in solution.reasons:
            yield track


def _lie(evidence: Evidence, track: int) -> Lie | None:
    at = evidence.samples(track)
    if len(at) < LEAST_SAMPLES:
        return None
    w, rows = evidence.whitened[at], evidence.row[at]
    noise = max(MAD * float(np.median(np.abs(np.diff(w, axis=0)))) / np.sqrt(2.0), 0.7)
    lie = _jump(track, w, rows, noise) or _end(track, w, rows) or _drift(track, w, rows, noise)
    large = lie is not None and lie.units * float(np.median(evidence.unit[at])) >= LEAST_PX
    return lie if large else None


def _end(track: int, w: np.ndarray, rows: np.ndarray) -> Lie | None:
    """Return whether a track's first or last part goes astray and the rest is sound."""
    n = len(w)
    for turned in (False, True):
        length = np.linalg.norm(w[::-1] if turned else w, axis=1)
        for k in range(int((1.0 - END_SHARE) * n), n - 1):
            sound, bad = length[:k], length[k:]
            if np.median(bad) > END_UNITS and (bad > 2.5).mean() > 0.75 and bad[0] > 2.5:
                if np.percentile(sound, 90) < END_UNITS and np.median(sound) < 1.6 * RAYLEIGH_MEDIAN:
                    part = rows[n - 1 - k :: -1] if turned else rows[k:]
                    units = float(np.median(bad))
                    return Lie(track, END, int(part.min()), int(part.max()), units, units * np.sqrt(len(bad)))
    return None


def _jump(track: int, w: np.ndarray, rows: np.ndarray, noise: float) -> Lie | None:
    """Return the place where a track steps aside and stays there."""
    n, best, cut = len(w), None, 0
    for k in range(3, n - 2):
        before, after = w[max(0, k - WINDOW) : k], w[k : k + WINDOW]
        step = np.median(after, 0) - np.median(before, 0)
        size = float(np.linalg.norm(step))
        over = size / (1.25 * noise * np.sqrt(1.0 / len(before) + 1.0 / len(after)))
        at_once = float((w[k] - w[k - 1]) @ step) / max(size * size, 1e-12)
        stays = np.sqrt(((after - np.median(after, 0)) ** 2).sum(1).mean()) < max(STAYS * size, 2.0 * noise)
        is_jump = size > LEAST_UNITS and over > SURE and at_once > AT_ONCE and stays
        if is_jump and (best is None or over > best.over):
            best = Lie(track, JUMP, int(rows[k]), int(rows[k]), size, over)
            cut = k
    if best is None or TAIL * n <= cut <= (1.0 - TAIL) * n:
        return best
    # So near an end, what lies beyond the jump is the part to cut.
    ends = (rows[cut], rows[-1]) if cut > n / 2 else (rows[0], rows[cut - 1])
    return replace(best, kind=END, first=int(ends[0]), last=int(ends[1]))


def _drift(track: int, w: np.ndarray, rows: np.ndarray, noise: float) -> Lie | None:
    """Return whether a track slides along steadily."""
    t = rows - rows.mean()
    spread = float(t @ t)
    slope = (t @ (w - w.mean(0))) / max(spread, 1e-12)
    units = float(np.linalg.norm(slope)) * float(rows[-1] - rows[0])
    left = w - w.mean(0) - t[:, None] * slope
    explained = 1.0 - float((left**2).sum()) / max(float(((w - w.mean(0)) ** 2).sum()), 1e-12)
    over = float(np.linalg.norm(slope)) * np.sqrt(spread) / (1.5 * noise)
    if len(w) >= 12 and units > LEAST_UNITS and over > SURE and explained > EXPLAINED:
        return Lie(track, DRIFT, int(rows[0]), int(rows[-1]), units, over)
    return None


def _told(evidence: Evidence, kind: str, lies: list[Lie]) -> Finding:
    """Return the finding on tracks that lie in one way, the worst first: on those that count, where any does."""
    serve = [lie for lie in lies if _serves(evidence, lie)]
    lies = sorted(serve or lies, key=lambda lie: -lie.units)
    solution, ids = evidence.solution, evidence.ids_of(lie.track for lie in lies)
    one, many = _WORDS[kind]
    pixels = [lie.units * float(np.median(evidence.unit[evidence.samples(lie.track)])) for lie in lies]
    names = [solution.tracks.names[lie.track] for lie in lies]
    where = f" at frame {evidence.frames_of(np.array([lies[0].first]))[0]}" if kind != DRIFT else ""
    worst = f"{names[0]}{where}, by {pixels[0]:.1f} px"
    text = f"Track {names[0]} {one}{where}, by {pixels[0]:.1f} px." if len(lies) == 1 else ""
    text = text or f"{len(lies)} tracks {many}; the worst is {worst}."
    remedies: tuple[Remedy, ...]
    if kind == DRIFT:
        remedies = (Remedy("exclude", ids), Remedy("refollow", ids))
    else:
        last = len(solution.path.frames) - 1
        parts = [(lie.first, lie.last if kind == END else last) for lie in lies]
        first = evidence.frames_of(np.array([a for a, _ in parts]))
        until = evidence.frames_of(np.array([b for _, b in parts]))
        cuts = tuple(Remedy("cut", (i,), (a, b)) for i, a, b in zip(ids, first, until))
        remedies = (*cuts[:1], Remedy("exclude", ids)) if len(cuts) == 1 else (*cuts[:8], Remedy("exclude", ids))
    frames = evidence.frames_of(np.unique(_rows_of(lies, kind)))
    severity = NOTABLE if serve else MINOR
    return Finding(kind, severity, surety(lies[0].over, SURE), text, frames, ids, remedies, {"worst_px": pixels[0]})


def _rows_of(lies: list[Lie], kind: str) -> np.ndarray:
    if kind == JUMP:
        return np.array([lie.first for lie in lies])
    return np.concatenate([np.arange(lie.first, lie.last + 1) for lie in lies])
