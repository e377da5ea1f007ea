"""The JSON API for pipelines, read only: productions, shots, attempts, packages with their files, and jobs.

A caller sends ``Authorization: Bearer TOKEN``; tokens are named in AMBERKEEL_API_TOKENS. What is answered is described
by the models here; `/api/v1/openapi.json` is made from them (docs/handoff.md).
"""

import hmac
from datetime import datetime
from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify, request, send_file
from pydantic import BaseModel
from pydantic.json_schema import models_json_schema
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.jobs.kinds import KINDS
from amberkeel.store.handoff import folder_of, gone_stale, packages_of
from amberkeel.store.models import Attempt, Job, Package, Production, Shot
from amberkeel.store.solve import document_of, ledger
from amberkeel.store.stages import stages
from amberkeel.web.common import get_shot, media, open_session

blueprint = Blueprint("api", __name__, url_prefix="/api/v1")

MOST = 500
"""Rows of a list at the most."""


class ProductionOut(BaseModel):
    """A production."""

    id: int
    name: str
    shots: int


class StageOut(BaseModel):
    """A stage of a shot: its state is untouched, working, settled or look (needs another look)."""

    key: str
    state: str
    fact: str


class ShotOut(BaseModel):
    """A shot with its plate and stages."""

    id: int
    name: str
    production: int
    plate: str
    first: int
    last: int
    width: int
    height: int
    fps: str
    pinned: int | None
    stages: list[StageOut]


class AttemptOut(BaseModel):
    """A stored solve and its figures."""

    id: int
    number: int
    name: str
    pinned: bool
    created: datetime
    figures: dict[str, Any]


class FileOut(BaseModel):
    """A file of a package."""

    name: str
    bytes: int
    sha256: str


class PackageOut(BaseModel):
    """A version that was made for a recipient; `stale` says why it is not what the shot is now."""

    id: int
    shot: int
    version: int
    recipient: str
    folder: str
    created: datetime
    stale: str
    files: list[FileOut]


class JobOut(BaseModel):
    """Work of a shot. State: queued, running, done, failed, cancelled or interrupted."""

    id: int
    shot: int
    kind: str
    state: str
    progress: float
    doing: str
    error: str


MODELS = (ProductionOut, StageOut, ShotOut, AttemptOut, FileOut, PackageOut, JobOut)

PATHS = {
    "/productions": ("Productions", ProductionOut, True, ()),
    "/shots": ("Shots, of one production if it is named", ShotOut, True, ("production",)),
    "/shots/{id}": ("One shot", ShotOut, False, ()),
    "/shots/{id}/attempts": ("The ledger of a shot", AttemptOut, True, ()),
    "/shots/{id}/packages": ("What was handed over, the latest first", PackageOut, True, ()),
    "/shots/{id}/jobs": ("Work of a shot, the latest first", JobOut, True, ()),
    "/attempts/{id}/solve.json": ("An attempt as solve.json, in the solve's own coordinates", None, False, ()),
    "/packages/{id}": ("One package", PackageOut, False, ()),
    "/packages/{id}/files/{name}": ("A file of a package", None, False, ()),
}
"""What can be asked for: in words, the answer's model (None for a file), whether it is a list, and what narrows it."""


@blueprint.before_request
def check_token() -> Response | None:
    """Let only callers with a token in; the description is for everybody."""
    if request.endpoint == "api.description":
        return None
    sent = request.headers.get("Authorization", "").removeprefix("Bearer ").strip()
    known = current_app.settings.tokens.values()
    if any([hmac.compare_digest(sent.encode(), token.encode()) for token in known]):
        return None
    words = "No token, or one that is not known. Send Authorization: Bearer TOKEN, as AMBERKEEL_API_TOKENS has it."
    answer = jsonify(error=words)
    answer.status_code, answer.headers["WWW-Authenticate"] = 401, "Bearer"
    return answer


@blueprint.errorhandler(404)
def not_found(_error):
    """Answer in JSON."""
    return jsonify(error="There is nothing here."), 404


@blueprint.get("/openapi.json")
def description():
    """Send the description of this API."""
    _, schemas = models_json_schema(
        [(one, "serialization") for one in MODELS], ref_template="#/components/schemas/{model}"
    )
    return jsonify(
        openapi="3.1.0", info={"title": "Amber Keel", "version": "1"}, servers=[{"url": "/api/v1"}],
        paths={path: {"get": _operation(path, *told)} for path, told in PATHS.items()},
        components={
            "schemas": schemas["$defs"], "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
        },
        security=[{"token": []}],
    )  # fmt: skip


def _operation(path: str, words: str, model: type[BaseModel] | None, many: bool, narrows: tuple[str, ...]) -> dict:
    whole = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
    name = {"name": "name", "in": "path", "required": True, "schema": {"type": "string"}}
    given = [whole] * ("{id}" in path) + [name] * ("{name}" in path)
    given += [{"name": one, "in": "query", "required": False, "schema": {"type": "integer"}} for one in narrows]
    content: dict = {"application/octet-stream": {}}
    if model is not None:
        one = {"$ref": f"#/components/schemas/{model.__name__}"}
        content = {"application/json": {"schema": {"type": "array", "items": one} if many else one}}
    return {
        "summary": words, "parameters": given,
        "responses": {
            "200": {"description": words, "content": content}, "401": {"description": "No valid token"},
            "404": {"description": "There is no such thing"},
        },
    }  # fmt: skip


def _sent(rows: list[BaseModel]) -> Response:
    return jsonify([row.model_dump(mode="json") for row in rows])


@blueprint.get("/productions")
def productions():
    """Send the productions."""
    with open_session() as opened:
        rows = opened.scalars(select(Production).where(Production.deleted.is_(None)).order_by(Production.name))
        return _sent(
            [
                ProductionOut(id=one.id, name=one.name, shots=sum(s.deleted is None for s in one.shots))
                for one in rows.all()[:MOST]
            ]
        )


@blueprint.get("/shots")
def shots():
    """Send the shots."""
    wanted = request.args.get("production", type=int)
    with open_session() as opened:
        own = select(Shot).join(Production).where(Shot.deleted.is_(None), Production.deleted.is_(None))
        own = own.where(Shot.production_id == wanted) if wanted else own
        return _sent([_shot(opened, one) for one in opened.scalars(own.order_by(Shot.name).limit(MOST))])


@blueprint.get("/shots/<int:number>")
def shot(number: int):
    """Send one shot."""
    with open_session() as opened:
        return jsonify(_shot(opened, _own(opened, number)).model_dump(mode="json"))


def _own(opened, number: int) -> Shot:
    """Return a shot; one that was deleted is not there for pipelines."""
    try:
        return get_shot(opened, number)
    except KeelError:
        abort(404)


def _shot(opened, one: Shot) -> ShotOut:
    plate = one.plate
    return ShotOut(
        id=one.id, name=one.name, production=one.production_id, plate=plate.label, first=plate.first, last=plate.last,
        width=plate.width, height=plate.height, fps=plate.fps, pinned=one.pinned_id,
        stages=[StageOut(key=s.key, state=s.state, fact=s.fact) for s in stages(opened, one)],
    )  # fmt: skip


@blueprint.get("/shots/<int:number>/attempts")
def attempts(number: int):
    """Send the ledger of a shot."""
    with open_session() as opened:
        own = _own(opened, number)
        return _sent(
            [
                AttemptOut(
                    id=one.id, number=one.number, name=one.name or "", pinned=one.id == own.pinned_id,
                    created=one.created, figures=one.figures,
                )
                for one in ledger(opened, own)[:MOST]
            ]
        )  # fmt: skip


@blueprint.get("/attempts/<int:number>/solve.json")
def solve(number: int):
    """Send an attempt's document."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        _own(opened, row.shot_id)
        return jsonify(document_of(media(), row))


@blueprint.get("/shots/<int:number>/packages")
def packages(number: int):
    """Send what was handed over of a shot."""
    with open_session() as opened:
        return _sent([_package(opened, one) for one in packages_of(opened, _own(opened, number))[:MOST]])


def _package(opened, one: Package) -> PackageOut:
    return PackageOut(
        id=one.id, shot=one.shot_id, version=one.version, recipient=one.recipient, folder=one.folder,
        created=one.created, stale=gone_stale(opened, one), files=one.manifest["files"],
    )  # fmt: skip


@blueprint.get("/packages/<int:number>")
def package(number: int):
    """Send one package."""
    with open_session() as opened:
        row = opened.get(Package, number) or abort(404)
        _own(opened, row.shot_id)
        return jsonify(_package(opened, row).model_dump(mode="json"))


@blueprint.get("/packages/<int:number>/files/<path:name>")
def package_file(number: int, name: str):
    """Send a file of a package: one that its manifest names."""
    with open_session() as opened:
        row = opened.get(Package, number) or abort(404)
        home = folder_of(media(), _own(opened, row.shot_id)) / row.folder
        if name not in {file["name"] for file in row.manifest["files"]} | {"manifest.json"}:
            abort(404)
    path = home / name
    if not path.is_file():
        abort(404)
    return send_file(path.resolve(), as_attachment=True, download_name=path.name)


@blueprint.get("/shots/<int:number>/jobs")
def jobs(number: int):
    """Send the work of a shot, the latest first."""
    with open_session() as opened:
        _own(opened, number)
        rows = opened.scalars(select(Job).where(Job.shot_id == number).order_by(Job.id.desc()).limit(MOST))
        return _sent(
            [
                JobOut(
                    id=one.id, shot=number, kind=KINDS[one.kind].name if one.kind in KINDS else one.kind,
                    state=one.state, progress=one.progress, doing=one.doing or "", error=one.error or "",
                )
                for one in rows
            ]
        )  # fmt: skip
