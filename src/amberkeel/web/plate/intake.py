"""Intake: a plate comes in, from the browser or from a plate root, and its facts are confirmed."""

import re
import secrets
from fractions import Fraction
from pathlib import Path

from flask import current_app, jsonify, redirect, render_template, request, url_for
from sqlalchemy import select

from amberkeel.core.errors import KeelError, PlateError
from amberkeel.core.lens.sensor import FORMATS, length_mm
from amberkeel.core.plate.plate import Plate as CorePlate
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.units import maybe_number, typed_number, typed_rate
from amberkeel.jobs.queue import wake
from amberkeel.store.jobs import submit
from amberkeel.store.models import Plate, Shot
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
    """Take an upload; answer where to confirm it."""
    token = secrets.token_hex(8)
    folder = upload_folder(current_app.settings.media, token)
    label = receive(folder, request.files.getlist("files"))
    return jsonify(next=url_for("plate.confirm", number=number, source=f"upload:{token}:{label}"))


def _open_source(source: str) -> tuple[str, CorePlate]:
    """Return the path and the plate meant by ``upload:token:label`` or ``root:number:path``."""
    kind, _, rest = source.partition(":")
    key, _, label = rest.partition(":")
    roots = dict(zip(map(str, range(len(current_app.settings.plate_roots))), current_app.settings.plate_roots))
    if kind == "upload":
        path = inside(upload_folder(current_app.settings.media, key), label)
    elif kind == "root" and key in roots:
        path = inside(roots[key], label)
    else:
        raise PlateError("That plate is not known.", "Choose it again.")
    return str(path), open_plate(path)


@blueprint.get("/productions/<int:number>/confirm")
def confirm(number: int):
    """Show what was recognised, to be confirmed."""
    source = request.args.get("source", "")
    path, plate = _open_source(source)
    with open_session() as opened:
        twin = opened.scalar(select(Shot).join(Plate).where(Plate.source == path).limit(1))
        rate = f"{plate.fps.numerator}/{plate.fps.denominator}" if plate.fps else "24/1"
        return render_template(
            "confirm.html",
            production=get_production(opened, number),
            plate=plate,
            source=source,
            rate=rate,
            twin=twin,
            rates=FRAME_RATES if rate in FRAME_RATES else [rate, *FRAME_RATES],
            sensors=SENSORS,
            presets=presets(opened),
            name=re.sub(r"[._-]+$", "", plate.name).upper(),
            show_rate=show_rate,
        )


def show_rate(text: str) -> str:
    """Return a frame rate as people write it: 23.976 for 24000/1001."""
    return f"{float(Fraction(text)):.3f}".rstrip("0").rstrip(".")


def _frame(name: str, label: str, plate: CorePlate, default: int) -> int:
    """Return a frame number of the plate as typed, or the default where nothing was."""
    first, last = int(plate.frames[0]), int(plate.frames[-1])
    typed = maybe_number(request.form.get(name, ""), label, first, last)
    return default if typed is None else int(typed)


def _sensor_width() -> float:
    """Return the sensor width in mm from the chosen format, or typed in mm or inches."""
    choice = request.form.get("sensor", "")
    if choice != "typed":
        return typed_number(choice, "Sensor width", 0.5, 500.0)
    typed = request.form.get("sensor_width", "").strip()
    if not typed:
        raise KeelError("Type the sensor's width, or choose a format.")
    return length_mm(typed, 500.0, request.form.get("sensor_unit", "mm"))


@blueprint.post("/productions/<int:number>/confirm")
def add_shot(number: int):
    """Add the shot and start making proxies."""
    form = request.form
    path, plate = _open_source(form.get("source", ""))
    first = _frame("first", "First frame", plate, int(plate.frames[0]))
    last = _frame("last", "Last frame", plate, int(plate.frames[-1]))
    if last <= first:
        raise KeelError("The last frame must come after the first; one frame makes no camera.")
    name = form.get("name", "").strip()
    if not 1 <= len(name) <= 80:
        raise KeelError("A shot needs a name of 1 to 80 characters.")
    rate = _rate(form.get("fps", "24/1"), form.get("fps_typed", ""))
    row = Plate(
        source=path, label=Path(path).name, first=first, last=last, width=plate.width, height=plate.height, fps=rate,
        pixel_aspect=maybe_number(form.get("pixel_aspect"), "Pixel aspect", 0.2, 5.0) or 1.0,
        sensor_width_mm=_sensor_width(), focal_mm=maybe_number(form.get("focal_mm"), "Focal length", 1.0, 5000.0),
    )  # fmt: skip
    with open_session() as opened:
        production = get_production(opened, number)
        if opened.scalar(select(Shot).where(Shot.production_id == production.id, Shot.name == name)):
            raise KeelError(f"{production.name} has a shot named {name} already.", "Give this one another name.")
        shot = Shot(production_id=production.id, name=name, note=form.get("note", "").strip()[:400], plate=row)
        opened.add(shot)
        if form.get("preset", "").strip():
            keep_preset(opened, form["preset"].strip()[:80], row.sensor_width_mm)
        opened.flush()
        submit(opened, "ingest", shot.id)
        shot_id = shot.id
    wake()
    return redirect(url_for("desk.show", number=shot_id, stage="plate"))


def _rate(chosen: str, typed: str) -> str:
    rate = typed_rate(typed.strip() or chosen)
    return f"{rate.numerator}/{rate.denominator}"
