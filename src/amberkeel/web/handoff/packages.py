"""Single files, recipients, and packages that were made for them."""

import zipfile
from collections.abc import Iterator
from io import RawIOBase

from flask import Response, abort, jsonify

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.compare import compared
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.handoff.recipient import READY, read_recipient
from amberkeel.core.handoff.writers import WRITERS
from amberkeel.core.units import METRES
from amberkeel.jobs.queue import wake
from amberkeel.store.handoff import (
    folder_of,
    gone_stale,
    keep_recipient,
    leaving,
    packages_of,
    recipient_named,
    recipients_of,
)
from amberkeel.store.jobs import submit
from amberkeel.store.models import Attempt, Package, Shot
from amberkeel.store.solve import document_of
from amberkeel.store.stages import pinned
from amberkeel.store.world import datum_of
from amberkeel.web.common import get_shot, media, open_session, send_text, who
from amberkeel.web.handoff.blueprint import blueprint
from amberkeel.web.sent import Body, Flag, Whole, Word, sent

MOST_LISTED = 60


@blueprint.get("/shots/<int:number>/handoff/<name>")
def download(number: int, name: str):
    """Send a file of the pinned attempt, in the shot's world."""
    if name not in FORMATS:
        abort(404)
    with open_session() as opened:
        shot = get_shot(opened, number)
        row = opened.get(Attempt, shot.pinned_id) if shot.pinned_id else None
        if row is None:
            raise HandoffError("There is nothing to hand on yet.", "Solve the shot and pin an attempt.")
        document = document_in_world(document_of(media(), row), datum_of(opened, media(), shot, row))
        text = FORMATS[name].write(document, shot.plate.sensor_width_mm)
        stem = "".join(c if c.isalnum() else "_" for c in shot.name)
    return send_text(text, "application/octet-stream", f"{stem}_{name}")


@blueprint.get("/shots/<int:number>/handoff.json")
def known(number: int):
    """Send the recipients, saved and ready-made, the formats, and the packages of the shot, the latest first."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        saved = recipients_of(opened, shot.production_id)
        names = {row.name for row in saved}
        rows = packages_of(opened, shot)
        return jsonify(
            recipients=[{**row.document, "saved": True} for row in saved]
            + [{**one.model_dump(mode="json"), "saved": False} for name, one in READY.items() if name not in names],
            formats=[{"key": one.key, "holds": one.holds} for one in WRITERS.values()],
            units=list(METRES), in_set=_in_set(opened, shot),
            packages=[_row(opened, one) for one in rows[:MOST_LISTED]],
        )  # fmt: skip


def _in_set(opened, shot: Shot) -> int:
    """Return how many shots of its set would leave with a shot; 0 for one that is not in a set's world."""
    try:
        return len(leaving(opened, shot, True))
    except HandoffError:
        return 0


def _row(opened, one: Package) -> dict:
    manifest = one.manifest
    px = [proof["px"] for proof in manifest["proof"] if proof["px"] is not None]
    return {
        "id": one.id, "version": one.version, "recipient": one.recipient, "folder": one.folder,
        "who": one.who, "when": one.created.strftime("%d %b %Y %H:%M"), "stale": gone_stale(opened, one),
        "made_from": list(manifest["made_from"].values()), "files": len(manifest["files"]),
        "bytes": sum(file["bytes"] for file in manifest["files"]), "notes": manifest["notes"],
        "px": max(px) if px else None, "proof": manifest["proof"], "reason": manifest["reason"],
        "cameras": [camera["name"] for camera in manifest["cameras"]],
    }  # fmt: skip


class Saved(Body):
    """A recipient as it is chosen, or the name of one that goes."""

    recipient: dict = {}
    remove: Word = ""


@blueprint.post("/shots/<int:number>/handoff/recipients")
def save(number: int):
    """Save a recipient of the shot's production, or delete one."""
    asked = sent(Saved)
    with open_session() as opened:
        shot = get_shot(opened, number)
        if asked.remove:
            rows = [row for row in recipients_of(opened, shot.production_id) if row.name == asked.remove]
            if not rows:
                raise HandoffError(f"There is no saved recipient {asked.remove}.")
            rows[0].removed = True
            return jsonify(said=f"{asked.remove} is deleted; packages made for it stay.")
        given = {key: value for key, value in asked.recipient.items() if key != "saved"}
        one = read_recipient(given)
        keep_recipient(opened, shot.production_id, one)
        return jsonify(said=f"{one.name} is saved for every shot of {shot.production.name}.", name=one.name)


class Made(Body):
    """For whom a package is made, of the whole set or of this shot, and why it may leave although a check fails."""

    recipient: Word
    whole_set: Flag = False
    reason: Word = ""


@blueprint.post("/shots/<int:number>/handoff/package")
def make(number: int):
    """Start making a package."""
    asked = sent(Made)
    with open_session() as opened:
        shot = get_shot(opened, number)
        recipient = recipient_named(opened, shot.production_id, asked.recipient)
        if pinned(opened, shot) is None:
            raise HandoffError("There is nothing to hand on yet.", "Solve the shot and pin an attempt.")
        leaving(opened, shot, asked.whole_set)
        arguments = {
            "recipient": recipient.name, "whole_set": asked.whole_set, "reason": asked.reason, "who": who(),
        }  # fmt: skip
        job = submit(opened, "package", number, arguments)
    wake()
    return jsonify(job=job.id)


def _package(opened, number: int) -> tuple[Package, Shot]:
    row = opened.get(Package, number) or abort(404)
    return row, get_shot(opened, row.shot_id)


@blueprint.get("/packages/<int:number>.zip")
def zipped(number: int):
    """Send a package as a zip, while it is being packed."""
    with open_session() as opened:
        row, shot = _package(opened, number)
        home = folder_of(media(), shot) / row.folder
        names = [file["name"] for file in row.manifest["files"]] + ["manifest.json"]
    if not home.is_dir():
        raise HandoffError(f"The files of {home.name} are gone.", "Make the next version.")
    answer = Response(_stream(home, names), mimetype="application/zip")
    answer.headers["Content-Disposition"] = f'attachment; filename="{home.name}.zip"'
    return answer


class _Drain(RawIOBase):
    """A file that keeps what is written until it is taken."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data) -> int:
        self.parts.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        """Return what was written since the last time."""
        out, self.parts = b"".join(self.parts), []
        return out


PIECE = 1 << 20
"""Bytes of a file that are read at once."""


def _stream(home, names: list[str]) -> Iterator[bytes]:
    """Yield a zip of files in a folder, piece by piece: a package with its plates has gigabytes."""
    drain = _Drain()
    with zipfile.ZipFile(drain, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        for name in names:
            with (home / name).open("rb") as file, archive.open(f"{home.name}/{name}", "w", force_zip64=True) as into:
                while piece := file.read(PIECE):
                    into.write(piece)
                    yield drain.taken()
            yield drain.taken()
    yield drain.taken()


@blueprint.get("/packages/<int:number>/<name>")
def one_file(number: int, name: str):
    """Send README.txt or manifest.json of a package."""
    if name not in ("README.txt", "manifest.json"):
        abort(404)
    with open_session() as opened:
        row, shot = _package(opened, number)
        path = folder_of(media(), shot) / row.folder / name
    if not path.is_file():
        raise HandoffError(f"The files of {path.parent.name} are gone.", "Make the next version.")
    return Response(path.read_text(), mimetype="application/json" if name.endswith("json") else "text/plain")


class Compared(Body):
    """Another package of the shot, beside which this one is looked at."""

    other: Whole


@blueprint.post("/packages/<int:number>/compare")
def compare(number: int):
    """Say in words how a package differs from an earlier one."""
    asked = sent(Compared)
    with open_session() as opened:
        row, shot = _package(opened, number)
        other = opened.get(Package, asked.other)
        if other is None or other.shot_id != shot.id:
            raise HandoffError("That is no package of this shot.")
        before, after = sorted((row, other), key=lambda one: one.id)
        return jsonify(before=before.version, after=after.version, words=compared(before.manifest, after.manifest))
