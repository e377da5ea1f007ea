"""What stands in a scene, as data: proxies, which stand for the set, and probe objects (docs/world.md).

Lengths are world units, metres where the scene has a scale; angles degrees.
"""

from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationError

from amberkeel.core.errors import WorldError
from amberkeel.core.stated import Positive, Triple
from amberkeel.core.world import solids
from amberkeel.core.world.datum import Datum
from amberkeel.core.world.solids import Solid, degrees_of, turned_by

Sizes = tuple[Positive, Positive, Positive]

PROBE_KINDS = "card", "cube", "cone", "person", "lattice", "post", "mesh"

MOST = 200
"""Proxies, and probe objects, of a scene at the most."""


class Standing(BaseModel):
    """A thing in the scene: `size` along its own X, Y and Z, its foot at `position`, turned about X, then Y, then Z.

    `mesh` is where the triangles of a mesh are kept, in its own frame; `texture` where its picture is, and
    `light` the same as linear light (EXR), where there is that.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)
    name: Annotated[str, Field(max_length=80)] = ""
    position: Triple = (0.0, 0.0, 0.0)
    turn: Triple = (0.0, 0.0, 0.0)
    size: Sizes = (1.0, 1.0, 1.0)
    mesh: Annotated[str, Field(max_length=64)] = ""
    texture: Annotated[str, Field(max_length=64)] = ""
    light: Annotated[str, Field(max_length=64)] = ""
    shown: bool = True
    look: Literal["wire", "solid", "checker", "picture"] = "wire"
    locked: bool = False


class Proxy(Standing):
    """Simple geometry that stands for the set; a mesh made from points names them in `tracks`, and in `along` the
    direction towards which it was looked from, where that was not above.
    """

    kind: Literal["plane", "wall", "box", "cylinder", "mesh"]
    tracks: Annotated[list[int], Field(max_length=5000)] = []
    along: Triple | None = None
    longest: Positive | None = None
    smooth: bool = False
    extend: Annotated[FiniteFloat, Field(ge=0.0, lt=1e4)] = 0.0


class Probe(Standing):
    """A test object."""

    kind: Literal["card", "cube", "cone", "person", "lattice", "post", "mesh"]
    look: Literal["wire", "solid", "checker", "picture"] = "solid"


def read_standing(model: type[Standing], kept: dict) -> Standing:
    """Return a proxy or probe from what was kept of it.

    Raises
    ------
    WorldError : it says what cannot be.
    """
    try:
        return model.model_validate(kept)
    except ValidationError as error:
        first = error.errors()[0]
        words = [*(str(part) for part in first["loc"]), first["msg"]]
        raise WorldError(f"This thing says what cannot be: {' '.join(words)}.") from error


def solid_of(thing: Standing, mesh: Solid | None = None) -> Solid:
    """Return a thing's solid in the world; `mesh` is that of a thing which is one, in its own frame."""
    return _own(thing, mesh).moved(turned_by(thing.turn), np.array(thing.position))


def _own(thing: Standing, mesh: Solid | None) -> Solid:
    """Return a thing's solid in its own frame."""
    kind, (width, height, depth) = getattr(thing, "kind", ""), thing.size
    if kind in ("plane", "card"):
        return solids.floor(width, depth)
    if kind == "wall":
        return solids.wall(width, height)
    if kind in ("box", "cube"):
        return solids.box(width, height, depth)
    if kind == "cylinder":
        return solids.cylinder(width, height, depth)
    if kind == "post":
        return solids.cylinder(width, height, width)
    if kind == "cone":
        return solids.cone(width, height, depth)
    if kind == "person":
        return solids.person(height)
    if kind == "lattice":
        return solids.lattice(width, height, depth)
    if mesh is None:
        raise WorldError(f"The mesh of {thing.name or 'this thing'} is not there.")
    return mesh.scaled(np.array(thing.size))


def carried(thing: dict, change: Datum, sized: bool = True) -> dict:
    """Return a thing as it is kept, taken along into another world so that it stays where it is in the picture.

    Parameters
    ----------
    thing : as it is kept. change : from the world before to the one after. sized : whether its size goes along; what
        has a stated height keeps it.
    """
    turn = change.rotation @ turned_by(tuple(thing.get("turn", (0.0, 0.0, 0.0))))
    size = np.array(thing.get("size", (1.0, 1.0, 1.0)), float) * (change.scale if sized else 1.0)
    along = {"along": (change.rotation @ thing["along"]).round(9).tolist()} if thing.get("along") else {}
    return {
        **thing,
        **along,
        "position": change.apply(np.array(thing.get("position", (0.0, 0.0, 0.0)), float)).round(9).tolist(),
        "turn": degrees_of(turn),
        "size": size.round(9).tolist(),
    }
