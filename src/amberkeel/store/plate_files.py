"""A shot's files: the plate relinked where it moved on disk, and the range of frames that is used."""

from pathlib import Path

import cv2
import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import PlateError
from amberkeel.core.plate.plate import Plate as CorePlate
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.plate.sequence import VIDEO_SUFFIXES, find_sequence
from amberkeel.store import edits
from amberkeel.store.jobs import add_job
from amberkeel.store.media import Media
from amberkeel.store.models import Edit, Job, Plate, Shot

ALIKE = 12.0
"""Mean difference in code values at small size up to which a file's picture counts as the one that is kept."""

_SMALL = (64, 36)


def is_there(row: Plate) -> bool:
    """Return whether a plate's files are where they were; the range's ends are looked at."""
    path = Path(row.source)
    if path.suffix.lower() in VIDEO_SUFFIXES:
        return path.is_file()
    try:
        names = find_sequence(path).names
    except (PlateError, OSError):
        return False
    return row.first in names and row.last in names


def relink(session: Session, media: Media, shot: Shot, where: Path, anyway: bool, revision: int | None) -> Edit:
    """Take a shot's frames from elsewhere; tracks and all else stay.

    Parameters
    ----------
    where : a folder, pattern or video. anyway : also where the pictures look otherwise than those kept.

    Raises
    ------
    PlateError : there is no plate, of this size, with these frames, or the pictures look otherwise.
    """
    row = shot.plate
    plate = open_plate(where, None, row.encoding)
    if (plate.width, plate.height) != (row.width, row.height):
        raise PlateError(
            f"That plate is {plate.width}x{plate.height}, this one is {row.width}x{row.height}.",
            "Bring it in as a new shot.",
        )
    first, last = int(plate.frames[0]), int(plate.frames[-1])
    if first > row.first or last < row.last:
        raise PlateError(
            f"That plate runs from {first} to {last}; {row.first}-{row.last} are needed.", "Choose another."
        )
    if not anyway:
        _check_alike(media, row, plate)
    values = {"source": str(where), "label": where.name}
    return edits.apply(session, shot.id, "files", {"values": values, "label": f"Relink to {where.name}"}, revision)


def _check_alike(media: Media, row: Plate, plate: CorePlate) -> None:
    """Compare the ends and the middle of a plate with the proxies that are kept."""
    if not row.ready:
        return
    for k in sorted({0, row.count // 2, row.count - 1}):
        kept = cv2.imdecode(np.frombuffer(media.get(row.proxies[k]), np.uint8), cv2.IMREAD_COLOR)[..., ::-1]
        found = plate.read(row.first + k)
        apart = np.abs(_shrunk(kept) - _shrunk(found)).mean()
        if apart > ALIKE:
            raise PlateError(
                f"Frame {row.first + k} there looks otherwise than the one this shot was made from.",
                "Is it another plate? It can be taken anyway.",
            )


def _shrunk(picture: np.ndarray) -> np.ndarray:
    return cv2.resize(np.ascontiguousarray(picture), _SMALL, interpolation=cv2.INTER_AREA).astype(np.float32)


def set_range(session: Session, shot: Shot, first: int, last: int, revision: int | None) -> Edit:
    """Use other frames of the plate. Tracks keep what lies beyond; it comes back with the frames.

    Raises PlateError where the files lack a frame of the range, or nothing changes.
    """
    row = shot.plate
    if last < first:
        raise PlateError("The last frame must not come before the first.")
    if (first, last) == (row.first, row.last):
        raise PlateError("Those are the frames that are used already.")
    values: dict = {"first": first, "last": last, "proxies": [], "blur": {}, "times": []}
    if row.first <= first and last <= row.last and row.ready:
        part = slice(first - row.first, last - row.first + 1)
        times = row.times[part]
        values["proxies"] = row.proxies[part]
        values["blur"] = {name: figures[part] for name, figures in row.blur.items()}
        values["times"] = [t - times[0] for t in times]
    else:
        open_plate(row.source, (first, last), row.encoding)
    made = edits.apply(session, shot.id, "files", {"values": values, "label": f"Use frames {first}-{last}"}, revision)
    make_ready(session, shot)
    return made


def make_ready(session: Session, shot: Shot) -> bool:
    """Ask for the proxies of a shot that lacks some; return whether it was asked now."""
    coming = select(Job.id).where(
        Job.shot_id == shot.id, Job.kind.in_(("ingest", "demo")), Job.state.in_(("queued", "running"))
    )
    if shot.plate.ready or session.scalar(coming.limit(1)):
        return False
    add_job(session, "ingest", shot.id)
    return True


def look_for(roots: tuple[Path, ...], label: str, most_folders: int = 3000, deepest: int = 5) -> list[Path]:
    """Return where plates of a label lie under the plate roots: as far as that many folders tell."""
    found, seen = [], 0
    for root in roots:
        level = [root]
        for _ in range(deepest):
            below: list[Path] = []
            for folder in level:
                seen += 1
                if seen > most_folders:
                    return found
                if _holds(folder, label):
                    found.append(folder / label)
                below += _folders_in(folder)
            level = below
    return found


def _holds(folder: Path, label: str) -> bool:
    if "#" not in label:
        return (folder / label).is_file()
    try:
        return find_sequence(folder / label).label == label
    except (PlateError, OSError):
        return False


def _folders_in(folder: Path) -> list[Path]:
    try:
        return sorted(p for p in folder.iterdir() if p.is_dir() and not p.is_symlink())
    except OSError:
        return []
