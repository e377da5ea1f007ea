"""What moves here: regions that do not stand still in the world, over time, with their evidence.

`evidence` says of every spot of every frame how far it departs from standing still, by how much a motion of its own
explains the pictures better, and how unlike it is to what stands still about it. Hearts of the second, joined with what
is unlike about them, over space and time, are proposals.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from scipy import ndimage

from amberkeel.core.geometry.background import FREE, PLANAR, TURNING
from amberkeel.core.geometry.neighbours import median_motion
from amberkeel.core.masks.evidence import Evidence, Readers, believed_cameras
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.leads import KEPT, Leads, grid_of
from amberkeel.core.masks.proposal import CHANGING, MOVING, SHADOW, SWAYING, TAILED, Proposal, packed
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve.rough import RoughCamera
from amberkeel.core.tracks import TrackSet

TRACK_GAP = 3
"""Frames between the two at which tracks are compared with the background."""

SPEAKS = 0.7
"""Log likelihood a sample from which a spot speaks for a motion of its own."""

UNLIKE = 3.0
"""Mean square over the noise from which a spot is unlike what stands still."""

HEART_SPOTS = 6
"""Spots that must speak for one region of a frame."""

STRANGE, STRANGE_SPOTS = 5.0, 6
"""Mean unlikeness, and spots, of a part that belongs to what moves on other frames though flow cannot follow it here:
what is fast, comes in, or goes out.
"""

UTTERLY, UTTERLY_SPEAKS = 8.0, 0.05
"""Unlikeness that nothing still has, and by how much a spot of it speaks in units of `SPEAKS`: what runs in and behind
something is seen too shortly for flow to follow it.
"""

HEARTS = 24.0
"""Sum of what speaks for a region over all of its frames, in spots at `SPEAKS`, below which the evidence is thin."""

BESIDE = 3
"""Spots of a region, itself counted, that must lie on and about each of its spots."""

REACH = 2
"""Spots between two parts of one region at the most."""

WIDER = 1.6
"""Spots by which a region is widened: blur and what lies between two spots."""

FINER = 4
"""Steps to a spot in which it is widened."""

MIN_FRAMES = 4
"""Frames that a region must last."""

LATER, STAYS = 8, 0.3
"""Frames after which a region is compared with where it was, and share in common from which it stays there."""

LONG_FRAMES = 12
"""Frames that a region must last to be known to stay, or to be a shadow."""

CHANGES_BELOW = 0.15
"""What must speak for motion in each of a region's spots, or only its look changes."""

SHADED, MOSTLY_SHADED = 0.06, 0.5
"""By how much light must differ, and share of a region's spots on which nothing else does, for it to be a shadow."""

FLASH = 0.3
"""Share of the picture by which what moves may grow from one frame to the next."""

NEIGHBOURS = 7
"""Still tracks about one that say where the background would have taken it."""

_KINDS = {"free": FREE, "plane": PLANAR, "nodal": TURNING, "swing": TURNING}


@dataclass(frozen=True)
class Moving:
    """What was found: regions that move by themselves, the largest first, how the background moved, by frame which
    spots (gh, gw) move, and the tracks by which that was told.
    """

    proposals: list[Proposal]
    background: str
    bodies: dict[int, np.ndarray]
    tracks: TrackSet


def what_moves(
    plate: Plate,
    tracks: TrackSet,
    masked: Callable[[int], np.ndarray] | None = None,
    progress: Progress = silent,
    camera: RoughCamera | None = None,
    flows: FlowReader | None = None,
    more: Callable[[], TrackSet] | None = None,
) -> Moving:
    """Propose regions of a plate that move otherwise than the background.

    Parameters
    ----------
    plate : the pictures. tracks : followed on it with nothing or little masked.
    masked : from frame to bool (H, W); what is masked already is not proposed again. progress : the share done.
    camera : by which still things stand still; found from the tracks where it is None. flows : of the plate, perhaps
        begun already, or None. more : follows more features, for where no camera explains these; None where tracks are
    what they are.

    Raises
    ------
    MaskError : too few tracks to tell how the background moves.
    """
    flows = flows or FlowReader(plate, KEPT)
    leads = Leads(flows)
    # Flow of a short plate, and where it leads, is found while its camera is.
    leads.begin()
    if camera:
        cameras = [camera]
    else:
        cameras, tracks = believed_cameras(plate, tracks, span(progress, 0.0, 0.3), more)
    flows.finish()
    reader, grid = Readers(plate, cameras, flows, leads), grid_of(flows)
    speaks = np.zeros((len(plate.frames), *grid[::-1]), np.float32)
    volume, shade = np.zeros(speaks.shape, bool), np.zeros(speaks.shape, bool)
    for k, frame in enumerate(plate.frames.tolist()):
        progress(0.3 + 0.6 * k / len(plate.frames), f"Looking for what moves, frame {frame}")
        evidence = reader.read(frame)
        if evidence is not None:
            hidden = None if masked is None else _on_grid(masked(frame), grid)
            volume[k], speaks[k] = region_of(evidence, hidden)
            shade[k] = np.abs(evidence.shaded - 1.0) > SHADED
    volume = without_flashes(volume)
    labels, count = ndimage.label(volume, structure=np.ones((3, 3, 3)))
    progress(0.9, "Joining regions")
    longest = max(cameras, key=lambda one: len(one.path.frames))
    background = _KINDS.get(longest.motion, longest.motion)
    boxes = ndimage.find_objects(labels, count)
    lasting = [_region(plate, labels, speaks, shade, n, box) for n, box in enumerate(boxes, start=1)]
    regions = [one for one in lasting if one is not None]
    still = _still_samples(plate, tracks, regions)
    found = [_proposal(plate, tracks, still, one, background) for one in regions]
    bodies = {int(frame): spots for frame, spots in zip(plate.frames, volume)}
    return Moving(sorted(found, key=lambda p: -p.share * len(p.frames)), background, bodies, tracks)


def region_of(evidence: Evidence, hidden: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Return where a frame's spots belong to something that moves, (gh, gw) bool, and by how much each speaks for it
    (gh, gw), in units of `SPEAKS`.

    Parameters
    ----------
    evidence : of the frame. hidden : (gh, gw) bool, spots that are masked already.
    """
    ratio = evidence.ratio if hidden is None else np.where(hidden, 0.0, evidence.ratio)
    heart = ratio > SPEAKS
    # A lone spot is no heart: flow jumps between things that look alike.
    heart &= cv2.boxFilter(heart.astype(np.float32), -1, (3, 3)) > 2.5 / 9.0
    body = (np.nan_to_num(evidence.unlike, nan=0.0) > UNLIKE) | heart
    if hidden is not None:
        body &= ~hidden
    beside = cv2.boxFilter(body.astype(np.float32), -1, (3, 3), normalize=False)
    body = (body & (beside > BESIDE + 0.5)).astype(np.uint8)
    joined = cv2.dilate(body, _ellipse(REACH // 2))
    count, parts = cv2.connectedComponents(joined)
    spoken, spots = np.bincount(parts[heart], minlength=count), np.bincount(parts[body > 0], minlength=count)
    unlike = np.bincount(parts[body > 0], np.nan_to_num(evidence.unlike[body > 0]), minlength=count)
    whole = (spoken >= HEART_SPOTS) | ((spots >= STRANGE_SPOTS) & (unlike > STRANGE * spots))
    whole[0] = False
    kept = whole[parts] & (body > 0)
    strange = np.where(np.nan_to_num(evidence.unlike) >= UTTERLY, UTTERLY_SPEAKS, 0.0)
    return kept, np.where(kept, np.where(heart, ratio / SPEAKS, strange), 0.0).astype(np.float32)


def _ellipse(radius: int) -> np.ndarray:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))


def _on_grid(mask: np.ndarray, grid: tuple[int, int]) -> np.ndarray:
    return cv2.resize(mask.astype(np.uint8), grid, interpolation=cv2.INTER_NEAREST) > 0


def at_plate_size(region: np.ndarray, size: tuple[int, int], wider: float = WIDER) -> np.ndarray:
    """Return spots (gh, gw) bool as a region of the plate (H, W) bool, widened by some spots and without holes.

    Parameters
    ----------
    region : spots. size : width and height of the plate, pixels. wider : spots.
    """
    away = np.full((FINER * region.shape[0], FINER * region.shape[1]), np.float32(2.0 * wider + 1.0))
    about = tuple(_about(np.asarray(region.any(axis)), int(np.ceil(wider)) + 2) for axis in (1, 0))
    part = region[about]
    if part.size:
        closed = ndimage.binary_fill_holes(np.pad(part, 1))[1:-1, 1:-1].astype(np.float32)
        height, width = part.shape
        fine = cv2.resize(closed, (FINER * width, FINER * height), interpolation=cv2.INTER_LINEAR) < 0.5
        fine_about = tuple(slice(FINER * one.start, FINER * one.stop) for one in about)
        away[fine_about] = cv2.distanceTransform(fine.astype(np.uint8), cv2.DIST_L2, 5) / FINER
    return cv2.resize(away, size, interpolation=cv2.INTER_LINEAR) < wider


def _about(line: np.ndarray, margin: int) -> slice:
    """Return where a line (n,) bool is True, from the first to the last, with a margin as far as there is room."""
    rows = np.nonzero(line)[0]
    return slice(max(rows[0] - margin, 0), min(rows[-1] + 1 + margin, len(line))) if len(rows) else slice(0, 0)


def without_flashes(volume: np.ndarray) -> np.ndarray:
    """Return what moves (F, gh, gw) without frames on which far more does than on those beside them: a flash, or
    damage, tells nothing, and what moves on both of them stands for it.

    Parameters
    ----------
    volume : by frame, which spots move.
    """
    out, share = volume.copy(), volume.mean((1, 2))
    for k in range(len(volume)):
        beside = [j for j in (k - 1, k + 1) if 0 <= j < len(volume)]
        if beside and share[k] > FLASH + 2.0 * max(share[j] for j in beside):
            out[k] = np.logical_or.reduce([volume[j] for j in beside])
    return out


@dataclass(frozen=True)
class _Region:
    """One region over time: its kind, frames, and masks (H, W)."""

    kind: str
    frames: np.ndarray
    masks: list[np.ndarray]


def _region(plate, labels, speaks, shade, number, box) -> _Region | None:
    """Return one region, or None where it is too short or the evidence too thin."""
    own = labels[box] == number
    rows = np.nonzero(own.any((1, 2)))[0]
    spoken = float(speaks[box][own].sum())
    if len(rows) < MIN_FRAMES:
        return None
    kind, stays = MOVING, _stays(own[rows])
    if shade[box][own].mean() > MOSTLY_SHADED:
        kind = SHADOW
    elif stays and spoken < CHANGES_BELOW * own.sum():
        kind = CHANGING
    elif stays:
        kind = SWAYING
    if len(rows) < LONG_FRAMES if kind in (CHANGING, SHADOW) else spoken < HEARTS:
        return None
    size, masks = (plate.width, plate.height), []
    for row in rows:
        whole = np.zeros(labels.shape[1:], bool)
        whole[box[1], box[2]] = own[row]
        masks.append(at_plate_size(whole, size))
    return _Region(kind, plate.frames[rows + box[0].start], masks)


def _stays(own: np.ndarray) -> bool:
    """Return whether a region (F, h, w) bool lies about where it lay some frames before, all the time."""
    if len(own) < LONG_FRAMES:
        return False
    before, after = own[:-LATER], own[LATER:]
    together = (before & after).sum((1, 2)) / np.maximum((before | after).sum((1, 2)), 1)
    return bool(np.median(together) > STAYS and (own[0] & own[-1]).any())


def _still_samples(plate: Plate, tracks: TrackSet, regions: list) -> np.ndarray:
    """Return which samples (N,) of the tracks lie in no region."""
    out = np.ones(len(tracks.frames), bool)
    for one in regions:
        for frame, mask in zip(one.frames, one.masks):
            on = np.nonzero(tracks.frames == frame)[0]
            out[on] &= ~_inside(mask, tracks.xy[on])
    return out


def _inside(mask: np.ndarray, xy: np.ndarray) -> np.ndarray:
    x, y = np.clip(xy.astype(int), 0, np.array(mask.shape[::-1]) - 1).T
    return mask[y, x]


def _proposal(plate: Plate, tracks: TrackSet, still: np.ndarray, region: _Region, background: str) -> Proposal:
    """Return one region as a proposal, with the tracks on it and where the background would have taken them."""
    within = np.zeros(len(tracks.frames), bool)
    for frame, mask in zip(region.frames, region.masks):
        on = np.nonzero(tracks.frames == frame)[0]
        within[on] = _inside(mask, tracks.xy[on])
    share = np.bincount(tracks.track_of_sample, within, len(tracks)) / np.maximum(tracks.lengths, 1)
    own = np.nonzero(share > 0.5)[0].tolist()
    grid, at_rest = tracks.grid(plate.frames), np.zeros((len(plate.frames), len(tracks)), bool)
    known = np.isin(tracks.frames, plate.frames)
    at_rest[np.searchsorted(plate.frames, tracks.frames[known]), tracks.track_of_sample[known]] = still[known]
    tails, apart = [], []
    for track in own[:TAILED]:
        predicted = _expected(grid, at_rest, track)
        rows = np.nonzero(np.isfinite(predicted[:, 0]))[0]
        tails.append((track, plate.frames[rows], predicted[rows]))
        apart.extend(np.linalg.norm(grid[rows, track] - predicted[rows], axis=1).tolist())
    speed = float(np.median(apart)) / TRACK_GAP if apart else float("nan")
    return packed(region.kind, region.frames, region.masks, own, tails, speed, background)


def _expected(grid: np.ndarray, still: np.ndarray, track: int) -> np.ndarray:
    """Return where the still tracks beside one would have taken it from `TRACK_GAP` frames before, (F, 2); NaN where
    that cannot be said.
    """
    out = np.full((len(grid), 2), np.nan)
    for k in range(len(grid) - TRACK_GAP):
        there = k + TRACK_GAP
        if not (np.isfinite(grid[k, track, 0]) and np.isfinite(grid[there, track, 0])):
            continue
        rows = np.nonzero(still[k] & still[there])[0]
        if len(rows) >= NEIGHBOURS:
            x = grid[k, track][None]
            moved = grid[there, rows] - grid[k, rows]
            out[there] = (x + median_motion(grid[k, rows], moved, x, NEIGHBOURS))[0]
    return out
