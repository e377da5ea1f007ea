"""A set as a document, `set.json` (docs/ties.md): named points with their sigmas, measured lengths, what stands in it,
and the shots it came from. Survey tables (CSV) are read into one.
"""

import csv
import io
import json
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.foreign import guarded
from amberkeel.core.stated import Coordinate, Triple
from amberkeel.core.units import METRES, typed_length, typed_number
from amberkeel.core.world.standing import Probe, Proxy
from amberkeel.core.world.statement import Distance
from amberkeel.core.world.world_file import Mesh

MOST_POINTS, MOST_SHOTS = 5000, 20
MOST_BYTES = 64 << 20

SURVEY_SIGMA = 0.002
"""One sigma of a surveyed coordinate of which nothing is said, metres: a total station's."""

ALIKE_SIGMA = 1e-3
"""The same over the set's extent, for a set without a scale."""

SURVEY = "survey"

Name = Annotated[str, Field(min_length=1, max_length=80)]


class Part(BaseModel):
    """A part of the document."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Image(Part):
    """Where a point is seen: shot, frame, and pixels of its plate."""

    shot: Name
    frame: int
    xy: tuple[Coordinate, Coordinate]


class Point(Part):
    """A named point: coordinates, one sigma of each (null where it is not known), and where it came from: "survey", or
    the name of a shot.
    """

    name: Name
    xyz: Triple
    sigma: Triple | None = None
    source: Annotated[str, Field(max_length=120)] = SURVEY
    images: Annotated[list[Image], Field(max_length=100)] = []


class SetShot(Part):
    """A shot of the set: its plate, its solve (with tracks.csv beside it) and the world.json that takes it to the set's
    world, as paths from the document's folder; and whether it is the reference.
    """

    name: Name
    plate: Annotated[str, Field(max_length=1000)] = ""
    solve: Annotated[str, Field(max_length=1000)] = ""
    world: Annotated[str, Field(max_length=1000)] = ""
    reference: bool = False


class Set(Part):
    """The document. `metric` says whether units are metres; `frozen` whether shots may not bend it."""

    format: Literal["amberkeel-set"] = "amberkeel-set"
    version: Literal[1] = 1
    name: Name
    metric: bool = True
    frozen: bool = True
    points: Annotated[list[Point], Field(max_length=MOST_POINTS)] = []
    distances: Annotated[list[Distance], Field(max_length=200)] = []
    proxies: dict[str, Proxy] = {}
    probes: dict[str, Probe] = {}
    meshes: dict[str, Mesh] = {}
    shots: Annotated[list[SetShot], Field(max_length=MOST_SHOTS)] = []

    def point(self, name: str) -> Point | None:
        """Return the point of a name, or None."""
        return next((one for one in self.points if one.name == name), None)

    def renewed(self, points: list[Point], source: str) -> list[Point]:
        """Return the set's points, those that came from a source as they are now; one that it no longer has stays."""
        new = {one.name: one for one in points}
        return [new.get(one.name, one) if one.source == source else one for one in self.points]

    @property
    def usual_sigma(self) -> float:
        """One sigma of a coordinate of which none is stated, in the set's units."""
        if self.metric or not self.points:
            return SURVEY_SIGMA
        return ALIKE_SIGMA * float(np.ptp([p.xyz for p in self.points], axis=0).max())


def read_set(text: str) -> Set:
    """Return a set from the text of set.json.

    Raises
    ------
    TieError : it is none, or two points have one name.
    """
    if len(text) > MOST_BYTES:
        raise TieError("This set is longer than 64 MB.", "Leave its meshes away.")
    try:
        found = Set.model_validate(json.loads(text))
    except ValidationError as error:
        first = error.errors()[0]
        raise TieError(
            f"This is no set: {'.'.join(str(part) for part in first['loc'])}: {first['msg']}.",
            "docs/ties.md says what set.json holds.",
        ) from error
    except ValueError as error:
        raise TieError("This is no set.json.", "Make one with keel set.") from error
    _check_names([one.name for one in found.points])
    return found


@guarded("This set", TieError, help="Make one with keel set.")
def read_set_file(text: str) -> Set:
    """Return a set from the text of a set.json that somebody sent; raises TieError as `read_set` does."""
    return read_set(text)


def load_set(path: Path) -> Set:
    """Return the set of a file; raises TieError where it is none."""
    try:
        return read_set_file(path.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise TieError(f"{path.name} cannot be read as a set.", "Make one with keel set.") from error


def set_text(one: Set) -> str:
    """Return a set as the text of set.json."""
    kept = one.model_dump(mode="json")
    for part in ("proxies", "probes"):
        things = getattr(one, part)
        kept[part] = {n: t.model_dump(mode="json", exclude_defaults=True) | {"kind": t.kind} for n, t in things.items()}
    return json.dumps(kept, indent=1) + "\n"


def _check_names(names: list[str]) -> None:
    twice = sorted({name for name in names if names.count(name) > 1}) if len(set(names)) < len(names) else []
    if twice:
        raise TieError(
            f"Two points are named {', '.join(twice[:4])}.",
            "Give each its own name: was a tag printed twice, or a line copied?",
        )


@guarded("This survey table", TieError)
def surveyed(text: str, unit: str) -> list[Point]:
    """Return the points of a survey table.

    Parameters
    ----------
    text : CSV with the columns name, x, y, z, and perhaps sigma or sx, sy, sz; Y is up. unit : one of `METRES`, of all
        lengths that say none themselves.

    Raises
    ------
    TieError : it is no such table; says which line.
    """
    if unit not in METRES:
        raise TieError(f"“{unit[:20]}” is no unit of length.", f"Use {', '.join(METRES)}.")
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip() and not line.startswith("#")]
    between = max(",;\t", key=(lines[0] if lines else "").count)
    rows = csv.DictReader(io.StringIO("\n".join(lines)), delimiter=between, skipinitialspace=True)
    rows.fieldnames = [(name or "").strip().lower() for name in rows.fieldnames or []]
    if {"name", "x", "y", "z"} - set(rows.fieldnames):
        raise TieError("This is no survey table.", "Its first line names the columns name, x, y, z and perhaps sigma.")
    out = []
    for number, row in enumerate(rows, start=2):
        if number > MOST_POINTS + 1:
            raise TieError(f"This table has more than {MOST_POINTS} points.", "Send those that are seen.")
        try:
            out.append(_surveyed({k: (v or "").strip() for k, v in row.items() if k and isinstance(v, str)}, unit))
        except (KeelError, ValidationError) as error:
            said = str(error) if isinstance(error, KeelError) else error.errors()[0]["msg"]
            raise TieError(f"Line {number} of the table: {said}") from error
    if not out:
        raise TieError("This table holds no points.")
    _check_names([one.name for one in out])
    return out


def _surveyed(row: dict[str, str], unit: str) -> Point:
    xyz = [METRES[unit] * typed_number(row.get(axis, ""), axis) for axis in "xyz"]
    given = [row.get(f"s{axis}") or row.get("sigma") for axis in "xyz"]
    x, y, z = (typed_length(one, "The sigma", unit) if one else SURVEY_SIGMA for one in given)
    return Point(name=row["name"], xyz=(xyz[0], xyz[1], xyz[2]), sigma=(x, y, z))


def points_csv(one: Set) -> str:
    """Return a set's points as a table, in metres where the set has a scale."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["name", "x", "y", "z", "sx", "sy", "sz", "source"])
    for p in one.points:
        sigma = p.sigma or ("", "", "")
        writer.writerow(
            [p.name, *(f"{v:.6f}" for v in p.xyz), *(f"{v:.6f}" if v != "" else "" for v in sigma), p.source]
        )
    return out.getvalue()


def sigmas_of(covariance: np.ndarray) -> tuple[float, float, float] | None:
    """Return one sigma of each coordinate (3,) of a covariance (3, 3) as a document has them; None for unknown."""
    values = np.sqrt(np.diagonal(covariance))
    if not np.isfinite(values).all() or not (values > 0.0).all():
        return None
    return float(values[0]), float(values[1]), float(values[2])
