"""Frames on which all tracks complain at once, and why: motion blur, a flash, rows that lean; and doubled or dropped
frames, which the camera's pose hides but the picture's motion shows.
"""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence, medians
from amberkeel.core.diagnose.finding import NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.diagnose.swept import LEAST_SHIFT_PX as SWEPT_PX
from amberkeel.core.diagnose.swept import swept
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

FAST_PX, FAST = 8.0, 1.6
"""Motion of the picture from which a frame counts as blurred where none was measured: pixels, and over the usual."""

LEAN_SHARE = 0.4
"""Share of a frame's residuals that a shear by row explains, from which its rows lean."""

STILL_SHARE = 0.12
"""Motion over that of the frames around below which a frame is doubled."""

TWICE = (1.75, 2.25)
"""Motion over that of the frames around within which a frame was dropped before it."""

UNEVEN = 0.4
"""Half the difference of the motion before and after a frame, over their mean, up to which they are alike."""

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
    drawn, off = swept(evidence)
    causes: dict[str, list[tuple[int, int]]] = {}
    for run in runs_of(np.flatnonzero(bad).tolist(), gap=1):
        rows = np.arange(run[0], run[1] + 1)
        cause = BLUR if np.isin(rows, drawn).any() else _cause(evidence, rows)
        causes.setdefault(cause, []).append(run)
    out = [_told_bad(evidence, cause, parts, usual) for cause, parts in causes.items() if cause != BLUR]
    if len(drawn):
        seen = np.unique(np.concatenate([drawn, *(np.arange(a, b + 1) for a, b in causes.get(BLUR, []))]))
        out.append(_told_drawn(evidence, seen, off))
    elif BLUR in causes:
        out.append(_told_bad(evidence, BLUR, causes[BLUR], usual))
    return out


def _told_drawn(evidence: Evidence, rows: np.ndarray, off: float) -> Finding:
    """Return the finding on frames that the camera sweeps while the shutter is open."""
    frames = evidence.frames_of(rows)
    where = f"{'frame' if len(frames) == 1 else 'frames'} {spans(frames)}"
    text = (
        f"On {where} the camera sweeps the picture while the shutter is open and turns back: what is followed is the "
        f"streak's middle, off mid-shutter by up to {off:.1f} px, all tracks alike."
    )
    remedies = (
        Remedy("through-blur", "Measure blurred frames anew", frames=frames),
        Remedy("down-weight", f"Let {where} count less", frames=frames),
    )
    return Finding(BLUR, NOTABLE, surety(off, SWEPT_PX), text, frames, (), remedies, {"off_px": off})


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
    if blur:
        blurred = [blur.get(f, 0.0) > max(BLURRED_PX, 1.5 * usual) for f in frames]
    else:
        speed = image_speed(evidence)
        usual = float(np.nanmedian(speed)) if np.isfinite(speed).any() else 0.0
        blurred = [speed[row] > max(FAST_PX, FAST * usual) for row in rows]
    if np.mean(blurred) >= 0.5:
        return BLUR
    if np.mean([_lean(evidence, int(row)) for row in rows]) > LEAN_SHARE:
        return LEAN
    return FLASH


def image_speed(evidence: Evidence) -> np.ndarray:
    """Return how far the picture moves about each frame, the longer of the steps before and after, pixels (F,)."""
    tracks, count = evidence.solution.tracks, len(evidence.solution.path.frames)
    at = np.nonzero(evidence.still)[0]
    row, own = evidence.row[at], evidence.own[at]
    k = np.nonzero((np.diff(own) == 0) & (np.diff(row) == 1))[0]
    step, into = np.linalg.norm(tracks.xy[at[k + 1]] - tracks.xy[at[k]], axis=1), row[k + 1]
    order = np.argsort(into, kind="stable")
    middle = medians(step[order], np.searchsorted(into[order], np.arange(count + 1)))
    return np.maximum(middle, np.append(middle[1:], 0.0))


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
    where = f"{word} {spans(frames)}"
    remedies = [
        Remedy("through-blur", "Measure blurred frames anew", frames=frames),
        Remedy("down-weight", f"Let {where} count less", frames=frames),
    ]
    if cause == LEAN:
        remedies.insert(0, Remedy("rows", "Solve with a rolling shutter"))
    if cause == FLASH:
        remedies[0] = Remedy("again", f"Measure {where} again from the camera", frames=frames)
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
    at = np.nonzero(evidence.still)[0]
    row, own, xy = evidence.row[at], evidence.own[at], tracks.xy[at]
    shares, moves, spreads = np.full((3, count), np.nan)
    if len(at) < 4:
        return shares, spreads, moves
    k = np.arange(2, len(at) - 1)
    k = k[(own[k + 1] == own[k - 2]) & (row[k + 1] - row[k - 2] == 3)]
    around = (xy[k - 1] - xy[k - 2] + xy[k + 1] - xy[k]) / 2.0
    size = np.linalg.norm(around, axis=1)
    # Before and after alike: where a camera speeds up, one step is twice the mean of its neighbours too.
    even = np.linalg.norm((xy[k - 1] - xy[k - 2] - xy[k + 1] + xy[k]) / 2.0, axis=1) < UNEVEN * size
    k, around, size = (part[even & (size > LEAST_MOTION_PX)] for part in (k, around, size))
    step = xy[k] - xy[k - 1]
    share, length, on = (step * around).sum(1) / size**2, np.linalg.norm(step, axis=1), row[k]
    order = np.argsort(on, kind="stable")
    first = np.searchsorted(on[order], np.arange(count + 1))
    enough = np.diff(first) >= 8
    shares[enough] = medians(share[order], first)[enough]
    moves[enough] = medians(length[order], first)[enough]
    spreads[enough] = medians(np.abs(share - np.nan_to_num(shares)[on])[order], first)[enough]
    return shares, spreads, moves


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
        out.append(
            Finding(
                DOUBLED, SERIOUS, 0.9, text, frames, (), (Remedy("bridge", f"Bridge {spans(frames)}", frames=frames),)
            )
        )
    if dropped.any():
        frames = evidence.frames_of(np.flatnonzero(dropped))
        text = f"Before {spans(frames)} the picture moves twice as far as around: a frame is lacking."
        out.append(
            Finding(
                DROPPED,
                SERIOUS,
                0.9,
                text,
                frames,
                (),
                (Remedy("advice", "Ask for the plate with all of its frames", frames=frames),),
            )
        )
    return out
