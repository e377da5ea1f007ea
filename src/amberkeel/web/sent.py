"""What a page sends, read with care: a value that is missing or of another kind is refused in words."""

import math

from flask import request

from amberkeel.core.errors import KeelError

MOST_WHOLE = 2**31 - 1
"""Largest whole number that is taken: frames, counts and keys of rows."""


class Sent(dict):
    """A JSON object as it was sent."""

    def __missing__(self, key: str):
        raise KeelError(f"The request says no “{key}”.", "Load the page again.")

    def whole(self, key: str, default: int | None = None) -> int:
        """Return a whole number; the default where it is missing."""
        return whole(self[key] if default is None or key in self else default, key)

    def wholes(self, key: str) -> list[int]:
        """Return a list of whole numbers, empty where it is missing."""
        return [whole(value, key) for value in self.items_of(key)]

    def number(self, key: str, default: float | None = None) -> float:
        """Return a finite number; the default where it is missing."""
        return number(self[key] if default is None or key in self else default, key)

    def items_of(self, key: str) -> list:
        """Return a list, empty where it is missing."""
        value = self.get(key)
        if value is None:
            return []
        if not isinstance(value, list):
            raise KeelError(f"“{key}” is no list.")
        return value

    def part(self, key: str) -> "Sent":
        """Return an object within, empty where it is missing."""
        return Sent(as_object(self.get(key) or {}, key))

    def word(self, key: str, default: str = "") -> str:
        """Return a text; the default where it is missing."""
        value = self.get(key, default)
        if not isinstance(value, str | int | float) or isinstance(value, bool):
            raise KeelError(f"“{key}” is no text.")
        return str(value)


def whole(value, what: str) -> int:
    """Return a whole number of what a page sent; raises KeelError where it is none."""
    try:
        out = int(value)
        if isinstance(value, bool) or isinstance(value, float) and value != out or abs(out) > MOST_WHOLE:
            raise ValueError
    except (TypeError, ValueError, OverflowError):
        raise KeelError(f"“{what}” is no whole number.") from None
    return out


def number(value, what: str) -> float:
    """Return a finite number of what a page sent; raises KeelError where it is none."""
    try:
        out = float(value)
        if isinstance(value, bool) or not math.isfinite(out):
            raise ValueError
    except (TypeError, ValueError, OverflowError):
        raise KeelError(f"“{what}” is no number.") from None
    return out


def as_object(value, what: str) -> dict:
    """Return an object of what a page sent; raises KeelError where it is none."""
    if not isinstance(value, dict):
        raise KeelError(f"“{what}” is no object.")
    return value


def sent() -> Sent:
    """Return the JSON object of the request."""
    return Sent(as_object(request.get_json(silent=True), "The request"))
