"""Intake: a plate comes in, from the browser or from a plate root, and its facts are confirmed."""

import re
import secrets
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

from flask import Response, current_app, jsonify, redirect, render_template, request, url_for
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError, PlateError
from amberkeel.core.lens.sensor import FORMATS, length_mm
from amberkeel.core.pictures.encoding import ENCODINGS
from amberkeel.core.pictures.write import encode_jpeg
from amberkeel.core.plate.look import check_first, shrunk, small_picture
from amberkeel.core.plate.plate import Plate as CorePlate
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.plate.sequence import Sequence
from amberkeel.core.units import maybe_number, typed_number, typed_rate
from amberkeel.jobs.queue import wake
from amberkeel.jobs.ties import in_one_go
from amberkeel.store.edits.plate import check_name
from amberkeel.store.jobs import submit
from amberkeel.store.models import Plate, Production, Shot
from amberkeel.store.ties import document_of_set, set_row, sets_of
from amberkeel.web.common import get_production, open_session
from amberkeel.web.lens.camera import keep_preset, presets
from amberkeel.web.plate.blueprint import blueprint
from amberkeel.web.plate.sources import browse, inside, receive, upload_folder

FRAME_RATES = ["24000/1001", "24/1", "25/1", "30000/1001", "30/1", "48/1", "50/1", "60000/1001", "60/1"]

SENSORS = [(f.name, f.width_mm) for f in FORMATS]
"""Formats to choose from, with their widths in mm."""


@blueprint.get("/productions/<int:number>/new")
def new(number: int):
    """Offer uploads and the plate roots."""
    roots = current_app.settings.plate_roots
    at, relative = request.args.get("root", 0, int), request.args.get("path", "")
    folders, found, trouble = [], [], ""
    at = at if 0 <= at < len(roots) else 0
    if roots:
        try:
            folders, found = browse(roots[at], relative)
        except (PlateError, OSError) as error:
            trouble, relative = str(error), ""
    with open_session() as opened:
        production = get_production(opened, number)
        return render_template(
            "intake.html", production=production, roots=list(enumerate(roots)), at=at, path=relative,
            parent=str(Path(relative).parent).replace(".", "") if relative else None,
            folders=folders, found=found, trouble=trouble,
        )  # fmt: skip


@blueprint.post("/productions/<int:number>/upload")
def upload(number: int):
    """Take an upload; answer where to confirm what it holds."""
    token = secrets.token_hex(8)
    folder = upload_folder(current_app.settings.media, token)
    labels = receive(folder, request.files.getlist("files"))
    return jsonify(next=url_for("plate.confirm", number=number, source=[f"upload:{token}:{one}" for one in labels]))


def _path_of(source: str) -> Path:
    """Return the path meant by ``upload:token:label`` or ``root:number:path``."""
    kind, _, rest = source.partition(":")
    key, _, label = rest.partition(":")
    roots = dict(zip(map(str, range(len(current_app.settings.plate_roots))), current_app.settings.plate_roots))
    if kind == "upload":
        return inside(upload_folder(current_app.settings.media, key), label)
    if kind == "root" and key in roots:
        return inside(roots[key], label)
    raise PlateError("That plate is not known.", "Choose it again.")


MOST_PLATES = 40
"""Plates that are confirmed at once, at the most."""

PEEK_WIDTHS = (160, 640)
"""Widths in pixels at which a plate may be looked at before it is brought in."""


@blueprint.get("/productions/<int:number>/confirm")
def confirm(number: int):
    """Show what was recognised, to be confirmed: one plate or several."""
    sources = request.args.getlist("source")[:MOST_PLATES] or [""]
    with open_session() as opened:
        return render_template(
            "confirm.html",
            production=get_production(opened, number),
            sets=sets_of(opened, number),
            plates=[_recognised(opened, source) for source in sources],
            rates=FRAME_RATES,
            sensors=SENSORS,
            presets=presets(opened),
            encodings=ENCODINGS,
            show_rate=show_rate,
        )


def _recognised(opened: Session, source: str) -> dict:
    """Return what is shown of a plate that may be brought in."""
    path = _path_of(source)
    check_first(path)
    plate = open_plate(path)
    twin = select(Shot).join(Plate).where(Plate.source == str(path), Shot.deleted.is_(None)).limit(1)
    return {
        "source": source,
        "plate": plate,
        "twin": opened.scalar(twin),
        "facts": plate.facts,
        "rate": f"{plate.fps.numerator}/{plate.fps.denominator}" if plate.fps else "24/1",
        "name": re.sub(r"[._-]+$", "", plate.name).upper(),
    }


@blueprint.get("/productions/<int:number>/peek.jpg")
def peek(number: int):
    """Send a frame of a plate that is not brought in yet, made small."""
    frame, wide = request.args.get("frame", 0, int), request.args.get("wide", PEEK_WIDTHS[0], int)
    path = _path_of(request.args.get("source", ""))
    wide, encoding = wide if wide in PEEK_WIDTHS else PEEK_WIDTHS[0], request.args.get("encoding", "")[:20]
    plate = _kept_plate(str(path), encoding)
    if not plate.frames[0] <= frame <= plate.frames[-1]:
        raise PlateError(f"The plate has no frame {frame}.")
    if isinstance(plate.source, Sequence):
        picture = small_picture(plate.source.path(frame), encoding, wide, plate.pixel_aspect)
    else:
        picture = shrunk(plate.read(frame), wide, plate.pixel_aspect)
    answer = Response(encode_jpeg(picture, 82), mimetype="image/jpeg")
    answer.headers["Cache-Control"] = "private, max-age=600"
    return answer


@lru_cache(6)
def _kept_plate(path: str, encoding: str) -> CorePlate:
    """Return a plate that is looked at, kept open while it is."""
    check_first(Path(path))
    return open_plate(path, None, encoding)


def show_rate(text: str) -> str:
    """Return a frame rate as people write it: 23.976 for 24000/1001."""
    return f"{float(Fraction(text)):.3f}".rstrip("0").rstrip(".")


def _frame(form: dict, name: str, label: str, plate: CorePlate, default: int) -> int:
    """Return a frame number of the plate as typed, or the default where nothing was."""
    first, last = int(plate.frames[0]), int(plate.frames[-1])
    typed = maybe_number(form.get(name, ""), label, first, last)
    return default if typed is None else int(typed)


def _sensor_width(form: dict) -> float:
    """Return the sensor width in mm from the chosen format, or typed in mm or inches."""
    choice = form.get("sensor", "")
    if choice != "typed":
        return typed_number(choice, "Sensor width", 0.5, 500.0)
    typed = form.get("sensor_width", "").strip()
    if not typed:
        raise KeelError("Type the sensor's width, or choose a format.")
    return length_mm(typed, 500.0, form.get("sensor_unit", "mm"))


@blueprint.post("/productions/<int:number>/confirm")
def add_shots(number: int):
    """Add the confirmed shots, all or none, and start making their proxies."""
    forms = _forms()
    with open_session() as opened:
        production = get_production(opened, number)
        shots = [_add_shot(opened, production, form) for form in forms]
        where = url_for("desk.show", number=shots[0].id, stage="plate") if len(shots) == 1 else url_for("board.home")
    wake()
    return redirect(where)


def _forms() -> list[dict]:
    """Return what was sent for each plate: fields that are sent for all stand in the plates' order."""
    count = len(request.form.getlist("source"))
    if not 1 <= count <= MOST_PLATES:
        raise PlateError(f"Between 1 and {MOST_PLATES} plates can be brought in at once.", "Choose them again.")
    sent = {name: request.form.getlist(name) for name in request.form}
    return [{name: values[k] for name, values in sent.items() if k < len(values)} for k in range(count)]


def _add_shot(opened: Session, production: Production, form: dict) -> Shot:
    """Add one shot with its plate, and ask for its proxies."""
    path, encoding = _path_of(form["source"]), form.get("encoding", "")
    check_first(path)
    plate, name = open_plate(path, None, encoding), form.get("name", "").strip()
    first = _frame(form, "first", "First frame", plate, int(plate.frames[0]))
    last = _frame(form, "last", "Last frame", plate, int(plate.frames[-1]))
    if last < first:
        raise KeelError("The last frame must not come before the first.")
    row = Plate(
        source=str(path), label=path.name, first=first, last=last, width=plate.width, height=plate.height,
        fps=_rate(form.get("fps", "24/1"), form.get("fps_typed", "")), encoding=encoding, odd=list(plate.odd),
        pixel_aspect=maybe_number(form.get("pixel_aspect"), "Pixel aspect", 0.2, 5.0) or 1.0,
        sensor_width_mm=_sensor_width(form),
        focal_mm=maybe_number(form.get("focal_mm"), "Focal length", 1.0, 5000.0),
    )  # fmt: skip
    stated = {"focal_mm": plate.facts.focal_mm, "sensor_width_mm": plate.facts.sensor_width_mm}
    row.stated = {
        key: value for key, value in stated.items() if value and abs((getattr(row, key) or 0.0) - value) < 1e-3
    }
    check_name(opened, Shot(id=0, production_id=production.id), name)
    shot = Shot(production_id=production.id, name=name, note=form.get("note", "").strip()[:400], plate=row)
    opened.add(shot)
    if form.get("preset", "").strip():
        keep_preset(opened, form["preset"].strip()[:80], row.sensor_width_mm)
    then = _into_set(opened, shot, form.get("set", ""))
    opened.flush()
    submit(opened, "ingest", shot.id, {"then": then})
    return shot


def _into_set(opened: Session, shot: Shot, chosen: str) -> list[str]:
    """Tie a new shot to the set that was chosen, if any; return the jobs that bring it into that world."""
    if not chosen:
        return []
    row = set_row(opened, shot, int(maybe_number(chosen, "The set") or 0))
    shot.ties = {"set": row.id, "ties": {}}
    return in_one_go(document_of_set(row), False)


def _rate(chosen: str, typed: str) -> str:
    rate = typed_rate(typed.strip() or chosen)
    return f"{rate.numerator}/{rate.denominator}"
