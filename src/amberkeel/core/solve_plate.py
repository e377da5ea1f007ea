"""From a plate on disk to the files that leave: the whole line without browser or database.

The solver takes half a second to load. Where nothing is asked for that might be refused, it is loaded once the plate
has been followed, so that the first frame is not waited for.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

from amberkeel.core.errors import FollowError, SolveError
from amberkeel.core.follow import follow_plate
from amberkeel.core.handoff.track_table import TOP_LEFT, check_origin, read_tracks_csv
from amberkeel.core.plate.plate import Plate, matte_reader, open_plate
from amberkeel.core.progress import Progress, span
from amberkeel.core.tracks import TrackSet


@dataclass(frozen=True)
class SolveOrder:
    """What to solve and how; millimetres, and None where nothing is known. `tracks` is a CSV to solve from instead of
    following, `encoding` says how the files' values stand for light, `lens` is a lens profile (JSON) whose distortion
    is held, `beside` are further plates filmed through the same lens. `constraints` is a file of them, `smooth` how
    smooth the path is, `refine` a solve.json or a camera path to begin from, `hold` a camera path that is held; `folds`
    parts of the tracks are left out in turn, `radius` is that of the sphere on which points of a camera that does not
    move are put; `within` are the frames that a refinement may change, `weights` by kind of track by what factor it
    counts more. `inside` are mattes that are white on a body, which is followed and solved instead of the background;
    `camera` is the background's solve.json, in whose world the body is placed, and `size` how the body's size is told.
    """

    plate: str
    frames: tuple[int, int] | None = None
    fps: str | None = None
    encoding: str = ""
    pixel_aspect: float | None = None
    sensor_width_mm: float | None = None
    focal_mm: float | None = None
    distortion: str = "estimate"
    motion: str = "auto"
    mattes: str | None = None
    seed: int = 0
    tracks: str | None = None
    origin: str = TOP_LEFT
    lens: str | None = None
    zoom: bool = False
    beside: tuple[str, ...] = ()
    readout: str = "auto"
    constraints: str | None = None
    smooth: str | None = None
    refine: str | None = None
    folds: int = 0
    hold: str | None = None
    radius: float = 10.0
    start: tuple[int, int] | str | None = None
    within: tuple[int, int] | None = None
    weights: dict[str, float] = field(default_factory=dict)
    readout_sigma: float = 0.0
    inside: str | None = None
    camera: str | None = None
    size: str | None = None

    @property
    def plain(self) -> bool:
        """Whether nothing is asked for that could be refused once the plate has been followed."""
        return self == SolveOrder(
            self.plate, self.frames, encoding=self.encoding, tracks=self.tracks, mattes=self.mattes, origin=self.origin
        )


def solve_plate(order: SolveOrder, progress: Callable[[float, str], None]) -> dict[str, str]:
    """Follow and solve; return the files by name: solve.json, camera.usda, points.csv; of further plates in folders 2,
    3 and so on.
    """
    of_one = (
        order.tracks or order.mattes or order.frames or order.constraints or order.smooth or order.refine or order.hold
    )
    if order.beside and of_one:
        raise SolveError(
            "Frames, mattes, tables of tracks, constraints and attempts to refine belong to one plate.",
            "Leave them away when several plates share a lens.",
        )
    _check_body(order)
    orders = [replace(order, plate=plate) for plate in (order.plate, *order.beside)]
    if not all(one.plain for one in orders):
        from amberkeel.core.solve_order import recipe_of

        for one in orders:
            recipe_of(one, open_plate(one.plate, one.frames, one.encoding))
    every = [
        followed(one, span(progress, 0.65 * k / len(orders), 0.65 * (k + 1) / len(orders)))
        for k, one in enumerate(orders)
    ]
    from amberkeel.core.solve_order import solved

    return solved(orders, every, span(progress, 0.65, 1.0))


def _check_body(order: SolveOrder) -> None:
    """Refuse what does not go together with a body."""
    if order.inside and (order.beside or order.mattes or order.tracks):
        raise SolveError(
            "A body is followed inside its own mattes, on one plate.", "Leave away --mattes, --tracks and --with."
        )
    if order.camera and not (order.inside or order.tracks):
        raise SolveError("A camera is given for a body, but none is.", "Give --inside, or the body's --tracks.")
    if order.camera and (order.beside or order.focal_mm or order.lens or order.zoom):
        raise SolveError("A body is seen through its camera's lens.", "Leave away --focal, --lens, --zoom and --with.")
    if order.size and not order.camera:
        raise SolveError("A body has a size in its camera's world only.", "Give --camera.")


def followed(order: SolveOrder, progress: Progress) -> tuple[Plate, TrackSet]:
    """Return a plate and its tracks."""
    plate = open_plate(order.plate, order.frames, order.encoding)
    if order.tracks:
        return plate, _given(order, order.tracks, plate)
    if order.inside:
        from amberkeel.core.ties.bodies.inside import follow_inside

        return plate, follow_inside(plate, matte_reader(order.inside, plate), progress)
    mattes = matte_reader(order.mattes, plate) if order.mattes else None
    return plate, follow_plate(plate, mattes=mattes, progress=progress)


def _given(order: SolveOrder, table: str, plate: Plate) -> TrackSet:
    """Return the tracks of a table, held against the plate."""
    try:
        text = Path(table).read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise FollowError(f"{table} cannot be read as a table of tracks.", "Give a CSV file in UTF-8.") from error
    tracks = read_tracks_csv(text, plate, order.origin)
    check_origin(tracks, plate, order.origin)
    return tracks
