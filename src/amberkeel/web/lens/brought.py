"""Lenses from elsewhere: a profile's file, or an ST map that a model is fitted to."""

import json
import tempfile
from dataclasses import replace
from pathlib import Path

from flask import request

from amberkeel.core.errors import LensError
from amberkeel.core.lens import focal_px_from_mm
from amberkeel.core.lens.from_st_map import lens_of_map, way_of
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import profile_document, read_profile
from amberkeel.store.models import LensProfile, Plate
from amberkeel.web.common import get_shot, open_session
from amberkeel.web.lens.blueprint import blueprint
from amberkeel.web.state import edited

MOST_BYTES = 400 << 20
"""Bytes of a map at the most: 8K by 8K of 32 bit float."""


@blueprint.post("/shots/<int:number>/lens/bring")
def bring(number: int):
    """Make a profile of a file and use it: JSON as it is handed on here, or an ST map."""
    file = request.files.get("file")
    if file is None or not file.filename:
        raise LensError("There is no file.", "Choose a lens profile (JSON), or an ST map (EXR, TIFF).")
    data = file.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise LensError("That file is larger than 400 MB.", "Give a map of the plate's size.")
    name = Path(file.filename).name
    with open_session() as opened:
        shot = get_shot(opened, number)
        profile = _profile(data, name) if name.lower().endswith(".json") else _of_map(data, name, shot.plate)
        profile.rescaled(shot.plate.width, shot.plate.height)
        row = LensProfile(production_id=shot.production_id, name=profile.name[:80], document=profile_document(profile))
        opened.add(row)
        opened.flush()
        payload = {"profile": row.id, "label": f"Use {row.name}"}
        return edited(opened, number, "lens", payload, request.form.get("revision", None, int))


def _profile(data: bytes, name: str) -> Profile:
    try:
        return read_profile(json.loads(data))
    except ValueError as error:
        raise LensError(f"{name} is no lens profile.", "Give a file that was handed on as one.") from error


def _of_map(data: bytes, name: str, plate: Plate) -> Profile:
    """Return the profile of an ST map for a plate; its focal length is the plate's stated one, or a stand-in."""
    focal = focal_px_from_mm(plate.focal_mm, plate.sensor_width_mm, plate.width) if plate.focal_mm else None
    way = request.form.get("way", "") or way_of(name)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"map{Path(name).suffix.lower()[:6]}"
        path.write_bytes(data)
        found = lens_of_map(path, (plate.width, plate.height), way, focal, plate.pixel_aspect)
    return replace(found.profile, name=Path(name).stem[:80], sensor_width_mm=plate.sensor_width_mm)
