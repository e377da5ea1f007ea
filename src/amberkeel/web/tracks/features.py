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
from amberkeel.web.common import get_shot, media, open_session, shot_to_change
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, sent
from amberkeel.web.tracks.answers import answer
from amberkeel.web.tracks.blueprint import blueprint


class Detection(Body):
    """How features are found, as typed, and in which images."""

    count: Word = ""
    spacing: Word = ""
    threshold: Word = ""
    images: Word = "plate"


class Following(Detection):
    """How features are found and followed."""

    bridge: Word = "8"


class Preview(Detection):
    """A frame on which features are found."""

    frame: Whole


class Chosen(Body):
    """Rows of sightings, and the sightings that they are of."""

    of: Word = ""
    rows: list[Whole] = []


class Surface(Body):
    """A flat piece of the set: its outline on a frame, its grid of tracks, and how far it is followed."""

    outline: list[tuple[Number, Number]]
    grid: list[Whole]
    frame: Whole
    first: Whole
    last: Whole
    images: Word = "plate"


class TagSearch(Body):
    """The tags looked for; the printed side as typed."""

    family: Word = "36h11"
    size_mm: Word = ""
    corners: Flag = False


@blueprint.post("/shots/<int:number>/follow")
def follow_features(number: int):
    """Start finding and following features."""
    return start("follow", number, follow_arguments(sent(Following)))


def follow_arguments(given: Following) -> dict:
    """Return what a run of following is asked for, within its limits."""
    asked = detect_settings(given)
    if given.images not in IMAGES:
        raise KeelError(f"There are no images “{given.images}”.")
    bridge = given.bridge or "0"
    if not (bridge.isascii() and bridge.isdecimal() and len(bridge) <= 2 and int(bridge) <= 60):
        raise KeelError("A burst of blur can be bridged over 0 to 60 frames.")
    return {
        "count": asked.count,
        "spacing": asked.spacing,
        "threshold": asked.threshold,
        "images": given.images,
        "bridge": int(bridge),
    }


def detect_settings(asked: Detection) -> DetectSettings:
    """Return settings for finding features, within their limits."""

    def number(name: str, default: float, low: float, high: float) -> float:
        typed = maybe_number(getattr(asked, name), name.capitalize(), low, high)
        return typed or default

    return DetectSettings(
        int(number("count", 400, 20, 5000)), number("spacing", 0.0, 0, 300), number("threshold", 0.08, 0.005, 1.0)
    )


@blueprint.post("/shots/<int:number>/preview")
def preview(number: int):
    """Find features on one frame with settings that are not run yet."""
    asked = sent(Preview)
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    at = asked.frame
    if not plate.first <= at <= plate.last:
        raise KeelError(f"The plate has no frame {at}.")
    images, _ = followed_images(plate, asked.images)
    found = find_features(images.gray(at), detect_settings(asked))
    return jsonify(features=found.round(1).tolist())


@blueprint.post("/shots/<int:number>/sight")
def sight(number: int):
    """Start chaining candidate features."""
    return start("sight", number, follow_arguments(sent(Following)))


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
    asked = sent(Chosen)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        if not shot.sightings or asked.of != shot.sightings:
            raise FollowError("These sightings are gone.", "The page shows the newest ones now.")
        data = media().get_arrays(shot.sightings)
        count = len(data["first"]) - 1
        rows = sorted({n for n in asked.rows if 0 <= n < count})
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
            asked.revision,
        )
        return answer(opened, shot, said=edit.label)


@blueprint.post("/shots/<int:number>/surface")
def surface(number: int):
    """Start following a flat piece of the set."""
    asked = sent(Surface)
    if len(asked.outline) > 200 or len(asked.grid) != 2 or not all(2 <= g <= 30 for g in asked.grid):
        raise KeelError("A surface has up to 200 corners and a grid of 2 to 30 tracks each way.")
    with open_session() as opened:
        plate = get_shot(opened, number).plate
    stops = sorted({max(plate.first, asked.first), min(plate.last, asked.last)})
    arguments = {
        "outline": [list(point) for point in asked.outline],
        "grid": asked.grid,
        "frame": asked.frame,
        "stops": stops,
        "images": asked.images,
    }
    return start("surface", number, arguments)


@blueprint.post("/shots/<int:number>/tags")
def tags(number: int):
    """Start looking for fiducial tags."""
    asked = sent(TagSearch)
    if asked.family not in FAMILIES:
        raise KeelError(f"There is no tag family “{asked.family}”.", f"Choose {', '.join(FAMILIES)}.")
    known = maybe_number(asked.size_mm, "The side of a printed tag in mm", 1.0, 10000.0)
    corners = asked.corners or known is not None
    return start("tags", number, {"family": asked.family, "corners": corners, "size_mm": known})
