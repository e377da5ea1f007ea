"""How much is stored for each shot, and a clean-up of what nothing refers to any more."""

import os
import shutil
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select, text
from sqlalchemy.orm import Session

from amberkeel.store.models import Job, Plate, Shot

YOUNG_S = 24 * 3600.0
"""Age in seconds below which a file is spared: a job may be about to refer to it."""

UPLOADS, STRAIGHTENED, PACKAGES, GRID = "uploads", "straightened", "packages", "grid_"
"""Folders beside those of the content hashes; temporary folders of grid pictures begin with the last."""

AT_WORK = "at-work"
"""Folder of what jobs write while they go on, a folder for each job that runs."""

_TABLES = {"shot": "id", "plate": "shot_id", "mask": "shot_id", "proposal": "shot_id", "attempt": "shot_id",
           "edit": "shot_id", "job": "shot_id", "trial": "shot_id"}  # fmt: skip
"""Tables whose rows may name files by their hash, and the column with the shot's number."""


@dataclass(frozen=True)
class Storage:
    """Bytes in the media folder.

    Attributes
    ----------
    shots : by shot; what several share counts for each. total : of all files. loose : paths that nothing refers to and
        that are not young. loose_bytes : of those.
    """

    shots: dict[int, int]
    total: int
    loose: tuple[Path, ...]
    loose_bytes: int


def _named(session: Session) -> Iterator[tuple[int, str]]:
    """Yield a shot's number and a hash that one of its rows names, wherever it stands in the row."""
    for table, column in _TABLES.items():
        yield from session.execute(
            text(
                f"select distinct shot, found[1] from (select {column} as shot, "
                f"regexp_matches(t::text, '[0-9a-f]{{64}}', 'g') as found from {table} t) named"
            )
        )


def storage(session: Session, folder: Path) -> Storage:
    """Return what is stored in a media folder, by shot, and what nothing refers to."""
    files, loose = _hashed(folder)
    shots: dict[int, int] = {}
    used: set[str] = set()
    for shot, digest in _named(session):
        used.add(digest)
        shots[shot] = shots.get(shot, 0) + files.get(digest, (0, 0.0))[0]
    old = time.time() - YOUNG_S
    loose += [folder / digest[:2] / digest for digest, (_, at) in files.items() if digest not in used and at < old]
    kept = sum(size for size, _ in files.values())
    for place, size, owners in _folders(session, folder):
        kept += size
        for shot in owners:
            shots[shot] = shots.get(shot, 0) + size
        if not owners and place.stat().st_mtime < old:
            loose.append(place)
    return Storage(shots, kept, tuple(loose), sum(_size(path) for path in loose))


def _hashed(folder: Path) -> tuple[dict[str, tuple[int, float]], list[Path]]:
    """Return size and time of each file by its hash, and half-written files that were left."""
    files, halves, old = {}, [], time.time() - YOUNG_S
    for part in os.scandir(folder) if folder.is_dir() else ():
        if len(part.name) != 2 or not part.is_dir():
            continue
        for entry in os.scandir(part.path):
            held = entry.stat()
            if len(entry.name) == 64:
                files[entry.name] = held.st_size, held.st_mtime
            elif held.st_mtime < old:
                halves.append(Path(entry.path))
    return files, halves


def _folders(session: Session, folder: Path) -> Iterator[tuple[Path, int, list[int]]]:
    """Yield the other folders, each with its size and the shots that it belongs to."""
    sources = session.execute(select(Plate.shot_id, Plate.source, Plate.replaced)).all()
    shots = set(session.scalars(select(Shot.id)))
    for place in _inside(folder / UPLOADS):
        owners = [shot for shot, *paths in sources if any(Path(p).is_relative_to(place) for p in paths if p)]
        yield place, _size(place), owners
    for place in [*_inside(folder / STRAIGHTENED), *_inside(folder / PACKAGES)]:
        own = int(place.name) if place.name.isdigit() else 0
        yield place, _size(place), [own] if own in shots else []
    running = set(map(str, session.scalars(select(Job.id).where(Job.state == "running"))))
    for place in [*_inside(folder), *(one for one in _inside(folder / AT_WORK) if one.name not in running)]:
        if place.name.startswith(GRID) or place.parent.name == AT_WORK:
            yield place, _size(place), []


def _inside(folder: Path) -> list[Path]:
    return sorted(p for p in folder.iterdir() if p.is_dir()) if folder.is_dir() else []


def _size(path: Path) -> int:
    if path.is_file():
        return path.stat().st_size
    return sum(f.stat().st_size for f in path.rglob("*") if f.is_file())


def clean_up(session: Session, folder: Path) -> int:
    """Remove what nothing refers to; return the bytes that this has freed."""
    freed, old = 0, time.time() - YOUNG_S
    for path in storage(session, folder).loose:
        freed += _removed(path, old)
    return freed


def _removed(path: Path, old: float) -> int:
    """Remove what nothing refers to; return its bytes. What is gone, or was used since it was listed, is let be."""
    aside = path.with_name(f"{path.name}.going")
    try:
        if path.stat().st_mtime > old:
            return 0
        # Out of the way first: whoever wants it from now on writes it again, and whoever renewed it before is seen.
        path.rename(aside)
        if aside.stat().st_mtime > old:
            aside.rename(path)
            return 0
    except OSError:
        return 0
    size = _size(aside)
    if aside.is_dir():
        shutil.rmtree(aside, ignore_errors=True)
    else:
        aside.unlink(missing_ok=True)
    return size
