"""What `solve.json` is made of, by kind and bounds; the schema in `docs` is made from it (docs/solve-json.md)."""

import json
from typing import Annotated, Any, Literal, NotRequired

from pydantic import Field, StringConstraints, TypeAdapter, ValidationError
from typing_extensions import TypedDict

from amberkeel.core.errors import SolveError

FORMAT, VERSION = "amberkeel-solve", 2

Positive = Annotated[float, Field(gt=0)]
NotNegative = Annotated[float, Field(ge=0)]
Count = Annotated[int, Field(ge=0)]
Pair = Annotated[list[float], Field(min_length=2, max_length=2)]
Triple = Annotated[list[float], Field(min_length=3, max_length=3)]


class PlateDocument(TypedDict):
    """The plate's name, and its frame rate as a fraction."""

    name: str
    fps: Annotated[str, StringConstraints(pattern=r"^[0-9]+/[0-9]+$")]


class ImageDocument(TypedDict):
    """The picture's size in pixels, and the width of a pixel over its height."""

    width: Annotated[int, Field(ge=1)]
    height: Annotated[int, Field(ge=1)]
    pixel_aspect: Positive


class LensDocument(TypedDict):
    """The lens; coefficients as in `Lens`."""

    model: Literal["radial", "division", "two-axis"]
    focal_px: Pair
    principal_px: Pair
    radial: Triple
    tangential: Pair
    division: NotRequired[float]
    two_axis: NotRequired[list[float]]
    turn: NotRequired[float]


class LensValueDocument(TypedDict):
    """One value of the lens, see `LensValue`."""

    name: str
    value: float
    sigma: float
    free: bool
    determined: bool


class ReasonDocument(TypedDict):
    """A reason as a code with names and figures, see `reasons`."""

    code: str
    names: list[str]
    figures: dict[str, Any]


class TrialDocument(TypedDict):
    """One value put elsewhere, see `HeldOut`."""

    name: str
    share: float
    before_px: float
    after_px: float
    worse: float
    determined: bool
    conclusive: bool
    words: NotRequired[str]


class ShutterDocument(TypedDict):
    """How rows are read: share of the frame interval from the first to the last; poses are those of the middle row."""

    readout: float
    readout_sigma: NotRequired[float]


class LensReportDocument(TypedDict):
    """What the solve says of its lens, see `LensReport`."""

    values: list[LensValueDocument]
    names: list[str]
    correlation: list[list[float]]
    notes: list[str]
    note_codes: list[ReasonDocument]
    held_out: list[TrialDocument]


class FrameDocument(TypedDict):
    """The camera on one frame."""

    frame: int
    position: Triple
    world_from_camera: Annotated[list[Triple], Field(min_length=3, max_length=3)]
    focal_px: Positive
    residual_px: NotNegative | None
    position_sigma: NotNegative | None
    rotation_sigma: NotRequired[NotNegative | None]


class PointDocument(TypedDict):
    """One track's point."""

    id: int
    track: str
    kind: Literal["auto", "hand", "tag"]
    xyz: Triple
    residual_px: NotNegative | None
    state: Literal["active", "check", "excluded"]
    reason: str
    reason_code: str
    sigma_along: NotRequired[NotNegative | None]
    sigma_across: NotRequired[NotNegative | None]


class FoldsDocument(TypedDict):
    """Every track withheld once, see `Folds`."""

    count: Annotated[int, Field(ge=2)]
    rms_px: NotNegative
    used_rms_px: NotNegative
    outlier_share: NotNegative
    part_rms_px: tuple[NotNegative, ...]
    expected: NotRequired[Annotated[float, Field(ge=1)] | None]
    each: NotRequired[list[tuple[Count, NotNegative]]]


class BegunDocument(TypedDict):
    """Where a solve began, see `Begun`."""

    first: int
    last: int
    parallax_px: NotNegative
    travel_px: NotNegative
    tracks: Count


class QualityDocument(TypedDict):
    """Figures of the whole."""

    rms_px: NotNegative
    check_rms_px: NotNegative | None
    tracks_used: Count
    tracks_excluded: Count
    tracks_check: Count
    observations: Count
    focal_sigma_px: NotNegative
    k1_sigma: NotRequired[NotNegative]
    noise_factor: NotRequired[NotNegative]
    folds: NotRequired[FoldsDocument]


class FigureDocument(TypedDict):
    """What a piece of further knowledge says after the solve, see `Figure`."""

    name: str
    stated: float
    found: float
    sigmas: float
    unit: str
    kind: NotRequired[str]
    worst: NotRequired[str]


class RivalDocument(TypedDict):
    """One explanation of the tracks, see `Rival`."""

    motion: str
    rms_px: float
    explained: float
    focal_px: float
    unknowns: int
    score: float


class LensChoiceDocument(TypedDict):
    """What was chosen for a value of the lens, see `LensChoice`."""

    state: str
    value: float | None
    sigma: float


class RecipeDocument(TypedDict):
    """What the solve was asked to do, see `Recipe`."""

    camera_motion: str
    distortion: str
    focal_px: float | None
    pixel_aspect: float
    lens: dict[str, LensChoiceDocument]
    lens_held: bool
    zoom: bool
    shared_with: list[str]
    rows: NotRequired[str]
    readout: NotRequired[float | None]
    evidence: NotRequired[list[dict[str, Any]]]
    fps: NotRequired[float]
    folds: NotRequired[Count]
    radius: NotRequired[Positive]
    start: NotRequired[tuple[int, int] | str | None]
    within: NotRequired[tuple[int, int] | None]
    weights: NotRequired[dict[str, Positive]]
    readout_sigma: NotRequired[NotNegative]
    check_share: float
    seed: int


class SolveDocument(TypedDict):
    """One solved camera."""

    format: Literal["amberkeel-solve"]
    version: Literal[2]
    plate: NotRequired[PlateDocument]
    image: ImageDocument
    camera_motion: Literal["free", "nodal", "swing", "plane", "locked"]
    lens: LensDocument
    shutter: NotRequired[ShutterDocument]
    lens_report: LensReportDocument
    frames: Annotated[list[FrameDocument], Field(min_length=1)]
    points: list[PointDocument]
    quality: QualityDocument
    terms: list[FigureDocument]
    rivals: NotRequired[list[RivalDocument]]
    standing: NotRequired[list[tuple[int, int]]]
    missing_frames: NotRequired[list[int]]
    stopped: NotRequired[bool]
    begun: NotRequired[BegunDocument | None]
    recipe: RecipeDocument


_ADAPTER = TypeAdapter(SolveDocument)


def read_document(given: Any) -> SolveDocument:
    """Return what a file or the store holds as a solve document.

    Raises SolveError where it is none: the message names the first value that is missing or of another kind.
    """
    try:
        return _ADAPTER.validate_python(given)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])) or "the file"
        raise SolveError(f"This is no solve.json: {where} ({first['msg']}).", "Give a file as written here.") from None


def schema() -> str:
    """Return the JSON schema of the document, as it lies in `docs/solve.schema.json`."""
    return json.dumps({"title": "Amber Keel solve", **_ADAPTER.json_schema()}, indent=1) + "\n"
