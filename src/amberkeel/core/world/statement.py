"""What a person states of the scene's coordinates: the datum as data (docs/world.md).

Lengths are metres, angles degrees, pixels those of the plate; tracks are meant by id, or by name in a file. Axes are
those of the world: Y up.
"""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from amberkeel.core.errors import WorldError
from amberkeel.core.stated import Coordinate, Positive, Triple

Track = int | Annotated[str, Field(max_length=200)]
Tracks = Annotated[list[Track], Field(max_length=3000)]
Axis = Literal["x", "-x", "y", "-y", "z", "-z"]


class Part(BaseModel):
    """What all parts of the datum have in common: no other fields, and no change."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Spot(Part):
    """A spot of the ground as it is seen on a frame, pixels."""

    frame: int
    xy: tuple[Coordinate, Coordinate]


class Direction(Part):
    """From one point to another the world's axis runs."""

    tracks: Annotated[list[Track], Field(min_length=2, max_length=2)]
    axis: Axis


class End(Part):
    """A spot of the scene, as a weighted sum of the points about it: weights sum to one, so that it goes where they do.

    Such is a proxy's corner: it lies on no track, and a solve of other coordinates must find it again.
    """

    tracks: Annotated[list[Track], Field(min_length=1, max_length=20)]
    weights: Annotated[list[Coordinate], Field(min_length=1, max_length=20)]

    @model_validator(mode="after")
    def _sums_to_one(self) -> "End":
        if len(self.weights) != len(self.tracks) or abs(sum(self.weights) - 1.0) > 1e-6:
            raise ValueError("a spot's weights are one for each track and sum to one")
        return self


class Distance(Part):
    """A length that was measured: between two points, two spots of the ground, two ends of a proxy's side, or the
    camera's height over the ground on a frame. `typed` and `unit` are as it was written. One that says none of these
    waits for its points.
    """

    metres: Positive
    tracks: Annotated[list[Track], Field(max_length=2)] = []
    spots: Annotated[list[Spot], Field(max_length=2)] = []
    ends: Annotated[list[End], Field(max_length=2)] = []
    height_on: int | None = None
    sigma: Positive | None = None
    name: Annotated[str, Field(max_length=100)] = ""
    typed: Annotated[str, Field(max_length=60)] = ""
    unit: Annotated[str, Field(max_length=10)] = "m"
    on: bool = True

    @property
    def placed(self) -> bool:
        """Whether it says between what it was measured."""
        return len(self.tracks) == 2 or len(self.spots) == 2 or len(self.ends) == 2 or self.height_on is not None


class Hand(Part):
    """What was set by hand after all else: a turn about X, then Y, then Z, a scale about the origin, and a move."""

    turn: Triple = (0.0, 0.0, 0.0)
    scale: Positive = 1.0
    move: Triple = (0.0, 0.0, 0.0)


class Statement(Part):
    """The whole datum.

    `ground` are tracks on the ground. `origin` is one track, or several whose middle it is, or else `spot`.
    `directions` run along axes, the first exactly after the ground. `flip` turns up into down. `axes` is what drawn
    axis lines tell: `rotations`, world_from_camera by frame, and `place`, a frame and the camera's position there,
    metres.
    """

    ground: Tracks = []
    origin: Tracks = []
    spot: Spot | None = None
    directions: Annotated[list[Direction], Field(max_length=2)] = []
    distances: Annotated[list[Distance], Field(max_length=100)] = []
    hand: Hand | None = None
    flip: bool = False
    axes: dict | None = None

    @model_validator(mode="after")
    def _along_different_axes(self) -> "Statement":
        axes = [one.axis[-1] for one in self.directions]
        if len(set(axes)) < len(axes):
            raise ValueError("two directions run along the same axis")
        if self.ground and "y" in axes:
            raise ValueError("the ground already says where up is")
        return self


def read_statement(kept: dict) -> Statement:
    """Return a datum from what was kept of it; one distance was once kept as `scale`.

    Raises
    ------
    WorldError : it says what cannot be.
    """
    kept = dict(kept)
    old = kept.pop("scale", None)
    if old:
        one = {"tracks": old["tracks"], "metres": old["metres"], "unit": old.get("unit", "m")}
        kept["distances"] = [one | {"typed": f"{old.get('typed', old['metres']):g}"}, *kept.get("distances", [])]
    try:
        return Statement.model_validate(kept)
    except ValidationError as error:
        first = error.errors()[0]
        words = [*(str(part) for part in first["loc"]), first["msg"].removeprefix("Value error, ")]
        raise WorldError(f"This datum says what cannot be: {' '.join(words)}.") from error


def statement_document(statement: Statement) -> dict:
    """Return a datum as it is kept: without what it does not say."""
    return statement.model_dump(exclude_defaults=True, mode="json")
