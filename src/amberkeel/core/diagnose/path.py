"""Spikes in the camera's path: single frames on which it leaves the way that its neighbours tell, in place or in turn.

Each channel is compared with a parabola through three frames on each side, the frame itself left out, and judged by
what such predictions usually miss (Hampel 1974, the median absolute deviation).
"""

from collections.abc import Container
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.diagnose.evidence import MAD, Evidence
from amberkeel.core.diagnose.finding import NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.plate.sequence import runs_of, spans

SPIKE = "path-spike"

SIDE = 3
"""Frames on each side from which a frame's place is told."""

OVER_USUAL = 6.0
"""Deviation, over what the predictions around usually miss, from which it is a spike."""

CHANNELS = ("position x", "position y", "position z", "tilt", "pan", "roll")


@dataclass(frozen=True)
class Spike:
    """A row of the path, the channels that leave it there, and how far over the usual."""

    row: int
    channels: tuple[str, ...]
    over: float


def findings(evidence: Evidence, explained: Container[int] = ()) -> list[Finding]:
    """Return one finding on all spikes, the worst named, but for those on frames that are `explained` otherwise."""
    found = [one for one in spikes(evidence) if evidence.frames_of(np.array([one.row]))[0] not in explained]
    if not found:
        return []
    frames = evidence.frames_of(np.array([one.row for one in found]))
    worst = max(found, key=lambda one: one.over)
    at = evidence.frames_of(np.array([worst.row]))[0]
    channels = ", ".join(worst.channels[:3])
    many = f"on {len(frames)} frames ({spans(frames)})" if len(frames) > 1 else f"on frame {at}"
    text = f"The camera's path leaves its way {many}, worst in {channels}: knocked, or badly held there."
    remedies = (Remedy("bridge", frames=frames), Remedy("down-weight", frames=frames))
    severity = SERIOUS if worst.over > 2 * OVER_USUAL else NOTABLE
    figures = {"over_usual": worst.over}
    return [Finding(SPIKE, severity, surety(worst.over, OVER_USUAL), text, frames, (), remedies, figures)]


def channels_of(evidence: Evidence) -> np.ndarray:
    """Return the path as channels (F, 6): position in world units, and turn against the middle frame in radians, both
    in that frame's axes.
    """
    path = evidence.solution.path
    middle = path.world_from_camera[len(path.frames) // 2]
    positions = path.positions @ middle
    turns = Rotation.from_matrix(middle.T @ path.world_from_camera).as_rotvec()
    return np.concatenate([positions, turns], 1)


def spikes(evidence: Evidence) -> list[Spike]:
    """Return the spikes of the path, in the frames' order."""
    values = channels_of(evidence)
    count = len(values)
    if count < 4 * SIDE:
        return []
    missed = _missed(values, evidence.solution.path.frames)
    over = np.zeros_like(missed)
    for k in range(count):
        near = np.abs(missed[max(0, k - 12) : k + 13])
        usual = MAD * np.nanmedian(near, axis=0)
        over[k] = np.abs(missed[k]) / np.maximum(usual, 1e-12)
    over = np.nan_to_num(over)
    strongest = over.max(1)
    out = []
    for first, last in runs_of(np.flatnonzero(strongest > OVER_USUAL).tolist(), gap=1):
        k = first + int(strongest[first : last + 1].argmax())
        if last - first > 2 * SIDE:
            continue
        loud = np.flatnonzero(over[k] > OVER_USUAL)
        order = loud[np.argsort(-over[k][loud])]
        out.append(Spike(k, tuple(CHANNELS[c] for c in order), float(strongest[k])))
    return out


def _missed(values: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """Return by how much each frame misses the parabola of its neighbours (F, C); NaN near the ends and gaps."""
    offsets = np.array([o for o in range(-SIDE, SIDE + 1) if o])
    design = np.stack([np.ones(len(offsets)), offsets, offsets**2], 1)
    weights = np.linalg.pinv(design)[0]
    out = np.full(values.shape, np.nan)
    for k in range(SIDE, len(values) - SIDE):
        if frames[k + SIDE] - frames[k - SIDE] == 2 * SIDE:
            out[k] = values[k] - weights @ values[k + offsets]
    return out
