"""What masks change in tracks that were followed before: which samples they cover now, and tracks without those."""

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.raster import covered, grow
from amberkeel.core.tracks import TrackSet
from amberkeel.store import edits
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.media import Media
from amberkeel.store.models import Edit, Shot
from amberkeel.store.tracks import add_run, live_tracks, to_track_set

PATCH_PX = 4
"""How close to a mask's edge a sample may lie: half of half a patch."""

SHORTEST = 3
"""Samples below which what is left of a track is let go."""


def covered_samples(media: Media, shot: Shot, rows: list, tracks: TrackSet) -> np.ndarray:
    """Return which samples (N,) lie in a mask or within PATCH_PX of one."""
    plate = shot.plate
    masked = masked_of(media, rows, plate.height, plate.width)
    under = np.zeros(len(tracks.frames), bool)
    if masked is None:
        return under
    for frame in np.unique(tracks.frames):
        on = np.nonzero(tracks.frames == frame)[0]
        under[on] = covered(grow(masked(int(frame)), PATCH_PX), tracks.xy[on])
    return under


def affected(session: Session, media: Media, shot: Shot) -> dict[int, list[int]]:
    """Return the frames on which masks cover each track that was followed before, by track id."""
    rows = live_tracks(session, shot)
    tracks = to_track_set(rows)
    under = covered_samples(media, shot, live_masks(session, shot), tracks)
    found: dict[int, list[int]] = {}
    for sample in np.nonzero(under)[0]:
        found.setdefault(rows[int(tracks.track_of_sample[sample])].id, []).append(int(tracks.frames[sample]))
    return found


def cut(session: Session, media: Media, shot: Shot, revision: int | None) -> Edit:
    """Cut the covered frames out of the tracks, as one edit; raises MaskError when there are none."""
    rows = live_tracks(session, shot)
    tracks = to_track_set(rows)
    under = covered_samples(media, shot, live_masks(session, shot), tracks)
    hit = np.unique(tracks.track_of_sample[under])
    if not len(hit):
        raise MaskError("No track runs under a mask.", "There is nothing to cut.")
    left = _without(tracks.take(hit), under[np.isin(tracks.track_of_sample, hit)])
    new = add_run(session, shot, left)
    label = f"Cut {int(under.sum())} covered frames from {len(hit)} tracks"
    payload = {"remove": [rows[t].id for t in hit], "bring": new, "label": label, "followed": shot.masks_stamp}
    return edits.apply(session, shot.id, "cut", payload, revision)


def _without(tracks: TrackSet, under: np.ndarray) -> TrackSet:
    """Return tracks without the samples under a mask; what is left of one may be nothing."""
    keep = ~under
    counts = np.bincount(tracks.track_of_sample[keep], minlength=len(tracks))
    long = counts >= SHORTEST
    keep &= long[tracks.track_of_sample]
    chosen = np.nonzero(long)[0]
    first = np.concatenate([[0], np.cumsum(counts[chosen])]).astype(np.int64)
    return TrackSet(
        [tracks.names[t] for t in chosen],
        first,
        tracks.frames[keep],
        tracks.xy[keep],
        tracks.sigma[keep],
        tracks.score[keep],
        [tracks.kinds[t] for t in chosen],
        [tracks.states[t] for t in chosen],
    )
