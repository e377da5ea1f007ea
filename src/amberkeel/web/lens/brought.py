"""Lenses from elsewhere: a profile's file, or an ST map that a model is fitted to."""

import tempfile
from dataclasses import replace
from pathlib import Path

from flask import request

from amberkeel.core.lens import focal_px_from_mm
from amberkeel.core.lens.from_st_map import lens_of_map, way_of
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import profile_document, read_profile_file
from amberkeel.store.models import LensProfile, Plate
from amberkeel.web.common import open_session, shot_to_change
from amberkeel.web.lens.blueprint import blueprint
from amberkeel.web.state import edited
from amberkeel.web.uploads import Upload, uploaded

MOST_BYTES = 400 << 20
"""Bytes of a map at the most: 8K by 8K of 32 bit float."""


@blueprint.post("/shots/<int:number>/lens/bring")
def bring(number: int):
    """Make a profile of a file and use it: JSON as it is handed on here, or an ST map."""
    sent = uploaded("a lens profile (JSON), or an ST map of the plate's size (EXR, TIFF)", MOST_BYTES)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        profile = read_profile_file(sent.data) if sent.suffix == ".json" else _of_map(sent, shot.plate)
        profile.rescaled(shot.plate.width, shot.plate.height)
        row = LensProfile(production_id=shot.production_id, name=profile.name[:80], document=profile_document(profile))
        opened.add(row)
        opened.flush()
        payload = {"profile": row.id, "label": f"Use {row.name}"}
        return edited(opened, number, "lens", payload, request.form.get("revision", None, int))


def _of_map(sent: Upload, plate: Plate) -> Profile:
    """Return the profile of an ST map for a plate; its focal length is the plate's stated one, or a stand-in."""
    focal = focal_px_from_mm(plate.focal_mm, plate.sensor_width_mm, plate.width) if plate.focal_mm else None
    way = request.form.get("way", "") or way_of(sent.name)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"map{sent.suffix}"
        path.write_bytes(sent.data)
        found = lens_of_map(path, (plate.width, plate.height), way, focal, plate.pixel_aspect)
    return replace(found.profile, name=sent.stem[:80], sensor_width_mm=plate.sensor_width_mm)
