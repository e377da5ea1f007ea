"""Lens profiles of a production: made, used, changed, told by a filmed grid, looked through and handed on."""

import json
import re
import tempfile
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from flask import Response, current_app, request
from sqlalchemy.orm import Session

from amberkeel.core.errors import LensError, PlateError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.lens import Lens
from amberkeel.core.lens.drawn import read_lines
from amberkeel.core.lens.fit import LensFit, fit_lens
from amberkeel.core.lens.picture import FILTERS, Resampler, canvas_for, undistort_map
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import check_lens, profile_document, profile_from_lines, read_profile
from amberkeel.core.lens.sensor import length_mm
from amberkeel.core.lens.straighten import FORMATS as FILE_FORMATS
from amberkeel.core.lens.views import ChartOrder, check_order
from amberkeel.core.pictures.write import encode_jpeg
from amberkeel.core.units import maybe_number, typed_number
from amberkeel.jobs.lens import straightened_folder
from amberkeel.store import edits
from amberkeel.store.lens import focal_state
from amberkeel.store.models import Attempt, LensProfile, Shot
from amberkeel.store.solve import document_of
from amberkeel.store.storage import GRID
from amberkeel.web.common import get_shot, media, open_session, send_packed, send_text, shot_to_change, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.lens.blueprint import blueprint
from amberkeel.web.lens.bodies import Wanted
from amberkeel.web.lens.lines import camera_from_line, lens_order, line_rows, plate_picture, stated
from amberkeel.web.lens.seen import TURN_WORTH
from amberkeel.web.plate.sources import under_roots, whole_or_nothing
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, sent
from amberkeel.web.state import edited

INNER = re.compile("[0-9]{1,3}")
"""Inner corners of a grid along one side, as typed."""

MOST_STILLS = 60
"""Pictures of a grid in one upload."""


class Used(Body):
    """The lens to use: a profile's id, none, k1 turned by hand, an attempt's id, or else what the lines tell."""

    profile: Whole | None = None
    none: Flag = False
    hand: Number | None = None
    attempt: Whole | None = None


class ChangedProfile(Body):
    """New values of a profile as typed, each with its sigma, or that it goes."""

    id: Whole
    version: Whole
    removed: Flag = False
    name: Word | None = None
    values: dict = {}
    focal_mm: Word | None = None
    focal_sigma_mm: Word = ""
    readout: Word | None = None


class Straightening(Body):
    """How a plate is straightened: the canvas, the resampling, and the files' format."""

    overscan: Word = "all"
    upright: Flag = False
    format: Word = ""
    filter: Word = "cubic"


@blueprint.post("/shots/<int:number>/lens/use")
def use(number: int):
    """Use the lens that the lines tell, which orients the scene too, one by hand, one solved, or a profile; or none."""
    asked = sent(Used)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        if asked.profile is not None:
            row = opened.get(LensProfile, asked.profile)
            if row is None or row.production_id != shot.production_id or row.removed:
                raise LensError("That profile is gone.")
            read_profile(row.document).rescaled(shot.plate.width, shot.plate.height)
            payload = {"profile": row.id, "label": f"Use {row.name}"}
        elif asked.none:
            payload = {"profile": None, "label": "Use no lens profile"}
        else:
            fitted = _fitted(shot) if asked.hand is None and asked.attempt is None else None
            row = LensProfile(production_id=shot.production_id, **_new_profile(opened, shot, asked, fitted))
            opened.add(row)
            opened.flush()
            payload = {"profile": row.id, "label": f"Use {row.name}"} | (_oriented(shot, *fitted) if fitted else {})
        return edited(opened, number, "lens", payload, asked.revision)


def _new_profile(opened: Session, shot: Shot, asked: Used, fitted: tuple[LensFit, list] | None) -> dict:
    """Return name and document of a profile from what the shot's lines tell, from coefficients turned by hand, or from
    an attempt.
    """
    plate = shot.plate
    short = shot.name.split()[0]
    if asked.hand is not None:
        focal = plate.focal_mm * plate.width / plate.sensor_width_mm if plate.focal_mm else float(plate.width)
        lens = Lens.centred(plate.width, plate.height, focal, asked.hand, plate.pixel_aspect)
        check_lens(lens)
        profile = Profile(f"{short} by hand", lens, "typed", plate.focal_mm is not None, 0.0, plate.sensor_width_mm)
    elif asked.attempt is not None:
        profile = _solved_profile(opened, shot, asked.attempt)
    else:
        found = fitted[0]
        if not found.focal_known and not found.sigma:
            raise LensError("The lines tell neither focal length nor distortion.", " ".join(found.notes))
        profile = profile_from_lines(found, f"{short} from lines", plate.sensor_width_mm)
    return {"name": profile.name, "document": profile_document(profile)}


def _fitted(shot: Shot) -> tuple[LensFit, list]:
    """Return what a shot's kept lines tell, and the lines."""
    kept, plate = shot.lens or {}, shot.plate
    drawn = read_lines(line_rows(kept.get("lines", {})), plate.width, plate.height)
    return fit_lens(drawn, lens_order(plate, Wanted.model_validate(kept.get("wanted") or {}), focal_state(shot))), drawn


def _solved_profile(opened: Session, shot: Shot, number: int) -> Profile:
    """Return the lens of one of the shot's attempts; raises LensError for a zoom."""
    attempt = opened.get(Attempt, number)
    if attempt is None or attempt.shot_id != shot.id:
        raise LensError("That attempt is not in this shot's ledger.")
    document = document_of(media(), attempt)
    path = read_path(document)
    if path.zoom is not None:
        raise LensError(
            "The focal length of that attempt changes over its frames.", "A profile holds one focal length."
        )
    values = {v["name"]: v["sigma"] for v in document["lens_report"]["values"] if v["free"]}
    sigma = values.pop("focal", 0.0)
    return Profile(
        f"{shot.name.split()[0]} attempt {attempt.number}",
        path.lens,
        "solve",
        True,
        sigma,
        shot.plate.sensor_width_mm,
        values,
        readout=path.readout or None,
    )


def _oriented(shot: Shot, found: LensFit, drawn: list) -> dict:
    """Return the datum that the shot's lines tell beside the lens, for the payload of an edit; nothing where they tell
    none.
    """
    sure = {
        f: r for f, r in found.rotations.items() if found.focal_known and found.rotation_sigma[f].max() < TURN_WORTH
    }
    if not sure:
        return {}
    kept = shot.lens or {}
    position, _ = camera_from_line(found, drawn, *stated(kept))
    axes = {
        "rotations": {str(f): r.tolist() for f, r in sure.items()},
        "place": {"frame": position[0], "xyz": position[1]["xyz"]} if position else None,
    }
    return {"datum": {**(shot.datum or {}), "axes": axes}}


@blueprint.post("/shots/<int:number>/lens/profile")
def change(number: int):
    """Change a profile's name or values, or take it away; every shot that uses it is marked."""
    asked = sent(ChangedProfile)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        row = opened.get(LensProfile, asked.id)
        if row is None or row.production_id != shot.production_id or row.removed:
            raise LensError("That profile is gone.")
        if asked.version != row.version:
            raise edits.StaleEdit()
        if asked.removed:
            values, label = {"removed": True}, f"Take {row.name} away"
        else:
            values, label = _changed(row, shot, asked), f"Change {row.name}"
        return edited(opened, number, "profile", {"id": row.id, "values": values, "label": label}, asked.revision)


def _changed(row: LensProfile, shot: Shot, asked: ChangedProfile) -> dict:
    """Return a profile's new name and document from what was typed; values that are as they were keep where they came
    from.
    """
    name = (row.name if asked.name is None else asked.name).strip()[:80]
    if not name:
        raise LensError("The profile has no name.", "Type one.")
    profile, typed = read_profile(row.document), {}
    for key, both in asked.values.items():
        if not isinstance(both, list) or len(both) != 2:
            raise LensError(f"{key} needs a value and a sigma.")
        value, sigma = both
        typed[str(key)] = typed_number(value, key), typed_number(sigma or 0, f"the sigma of {key}")
    known = profile.focal_known
    if asked.focal_mm is not None:
        known = bool(asked.focal_mm.strip())
        px = profile.lens.width / shot.plate.sensor_width_mm
        if known:
            typed["focal"] = (
                length_mm(asked.focal_mm) * px,
                typed_number(asked.focal_sigma_mm or 0, "the sigma of the focal length") * px,
            )
    if asked.readout is not None:
        profile = replace(profile, readout=maybe_number(asked.readout, "The readout", 0.0, 1.0))
    document = profile_document(replace(profile.retyped(typed, known), name=name))
    return {"name": name, "document": {**row.document, **document}}


@blueprint.post("/shots/<int:number>/lens/chart")
def chart(number: int):
    """Take pictures of a grid, or where they lie, and start calibrating a lens."""
    form = request.form
    pattern = form.get("pattern", "chess")
    columns, _, rows = ("0x0" if pattern == "loose" else form.get("inner", "")).lower().partition("x")
    if not (INNER.fullmatch(columns.strip()) and INNER.fullmatch(rows.strip())):
        raise LensError("Write the inner corners as 9x6: along a row, and rows.")
    square = typed_number(form.get("square", "25"), "the square's size in mm")
    order = {
        "columns": int(columns),
        "rows": int(rows),
        "square_mm": square,
        "pattern": pattern,
        "anamorphic": form.get("anamorphic") == "yes",
    }
    check_order(ChartOrder(**order))
    files = [f for f in request.files.getlist("files") if f.filename]
    if len(files) > MOST_STILLS:
        raise LensError(f"{len(files)} pictures are too many.", f"{MOST_STILLS} at the most serve at once.")
    name = form.get("name", "")[:80]
    if files:
        folder = Path(tempfile.mkdtemp(prefix=GRID, dir=current_app.settings.media))
        with whole_or_nothing(folder):
            for k, file in enumerate(files):
                file.save(folder / f"{k:04d}{Path(file.filename).suffix.lower()[:6]}")
            return start("chart", number, {"where": str(folder), "order": order, "temporary": True, "name": name})
    if form.get("own") == "yes":
        with open_session() as opened:
            where = get_shot(opened, number).plate.source
    else:
        if not form.get("where"):
            raise LensError("There are no pictures.", "Choose files, or say where they lie.")
        where = str(under_roots(current_app.settings.plate_roots, form["where"].strip()))
    return start("chart", number, {"where": where, "order": order, "temporary": False, "name": name})


@blueprint.get("/shots/<int:number>/lens/straight/<int:frame>.jpg")
def straight(number: int, frame: int):
    """Send a frame straightened through a lens that need not be kept yet, on a canvas of the plate's size."""
    with open_session() as opened:
        row = get_shot(opened, number).plate
    if not row.first <= frame <= row.last:
        raise PlateError(f"The plate has no frame {frame}.")
    try:
        given = json.loads(request.args["lens"])
        document = {
            "format": "amberkeel-lens",
            "version": 1,
            "image": {"width": row.width, "height": row.height, "pixel_aspect": row.pixel_aspect},
            "lens": given,
        }
    except (KeyError, json.JSONDecodeError, RecursionError):
        raise LensError("There is no lens to look through.") from None
    sample = _sampler(json.dumps(document))
    answer = Response(
        encode_jpeg(sample(plate_picture(row.source, row.first, row.last, row.encoding, frame)), 90),
        mimetype="image/jpeg",
    )
    answer.headers["Cache-Control"] = "private, max-age=3600"
    return answer


@lru_cache(maxsize=8)
def _sampler(document: str) -> Resampler:
    lens = read_profile(json.loads(document)).lens
    return Resampler(undistort_map(lens, canvas_for(lens, "same")), "linear")


@blueprint.post("/shots/<int:number>/lens/straighten")
def straighten(number: int):
    """Start writing the straightened plate with its ST maps."""
    asked = sent(Straightening)
    share = asked.overscan.strip().rstrip("%").strip()
    try:
        overscan = share if share in ("all", "crop", "same") else float(share)
    except ValueError:
        raise LensError(f"“{share}” is no overscan.", "Choose all, crop, same, or a number of percent.") from None
    if asked.format not in ("", *FILE_FORMATS) or asked.filter not in FILTERS:
        raise LensError("There is no such format or filter.")
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = opened.get(LensProfile, shot.profile_id) if shot.profile_id else None
        if row is None:
            raise LensError("This shot uses no lens profile.", "Use the lens that the lines tell, or choose a profile.")
        canvas_for(read_profile(row.document).rescaled(shot.plate.width, shot.plate.height).lens, overscan)
    wanted = {"overscan": overscan, "filter": asked.filter, "format": asked.format, "upright": asked.upright}
    return start("straighten", number, wanted)


@blueprint.get("/shots/<int:number>/lens/files/<kind>")
def download(number: int, kind: str):
    """Send the profile in use, or the straightened plate or its ST maps, packed."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = opened.get(LensProfile, shot.profile_id) if shot.profile_id else None
        stem = stem_of(shot.name)
        if kind == "profile":
            if row is None:
                raise LensError("This shot uses no lens profile.")
            return send_text(json.dumps(row.document, indent=1), "application/json", f"{stem}_lens.json")
    folder = straightened_folder(current_app.settings, number)
    files = sorted(folder.glob("*_st.exr" if kind == "st" else "*")) if folder.is_dir() else []
    if not files:
        raise LensError("There is no straightened plate yet.", "Write it first.")
    return send_packed(files, f"{stem}_straight", f"{stem}_{'st_maps' if kind == 'st' else 'straight'}.zip")
