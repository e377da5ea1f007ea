"""The pictures of a shot as jobs and pages open them: its plate, its tracking copy, or replaced images."""

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError, PlateError
from amberkeel.core.follow.blur import SHARP, MotionBlur
from amberkeel.core.plate.copy import TrackingCopy, read_stack, stand_in
from amberkeel.core.plate.links import check_links
from amberkeel.core.plate.plate import Plate as CorePlate
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.progress import Progress
from amberkeel.core.report.movie import write_movie
from amberkeel.settings import Settings, from_environment
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Plate, Shot
from amberkeel.store.scene import staged_in
from amberkeel.store.session import session
from amberkeel.store.solve import solution_of


def plate_row(settings: Settings, shot_id: int) -> Plate:
    """Return the row of a shot's plate."""
    with session(settings.database) as opened:
        row = opened.scalar(select(Plate).where(Plate.shot_id == shot_id))
        if row is None:
            raise KeelError("This shot has no plate.")
        return row


def allowed(where: str | Path) -> Path:
    """Return where pictures lie, looked at again now that they are to be read: a link may have come in since they were
    chosen. Raises PlateError where one leads out of the plate roots and of what was uploaded.
    """
    settings = from_environment()
    return check_links(Path(where), [*settings.plate_roots, settings.media])


def open_row(row: Plate) -> CorePlate:
    """Open the plate of a row; raises PlateError when its pictures are of another size now."""
    plate = open_plate(allowed(row.source), (row.first, row.last), row.encoding)
    if (plate.width, plate.height) != (row.width, row.height):
        raise PlateError(
            f"The plate is {plate.width}x{plate.height} now, it was {row.width}x{row.height}.",
            "Bring it in as a new shot.",
        )
    return plate


def movie_of(
    opened: Session, media: Media, shot: Shot, attempt: Attempt, fps: Fraction
) -> Callable[[Path, Progress], None]:
    """Return what draws a shot's probe objects over its plate, as an attempt sees them, into a file.

    Parameters
    ----------
    opened, media : where all is kept. shot : whose. attempt : of the shot. fps : frames a second.
    """
    before = live_masks(opened, shot) if (shot.scene or {}).get("behind") else []
    masked = masked_of(media, before, shot.plate.height, shot.plate.width)
    solution, staged, row = solution_of(media, attempt), staged_in(opened, media, shot, attempt), shot.plate

    def draw(where: Path, progress: Progress) -> None:
        write_movie(where, open_row(row), solution, fps, progress, staged, masked)

    return draw


PLATE, COPY, REPLACED = "plate", "copy", "replaced"

IMAGES = (PLATE, COPY, REPLACED)
"""What may be followed: the plate, its tracking copy, or replaced images (through the copy's operations, if there are
any).
"""


def followed_images(row: Plate, images: str) -> tuple[CorePlate, dict]:
    """Return the pictures that a run follows, and what is remembered of them with its tracks.

    Raises PlateError for an unknown choice, a copy without operations, or replaced images that are not there.
    """
    plate = open_row(row)
    if images == PLATE:
        return plate, {"images": PLATE}
    if images not in IMAGES:
        raise PlateError(f"There are no images “{images}”.")
    if images == REPLACED:
        if not row.replaced:
            raise PlateError("There are no replaced images.", "Choose a sequence for them first.")
        plate = stand_in(plate, str(allowed(row.replaced)))
    elif not row.stack:
        raise PlateError("The tracking copy has no operation yet.", "Add one, or follow the plate.")
    made = {"images": images, "operations": row.stack, **({"replaced": row.replaced} if images == REPLACED else {})}
    return (TrackingCopy(plate, read_stack(row.stack)) if row.stack else plate), made


def with_outside(masked, plate: CorePlate):
    """Return a function from frame to where nothing is followed, (H, W) bool, a copy's crop included; None where all
    is.
    """
    outside = plate.outside() if isinstance(plate, TrackingCopy) else None
    if outside is None:
        return masked
    return lambda frame: outside if masked is None else outside | masked(frame)


def motion_blur_of(row: Plate):
    """Return a function from frame to its blur, as measured when the plate came in."""
    lengths, angles = row.blur.get("length", []), row.blur.get("angle", [])

    def at(frame: int) -> MotionBlur:
        k = frame - row.first
        return MotionBlur(lengths[k], angles[k]) if 0 <= k < len(lengths) and lengths[k] > 0.0 else SHARP

    return at
