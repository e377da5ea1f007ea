"""What the lens stage's page sends of its lines."""

from typing import Any

from pydantic import Field

from amberkeel.store.lens import UNKNOWN
from amberkeel.web.lens.camera import Facts
from amberkeel.web.sent import Body, Flag, Number, Whole, Word


class Wanted(Body):
    """What lines are asked to tell."""

    model: Word = "radial"
    radial: Whole = 2
    tangential: Flag = False


class Origin(Body):
    """Where the scene's origin is: a line's end, or a position on a frame."""

    line: Word = ""
    end: Flag = False
    frame: Whole | None = None
    point: Any = None


class Measured(Body):
    """A drawn line whose length was measured, as typed."""

    line: Word = ""
    length: Word = ""


class Drawn(Body):
    """Drawn lines by name, and what they are asked to tell."""

    lines: dict[str, dict] = {}
    wanted: Wanted = Wanted()
    focal_state: Word = UNKNOWN


class Fitting(Drawn):
    """What is shown of a fit, on which frame; `quick` while a line is dragged."""

    quick: Flag = False
    frame: Whole | None = None
    grid: Flag = True
    measured: Measured | None = None
    origin: Origin | None = None


class NewBox(Drawn):
    """A drag from a corner on the floor to the opposite one on top."""

    frame: Whole
    start: list = Field(alias="from")
    to: list


class Turned(Body):
    """k1 turned by hand, and the lines that are shown through it."""

    k1: Number
    lines: dict[str, dict] = {}
    frame: Whole | None = None


class Snapped(Body):
    """Points of a line on a frame, and the one that is put onto an edge; without one the whole line is."""

    frame: Whole
    points: list = []
    point: Whole | None = None


class ChangedLens(Body):
    """New lines, null taking one away; what is wanted; origin and measured line, null for none; the camera's facts."""

    label: Word = "Change the lens"
    lines: dict[str, dict | None] = {}
    wanted: Wanted | None = None
    origin: Origin | None = None
    measured: Measured | None = None
    facts: Facts | None = None
