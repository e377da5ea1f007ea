"""Tracks on the desk: placing, following, judging and weeding them, sightings, surfaces, tags, tables."""

import base64
from collections import OrderedDict

import cv2
import numpy as np
from flask import Blueprint, Response, current_app, jsonify, request

from amberkeel.core.errors import FollowError, KeelError
from amberkeel.core.follow.hand import HandSettings, match_score
from amberkeel.core.follow.judge import Judgement, judge, returns
from amberkeel.core.follow.tags import FAMILIES
from amberkeel.core.handoff.track_table import TOP_LEFT, check_origin, read_tracks_csv, tracks_csv
from amberkeel.core.tracks import TrackSet
from amberkeel.jobs.plates import IMAGES, followed_images, open_row
from amberkeel.jobs.tracks import follow_by_hand
from amberkeel.store import weed
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.models import Shot, Track
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.data import shot_state
from amberkeel.web.jobs import follow_arguments, start
from amberkeel.web.sent import Sent, sent, whole

blueprint = Blueprint("tracks", __name__)

LOUPE_PX = 13
"""Half side of what the loupe shows around the pattern, pixels, at least."""

TABLE_BYTES = 200 * 1024 * 1024
KEPT = 4
_judged: OrderedDict[tuple, tuple[list[int], Judgement, TrackSet]] = OrderedDict()


def _answer(opened, shot: Shot, **more):
    opened.flush()
    return jsonify({**shot_state(opened, shot), **more})


def _figure(asked: dict, name: str, kind=float):
    try:
        return kind(asked[name])
    except (KeyError, TypeError, ValueError):
        raise KeelError(f"“{asked.get(name)}” is no {name}.") from None


def _settings(asked: Sent) -> HandSettings:
    """Return how a track placed by hand is followed, checked."""
    given = dict(asked.part("settings"))
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
    return {**vars(settings), "pattern": list(settings.pattern), "search": list(settings.search), "offset": list(settings.offset)}


def _check_place(opened, shot: Shot, frame: int, x: float, y: float) -> None:
    """Raise FollowError for a place that no track can start from."""
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
    asked = sent()
    frame, x, y = _figure(asked, "frame", int), _figure(asked, "x"), _figure(asked, "y")
    settings, images = _settings(asked), str(asked.get("images", "plate"))
    if images not in IMAGES:
        raise KeelError(f"There are no images “{images}”.")
    with open_session() as opened:
        shot = get_shot(opened, number)
        _check_place(opened, shot, frame, x, y)
        new = weed.place(opened, shot, frame, (x, y), {"images": images, "settings": _as_plain(settings)}, asked.get("revision"))
        return _answer(opened, shot, track=new)


@blueprint.post("/shots/<int:number>/tracks/<int:track>/key")
def key(number: int, track: int):
    """Set a track's key on a frame, or remove it."""
    asked = sent()
    frame = _figure(asked, "frame", int)
    with open_session() as opened:
        shot = get_shot(opened, number)
        xy = None
        if not asked.get("remove"):
            xy = (_figure(asked, "x"), _figure(asked, "y"))
            _check_place(opened, shot, frame, *xy)
        weed.key(opened, shot, track, frame, xy, asked.get("revision"))
        return _answer(opened, shot)


@blueprint.post("/shots/<int:number>/tracks/<int:track>/settings")
def settings(number: int, track: int):
    """Change how a track placed by hand is followed from now on."""
    asked = sent()
    with open_session() as opened:
        shot = get_shot(opened, number)
        weed.set_up(opened, shot, track, _as_plain(_settings(asked)), asked.get("revision"))
        return _answer(opened, shot)


@blueprint.post("/shots/<int:number>/tracks/<int:track>/follow")
def follow(number: int, track: int):
    """Follow a track placed by hand: one frame at once, more as a job."""
    asked = sent()
    begin, stops = _figure(asked, "start", int), [int(s) for s in asked.get("stops", [])]
    with open_session() as opened:
        shot = get_shot(opened, number)
        row, plate = opened.get(Track, track), shot.plate
        if row is None or row.shot_id != number or row.removed:
            raise FollowError("That track is gone.", "Undo its deletion first.")
        if begin not in row.frames:
            raise FollowError(f"{row.name} has no key on frame {begin} to follow from.", "Place it there first, or go to a frame that it lives on.")
        stops = [s for s in stops if plate.first <= s <= plate.last and s != begin]
    if not stops:
        raise FollowError("There is nothing to follow to: the plate ends here.")
    arguments = {"track": track, "start": begin, "stops": stops}
    if len(stops) > 1 or abs(stops[0] - begin) > 1:
        return start("hand", number, arguments)
    said = follow_by_hand(current_app.settings, number, arguments, revision=asked.get("revision"))
    with open_session() as opened:
        return _answer(opened, get_shot(opened, number), said=said)


@blueprint.post("/shots/<int:number>/loupe")
def loupe(number: int):
    """Send the patch under the pointer magnified, a track's reference patch, and how well they match."""
    asked = sent()
    frame, x, y = _figure(asked, "frame", int), _figure(asked, "x"), _figure(asked, "y")
    wanted = _settings(asked)
    with open_session() as opened:
        row = get_shot(opened, number).plate
        track = opened.get(Track, asked.whole("track")) if asked.get("track") else None
    images, _ = followed_images(row, str(asked.get("images", "plate")))
    if not row.first <= frame <= row.last:
        raise FollowError(f"The plate has no frame {frame}.")
    here, half = images.gray(frame), max(LOUPE_PX, int(1.3 * max(wanted.pattern)))
    answer = {"half": half, "here": _cut(here, x, y, half), "reference": None, "score": None, "sigma": None, "found": None}
    keys = [f for f in (track.keys if track else []) if f != frame and f in track.frames]
    if keys:
        from_frame = min(keys, key=lambda f: abs(f - frame))
        at = track.frames.index(from_frame)
        reference, place_then = images.gray(from_frame), (track.x[at], track.y[at])
        answer |= {"reference": _cut(reference, *place_then, half), "frame": from_frame}
        try:
            fit = match_score(reference, here, place_then, (x, y), wanted)
            found = fit.place((-wanted.offset[0], -wanted.offset[1]))
            answer |= {"score": round(fit.score, 3), "found": found.round(2).tolist() if fit.ok else None, "sigma": round(float(np.sqrt(fit.covariance[0, 0])), 3) if fit.ok else None}
        except FollowError as error:
            answer["note"] = str(error)
    return jsonify(answer)


def _cut(gray: np.ndarray, x: float, y: float, half: int) -> str:
    """Return the surroundings of a place as a PNG in base64, six picture pixels to one, stretched in contrast."""
    patch = cv2.getRectSubPix(gray, (2 * half + 1, 2 * half + 1), (x - 0.5, y - 0.5)).astype(np.float32)
    low, high = np.percentile(patch, [1, 99])
    shown = np.clip((patch - low) / max(high - low, 8.0) * 235.0 + 10.0, 0, 255).astype(np.uint8)
    shown = cv2.resize(shown, None, fx=6, fy=6, interpolation=cv2.INTER_CUBIC)
    return base64.b64encode(cv2.imencode(".png", shown)[1].tobytes()).decode()


@blueprint.post("/shots/<int:number>/tracks/weed")
def change(number: int):
    """Cut, trim, split, join, fill, rename, group, hide or lock tracks."""
    asked = sent()
    what, ids, revision = str(asked.get("what")), asked.wholes("tracks"), asked.get("revision")
    with open_session() as opened:
        shot = get_shot(opened, number)
        match what:
            case "cut":
                weed.cut(opened, shot, {whole(t, "samples"): [whole(f, "samples") for f in frames] for t, frames in asked.part("samples").items()}, revision)
            case "trim":
                weed.trim(opened, shot, ids, _figure(asked, "first", int), _figure(asked, "last", int), revision)
            case "split":
                weed.split(opened, shot, ids, _figure(asked, "frame", int), revision)
            case "join":
                weed.join(opened, shot, ids, revision)
            case "fill":
                weed.interpolate(opened, shot, ids, _figure(asked, "first", int), _figure(asked, "last", int), revision)
            case "rename":
                weed.rename(opened, shot, ids[0] if ids else 0, str(asked.get("name", "")), revision)
            case "group":
                weed.group(opened, shot, ids, str(asked.get("name", "")), str(asked.get("colour", "")), revision)
            case "hide":
                weed.hide(opened, shot, str(asked.get("name", "")), bool(asked.get("hidden")), revision)
            case "lock":
                weed.lock(opened, shot, ids, bool(asked.get("locked")), revision)
            case _:
                raise KeelError(f"There is no change “{what}” of tracks.")
        return _answer(opened, shot)


def _judgement(opened, shot: Shot) -> tuple[list[int], Judgement, TrackSet]:
    """Return track ids, what is known of the tracks, and the tracks; kept while neither they nor the masks change."""
    known = (shot.id, shot.tracks_stamp, shot.masks_stamp, str(shot.plate.stack))
    if known not in _judged:
        rows, tracks = weed.whole(opened, shot)
        plate = open_row(shot.plate)
        masked = masked_of(media(), [m for m in live_masks(opened, shot) if m.on], plate.height, plate.width)
        _judged[known] = ([t.id for t in rows], judge(tracks, plate, masked), tracks)
        while len(_judged) > KEPT:
            _judged.popitem(last=False)
    return _judged[known]


@blueprint.get("/shots/<int:number>/judgement.json")
def judgement(number: int):
    """Send the figures by which tracks are weeded, a row a track, and each track's worst jump."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        if not weed.live_tracks(opened, shot):
            return jsonify(ids=[], returns=[])
        ids, known, tracks = _judgement(opened, shot)
        pairs = returns(tracks, np.arange(shot.plate.first, shot.plate.last + 1))
    distance = np.where(np.isfinite(known.mask_distance), known.mask_distance, 1e6)
    return jsonify(
        ids=ids,
        length=known.length.tolist(),
        score=known.score.round(3).tolist(),
        jump=known.worst_jump.round(3).tolist(),
        jumps=known.jump.round(2).tolist(),
        restless=known.restless.round(2).tolist(),
        edge=known.edge.round(2).tolist(),
        highlight=known.highlight.round(3).tolist(),
        stray=known.stray.round(3).tolist(),
        mask=distance.round(1).tolist(),
        twin=[ids[t] if t >= 0 else 0 for t in known.twin],
        returns=[[ids[a], ids[b], round(d, 2)] for a, b, d in pairs],
    )


@blueprint.get("/shots/<int:number>/tracks.csv")
def table(number: int):
    """Send a shot's tracks as CSV."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        _, tracks = weed.whole(opened, shot)
        name = f"{shot.name.split()[0].lower()}_tracks.csv"
    return Response(tracks_csv(tracks), mimetype="text/csv", headers={"Content-Disposition": f'attachment; filename="{name}"'})


@blueprint.post("/shots/<int:number>/tracks.csv")
def bring_in(number: int):
    """Add tracks from an uploaded table."""
    given = request.files.get("table")
    if given is None or not given.filename:
        raise KeelError("There is no table in what arrived.", "Choose a CSV file.")
    blob = given.read(TABLE_BYTES + 1)
    if len(blob) > TABLE_BYTES:
        raise KeelError("The table is larger than 200 MiB.", "Split it.")
    try:
        text = blob.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise KeelError("That is no table of text.", "Give a CSV file in UTF-8.") from None
    origin = request.form.get("origin", TOP_LEFT)
    with open_session() as opened:
        shot = get_shot(opened, number)
        plate = open_row(shot.plate)
        tracks = read_tracks_csv(text, plate, origin)
        check_origin(tracks, plate, origin)
        edit = weed.bring_in(opened, shot, tracks, given.filename[:200])
        return _answer(opened, shot, said=edit.label)


@blueprint.post("/shots/<int:number>/sight")
def sight(number: int):
    """Start chaining candidate features."""
    return start("sight", number, follow_arguments(sent()))


@blueprint.get("/shots/<int:number>/sightings.json")
def sightings(number: int):
    """Send the sightings in columns, as tracks are sent."""
    with open_session() as opened:
        kept = get_shot(opened, number).sightings
    if not kept:
        return jsonify(first=[0], frames=[], x=[], y=[])
    data = media().get_arrays(kept)
    return jsonify(first=data["first"].tolist(), frames=data["frames"].tolist(), x=data["xy"][:, 0].round(2).tolist(), y=data["xy"][:, 1].round(2).tolist())


@blueprint.post("/shots/<int:number>/sightings")
def adopt(number: int):
    """Make tracks of chosen sightings."""
    asked = sent()
    with open_session() as opened:
        shot = get_shot(opened, number)
        if not shot.sightings or asked.get("of") != shot.sightings:
            raise FollowError("These sightings are gone.", "The page shows the newest ones now.")
        data = media().get_arrays(shot.sightings)
        count = len(data["first"]) - 1
        rows = sorted({n for n in asked.wholes("rows") if 0 <= n < count})
        if not rows:
            raise FollowError("No sighting is chosen.", "Click some, or drag a box around them.")
        tracks = TrackSet([str(n) for n in range(count)], data["first"], data["frames"], data["xy"], data["sigma"], data["score"])
        edit = weed.adopt(opened, shot, tracks.take(np.array(rows)), {"images": str(data["images"]), "from": "sightings"}, asked.get("revision"))
        return _answer(opened, shot, said=edit.label)


@blueprint.post("/shots/<int:number>/surface")
def surface(number: int):
    """Start following a flat piece of the set."""
    asked = sent()
    try:
        outline = [[float(x), float(y)] for x, y in asked["outline"]]
        grid = [int(v) for v in asked["grid"]]
    except (KeyError, TypeError, ValueError):
        raise KeelError("That is no surface.", "Draw its outline on the plate.") from None
    if len(outline) > 200 or len(grid) != 2 or not all(2 <= g <= 30 for g in grid):
        raise KeelError("A surface has up to 200 corners and a grid of 2 to 30 tracks each way.")
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    stops = sorted({max(plate.first, _figure(asked, "first", int)), min(plate.last, _figure(asked, "last", int))})
    arguments = {"outline": outline, "grid": grid, "frame": _figure(asked, "frame", int), "stops": stops, "images": str(asked.get("images", "plate"))}
    return start("surface", number, arguments)


@blueprint.post("/shots/<int:number>/tags")
def tags(number: int):
    """Start looking for fiducial tags."""
    asked = sent()
    family = str(asked.get("family", "36h11"))
    if family not in FAMILIES:
        raise KeelError(f"There is no tag family “{family}”.", f"Choose {', '.join(FAMILIES)}.")
    size = str(asked.get("size_mm") or "").strip().replace(",", ".")
    try:
        known = float(size) if size else None
    except ValueError:
        raise KeelError(f"“{size}” is no size.", "Type the printed black square's side in millimetres.") from None
    if known is not None and not 1.0 <= known <= 10000.0:
        raise KeelError("A printed tag is 1 to 10000 mm wide.")
    return start("tags", number, {"family": family, "corners": bool(asked.get("corners")) or known is not None, "size_mm": known})
