"""Masks between rows and core: what is masked on a frame, and how mattes are kept."""

import json
import zlib
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.leaks import Leak, leaks
from amberkeel.core.masks.raster import combine
from amberkeel.core.masks.shape import IGNORE, KEEP, check_key, shape_from_json
from amberkeel.core.pictures.write import decode_gray_png, encode_png
from amberkeel.store.media import Media
from amberkeel.store.models import Mask, Proposal, Shot
from amberkeel.store.motion import known_bodies

MAX_MARGIN = 200.0
COLOURS = ("#d5559a", "#7fa6e0", "#c9b458", "#8fd0a0", "#b58bd6", "#e08a6a")
"""What a shape may be drawn in; taken in turn."""

COVER_WIDTH = 320
"""Width at which a picture's masked share is measured."""

FULL = 0.995
"""Masked share from which nothing is left to follow."""


def live_masks(session: Session, shot: Shot) -> list[Mask]:
    """Return a shot's masks that are not removed, oldest first."""
    return list(session.scalars(select(Mask).where(Mask.shot_id == shot.id, ~Mask.removed).order_by(Mask.id)))


def own_mask(session: Session, shot: int, number: int) -> Mask:
    """Return a mask of a shot; raises MaskError when there is no such one, or it was deleted."""
    row = session.get(Mask, number)
    if row is None or row.shot_id != shot or row.removed:
        raise MaskError("That mask is gone.", "Undo its deletion first.")
    return row


def masks_stamp(session: Session, shot: Shot) -> int:
    """Return a number for what the shot's masks hide: the same masks give the same number, and none give 0."""
    session.flush()
    hiding = [
        [m.kind, m.purpose, m.first, m.last, m.margin, m.keys, m.frames, m.mattes]
        for m in live_masks(session, shot)
        if m.on and (m.keys or m.frames)
    ]
    return zlib.crc32(json.dumps(hiding, sort_keys=True).encode()) >> 1 if hiding else 0


def live_proposals(session: Session, shot: Shot) -> list[Proposal]:
    """Return a shot's proposals that were not dismissed, the largest first."""
    rows = session.scalars(select(Proposal).where(Proposal.shot_id == shot.id, Proposal.state != "dismissed"))
    return sorted(rows, key=lambda p: (p.kind != "moving", -len(p.frames) * p.evidence.get("share", 0.0)))


def next_colour(session: Session, shot: Shot) -> str:
    """Return the colour for a shot's next mask."""
    return COLOURS[len(session.scalars(select(Mask.id).where(Mask.shot_id == shot.id)).all()) % len(COLOURS)]


def check_mask(values: dict, width: int, height: int) -> None:
    """Raise MaskError for values that no mask can have."""
    for points in (np.asarray(k["points"], float) for k in values.get("keys", {}).values()):
        check_key(points, width, height)
    if len({len(k["points"]) for k in values.get("keys", {}).values()}) > 1:
        raise MaskError("The keys of a shape must have the same number of points.")
    if "keys" in values and not values["keys"]:
        raise MaskError("A shape needs a key on one frame at least.", "Delete the shape instead.")
    if values.get("purpose", IGNORE) not in (IGNORE, KEEP):
        raise MaskError("A mask's purpose is to ignore or to keep.")
    if not 0.0 <= float(values.get("margin", 0.0)) <= MAX_MARGIN:
        raise MaskError(f"A margin lies between 0 and {MAX_MARGIN:g} pixels.")
    first, last = values.get("first"), values.get("last")
    if first is not None and last is not None and first > last:
        raise MaskError("The mask's last frame comes before its first.")
    if "name" in values and not 1 <= len(str(values["name"]).strip()) <= 80:
        raise MaskError("A mask needs a name of up to 80 letters.")


def put_matte(media: Media, mask: np.ndarray) -> str:
    """Keep a bool picture (H, W) and return its hash."""
    return media.put(encode_png(mask.astype(np.uint8) * 255))


def get_matte(media: Media, digest: str) -> np.ndarray:
    """Return the bool picture (H, W) of a hash."""
    return decode_gray_png(media.get(digest)) > 127


def matte_of(media: Media, row: Mask | Proposal) -> Callable[[int], np.ndarray | None]:
    """Return a function from frame to a row's matte, None where it has none; the last few stay in memory."""
    matte_of = dict(zip(row.frames, row.mattes))
    kept: OrderedDict[int, np.ndarray] = OrderedDict()

    def read(frame: int) -> np.ndarray | None:
        if frame not in matte_of:
            return None
        if frame not in kept:
            kept[frame] = get_matte(media, matte_of[frame])
            if len(kept) > 4:
                kept.popitem(last=False)
        return kept[frame]

    return read


def _lived(row: Mask, read):
    def matte(frame: int):
        return (
            read(frame)
            if (row.first is None or frame >= row.first) and (row.last is None or frame <= row.last)
            else None
        )

    return matte


def masked_of(media: Media, rows: list[Mask], height: int, width: int) -> Callable[[int], np.ndarray] | None:
    """Return a function from frame to bool (H, W), True where masked; None where no mask is on."""
    shown = [r for r in rows if r.on]
    if not shown:
        return None
    shapes = [
        shape_from_json({"keys": r.keys, "margin": r.margin, "first": r.first, "last": r.last, "purpose": r.purpose})
        for r in shown
        if r.kind == "shape"
    ]
    mattes = [_lived(r, matte_of(media, r)) for r in shown if r.kind == "matte" and r.purpose == IGNORE]
    keep = [_lived(r, matte_of(media, r)) for r in shown if r.kind == "matte" and r.purpose == KEEP]
    base = combine(shapes, mattes, height, width)

    def masked(frame: int) -> np.ndarray:
        out = base(frame)
        for read in keep:
            picture = read(frame)
            if picture is not None:
                out = out | ~picture
        return out

    return masked


def nothing_left(frames: np.ndarray, cover: list[float]) -> list[int]:
    """Return the frames on which the whole picture is masked."""
    return [int(f) for f, share in zip(frames, cover) if share >= FULL]


@dataclass(frozen=True)
class Cover:
    """What a shot's masks cover: the masked share of each frame, and where something that moves leaves its mask, the
    largest first; `known` says whether what moves was looked for.
    """

    shares: list[float]
    leaks: list[Leak]
    known: bool


_covers: OrderedDict[tuple, Cover] = OrderedDict()


def cover(session: Session, media: Media, shot: Shot) -> Cover:
    """Return what a shot's masks cover, and where they let something out; the last few answers are kept."""
    key = (shot.id, shot.masks_stamp, shot.plate.motion)
    if key not in _covers:
        _covers[key] = _measure_cover(media, shot, live_masks(session, shot))
        if len(_covers) > 40:
            _covers.popitem(last=False)
    return _covers[key]


def _measure_cover(media: Media, shot: Shot, rows: list[Mask]) -> Cover:
    plate, bodies = shot.plate, known_bodies(media, shot.plate)
    masked = masked_of(media, rows, plate.height, plate.width)
    if masked is None:
        return Cover([0.0] * plate.count, [], bool(bodies))
    step, shares, spots = max(1, plate.width // COVER_WIDTH), [], {}
    for frame in range(plate.first, plate.last + 1):
        mask = masked(frame)
        shares.append(float(mask[::step, ::step].mean()))
        if frame in bodies:
            grid = bodies[frame].shape[::-1]
            spots[frame] = cv2.resize(mask.astype(np.float32), grid, interpolation=cv2.INTER_AREA) > 0.5
    return Cover(shares, leaks(bodies, spots), bool(bodies))


def mask_json(row: Mask) -> dict:
    """Return a mask as the pages draw it."""
    return {
        "id": row.id, "name": row.name, "kind": row.kind, "colour": row.colour, "purpose": row.purpose, "on": row.on,
        "first": row.first, "last": row.last, "margin": row.margin, "keys": row.keys, "samples": row.samples,
        "cleaning": row.cleaning, "source": row.source, "mattes": dict(zip(map(str, row.frames), row.mattes)),
    }  # fmt: skip


def proposal_json(row: Proposal) -> dict:
    """Return a proposal as the pages show it."""
    return {
        "id": row.id, "kind": row.kind, "state": row.state, "frames": row.frames, "tracks": row.tracks,
        "evidence": row.evidence, "mattes": dict(zip(map(str, row.frames), row.mattes)),
    }  # fmt: skip
