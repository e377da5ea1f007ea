"""Spikes and jitter of the camera's path: single frames on which it leaves the way that its neighbours tell, and
trembling that is no more than what the measurements cannot tell.

Each channel is compared with a parabola through three frames on each side, the frame itself left out. What it misses by
is judged by what such predictions usually miss (Hampel 1974, the median absolute deviation) and by the pose's own
noise.
"""

from collections.abc import Container
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.courses import MAD
from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import MINOR, NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.diagnose.pose_noise import pose_sigmas
from amberkeel.core.plate.sequence import runs_of, spans

SPIKE, JITTER = "path-spike", "path-jitter"

SIDE = 3
"""Frames on each side from which a frame's place is told."""

AROUND = 14
"""Frames to each side whose misses say what is usual."""

SPIKE_SIGMAS = 3.6
"""Deviation, over its expected one, from which a frame is a spike."""

TOLD_SIGMAS = 6.0
"""The same from which the casebook speaks of it."""

FITS = 1.6
"""Middle residual of a frame, over the usual one, up to which its tracks fit."""

NO_MORE = 1.4
"""Trembling, over what the poses' noise makes of it, up to which all of it may be noise."""

JITTER_PX = 0.35
"""Trembling of the picture's middle that matters, pixels."""

CHANNELS = ("position x", "position y", "position z", "tilt", "pan", "roll")


@dataclass(frozen=True)
class Spike:
    """A row of the path, the channels (numbers of `CHANNELS`) that leave it there, and how many sigmas at the most."""

    row: int
    channels: tuple[int, ...]
    sigmas: float


def findings(evidence: Evidence, explained: Container[int] = ()) -> list[Finding]:
    """Return one finding on all spikes, the worst named, but for those on frames that are `explained` otherwise; and
    one on channels that tremble as their noise does.
    """
    sigmas = pose_sigmas(evidence)
    found = [
        one
        for one in spikes(evidence.solution.path, sigmas)
        if one.sigmas > TOLD_SIGMAS and evidence.frames_of(np.array([one.row]))[0] not in explained
    ]
    return [*_spiked(evidence, found), *_jitter(evidence, sigmas)]


def _spiked(evidence: Evidence, found: list[Spike]) -> list[Finding]:
    if not found:
        return []
    frames = evidence.frames_of(np.array([one.row for one in found]))
    worst = max(found, key=lambda one: one.sigmas)
    at = evidence.frames_of(np.array([worst.row]))[0]
    channels = ", ".join(CHANNELS[c] for c in worst.channels[:3])
    many = f"on {len(frames)} frames ({spans(frames)})" if len(frames) > 1 else f"on frame {at}"
    held = _fits_there(evidence, [one.row for one in found])
    why = (
        "the tracks fit there as elsewhere, so the camera was most likely knocked"
        if held
        else "the tracks fit badly there, so it is badly held, or was struck while the frame was exposed"
    )
    text = f"The camera's path leaves its way {many}, worst in {channels}: {why}."
    where = f"frame {at}" if len(frames) == 1 else f"frames {spans(frames)}"
    remedies = (
        Remedy("through-blur", "Measure blurred frames anew", frames=frames),
        Remedy("again", f"Measure {where} again from the camera", frames=frames),
        Remedy("bridge", f"Bridge {where}", frames=frames),
        Remedy("down-weight", f"Let {where} count less", frames=frames),
    )
    severity = NOTABLE if held else SERIOUS
    return [
        Finding(
            SPIKE, severity, surety(worst.sigmas, TOLD_SIGMAS), text, frames, (), remedies, {"sigmas": worst.sigmas}
        )
    ]


def _fits_there(evidence: Evidence, rows: list[int]) -> bool:
    """Return whether the middle residual on all of some rows is as it usually is."""
    usual = float(np.nanmedian(evidence.frame_median)) if np.isfinite(evidence.frame_median).any() else 1.0
    return bool((np.nan_to_num(evidence.frame_median[rows], nan=np.inf) < FITS * usual).all())


def _jitter(evidence: Evidence, sigmas: np.ndarray) -> list[Finding]:
    """Return whether channels tremble by what their noise alone explains, and visibly."""
    path = evidence.solution.path
    if len(path.frames) < 8 * SIDE or evidence.solution.motion != "free":
        return []
    missed = _missed(channels_of(path), path.frames)
    with np.errstate(invalid="ignore"):
        shaken = MAD * np.nanmedian(np.abs(missed), 0)
        noise = np.nanmedian(np.where(np.isfinite(sigmas), sigmas, np.nan), 0) * _MISS_NOISE
    depth = _usual_depth(evidence)
    px = shaken * path.lens.focal_px[0] / np.array([depth, depth, depth, 1.0, 1.0, 1.0])
    loud = np.flatnonzero((shaken < NO_MORE * noise) & (px > JITTER_PX))
    if not len(loud):
        return []
    worst = int(loud[px[loud].argmax()])
    names = ", ".join(CHANNELS[c] for c in loud)
    text = (
        f"The path trembles in {names} by no more than its own uncertainty, {px[worst]:.1f} px at the usual depth: "
        "smoothing takes away nothing that the tracks tell."
    )
    remedy = Remedy("smooth", "Smooth the path and aim it again", word="1.5")
    return [
        Finding(JITTER, MINOR, surety(px[worst], JITTER_PX), text, (), (), (remedy,), {"jitter_px": float(px[worst])})
    ]


def _usual_depth(evidence: Evidence) -> float:
    """Return the middle distance of the points from the middle camera, world units."""
    path, points = evidence.solution.path, evidence.solution.points
    middle = path.positions[len(path.frames) // 2]
    away = np.linalg.norm(points.positions(path.positions[0])[points.known] - middle, axis=1)
    return float(np.median(away)) if len(away) else 1.0


def channels_of(path: CameraPath) -> np.ndarray:
    """Return a path as channels (F, 6): position in world units, and turn against the middle frame in radians, both in
    that frame's axes.
    """
    middle = path.world_from_camera[len(path.frames) // 2]
    turns = np.unwrap(Rotation.from_matrix(middle.T @ path.world_from_camera).as_rotvec(), axis=0)
    return np.concatenate([path.positions @ middle, turns], 1)


def spikes(path: CameraPath, sigmas: np.ndarray | None = None) -> list[Spike]:
    """Return the spikes of a path, in the frames' order.

    Parameters
    ----------
    path : solved. sigmas : (F, 6) one sigma of each pose by itself, as `pose_sigmas` gives them; None: none.
    """
    values = channels_of(path)
    count = len(values)
    if count < 4 * SIDE:
        return []
    missed = _missed(values, path.frames)
    over = np.zeros_like(missed)
    for k in range(count):
        near = np.concatenate([missed[max(0, k - AROUND) : max(0, k - SIDE)], missed[k + SIDE + 1 : k + AROUND + 1]])
        usual = MAD * np.nanmedian(np.abs(near), axis=0) if np.isfinite(near).any() else np.full(6, np.inf)
        if sigmas is not None:
            usual = np.maximum(usual, np.where(np.isfinite(sigmas[k]), sigmas[k] * _MISS_NOISE, 0.0))
        over[k] = np.abs(missed[k]) / np.maximum(usual, 1e-12)
    over = np.nan_to_num(over)
    strongest = over.max(1)
    out = []
    for first, last in runs_of(np.flatnonzero(strongest > SPIKE_SIGMAS).tolist(), gap=1):
        if last - first > 2 * SIDE:
            continue
        k = first + int(strongest[first : last + 1].argmax())
        loud = np.flatnonzero(over[k] > SPIKE_SIGMAS)
        out.append(Spike(k, tuple(loud[np.argsort(-over[k][loud])].tolist()), float(strongest[k])))
    return out


_OFFSETS = np.array([o for o in range(-SIDE, SIDE + 1) if o])
_PREDICT = np.linalg.pinv(np.stack([np.ones(len(_OFFSETS)), _OFFSETS, _OFFSETS**2], 1))[0]
_MISS_NOISE = float(np.sqrt(1.0 + (_PREDICT**2).sum()))
"""Noise of a miss, over that of a single pose."""


def _missed(values: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """Return by how much each frame misses the parabola of its neighbours (F, C); NaN near the ends and gaps."""
    out = np.full(values.shape, np.nan)
    for k in range(SIDE, len(values) - SIDE):
        if frames[k + SIDE] - frames[k - SIDE] == 2 * SIDE:
            out[k] = values[k] - _PREDICT @ values[k + _OFFSETS]
    return out
