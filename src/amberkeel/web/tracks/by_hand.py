"""Tracks placed and followed by hand, with the loupe."""

import base64

import cv2
import numpy as np
from flask import current_app, jsonify

from amberkeel.core.errors import FollowError, KeelError
from amberkeel.core.follow.hand import HandSettings, match_score
from amberkeel.core.pictures.write import encode_png
from amberkeel.jobs.images import IMAGES, followed_images
from amberkeel.jobs.tracks import Hand, follow_by_hand
from amberkeel.store import track_changes
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.models import Shot, Track
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, sent
from amberkeel.web.tracks.answers import answer
from amberkeel.web.tracks.blueprint import blueprint

LOUPE_PX = 13
"""Half side of what the loupe shows around the pattern, pixels, at least."""


class Set(Body):
    """How a track placed by hand is followed; see `HandSettings`."""

    settings: dict = {}


class Placed(Set):
    """A position on a frame, and the images that are followed."""

    frame: Whole
    x: Number
    y: Number
    images: Word = "plate"


class Key(Body):
    """A track's key on a frame, or that it goes."""

    frame: Whole
    x: Number | None = None
    y: Number | None = None
    remove: Flag = False


class Stretch(Body):
    """The frame that a track is followed from, and those that it is followed to."""

    start: Whole
    stops: list[Whole] = []


class Loupe(Placed):
    """What the loupe looks at, and the track that it compares with."""

    track: Whole | None = None


def _settings(asked: Set) -> HandSettings:
    """Return how a track placed by hand is followed, checked."""
    given = dict(asked.settings)
    try:
        for name in ("pattern", "search"):
            if name in given:
                given[name] = tuple(int(v) for v in given[name])
        if "offset" in given:
            given["offset"] = tuple(float(v) for v in given["offset"])
        settings = HandSettings(**given)
        settings.check()
    except (TypeError, ValueError) as error:
        raise KeelError(f"These are no settings for a track ({error}).") from None
    return settings


def _as_plain(settings: HandSettings) -> dict:
    return {
        **vars(settings),
        "pattern": list(settings.pattern),
        "search": list(settings.search),
        "offset": list(settings.offset),
    }


def check_place(opened, shot: Shot, frame: int, x: float, y: float) -> None:
    """Raise FollowError for a position that no track can start from."""
    plate = shot.plate
    if not plate.first <= frame <= plate.last:
        raise FollowError(f"The plate has no frame {frame}.")
    if not (0.0 <= x <= plate.width and 0.0 <= y <= plate.height):
        raise FollowError("That is off the picture.", "Place the track on it.")
    masked = masked_of(media(), [m for m in live_masks(opened, shot) if m.on], plate.height, plate.width)
    if masked is not None and masked(frame)[min(int(y), plate.height - 1), min(int(x), plate.width - 1)]:
        raise FollowError("That place is masked on this frame.", "Switch the mask off, or place the track elsewhere.")


@blueprint.post("/shots/<int:number>/tracks/place")
def place(number: int):
    """Add a track where the artist clicked."""
    asked = sent(Placed)
    if asked.images not in IMAGES:
        raise KeelError(f"There are no images “{asked.images}”.")
    followed = {"images": asked.images, "settings": _as_plain(_settings(asked))}
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        check_place(opened, shot, asked.frame, asked.x, asked.y)
        new = track_changes.place(opened, shot, asked.frame, (asked.x, asked.y), followed, asked.revision)
        return answer(opened, shot, track=new)


@blueprint.post("/shots/<int:number>/tracks/<int:track>/key")
def key(number: int, track: int):
    """Set a track's key on a frame, or remove it."""
    asked = sent(Key)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        xy = None
        if not asked.remove:
            xy = (asked.need("x"), asked.need("y"))
            check_place(opened, shot, asked.frame, *xy)
        track_changes.key(opened, shot, track, asked.frame, xy, asked.revision)
        return answer(opened, shot)


@blueprint.post("/shots/<int:number>/tracks/<int:track>/settings")
def settings(number: int, track: int):
    """Change how a track placed by hand is followed from now on."""
    asked = sent(Set)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        track_changes.set_up(opened, shot, track, _as_plain(_settings(asked)), asked.revision)
        return answer(opened, shot)


@blueprint.post("/shots/<int:number>/tracks/<int:track>/follow")
def follow_hand(number: int, track: int):
    """Follow a track placed by hand: one frame at once, more as a job."""
    asked = sent(Stretch)
    begin = asked.start
    with open_session() as opened:
        shot = get_shot(opened, number)
        row, plate = opened.get(Track, track), shot.plate
        if row is None or row.shot_id != number or row.removed:
            raise FollowError("That track is gone.", "Undo its deletion first.")
        if begin not in row.frames:
            raise FollowError(
                f"{row.name} has no key on frame {begin} to follow from.",
                "Place it there first, or go to a frame that it lives on.",
            )
        stops = [s for s in asked.stops if plate.first <= s <= plate.last and s != begin]
    if not stops:
        raise FollowError("There is nothing to follow to: the plate ends here.")
    arguments = {"track": track, "start": begin, "stops": stops}
    if len(stops) > 1 or abs(stops[0] - begin) > 1:
        return start("hand", number, arguments)
    said = follow_by_hand(current_app.settings, number, Hand(**arguments), revision=asked.revision)
    with open_session() as opened:
        return answer(opened, get_shot(opened, number), said=said)


@blueprint.post("/shots/<int:number>/loupe")
def loupe(number: int):
    """Send the patch under the pointer magnified, a track's reference patch, and how well they match."""
    asked = sent(Loupe)
    frame, x, y = asked.frame, asked.x, asked.y
    wanted = _settings(asked)
    with open_session() as opened:
        row = get_shot(opened, number).plate
        track = opened.get(Track, asked.track) if asked.track else None
        if track is not None and (track.shot_id != number or track.removed):
            raise FollowError("That track is gone.", "Undo its deletion first.")
    images, _ = followed_images(row, asked.images)
    if not row.first <= frame <= row.last:
        raise FollowError(f"The plate has no frame {frame}.")
    here, half = images.gray(frame), max(LOUPE_PX, int(1.3 * max(wanted.pattern)))
    answer = {
        "half": half,
        "here": _cut(here, x, y, half),
        "reference": None,
        "score": None,
        "sigma": None,
        "found": None,
    }
    keys = [f for f in (track.keys if track else []) if f != frame and f in track.frames]
    if keys:
        from_frame = min(keys, key=lambda f: abs(f - frame))
        at = track.frames.index(from_frame)
        reference, place_then = images.gray(from_frame), (track.x[at], track.y[at])
        answer |= {"reference": _cut(reference, *place_then, half), "frame": from_frame}
        try:
            fit = match_score(reference, here, place_then, (x, y), wanted)
            found = fit.position((-wanted.offset[0], -wanted.offset[1]))
            answer |= {
                "score": round(fit.score, 3),
                "found": found.round(2).tolist() if fit.ok else None,
                "sigma": round(float(np.sqrt(fit.covariance[0, 0])), 3) if fit.ok else None,
            }
        except FollowError as error:
            answer["note"] = str(error)
    return jsonify(answer)


def _cut(gray: np.ndarray, x: float, y: float, half: int) -> str:
    """Return the surroundings of a position as a PNG in base64, six picture pixels to one, stretched in contrast."""
    patch = cv2.getRectSubPix(gray, (2 * half + 1, 2 * half + 1), (x - 0.5, y - 0.5)).astype(np.float32)
    low, high = np.percentile(patch, [1, 99])
    shown = np.clip((patch - low) / max(high - low, 8.0) * 235.0 + 10.0, 0, 255).astype(np.uint8)
    shown = cv2.resize(shown, None, fx=6, fy=6, interpolation=cv2.INTER_CUBIC)
    return base64.b64encode(encode_png(shown)).decode()
