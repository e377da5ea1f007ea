"""The document `world.json`: the scene's coordinates and what stands in it (docs/world-json.md), written and read."""

import json
from dataclasses import asdict
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationError

from amberkeel.core.errors import WorldError
from amberkeel.core.world.datum import Datum, Found
from amberkeel.core.world.facts import CameraFacts
from amberkeel.core.world.solids import Solid
from amberkeel.core.world.standing import Probe, Proxy
from amberkeel.core.world.statement import Statement, statement_document

Triple = tuple[FiniteFloat, FiniteFloat, FiniteFloat]


class Part(BaseModel):
    """A part of the document."""

    model_config = ConfigDict(extra="forbid")


class Similarity(Part):
    """``x_world = scale * rotation @ x_solve + translation``."""

    scale: Annotated[FiniteFloat, Field(gt=0.0)]
    rotation: tuple[Triple, Triple, Triple]
    translation: Triple


class Ground(Part):
    """How the ground's points lie: RMS in world units and pixels, and those that lie off it, with how far."""

    rms: FiniteFloat
    rms_px: FiniteFloat | None
    points: int
    off: dict[str, FiniteFloat]


class Length(Part):
    """A measured length: as stated, as it comes out, by which share that is more, and by how many sigmas."""

    name: str
    stated: FiniteFloat
    found: FiniteFloat
    share: FiniteFloat
    sigmas: FiniteFloat
    contradicts: bool


class Camera(Part):
    """Facts of the camera: height (least, middle, most), speed (middle, most) a second, travel, end from start."""

    height: Triple
    speed: tuple[FiniteFloat, FiniteFloat]
    travel: FiniteFloat
    apart: FiniteFloat


class Mesh(Part):
    """Triangles in a thing's own frame: corners, and rows of them."""

    vertices: list[Triple]
    faces: list[tuple[int, int, int]]


class World(Part):
    """The document: units are metres where `metric`, else the solve's own; proxies and probe objects are as
    `core.world.standing` has them, their meshes by id.
    """

    format: Literal["amberkeel-world"] = "amberkeel-world"
    version: Literal[1] = 1
    metric: bool
    datum: Similarity
    stated: Statement
    ground: Ground | None = None
    lengths: list[Length] = []
    scale_sigma: FiniteFloat | None = None
    camera: Camera | None = None
    missing: list[str] = []
    proxies: dict[str, Proxy] = {}
    probes: dict[str, Probe] = {}
    meshes: dict[str, Mesh] = {}


def world_document(
    found: Found,
    statement: Statement,
    names: dict[int, str],
    facts: CameraFacts | None = None,
    proxies: dict[str, Proxy] | None = None,
    probes: dict[str, Probe] | None = None,
    meshes: dict[str, Solid] | None = None,
) -> World:
    """Return a world as a document.

    Parameters
    ----------
    found : the datum. statement : what it was found from. names : of tracks. facts : of the camera. proxies, probes :
        by id. meshes : of those that are meshes, by id.
    """
    datum, ground, scale = found.datum, found.ground, found.scale
    off = {}
    if ground is not None:
        rows = zip(ground.tracks, ground.off, ground.on)
        off = {names.get(t, str(t)): round(float(by), 9) for t, by, on in rows if not on}
    lengths = [
        Length(
            name=_length_name(statement, n, names), stated=statement.distances[n].metres, found=float(scale.found[k]),
            share=float(scale.share[k]), sigmas=float(scale.sigmas[k]), contradicts=bool(scale.contradicts[k]),
        )
        for k, n in enumerate(found.judged)
    ] if scale else []  # fmt: skip
    return World(
        metric=bool(found.scaled),
        datum=Similarity(scale=datum.scale, rotation=_rows(datum.rotation), translation=_triple(datum.translation)),
        stated=statement,
        ground=Ground(
            rms=ground.rms, rms_px=ground.rms_px if np.isfinite(ground.rms_px) else None, points=int(ground.on.sum()),
            off=off,
        ) if ground else None,
        lengths=lengths,
        scale_sigma=scale.sigma if scale else None,
        camera=Camera(**asdict(facts)) if facts else None,
        missing=list(found.missing),
        proxies=proxies or {},
        probes=probes or {},
        meshes={name: mesh_part(solid) for name, solid in (meshes or {}).items()},
    )  # fmt: skip


def _length_name(statement: Statement, number: int, names: dict[int, str]) -> str:
    one = statement.distances[number]
    ends = [t if isinstance(t, str) else names.get(t, str(t)) for t in one.tracks]
    return one.name or (" to ".join(ends) if ends else f"camera height, frame {one.height_on}")


def _triple(values: np.ndarray) -> Triple:
    a, b, c = (float(v) for v in values)
    return a, b, c


def _rows(matrix: np.ndarray) -> tuple[Triple, Triple, Triple]:
    return _triple(matrix[0]), _triple(matrix[1]), _triple(matrix[2])


def mesh_part(solid: Solid) -> Mesh:
    """Return a solid's triangles as the document has them."""
    faces = [(int(a), int(b), int(c)) for a, b, c in solid.faces]
    return Mesh(vertices=[_triple(v) for v in solid.vertices.round(9)], faces=faces)


def world_text(world: World) -> str:
    """Return a world as the text of world.json."""
    kept = world.model_dump(mode="json")
    kept["stated"] = statement_document(world.stated)
    for part in ("proxies", "probes"):
        things = getattr(world, part)
        kept[part] = {n: t.model_dump(mode="json", exclude_defaults=True) | {"kind": t.kind} for n, t in things.items()}
    return json.dumps(kept, indent=1) + "\n"


def read_world(text: str) -> World:
    """Return a world from the text of world.json.

    Raises
    ------
    WorldError : it is none.
    """
    try:
        return World.model_validate(json.loads(text))
    except (ValidationError, ValueError) as error:
        raise WorldError("This is no world.json.", "Make one with keel world.") from error


def datum_in(world: World) -> Datum:
    """Return the datum of a world."""
    return Datum(world.datum.scale, np.array(world.datum.rotation), np.array(world.datum.translation))


def world_schema() -> str:
    """Return the JSON schema of the document, as docs/world.schema.json holds it."""
    return json.dumps(World.model_json_schema(), indent=1) + "\n"
