"""Frames that hang by a thread: too few live tracks, or all of them in one part of the picture."""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.plate.sequence import runs_of, spans
from amberkeel.core.tracks import EXCLUDED

FEW, CROWDED = "few-tracks", "crowded-tracks"

FLOOR = 8
"""Live tracks on a frame below which a camera hangs by a thread."""

CELLS = (4, 3)
"""Parts of the picture across and down in which tracks are counted."""

LEAST_CELLS = 4
"""Parts that hold a track below which they are badly spread."""

_SIDES = {(0, None): "left", (3, None): "right", (None, 0): "top", (None, 2): "bottom"}


def findings(evidence: Evidence) -> list[Finding]:
    """Return frames with too few tracks, and frames whose tracks are crowded, with where to add some; on a
    still nothing can be followed.
    """
    every, filled = _filled(evidence)
    if len(every) < 2:
        return []
    counts = _counts(evidence, every)
    few = counts < FLOOR
    crowded = ~few & (filled.sum((1, 2)) < LEAST_CELLS)
    out = []
    if few.any():
        rows = np.flatnonzero(few)
        frames = tuple(every[rows].tolist())
        least = int(counts[rows].min())
        text = (
            f"Fewer than {FLOOR} tracks live on {spans(frames)}, {least} at the least. Add some {_where(filled, rows)}."
        )
        sure = surety(FLOOR - least, 2.0)
        out.append(
            Finding(
                FEW,
                SERIOUS,
                sure,
                text,
                frames,
                (),
                (
                    Remedy("add", f"Follow more features on {spans(frames)}", frames=frames),
                    Remedy("again", f"Look for lost tracks on {spans(frames)}", frames=frames),
                ),
                {"least": least},
            )
        )
    if crowded.any():
        rows = np.flatnonzero(crowded)
        frames = tuple(every[rows].tolist())
        text = f"On {spans(frames)} all tracks lie in one part of the picture. Add some {_where(filled, rows)}."
        out.append(
            Finding(
                CROWDED,
                NOTABLE,
                0.7,
                text,
                frames,
                (),
                (Remedy("add", f"Follow more features on {spans(frames)}", frames=frames),),
            )
        )
    return out


def _serving(evidence: Evidence) -> np.ndarray:
    """Return which measurements (N,) are of tracks in use, on frames that the camera does not reach too."""
    return (np.array(evidence.solution.tracks.states) != EXCLUDED)[evidence.own]


def _counts(evidence: Evidence, every: np.ndarray) -> np.ndarray:
    """Return how many tracks serve on each of the frames `every`."""
    frames = evidence.solution.tracks.frames[_serving(evidence)]
    return np.bincount(frames - every[0], minlength=len(every))[: len(every)]


def _filled(evidence: Evidence) -> tuple[np.ndarray, np.ndarray]:
    """Return the frames (F,) from the first track's to the last one's, and which parts of the picture hold a track on
    each, (F, across, down) bool.
    """
    (across, down), tracks, on = CELLS, evidence.solution.tracks, _serving(evidence)
    every = np.arange(int(tracks.frames.min()), int(tracks.frames.max()) + 1)
    filled = np.zeros((len(every), across, down), bool)
    x = np.clip((tracks.xy[on, 0] / evidence.size[0] * across).astype(int), 0, across - 1)
    y = np.clip((tracks.xy[on, 1] / evidence.size[1] * down).astype(int), 0, down - 1)
    filled[tracks.frames[on] - every[0], x, y] = True
    return every, filled


def _where(filled: np.ndarray, rows: np.ndarray) -> str:
    """Return in words where tracks lack on most of these frames."""
    held = filled[rows].mean(0)
    bare = [
        side for (x, y), side in _SIDES.items() if (held[x] if x is not None else held[:, y]).max(initial=0.0) < 0.5
    ]
    longest = max(runs_of(rows.tolist()), key=lambda run: run[1] - run[0])
    part = "on both sides of it" if longest[1] - longest[0] < 3 else "there"
    return f"at the {' and the '.join(bare)}" if bare else part
