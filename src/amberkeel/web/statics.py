"""Scripts, styles, fonts and icons, under addresses that change with them: a browser asks for each of them once,
instead of for some hundred and sixty of them whenever a page opens.
"""

import hashlib
import os
from functools import lru_cache
from pathlib import Path

from flask import Flask, g, send_from_directory

FOLDER = Path(__file__).parent / "static"

FOR_GOOD = 365 * 24 * 3600
"""Seconds that a browser keeps a file of the version that it asked for."""


def serve(app: Flask) -> None:
    """Add the address of these files to an application: with their version for pages, and without for scripts."""
    app.add_url_rule("/static/<path:filename>", "static", _file)
    app.add_url_rule("/static/v/<version>/<path:filename>", "static", _file)

    @app.url_defaults
    def versioned(endpoint: str, values: dict) -> None:
        if endpoint == "static":
            values.setdefault("version", _version())


def _file(filename: str, version: str = ""):
    """Return a file, to be kept for good where the version asked for is the one that is here."""
    return send_from_directory(FOLDER, filename, max_age=FOR_GOOD if version and version == _version() else 0)


def _version() -> str:
    """Return what names the files as they are now; they are looked at once a request."""
    if "statics" not in g:
        g.statics = _named(tuple(_stamps(str(FOLDER))))
    return g.statics


def _stamps(folder: str):
    """Yield path, time of change and size of all files below a folder, in the order of their names."""
    for entry in sorted(os.scandir(folder), key=lambda entry: entry.name):
        if entry.is_dir():
            yield from _stamps(entry.path)
        else:
            told = entry.stat()
            yield entry.path, told.st_mtime_ns, told.st_size


@lru_cache(maxsize=2)
def _named(stamps: tuple) -> str:
    return hashlib.sha256(repr(stamps).encode()).hexdigest()[:12]
