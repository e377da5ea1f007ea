"""Numbers and lengths as people type them: a decimal comma or point, a unit, feet and inches with fractions."""

import math
import re
from fractions import Fraction

from amberkeel.core.errors import KeelError

METRES = {"mm": 0.001, "cm": 0.01, "m": 1.0, "in": 0.0254, "ft": 0.3048}
"""Metres in each unit a length may be typed in."""

UNITS = "mm, cm, m, in or ft"

_SIGNS = {
    "'": "ft",
    "′": "ft",
    '"': "in",
    "″": "in",
    "”": "in",
    "’": "ft",
    "feet": "ft",
    "foot": "ft",
    "inch": "in",
    "inches": "in",
}

_NUMBER = re.compile(r"[+-]?(\d{1,15}([.,]\d{0,15})?|[.,]\d{1,15})(e[+-]?\d{1,3})?", re.IGNORECASE)

_RATE = re.compile(r"\d{1,7}([.,]\d{0,6})?(/\d{1,7})?")

_PART = re.compile(
    r"\s*(?:(?P<whole>\d{1,12}(?:[.,]\d{0,12})?|[.,]\d{1,12})(?:\s+(?P<over>\d{1,4})/(?P<under>\d{1,4}))?"
    r"|(?P<top>\d{1,4})/(?P<bottom>\d{1,4}))\s*(?P<unit>[a-z]+|['\"′″’”])",
    re.IGNORECASE,
)

LONGEST_TEXT = 40
"""Characters of a typed number at the most."""


def typed_number(text: object, what: str, low: float = -math.inf, high: float = math.inf) -> float:
    """Return a number as it was typed, with a decimal comma or point.

    Parameters
    ----------
    text : what was typed, or a number. what : its name, for the message. low, high : the limits, both allowed.

    Raises
    ------
    KeelError : it is no finite number, or outside the limits.
    """
    value = _as_number(text)
    if value is None:
        raise KeelError(f"{what}: “{str(text)[:LONGEST_TEXT]}” is no number.", "Type a number, such as 2.45.")
    if not low <= value <= high:
        raise KeelError(f"{what} must lie between {low:g} and {high:g}.")
    return value


def maybe_number(text: object, what: str, low: float = -math.inf, high: float = math.inf) -> float | None:
    """Return a number as it was typed, or None where nothing was; arguments and errors as for `typed_number`.

    Parameters
    ----------
    text, what, low, high : as for `typed_number`.
    """
    if text is None or isinstance(text, str) and not text.strip():
        return None
    return typed_number(text, what, low, high)


def _as_number(text: object) -> float | None:
    if isinstance(text, bool) or not isinstance(text, str | int | float):
        return None
    if isinstance(text, str):
        bare = text.strip().replace("−", "-")
        if not _NUMBER.fullmatch(bare):
            return None
        text = bare.replace(",", ".")
    try:
        value = float(text)
    except OverflowError:
        return None
    return value if math.isfinite(value) else None


def typed_rate(text: str) -> Fraction:
    """Return frames a second as they were typed: "24", "23.976", "24000/1001"; what is meant for a broadcast rate is
    one.

    Raises
    ------
    KeelError : it is no rate, or not between 1 and 1000.
    """
    bare = text.strip().replace(",", ".")
    top, _, under = bare.partition("/")
    if not _RATE.fullmatch(bare) or under and int(under) == 0:
        raise KeelError(f"“{text[:LONGEST_TEXT]}” is no frame rate.", "Write 24 or 24000/1001.")
    value = Fraction(top) / int(under or 1)
    near = min((Fraction(n) * 1000 / 1001 for n in (24, 30, 48, 60, 120)), key=lambda rate: abs(rate - value))
    value = near if abs(near - value) < Fraction(1, 200) else value
    if not 1 <= value <= 1000:
        raise KeelError("The frame rate must lie between 1 and 1000.")
    return value


def typed_length(text: object, what: str, unit: str = "m") -> float:
    """Return a length in metres as it was typed: "2,45", "245 cm", "8 ft", "1' 2 1/2\\"".

    Parameters
    ----------
    text : what was typed, or a number. what : its name, for the message.
    unit : one of `METRES`, meant where none is typed.

    Raises
    ------
    KeelError : it is no length above 0, or its unit is none of `METRES`.
    """
    if unit not in METRES:
        raise KeelError(f"“{unit[:LONGEST_TEXT]}” is no unit of length.", f"Use {UNITS}.")
    plain = _as_number(text)
    metres = plain * METRES[unit] if plain is not None else _with_units(str(text), what)
    if not 0.0 < metres < 1e6:
        raise KeelError(f"{what} must be more than zero, and less than a thousand kilometres.")
    return metres


def _with_units(text: str, what: str) -> float:
    """Return the metres of one or more numbers with units, such as feet and inches."""
    bare, total = text.strip().lower(), 0.0
    trouble = KeelError(
        f"{what}: “{text[:LONGEST_TEXT]}” is no length.", "Type it as 2.45, 245 cm, 8 ft or 1' 2 1/2\"."
    )
    if not bare or len(bare) > LONGEST_TEXT:
        raise trouble
    at = 0
    while at < len(bare):
        part = _PART.match(bare, at)
        if part is None:
            raise trouble
        unit = _SIGNS.get(part["unit"], part["unit"])
        over, under = int(part["over"] or part["top"] or 0), int(part["under"] or part["bottom"] or 1)
        if unit not in METRES or under == 0:
            raise trouble
        value = float((part["whole"] or "0").replace(",", ".")) + over / under
        total += value * METRES[unit]
        at = part.end()
    return total
