"""What a person states of the set and of the camera: the constraints of a solve, as data (docs/constraints.md).

Lengths are metres, angles degrees; tracks are meant by id, or by name in a file.
"""

from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, model_validator

from amberkeel.core.errors import SolveError
from amberkeel.core.stated import Coordinate, Positive, Triple
from amberkeel.core.units import METRES

MaybeTriple = tuple[Coordinate | None, Coordinate | None, Coordinate | None]
Matrix = tuple[Triple, Triple, Triple]
Track = int | Annotated[str, Field(max_length=200)]
Tracks = Annotated[list[Track], Field(max_length=300)]
Frames = tuple[int, int] | None

FILE_FORMAT = "amberkeel-constraints"

MOST = 200
"""Constraints of a solve at the most."""

PATH_PRESETS = {"handheld": (2.0, 150.0), "dolly": (0.25, 15.0), "crane": (0.5, 25.0), "tripod": (0.02, 40.0)}
"""One sigma of a camera's acceleration, m/s², and of its angular acceleration, °/s²: what a body, a wheeled platform,
an arm and a head on legs let it have."""


class Constraint(BaseModel):
    """What all constraints have: a name, whether it counts, and whether it is held exactly instead of within its
    sigma.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)
    name: Annotated[str, Field(max_length=100)] = ""
    on: bool = True
    exact: bool = False


class Anchor(Constraint):
    """A track at known coordinates; null for an axis that is not known. `tie` says that a tie to a set made it."""

    kind: Literal["anchor"] = "anchor"
    track: Track
    xyz: MaybeTriple
    sigma: Positive | tuple[Positive, Positive, Positive] = 0.01
    tie: bool = False

    @model_validator(mode="before")
    @classmethod
    def _named_once(cls, given: Any) -> Any:
        """Documents from before `tie` was written said it by the name."""
        if isinstance(given, dict) and "tie" not in given:
            return {**given, "tie": str(given.get("name", "")).startswith("tie ")}
        return given


class DistanceBetween(Constraint):
    """A distance between two tracks."""

    kind: Literal["distance"] = "distance"
    tracks: Annotated[list[Track], Field(min_length=2, max_length=2)]
    length: Positive
    sigma: Positive = 0.01


class PlaneThrough(Constraint):
    """Tracks on one plane: any, a level one ("up"), or one of a known normal; at a known offset along it, or any."""

    kind: Literal["plane"] = "plane"
    tracks: Tracks
    normal: Literal["any", "up"] | Triple = "any"
    offset: Coordinate | None = None
    sigma: Positive | None = None


class LineThrough(Constraint):
    """Tracks on one straight line."""

    kind: Literal["line"] = "line"
    tracks: Tracks
    sigma: Positive | None = None


class PlanesMeet(Constraint):
    """Two planes, by their names, that are parallel or square."""

    kind: Literal["angle"] = "angle"
    planes: Annotated[list[str], Field(min_length=2, max_length=2)]
    relation: Literal["parallel", "square"] = "square"
    sigma_degrees: Positive = 0.5


class CameraHeight(Constraint):
    """The camera's height over the world's ground, over a range of frames or all."""

    kind: Literal["camera-height"] = "camera-height"
    height: Coordinate
    sigma: Positive = 0.02
    frames: Frames = None


class CameraOn(Constraint):
    """A camera that stays on one line (a rail), on one plane, or at one spot, over a range of frames or all."""

    kind: Literal["camera-on"] = "camera-on"
    shape: Literal["line", "plane", "spot"]
    sigma: Positive | None = None
    frames: Frames = None


class Hold(Constraint):
    """A given path: positions or orientations (world_from_camera) by frame, single axes null where they are free; and
    what focal length it came with, as a share of the picture's width, for a solve that begins from it.
    """

    kind: Literal["hold"] = "hold"
    frames: Annotated[list[int], Field(min_length=1, max_length=100_000)]
    positions: list[MaybeTriple] | None = None
    rotations: list[Matrix] | None = None
    sigma: Positive = 0.01
    sigma_degrees: Positive = 0.1
    focal_share: Positive | None = None

    @model_validator(mode="after")
    def _as_many(self) -> "Hold":
        for rows in (self.positions, self.rotations):
            if rows is not None and len(rows) != len(self.frames):
                raise ValueError(f"{len(self.frames)} frames, but {len(rows)} poses")
        if self.positions is None and self.rotations is None:
            raise ValueError("neither positions nor rotations are held")
        return self


class AxisLine(BaseModel):
    """A line drawn over one frame, from end to end in pixels, that runs along an axis of the world."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    frame: int
    axis: Literal["x", "y", "z"]
    ends: tuple[tuple[Coordinate, Coordinate], tuple[Coordinate, Coordinate]]


class AxisLines(Constraint):
    """Drawn lines that run along the world's axes: what they tell of focal length, level and heading."""

    kind: Literal["axis-lines"] = "axis-lines"
    lines: Annotated[list[AxisLine], Field(min_length=1, max_length=200)]
    sigma_px: Positive = 1.0


class SwingRadius(Constraint):
    """How far the entrance pupil of a camera that swings is from the point about which it turns."""

    kind: Literal["swing-radius"] = "swing-radius"
    length: Positive
    sigma: Positive = 0.01


class Smooth(Constraint):
    """How hard the camera accelerates, one sigma: m/s² and °/s², over a range of frames or all."""

    kind: Literal["smooth"] = "smooth"
    position: Positive | None = None
    rotation: Positive | None = None
    frames: Frames = None


AnyConstraint = Annotated[
    Anchor
    | DistanceBetween
    | PlaneThrough
    | LineThrough
    | PlanesMeet
    | CameraHeight
    | CameraOn
    | Hold
    | Smooth
    | AxisLines
    | SwingRadius,
    Field(discriminator="kind"),
]

_LIST: TypeAdapter[list[AnyConstraint]] = TypeAdapter(Annotated[list[AnyConstraint], Field(max_length=MOST)])

LENGTHS = ("length", "sigma", "height", "offset", "xyz", "positions", "position")
"""Members that are lengths, or rates of lengths, in a file's unit."""


def read_constraints(documents: Sequence[dict]) -> list[Constraint]:
    """Return constraints from plain values in metres.

    Raises
    ------
    SolveError : something is none, such as a negative distance; the message says which and what is wrong.
    """
    try:
        return list(_LIST.validate_python(list(documents)))
    except ValidationError as error:
        first = error.errors()[0]
        at, where = (first["loc"] or (0,))[0], ".".join(str(part) for part in first["loc"][2:])
        raise SolveError(
            f"Constraint {int(at) + 1 if isinstance(at, int) else at}: {where + ': ' if where else ''}{first['msg']}.",
            "docs/constraints.md says what each constraint holds.",
        ) from error


def read_constraint_file(document: object) -> list[Constraint]:
    """Return the constraints of a file, `{"format": "amberkeel-constraints", "unit": "m", "constraints": […]}`."""
    if not isinstance(document, dict) or document.get("format") != FILE_FORMAT:
        raise SolveError("This is no file of constraints.", f'Its "format" must be "{FILE_FORMAT}".')
    unit, rows = document.get("unit", "m"), document.get("constraints")
    if unit not in METRES:
        raise SolveError(f"“{unit}” is no unit of length.", f"Use one of {', '.join(METRES)}.")
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise SolveError("The file has no list of constraints.")
    return read_constraints([_in_metres(row, METRES[unit]) for row in rows])


def made_by_tie(one: Constraint) -> bool:
    """Return whether a tie to a set made a constraint."""
    return isinstance(one, Anchor) and one.tie


def constraint_documents(constraints: Sequence[Constraint]) -> list[dict]:
    """Return constraints as plain values for JSON."""
    return [one.model_dump(mode="json") for one in constraints]


def _in_metres(row: dict, metres: float) -> dict:
    return {key: _scaled(value, metres) if key in LENGTHS else value for key, value in row.items()}


def _scaled(value: object, metres: float) -> object:
    if isinstance(value, list | tuple):
        return [_scaled(one, metres) for one in value]
    return value * metres if isinstance(value, int | float) and not isinstance(value, bool) else value
