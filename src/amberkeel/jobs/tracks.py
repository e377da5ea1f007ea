"""What the jobs of the tracks stage do: features, sightings, tracks placed by hand, surfaces, tags."""

from collections.abc import Callable
from dataclasses import asdict, dataclass

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.core.errors import FollowError, MaskError
from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.follow.hand import HandRun, HandSettings, Neighbours, follow_hand
from amberkeel.core.follow.surface import follow_surface, surface_tracks
from amberkeel.core.follow.tags import follow_tags
from amberkeel.core.plate.plate import GrayFrames
from amberkeel.core.plate.sequence import spans
from amberkeel.core.progress import Progress, silent, span
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import followed_images, motion_blur_of, open_row, plate_row, with_outside
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.held import count_change, hold_shot
from amberkeel.store.masks import cover, live_masks, masked_of, nothing_left
from amberkeel.store.media import Media
from amberkeel.store.models import Shot, Track
from amberkeel.store.session import session
from amberkeel.store.ties import document_of_set, families_of, set_row
from amberkeel.store.tracks import add_run, free_names, live_tracks, to_track_set

SIGHTINGS = 3
"""Times as many candidates as features asked for."""


class Features(Arguments):
    """Features to find and follow: how many on a frame, least spacing in pixels, strength, and bridged frames."""

    count: int = 400
    spacing: float = 0.0
    threshold: float = 0.08
    images: str = "plate"
    bridge: int = 8


class Hand(Arguments):
    """A track placed by hand, followed from the frame `start` to each of `stops`."""

    track: int
    start: int
    stops: list[int]


class Surface(Arguments):
    """A flat piece of the set: its outline in pixels on a frame, the grid of tracks on it, frames to follow to."""

    outline: list[tuple[float, float]]
    grid: tuple[int, int]
    frame: int
    stops: list[int]
    images: str = "plate"


class Tags(Arguments):
    """Fiducial tags: their family, whether their corners are wanted, and the printed side in mm."""

    family: str = "36h11"
    corners: bool = False
    size_mm: float | None = None


def follow(settings: Settings, shot_id: int, arguments: Features, progress: Progress) -> None:
    """Find and follow features; the new tracks stand in for the last automatic ones, as one edit."""
    row = plate_row(settings, shot_id)
    plate, made = followed_images(row, arguments.images)
    detect = DetectSettings(arguments.count, arguments.spacing, arguments.threshold)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        before = {t.id: tuple(t.keys) for t in live_tracks(opened, shot)}
        used, stamp = [m for m in live_masks(opened, shot) if m.on], shot.masks_stamp
        full = nothing_left(plate.frames, cover(opened, Media(settings.media), shot).shares)
    if len(full) == len(plate.frames):
        raise MaskError(
            f"The masks cover the whole picture on {spans(full)}: nothing is left to track.",
            "Switch one off, or make it smaller.",
        )
    mattes = with_outside(masked_of(Media(settings.media), used, plate.height, plate.width), plate)
    found = follow_plate(plate, FollowSettings(detect, bridge=arguments.bridge), mattes, span(progress, 0.0, 0.95))
    with effect(settings, shot_id, arguments) as opened:
        shot = opened.get(Shot, shot_id)
        old = [t.id for t in live_tracks(opened, shot) if t.kind == "auto" and not t.locked and _untouched(t, before)]
        new = add_run(opened, shot, found, made)
        label = f"Follow features ({len(new)} tracks{', masked' if used else ''})"
        apply(opened, shot_id, "cut", {"remove": old, "bring": new, "label": label, "followed": stamp})


def _untouched(track: Track, before: dict[int, tuple[int, ...]]) -> bool:
    """Return whether a track is as it was when a job began: none that a hand has made, or set keys on, since."""
    return before.get(track.id) == tuple(track.keys)


def sight(settings: Settings, shot_id: int, arguments: Features, progress: Progress) -> None:
    """Chain candidate features over the frames and keep them beside the tracks, for choosing from."""
    row, media = plate_row(settings, shot_id), Media(settings.media)
    plate, made = followed_images(row, arguments.images)
    with session(settings.database) as opened:
        masked = masked_of(
            media, [m for m in live_masks(opened, opened.get(Shot, shot_id)) if m.on], plate.height, plate.width
        )
    count = min(5000, SIGHTINGS * arguments.count)
    wanted = FollowSettings(DetectSettings(count, 0.0, 2.5 * arguments.threshold))
    found = follow_plate(plate, wanted, with_outside(masked, plate), span(progress, 0.0, 0.97))
    kept = media.put_arrays(
        first=found.first,
        frames=found.frames,
        xy=found.xy,
        sigma=found.sigma,
        score=found.score,
        images=np.array(made["images"]),
    )
    with effect(settings, shot_id, arguments) as opened:
        shot = opened.get(Shot, shot_id)
        shot.sightings = kept
        count_change(opened, shot)


def hand(settings: Settings, shot_id: int, arguments: Hand, progress: Progress) -> None:
    """Follow a track placed by hand from one frame to others, as one edit; see `_followed_by_hand`."""
    kept = _followed_by_hand(settings, shot_id, arguments, progress)
    with effect(settings, shot_id, arguments, kept.said) as opened:
        kept.put(opened)


def follow_by_hand(settings: Settings, shot_id: int, arguments: Hand, revision: int | None = None) -> str:
    """Follow a track placed by hand to each of the stops, as one edit at once; return what came of it.

    Raises FollowError as the job does, StaleEdit where the shot is past the `revision` that the user saw.
    """
    kept = _followed_by_hand(settings, shot_id, arguments, silent)
    with session(settings.database) as opened:
        kept.put(opened, revision)
    return kept.said


def _followed_by_hand(settings: Settings, shot_id: int, arguments: Hand, progress: Progress) -> "_Run":
    """Follow a track placed by hand to each of the stops.

    Samples between are replaced, keys set by hand stay. Raises FollowError for a locked track or a frame to start from
    on which it has no position.
    """
    row, media = plate_row(settings, shot_id), Media(settings.media)
    with session(settings.database) as opened:
        shot, track = opened.get(Shot, shot_id), opened.get(Track, arguments.track)
        if track is None or track.shot_id != shot_id or track.removed:
            raise FollowError("That track is gone.", "Undo its deletion first.")
        if track.locked:
            raise FollowError(f"{track.name} is locked.", "Unlock it first.")
        others = to_track_set([t for t in live_tracks(opened, shot) if t.id != track.id and t.state == "active"], row)
        masks = [m for m in live_masks(opened, shot) if m.on]
    plate, _ = followed_images(row, track.made.get("images", "plate"))
    masked = with_outside(masked_of(media, masks, plate.height, plate.width), plate)
    positions = dict(zip(track.frames, zip(track.x, track.y)))
    keys = {f: positions[f] for f in track.keys if f in positions}
    start, wanted = arguments.start, HandSettings(**track.made.get("settings", {}))
    runs = _both_ways(
        plate,
        arguments.stops,
        span(progress, 0.0, 0.95),
        lambda gray, stop, report: follow_hand(
            gray,
            keys,
            start,
            stop,
            wanted,
            Neighbours(gray, others),
            motion_blur_of(row),
            masked,
            report,
            positions.get(start),
        ),
    )
    return _run(shot_id, track, start, arguments.stops, runs, keys)


def _both_ways(plate, stops: list[int], progress: Progress, work: Callable[..., HandRun]) -> list[HandRun]:
    grays, runs = GrayFrames(plate, ahead=0), []
    try:
        for k, stop in enumerate(stops):
            runs.append(work(grays.get, int(stop), span(progress, k / len(stops), (k + 1) / len(stops))))
    finally:
        grays.close()
    return runs


@dataclass(frozen=True)
class _Run:
    """What was followed by hand: the samples of the track by frame, frames that lost theirs, keys (pixels by frame) as
    they were when it began, and what came of it in words.
    """

    shot_id: int
    track: Track
    samples: dict
    drop: list[int]
    keys: dict
    said: str

    def put(self, opened: Session, revision: int | None = None) -> None:
        """Put it into the track, as one edit; a key that a hand has set, moved or taken away meanwhile stays so."""
        hold_shot(opened, self.shot_id)
        row = opened.get(Track, self.track.id)
        now = dict(zip(row.frames, zip(row.x, row.y)))
        set_now = {f: now[f] for f in row.keys if f in now}
        changed = {f for f in {*self.keys, *set_now} if self.keys.get(f) != set_now.get(f)}
        frames = sorted(set(self.samples) - changed)
        put = {c: [round(self.samples[f][k], 4) for f in frames] for k, c in enumerate(("x", "y", "sigma", "score"))}
        payload = {
            "put": {str(row.id): {"frames": frames, **put}},
            "drop": {str(row.id): [f for f in self.drop if f not in changed and f in now]},
            "label": f"Follow {row.name} over {len(frames)} frames",
        }
        apply(opened, self.shot_id, "samples", payload, revision)


def _run(shot_id: int, track: Track, start: int, stops: list[int], runs: list[HandRun], keys: dict) -> _Run:
    """Return what was followed; raises FollowError where that is nothing."""
    samples = {f: v for run in runs for f, v in run.samples.items()}
    swept = {f for stop in stops for f in range(min(start, stop), max(start, stop) + 1)} - {start}
    drop = [f for f in track.frames if f in swept and f not in samples and f not in keys]
    lost = " ".join(run.lost for run in runs if run.lost)
    if not samples and not drop:
        raise FollowError(
            lost or "Nothing was followed.", "Move the key, enlarge the search area, or lower the least match."
        )
    return _Run(shot_id, track, samples, drop, keys, f"{track.name}: {len(samples)} frames followed. {lost}".strip())


def surface(settings: Settings, shot_id: int, arguments: Surface, progress: Progress) -> None:
    """Follow a flat piece of the set both ways and lay a grid of tracks on it."""
    row = plate_row(settings, shot_id)
    plate, made = followed_images(row, arguments.images)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        others = to_track_set([t for t in live_tracks(opened, shot) if t.state == "active"], row)
    start = arguments.frame
    stops = tuple(s for s in arguments.stops if s != start)
    grays = GrayFrames(plate, ahead=0)
    try:
        outline = np.array(arguments.outline, float)
        run = follow_surface(
            grays.get,
            outline,
            start,
            stops,
            arguments.grid,
            Neighbours(grays.get, others),
            motion_blur_of(row),
            span(progress, 0.0, 0.95),
        )
    finally:
        grays.close()
    with effect(settings, shot_id, arguments) as opened:
        shot = opened.get(Shot, shot_id)
        name = free_names(opened, shot, "surface", digits=1)[0]
        while any(t.name.startswith(f"{name}.") for t in live_tracks(opened, shot)):
            name = f"surface{int(name.removeprefix('surface')) + 1}"
        tracks = surface_tracks(run, name)
        made |= {
            "surface": {
                "name": name,
                "frame": start,
                "outline": [list(point) for point in arguments.outline],
                "grid": list(arguments.grid),
            }
        }
        new = add_run(opened, shot, tracks, made, [[start]] * len(tracks))
        payload = {
            "bring": new,
            "values": {str(i): {"group": name} for i in new},
            "groups": {**shot.groups, name: {"colour": "#8fd0a0"}},
            "label": f"Follow {name} ({len(new)} tracks)",
        }
        apply(opened, shot_id, "samples", payload)
        opened.info["said"] = f"{name}: {len(run.warps)} frames. {run.lost}".strip()


def find_tags(settings: Settings, shot_id: int, arguments: Tags, progress: Progress) -> None:
    """Find a family's tags on every frame; they stand in for that family's earlier ones."""
    plate, family = open_row(plate_row(settings, shot_id)), arguments.family
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        if arguments.then and (shot.ties or {}).get("set"):
            # On the way into a set's world the tags are those that the set has.
            family = next(iter(families_of(document_of_set(set_row(opened, shot)))), family)
        before = {t.id: tuple(t.keys) for t in live_tracks(opened, shot)}
    tracks, reports = follow_tags(plate, family, arguments.corners, span(progress, 0.0, 0.97))
    with effect(settings, shot_id, arguments) as opened:
        shot = opened.get(Shot, shot_id)
        report = {"family": family, "size_mm": arguments.size_mm, "found": [asdict(r) for r in reports]}
        old = [
            t.id
            for t in live_tracks(opened, shot)
            if t.kind == "tag" and t.name.startswith(f"{family}-") and not t.locked and _untouched(t, before)
        ]
        if len(tracks) or old:
            new = add_run(opened, shot, tracks, {"images": "plate", "family": family})
            apply(
                opened,
                shot_id,
                "samples",
                {"bring": new, "remove": old, "label": f"Find tags ({len(reports)} of {family})"},
            )
        shot.tags = report
        count_change(opened, shot)
