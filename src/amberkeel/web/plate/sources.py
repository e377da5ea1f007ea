"""Where plates come from: the configured roots, and uploads."""

import re
import shutil
import zipfile
import zlib
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from werkzeug.datastructures import FileStorage

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.read import check_signature
from amberkeel.core.plate.links import check_links
from amberkeel.core.plate.look import check_first, picture_size
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.plate.sequence import IMAGE_SUFFIXES, VIDEO_SUFFIXES, recognise, run_words
from amberkeel.store.storage import UPLOADS

MAX_FILES = 5000

PIECE = 1 << 16
"""Bytes of a zip's member that are unpacked at once."""

MAX_UNPACKED_BYTES = 16 * 1024**3
_TOKEN = re.compile(r"^[0-9a-f]{16}$")

MOST_STILLS = 24
"""Pictures of a single number that are offered of a folder at the most."""


@dataclass(frozen=True)
class Found:
    """A plate that could be brought in: how it is named, where it lies, and what is known of it."""

    label: str
    where: str
    frames: str
    size: str
    missing: str


def inside(root: Path, relative: str, to_read: bool = True) -> Path:
    """Return a path under a root, a file, a folder or a pattern ``name.####.ext``.

    Parameters
    ----------
    root : of plates. relative : the path from there. to_read : whether its files are to be read, and not only listed.

    Raises
    ------
    PlateError : dots or a link lead out of the root: the path itself, or any file that would be read.
    """
    try:
        path = (root / relative).resolve()
        within = path.is_relative_to(root.resolve())
    except (OSError, ValueError, RuntimeError) as error:
        raise PlateError("That path cannot be read.", "Choose a folder inside the plate roots.") from error
    if not within:
        raise PlateError("That path leads out of the plate roots.", "Choose a folder inside them.")
    return check_links(path, [root]) if to_read else path


def under_roots(roots: list[Path], where: str) -> Path:
    """Return a path typed by the user, which must lie under a plate root; raises PlateError otherwise."""
    if not where:
        raise PlateError("Choose the files, or type where they lie.")
    for root in roots:
        try:
            return inside(root, where)
        except PlateError:
            continue
    raise PlateError("That place is not under a plate root.", "Type it from the root on, such as SKL_010/plate.")


def browse(root: Path, relative: str) -> tuple[list[str], list[Found]]:
    """Return the folders below a path in a root, and the plates in it."""
    folder = inside(root, relative, to_read=False)
    if not folder.is_dir():
        raise PlateError("There is no such folder.", "Go back and choose another.")
    entries = sorted(folder.iterdir(), key=lambda p: p.name)
    folders = [p.name for p in entries if p.is_dir() and p.resolve().is_relative_to(root.resolve())]
    files = [p for p in entries if p.is_file() and p.resolve().is_relative_to(root.resolve())]
    return folders, look(folder, [p.name for p in files], relative)


def look(folder: Path, names: list[str], relative: str) -> list[Found]:
    """Recognise sequences and videos among the files of a folder."""
    found = []
    sequences = recognise(folder, names)
    stills = [one for one in sequences if len(one.names) == 1]
    for sequence in [one for one in sequences if len(one.names) > 1] + stills[:MOST_STILLS]:
        try:
            width, height = picture_size(sequence.path(sequence.frames[0]))
            size = f"{width}×{height}"
        except PlateError as error:
            size = error.message
        several = f"{sequence.frames[0]}-{sequence.frames[-1]} ({len(sequence.names)})"
        span = several if len(sequence.names) > 1 else f"{sequence.frames[0]}, a still"
        found.append(
            Found(sequence.label, f"{relative}/{sequence.label}".lstrip("/"), span, size, run_words(sequence.gaps))
        )
    for name in names:
        if Path(name).suffix.lower() in VIDEO_SUFFIXES:
            found.append(Found(name, f"{relative}/{name}".lstrip("/"), "video", "", ""))
    return found


def upload_folder(media: Path, token: str) -> Path:
    """Return the folder of an upload; raises PlateError for a token that is none."""
    if not _TOKEN.match(token):
        raise PlateError("That upload is not known.", "Upload the plate again.")
    return media / UPLOADS / token


def receive(folder: Path, files: list[FileStorage]) -> list[str]:
    """Store uploaded files, unpack zips, and return the patterns and videos that they hold.

    Files are judged by decoding them later, not by their names. What cannot be a plate leaves nothing behind.
    """
    if not files:
        raise PlateError("No files arrived.", "Choose an image sequence, a zip of one, or a video.")
    if len(files) > MAX_FILES:
        raise PlateError(f"{len(files)} files are more than {MAX_FILES}, the most one upload may hold.")
    with whole_or_nothing(folder):
        for file in files:
            name = Path(file.filename or "").name
            if (folder / name).exists():
                raise PlateError(f"Two files are called {name}.", "Send each once.")
            if Path(name).suffix.lower() == ".zip":
                file.save(folder / "upload.zip")
                _unpack(folder / "upload.zip", folder)
            elif Path(name).suffix.lower() in IMAGE_SUFFIXES | VIDEO_SUFFIXES:
                file.save(folder / name)
        return _patterns(folder)


@contextmanager
def whole_or_nothing(folder: Path) -> Iterator[None]:
    """Make a folder for what is uploaded; where it cannot be kept or used, nothing of it stays. Raises PlateError where
    the disk refuses.
    """
    folder.mkdir(parents=True, exist_ok=True)
    try:
        yield
    except OSError as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise PlateError(f"The upload cannot be kept ({error.strerror}).", "Make room in the media folder.") from error
    except Exception:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def _unpack(path: Path, folder: Path) -> None:
    """Unpack pictures from a zip, flat, within limits."""
    try:
        with zipfile.ZipFile(path) as archive:
            members = [
                m for m in archive.infolist() if Path(m.filename).suffix.lower() in IMAGE_SUFFIXES | VIDEO_SUFFIXES
            ]
            members = [m for m in members if not Path(m.filename).name.startswith(".")]
            if len(members) > MAX_FILES or sum(m.file_size for m in members) > MAX_UNPACKED_BYTES:
                raise PlateError("The zip holds more than one plate may.", f"At most {MAX_FILES} files and 16 GiB.")
            ((name, count),) = Counter(Path(m.filename).name for m in members).most_common(1) or [("", 0)]
            if count > 1:
                raise PlateError(f"The zip holds {count} files called {name}.", "Pack one folder of one plate.")
            for member in members:
                target = folder / Path(member.filename).name
                with archive.open(member) as source, target.open("wb") as file:
                    # Its beginning first: what is no picture is not unpacked further.
                    file.write(source.read(PIECE))
                    file.flush()
                    if target.suffix.lower() in IMAGE_SUFFIXES:
                        check_signature(target)
                    shutil.copyfileobj(source, file, PIECE)
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, EOFError, OSError) as error:
        raise PlateError("The zip is damaged or cut off.", "Upload it again.") from error
    except RuntimeError as error:
        raise PlateError("The zip is encrypted.", "Pack it without a password.") from error
    finally:
        path.unlink(missing_ok=True)


def _patterns(folder: Path) -> list[str]:
    """Return the sequences and videos that a folder holds; each is opened once, to be sure that it is a plate."""
    found = look(folder, [p.name for p in folder.iterdir()], "")
    if not found:
        raise PlateError(
            "There is no plate in what arrived.",
            "Send numbered pictures such as name.1001.png, a zip of them, or a video.",
        )
    for one in found:
        check_first(folder / one.label)
        open_plate(folder / one.label)
    return [one.label for one in found]
