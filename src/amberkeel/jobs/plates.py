"""What jobs share: a shot's plate row, the plate itself, and the job that follows."""

from sqlalchemy import select

from amberkeel.core.errors import KeelError, PlateError
from amberkeel.core.plate.plate import Plate as CorePlate
from amberkeel.core.plate.plate import open_plate
from amberkeel.settings import Settings
from amberkeel.store.jobs import add_job
from amberkeel.store.models import Plate
from amberkeel.store.session import session


def plate_row(settings: Settings, shot_id: int) -> Plate:
    """Return the row of a shot's plate."""
    with session(settings.database) as opened:
        row = opened.scalar(select(Plate).where(Plate.shot_id == shot_id))
        if row is None:
            raise KeelError("This shot has no plate.")
        return row


def open_row(row: Plate) -> CorePlate:
    """Open the plate of a row; raises PlateError when its pictures are of another size now."""
    plate = open_plate(row.source, (row.first, row.last))
    if (plate.width, plate.height) != (row.width, row.height):
        raise PlateError(
            f"The plate is {plate.width}x{plate.height} now, it was {row.width}x{row.height}.", "Bring it in as a new shot."
        )
    return plate


def following(settings: Settings, shot_id: int, arguments: dict) -> list[int]:
    """Add the job that `then` names, if any, and return its number."""
    chain = arguments.get("then", [])
    if not chain:
        return []
    with session(settings.database) as opened:
        return [add_job(opened, chain[0], shot_id, {"then": chain[1:]}).id]
