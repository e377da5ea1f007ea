"""Links among the files of a plate: none leads out of the folders that plates may come from."""

import os
from collections.abc import Iterable
from pathlib import Path

from amberkeel.core.errors import PlateError


def check_links(where: Path, roots: Iterable[Path]) -> Path:
    """Return a folder, a file or a pattern with all links in its path resolved.

    Parameters
    ----------
    where : what is to be read. roots : folders out of which no link may lead; where it lies in none of them, out of
        its own folder.

    Raises
    ------
    PlateError : the path, or a file that would be read with it, leads out of them.
    """
    try:
        path = Path(where).resolve()
        folder = path if path.is_dir() else path.parent
        homes = [root.resolve() for root in roots]
        homes = [home for home in homes if path.is_relative_to(home)] or [folder]
        links = [entry.path for entry in os.scandir(folder) if entry.is_symlink()] if folder.is_dir() else []
        leading = [Path(link).resolve() for link in links]
    except (OSError, ValueError, RuntimeError) as error:
        raise PlateError("That path cannot be read.", "Choose a folder inside the plate roots.") from error
    if any(not any(one.is_relative_to(home) for home in homes) for one in leading):
        raise PlateError(
            f"A link in {folder.name} leads out of the plate roots.", "Choose a folder that holds the files themselves."
        )
    return path
