"""Features found and followed, sightings to choose from, surfaces and tags."""

import numpy as np
from flask import jsonify

from amberkeel.core.errors import FollowError, KeelError
from amberkeel.core.follow.detect import DetectSettings, find_features
from amberkeel.core.follow.tags import FAMILIES
from amberkeel.core.tracks import TrackSet
from amberkeel.core.units import maybe_number
from amberkeel.jobs.images import IMAGES, followed_images
from amberkeel.store import track_changes
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.jobs import start
from amberkeel.web.sent import sent
from amberkeel.web.tracks.answers import answer, figure
from amberkeel.web.tracks.blueprint import blueprint


@blueprint.post("/shots/<int:number>/follow")
def follow_features(number: int):
    """Start finding and following features."""
    return start("follow", number, follow_arguments(sent()))


def follow_arguments(given: dict) -> dict:
    """Return what a run of following is asked for, within its limits."""
    asked = detect_settings(given)
    if given.get("images", "plate") not in IMAGES:
        raise KeelError(f"There are no images “{given['images']}”.")
    bridge = str(given.get("bridge", 8) or 0)
    if not bridge.isdigit() or int(bridge) > 60:
        raise KeelError("A burst of blur can be bridged over 0 to 60 frames.")
    return {
        "count": asked.count,
        "spacing": asked.spacing,
        "threshold": asked.threshold,
        "images": given.get("images", "plate"),
        "bridge": int(bridge),
    }


def detect_settings(asked: dict) -> DetectSettings:
    """Return settings for finding features, within their limits."""

    def number(name: str, default: float, low: float, high: float) -> float:
        typed = maybe_number(asked.get(name), name.capitalize(), low, high)
        return typed or default

    return DetectSettings(
        int(number("count", 400, 20, 5000)), number("spacing", 0.0, 0, 300), number("threshold", 0.08, 0.005, 1.0)
    )


@blueprint.post("/shots/<int:number>/preview")
def preview(number: int):
    """Find features on one frame with settings that are not run yet."""
    asked = sent()
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    at = asked.whole("frame")
    if not plate.first <= at <= plate.last:
        raise KeelError(f"The plate has no frame {at}.")
    images, _ = followed_images(plate, str(asked.get("images", "plate")))
    found = find_features(images.gray(at), detect_settings(asked))
    return jsonify(features=found.round(1).tolist())


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
    return jsonify(
        first=data["first"].tolist(),
        frames=data["frames"].tolist(),
        x=data["xy"][:, 0].round(2).tolist(),
        y=data["xy"][:, 1].round(2).tolist(),
    )


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
        tracks = TrackSet(
            [str(n) for n in range(count)], data["first"], data["frames"], data["xy"], data["sigma"], data["score"]
        )
        edit = track_changes.adopt(
            opened,
            shot,
            tracks.take(np.array(rows)),
            {"images": str(data["images"]), "from": "sightings"},
            asked.get("revision"),
        )
        return answer(opened, shot, said=edit.label)


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
    stops = sorted({max(plate.first, figure(asked, "first", int)), min(plate.last, figure(asked, "last", int))})
    arguments = {
        "outline": outline,
        "grid": grid,
        "frame": figure(asked, "frame", int),
        "stops": stops,
        "images": str(asked.get("images", "plate")),
    }
    return start("surface", number, arguments)


@blueprint.post("/shots/<int:number>/tags")
def tags(number: int):
    """Start looking for fiducial tags."""
    asked = sent()
    family = str(asked.get("family", "36h11"))
    if family not in FAMILIES:
        raise KeelError(f"There is no tag family “{family}”.", f"Choose {', '.join(FAMILIES)}.")
    known = maybe_number(asked.get("size_mm"), "The side of a printed tag in mm", 1.0, 10000.0)
    return start(
        "tags", number, {"family": family, "corners": bool(asked.get("corners")) or known is not None, "size_mm": known}
    )
