"""JSON and tables in files that others made, as plain values."""

import csv
import io
import json
from pathlib import Path
from typing import Any

from amberkeel.core.errors import UnreadableJson
from amberkeel.core.foreign.door import guarded


def read_json(path: str | Path) -> Any:
    """Return what a JSON file holds.

    Raises
    ------
    UnreadableJson : it holds none, or one that is nested too deep. OSError : there is no such file.
    """
    return json_in(Path(path).read_bytes(), Path(path).name)


@guarded("This JSON", UnreadableJson)
def json_in(data: bytes, name: str) -> Any:
    """Return what the bytes of a file hold, called by its name in a refusal; raises UnreadableJson as `read_json`."""
    try:
        return json.loads(data)
    except ValueError as error:
        raise UnreadableJson(f"{name} cannot be read as JSON.", "Is it complete?") from error


@guarded("This table", UnreadableJson)
def rows_in(text: str) -> list[dict[str, str]]:
    """Return the rows of a table (CSV) by the names in its first line; cells without a name, or without a value, are
    left out.
    """
    rows = csv.DictReader(io.StringIO(text.lstrip("\ufeff")))
    return [{k: v for k, v in row.items() if isinstance(k, str) and isinstance(v, str)} for row in rows]
