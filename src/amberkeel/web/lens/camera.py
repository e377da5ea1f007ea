"""What the camera was: sensor, crop, pixel aspect and focal length, each with where it came from; and the user's
presets.
"""

from pathlib import Path

from flask import jsonify
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError, LensError
from amberkeel.core.lens.metadata import camera_facts
from amberkeel.core.lens.sensor import FORMATS, checked_aspect, filmed_width_mm, length_mm, pixel_formats
from amberkeel.core.units import typed_number
from amberkeel.jobs.images import open_row
from amberkeel.store.lens import KNOWN, START, UNKNOWN, camera_of
from amberkeel.store.models import Plate, SensorPreset, Shot
from amberkeel.web.common import open_session, who
from amberkeel.web.lens.blueprint import blueprint
from amberkeel.web.sent import Body, Number, Word, sent


class Facts(Body):
    """What the camera was; millimetres as typed."""

    sensor: Word | None = None
    crop: Number | None = None
    pixel_aspect: Number | None = None
    sources: dict | None = None
    focal_state: Word | None = None
    focal_mm: Word = ""
    focal_sigma_mm: Word = ""


SOURCES = ("typed", "metadata", "lines", "chart", "solve")
"""Where a value may come from."""


def camera_facts_of(opened: Session, shot: Shot) -> dict:
    """Return what the camera bench offers: formats, presets of who asks, what the file says."""
    plate, kept = shot.plate, shot.lens or {}
    return {
        **camera_of(shot),
        "crop": kept.get("crop", 1.0),
        "sensor_mm": kept.get("sensor_mm", plate.sensor_width_mm),
        "formats": [{"name": f.name, "width_mm": f.width_mm, "height_mm": f.height_mm} for f in FORMATS],
        "presets": [{"name": p.name, "width_mm": p.width_mm} for p in presets(opened)],
        "pixel_formats": [
            {"name": f.name, "aspect": f.pixel_aspect, "shows": f.shows}
            for f in pixel_formats(plate.width, plate.height)
        ],
        "found": _metadata(plate),
    }


def presets(opened: Session) -> list[SensorPreset]:
    """Return the sensor sizes that who asks has kept."""
    return list(opened.scalars(select(SensorPreset).where(SensorPreset.owner == who()).order_by(SensorPreset.name)))


def keep_preset(opened: Session, name: str, width_mm: float) -> None:
    """Keep a sensor's width under a name, for who asks."""
    row = opened.scalar(
        select(SensorPreset).where(SensorPreset.owner == who(), SensorPreset.name == name)
    ) or SensorPreset(owner=who(), name=name)
    row.width_mm = width_mm
    opened.add(row)


def _metadata(plate: Plate) -> dict | None:
    try:
        row = open_row(plate)
        path = row.source.path if hasattr(row.source, "count") else row.source.path(int(row.frames[0]))
        found = camera_facts(Path(path))
    except KeelError:
        return None
    return (
        {"focal_mm": found.focal_mm, "equivalent_mm": found.equivalent_mm, "sensor_width_mm": found.sensor_width_mm}
        if found.any
        else None
    )


def fill_camera(shot: Shot, given: Facts, payload: dict) -> None:
    """Fill the payload of an edit with sensor, crop, pixel aspect and focal length as typed; raises LensError for what
    cannot be.
    """
    kept = shot.lens or {}
    sensor = kept.get("sensor_mm", shot.plate.sensor_width_mm)
    if given.sensor is not None:
        sensor = length_mm(given.sensor, 500.0)
    crop = kept.get("crop", 1.0) if given.crop is None else given.crop
    payload["values"] |= {"sensor_mm": sensor, "crop": crop}
    payload["plate"]["sensor_width_mm"] = filmed_width_mm(sensor, crop)
    if given.pixel_aspect is not None:
        payload["plate"]["pixel_aspect"] = checked_aspect(given.pixel_aspect)
    if given.sources is not None:
        payload["values"]["sources"] = _sources(given.sources)
    if given.focal_state is not None:
        _fill_focal(given, payload)


def _sources(given: dict) -> dict:
    if not set(given) <= {"sensor", "focal"} or not all(source in SOURCES for source in given.values()):
        raise LensError("A value comes from typing, metadata, lines, a chart or a solve.")
    return dict(given)


def _fill_focal(given: Facts, payload: dict) -> None:
    state, text = checked_state(given.focal_state), given.focal_mm.strip()
    if state != UNKNOWN and not text:
        raise LensError("There is no focal length to hold.", "Type one in mm.")
    payload["values"]["focal_state"] = state
    payload["values"]["focal_sigma_mm"] = sigma_mm(given.focal_sigma_mm) if state == START else 0.0
    focal = length_mm(text) if text else None
    payload["plate"]["focal_mm"] = focal if state != UNKNOWN else None


def checked_state(state) -> str:
    """Return what a page sent as the state of a focal length; raises LensError where it is none."""
    if state not in (KNOWN, START, UNKNOWN):
        raise LensError("The focal length is known, a start value, or unknown.")
    return state


def sigma_mm(text) -> float:
    """Return one sigma in mm as typed, 0 for nothing; raises KeelError where it is none."""
    if text is None or not str(text).strip():
        return 0.0
    bare = str(text).strip().removesuffix("mm")
    return typed_number(bare, "The sigma of the focal length in mm", 0.0, 1000.0)


class Preset(Body):
    """A sensor's width as typed, and the name that it is kept under."""

    name: Word = ""
    width: Word


@blueprint.post("/shots/<int:number>/lens/preset")
def preset(number: int):
    """Keep a sensor's size under a name."""
    asked = sent(Preset)
    name = asked.name.strip()[:80]
    if not name:
        raise LensError("The preset has no name.", "Type one.")
    with open_session() as opened:
        keep_preset(opened, name, length_mm(asked.width, 500.0))
    return jsonify(ok=True)
