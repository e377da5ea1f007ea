"""Known coordinates of many tracks at once, as people have them: a table typed, pasted or read from a file."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

from amberkeel.core.errors import KeelError, SolveError
from amberkeel.core.units import METRES, typed_length, typed_number

MOST_TEXT = 64 << 10
"""Characters of a table at the most."""

MOST_ROWS = 200
"""Points of a table at the most: as many as constraints of a solve."""

COLUMNS = ("name", "x", "y", "z", "sigma")

LONGEST_NAME = 200


@dataclass(frozen=True)
class SurveyRow:
    """A point: the name of its track, empty where the table has none; its coordinates (3,) and one sigma, metres, None
    where the table says none.
    """

    name: str
    xyz: tuple[float, float, float]
    sigma: float | None = None


def survey_rows(text: str, unit: str = "m") -> list[SurveyRow]:
    """Return the points of a table.

    Parameters
    ----------
    text : a line for each point: name, x, y, z and perhaps sigma, or x, y, z alone; parted by tabs, semicolons, commas
        or blanks. A first line of column names may put them in another order. Lines that begin with # are left out.
    unit : one of `METRES`, of all lengths.

    Raises
    ------
    SolveError : it is no such table; the message says which line.

    Examples
    --------
    >>> survey_rows("P1 1 2.5 3")
    [SurveyRow(name='P1', xyz=(1.0, 2.5, 3.0), sigma=None)]
    """
    if unit not in METRES:
        raise SolveError(f"“{unit[:20]}” is no unit of length.", f"Use one of {', '.join(METRES)}.")
    if len(text) > MOST_TEXT:
        raise SolveError("This table is too long.", f"{MOST_ROWS} points are the most.")
    lines = [(n, line.strip()) for n, line in enumerate(text.lstrip("\ufeff").splitlines(), 1)]
    lines = [(n, line) for n, line in lines if line and not line.startswith("#")]
    if not lines:
        raise SolveError("There is no table.", "Paste lines of name, x, y, z.")
    part = _parting(lines[-1][1])
    order = _order(_cells(lines[0][1], part))
    rows = lines[1:] if order else lines
    if len(rows) > MOST_ROWS:
        raise SolveError(f"The table has {len(rows)} points; {MOST_ROWS} are the most.", "Leave out those not seen.")
    out = [_row(n, _cells(line, part), order, unit) for n, line in rows]
    if not out:
        raise SolveError("The table has no points.", "Below the names of its columns come lines of figures.")
    named = [one.name.casefold() for one in out if one.name]
    twice = next((name for k, name in enumerate(named) if name in named[:k]), None)
    if twice is not None:
        raise SolveError(f"The table has “{twice}” twice.", "Each name stands for one track.")
    if named and len(named) < len(out):
        raise SolveError("Some lines of the table have a name and some have none.", "Name all of them, or none.")
    return out


def matched(rows: Sequence[SurveyRow], names: Sequence[str]) -> tuple[list[int | None], list[str]]:
    """Return for each row (R,) which of the names it means, None for none, and the names of those rows.

    Parameters
    ----------
    rows : named. names : of the tracks. Capitals make no difference where that leaves one meaning.
    """
    exact = {name: k for k, name in enumerate(names)}
    folded: dict[str, list[int]] = {}
    for k, name in enumerate(names):
        folded.setdefault(name.casefold(), []).append(k)
    found: list[int | None] = []
    for row in rows:
        alike = folded.get(row.name.casefold(), [])
        found.append(exact.get(row.name, alike[0] if len(alike) == 1 else None))
    return found, [row.name for row, k in zip(rows, found) if k is None]


def _parting(line: str) -> str:
    """Return what parts a line's cells: a tab, a semicolon, a comma, or blanks where none of them does."""
    for part in "\t;":
        if part in line:
            return part
    # A decimal comma stands between digits, and then blanks part the cells.
    return "," if line.count(",") >= 2 and not re.search(r"\d\s+[-+]?\d", line) else " "


def _cells(line: str, part: str) -> list[str]:
    cells = line.split() if part == " " else line.split(part)
    return [cell.strip().strip('"') for cell in cells]


def _order(cells: list[str]) -> dict[str, int]:
    """Return where each column is, of a line of their names; empty where it is none."""
    names = [cell.casefold() for cell in cells]
    if not {"x", "y", "z"} <= set(names):
        return {}
    return {column: names.index(column) for column in COLUMNS if column in names}


def _row(number: int, cells: list[str], order: dict[str, int], unit: str) -> SurveyRow:
    if not order:
        while len(cells) > 3 and not cells[-1]:
            cells = cells[:-1]
        if not 3 <= len(cells) <= 5:
            raise SolveError(
                f"Line {number} of the table has {len(cells)} columns.", "Each has name, x, y, z and perhaps sigma."
            )
        order = {column: k for k, column in enumerate(COLUMNS[1:4] if len(cells) == 3 else COLUMNS)}
    said = {column: cells[k] if k < len(cells) else "" for column, k in order.items()}
    try:
        x, y, z = (METRES[unit] * typed_number(said.get(axis, ""), axis.upper(), -1e9, 1e9) for axis in "xyz")
        sigma = typed_length(said["sigma"], "The sigma", unit) if said.get("sigma") else None
    except KeelError as error:
        raise SolveError(f"Line {number} of the table: {error}", error.help) from error
    return SurveyRow(said.get("name", "")[:LONGEST_NAME], (x, y, z), sigma)
