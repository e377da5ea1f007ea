"""A sheet of measured lengths as CSV: name, length, unit, sigma, from, to.

Only name and length must be there; a length may hold its unit ("1' 2 1/2\\""); from and to are names of tracks.
"""

import csv
import io

from amberkeel.core.errors import KeelError, WorldError
from amberkeel.core.foreign import guarded
from amberkeel.core.units import METRES, typed_length
from amberkeel.core.world.statement import Distance, Track

COLUMNS = ("name", "length", "unit", "sigma", "from", "to")
MOST_ROWS, MOST_BYTES = 100, 1 << 20


@guarded("This sheet", WorldError)
def read_survey(text: str, unit: str = "m") -> list[Distance]:
    """Return the lengths of a sheet; those without two tracks wait for them.

    Parameters
    ----------
    text : CSV with a header. unit : one of `METRES`, meant where a row says none.

    Raises
    ------
    WorldError : it is no such sheet, or a row is none; says which.
    """
    if len(text) > MOST_BYTES:
        raise WorldError("This sheet is longer than a megabyte.", f"Send at most {MOST_ROWS} lengths.")
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip() and not line.startswith("#")]
    sample = lines[0] if lines else ""
    between = max(",;\t", key=sample.count)
    rows = csv.DictReader(io.StringIO("\n".join(lines)), delimiter=between, skipinitialspace=True)
    names = [(name or "").strip().lower() for name in rows.fieldnames or []]
    if "length" not in names or "name" not in names:
        raise WorldError(
            "This is no survey sheet: it has no columns “name” and “length”.",
            f"The first line names the columns: {', '.join(COLUMNS)}.",
        )
    rows.fieldnames = names
    out: list[Distance] = []
    for number, row in enumerate(rows, start=2):
        if len(out) >= MOST_ROWS:
            raise WorldError(f"This sheet has more than {MOST_ROWS} lengths.", "Send those that matter.")
        try:
            out.append(_distance({k: (v or "").strip() for k, v in row.items() if isinstance(v, str) and k}, unit))
        except KeelError as error:
            raise WorldError(f"Line {number} of the sheet: {error.message}", error.help) from error
    if not out:
        raise WorldError("This sheet holds no lengths.")
    return out


def _distance(row: dict[str, str], unit: str) -> Distance:
    own = row.get("unit") or unit
    if own not in METRES:
        raise WorldError(f"“{own[:20]}” is no unit of length.", f"Use {', '.join(METRES)}.")
    metres = typed_length(row.get("length", ""), "The length", own)
    sigma = typed_length(row["sigma"], "The sigma", own) if row.get("sigma") else None
    ends: list[Track] = [row.get("from", "")[:200], row.get("to", "")[:200]]
    return Distance(
        metres=metres, sigma=sigma, name=row.get("name", "")[:100], typed=row.get("length", "")[:60], unit=own,
        tracks=ends if all(ends) else [],
    )  # fmt: skip
