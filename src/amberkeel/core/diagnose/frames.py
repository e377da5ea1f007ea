"""Frames on which all tracks complain at once, and why: motion blur, a flash, rows that lean; and doubled or dropped
frames, which the camera's pose hides but the picture's motion shows.
"""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.plate.sequence import runs_of, spans

BLUR, FLASH, LEAN, DOUBLED, DROPPED = "blurred-frames", "bad-frames", "leaning-frames", "doubled-frame", "dropped-frame"

OVER_USUAL = 2.0
"""A frame's middle residual over that of the frames around it from which it is bad."""

OVER_ERROR = 5.0
"""The same excess over its own standard error."""

AROUND = 8
"""Frames to each side that a frame is compared with."""

BLURRED_PX = 2.5
"""Motion blur from which it explains bad residuals, pixels; and 1.5 times the usual."""

LEAN_SHARE = 0.4
"""Share of a frame's residuals that a shear by row explains, from which its rows lean."""

STILL_SHARE = 0.12
"""Motion over that of the frames around below which a frame is doubled."""

TWICE = (1.75, 2.25)
"""Motion over that of the frames around within which a frame was dropped before it."""

LEAST_MOTION_PX = 0.4
"""Motion around below which doubled and dropped frames are not told."""


def findings(evidence: Evidence) -> list[Finding]:
    """Return the bad frames by cause, and the doubled and dropped ones."""
    return [*_bad(evidence), *_cadence(evidence)]


def _bad(evidence: Evidence) -> list[Finding]:
    usual = _around(evidence.frame_median)
    error = 0.75 * usual / np.sqrt(np.maximum(evidence.live_counts, 1))
    with np.errstate(invalid="ignore"):
        bad = (evidence.frame_median > OVER_USUAL * usual) & (evidence.frame_median - usual > OVER_ERROR * error)
    causes: dict[str, list[tuple[int, int]]] = {}
    for run in runs_of(np.flatnonzero(bad).tolist(), gap=1):
        causes.setdefault(_cause(evidence, np.arange(run[0], run[1] + 1)), []).append(run)
    return [_told_bad(evidence, cause, parts, usual) for cause, parts in causes.items()]


def _around(values: np.ndarray) -> np.ndarray:
    """Return the median (F,) of the values around each, itself left out; 1 where there is none."""
    out = np.ones(len(values))
    for k in range(len(values)):
        near = np.concatenate([values[max(0, k - AROUND) : k], values[k + 1 : k + 1 + AROUND]])
        near = near[np.isfinite(near)]
        if len(near):
            out[k] = max(float(np.median(near)), 0.5)
    return out


def _cause(evidence: Evidence, rows: np.ndarray) -> str:
    blur = evidence.measures.blur_px
    usual = float(np.median(list(blur.values()))) if blur else 0.0
    frames = evidence.frames_of(rows)
    if blur and np.mean([blur.get(f, 0.0) > max(BLURRED_PX, 1.5 * usual) for f in frames]) >= 0.5:
        return BLUR
    if np.mean([_lean(evidence, int(row)) for row in rows]) > LEAN_SHARE:
        return LEAN
    return FLASH


def _lean(evidence: Evidence, row: int) -> float:
    """Return the share of a frame's residuals that a shear by row, along either axis, explains."""
    on = evidence.live & (evidence.row == row)
    if on.sum() < 12:
        return 0.0
    y = evidence.solution.tracks.xy[on, 1]
    w = np.clip(evidence.whitened[on], -20, 20)
    y = y - y.mean()
    slope = y @ w / max(float(y @ y), 1e-9)
    left = w - w.mean(0) - y[:, None] * slope
    return 1.0 - float((left**2).sum()) / max(float(((w - w.mean(0)) ** 2).sum()), 1e-9)


_WORDS = {
    BLUR: "All tracks complain at once on {frames}, blurred by motion: the frames are at fault, not the tracks.",
    FLASH: "All tracks complain at once on {frames}, which are not blurred: a flash, a change of exposure, or damage.",
    LEAN: "On {frames} the residuals lean with the row: the camera was knocked while the rows were read.",
}


def _told_bad(evidence: Evidence, cause: str, parts: list[tuple[int, int]], usual: np.ndarray) -> Finding:
    rows = np.concatenate([np.arange(a, b + 1) for a, b in parts])
    frames = evidence.frames_of(rows)
    over = float(np.nanmax(evidence.frame_median[rows] / usual[rows]))
    word = "frame" if len(frames) == 1 else "frames"
    remedies = [Remedy("down-weight", frames=frames), Remedy("refollow", frames=frames)]
    if cause == LEAN:
        remedies.insert(0, Remedy("rows"))
    text = _WORDS[cause].format(frames=f"{word} {spans(frames)}")
    return Finding(cause, NOTABLE, surety(over, OVER_USUAL), text, frames, (), tuple(remedies), {"over_usual": over})


def motion_shares(evidence: Evidence) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return how far the picture moves from the frame before to each frame, over how far it moves around it.

    Returns
    -------
    The median over tracks (F,), its spread (F,), and the middle length of the motion in pixels (F,); NaN at the ends
    and where fewer than eight tracks tell.
    """
    tracks, count = evidence.solution.tracks, len(evidence.solution.path.frames)
    steps: list[list[tuple[float, float]]] = [[] for _ in range(count)]
    for t in range(len(tracks)):
        rows = tracks.rows(t)
        at = np.arange(rows.start, rows.stop)
        at = at[evidence.still[at]]
        row, xy = evidence.row[at], tracks.xy[at]
        for k in range(2, len(at) - 1):
            if row[k + 1] - row[k - 2] != 3:
                continue
            around = (xy[k - 1] - xy[k - 2] + xy[k + 1] - xy[k]) / 2.0
            size = float(np.linalg.norm(around))
            if size > LEAST_MOTION_PX:
                step = xy[k] - xy[k - 1]
                steps[row[k]].append((float(step @ around) / size**2, float(np.linalg.norm(step))))
    share, spread, moved = np.full((3, count), np.nan)
    for k, many in enumerate(steps):
        if len(many) >= 8:
            values = np.array(many)
            share[k], moved[k] = np.median(values, 0)
            spread[k] = float(np.median(np.abs(values[:, 0] - share[k])))
    return share, spread, moved


def _cadence(evidence: Evidence) -> list[Finding]:
    share, spread, moved = motion_shares(evidence)
    with np.errstate(invalid="ignore"):
        sure = spread < 0.25
        # Where a hand turns back the middle of the motion is small too, but not that of every track.
        doubled = (np.abs(share) < STILL_SHARE) & sure & (moved < 3.0 * float(np.median(evidence.unit)))
        dropped = (share > TWICE[0]) & (share < TWICE[1]) & sure
    out = []
    if doubled.any():
        frames = evidence.frames_of(np.flatnonzero(doubled))
        word = "Frame" if len(frames) == 1 else "Frames"
        text = f"{word} {spans(frames)}: the picture stands still for one frame. Doubled when the plate was made?"
        out.append(Finding(DOUBLED, SERIOUS, 0.9, text, frames, (), (Remedy("bridge", frames=frames),)))
    if dropped.any():
        frames = evidence.frames_of(np.flatnonzero(dropped))
        text = f"Before {spans(frames)} the picture moves twice as far as around: a frame is lacking."
        out.append(Finding(DROPPED, SERIOUS, 0.9, text, frames, (), (Remedy("retime", frames=frames),)))
    return out
