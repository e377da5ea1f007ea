"""What every request passes before any view sees it: its host, its size, and whether its texts can be kept.

A text with a zero character, with half of a surrogate pair, or JSON nested a thousand deep breaks something behind
whichever door it comes in by. So it is refused here, once.
"""

import math
from collections.abc import Iterable
from typing import Any

from flask import Flask, request
from sqlalchemy.exc import DataError
from werkzeug.exceptions import BadRequest, RequestEntityTooLarge, SecurityError
from werkzeug.routing import IntegerConverter

from amberkeel.core.errors import KeelError
from amberkeel.store.typed import MOST_WHOLE

MOST_BODY_BYTES = 32 * 1024**2
"""Largest request that is no upload: a shape carried over a long shot has some megabytes."""

DEEPEST = 40
"""Levels of lists and objects in a request."""


class Row(IntegerConverter):
    """The number of a row, in an address."""

    def __init__(self, map, *args, **kwargs):
        super().__init__(map, *args, **{"max": MOST_WHOLE, **kwargs})


def guard(app: Flask) -> None:
    """Put the door before all views of an application."""
    app.url_map.converters["int"] = Row
    app.before_request(_check)
    # No page is made for it: every address in it would be refused again.
    app.register_error_handler(SecurityError, lambda error: ("That is no name of this application.", 400))
    app.register_error_handler(DataError, lambda error: _refuse("That value cannot be kept."))


def _refuse(text: str):
    from amberkeel.web import answer

    return answer(text, 400)


def _check() -> None:
    if request.mimetype != "multipart/form-data":
        request.max_content_length = MOST_BODY_BYTES
        if request.content_length is not None and request.content_length > MOST_BODY_BYTES:
            raise RequestEntityTooLarge()
    words: list[Any] = [*(request.view_args or {}).values(), *_pairs(request.args), *_pairs(request.form)]
    if request.is_json:
        words.append(_json())
    words += [name for file in request.files.values() for name in (file.filename, file.name)]
    if not all(_sound(value, 0) for value in words):
        raise KeelError("The request holds characters or numbers that cannot be kept.", "Type them anew.")


def _json() -> Any:
    try:
        return request.get_json(silent=True)
    except RecursionError:
        raise BadRequest() from None


def _pairs(many) -> Iterable[str]:
    for key, value in many.items(multi=True):
        yield key
        yield value


def _sound(value: Any, depth: int) -> bool:
    """Return whether all texts and numbers of a value can be kept."""
    if isinstance(value, str):
        return "\0" not in value and not any("\ud800" <= letter <= "\udfff" for letter in value)
    if isinstance(value, float):
        return math.isfinite(value)
    if isinstance(value, dict):
        return depth < DEEPEST and all(_sound(k, depth) and _sound(v, depth + 1) for k, v in value.items())
    if isinstance(value, list):
        return depth < DEEPEST and all(_sound(v, depth + 1) for v in value)
    return True
