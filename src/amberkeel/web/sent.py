"""What a page sends: a model for each request, and a refusal in words of what it does not take."""

import math
from typing import Annotated, Any, TypeVar

from flask import request
from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from amberkeel.core.errors import KeelError
from amberkeel.store.typed import MOST_WHOLE

B = TypeVar("B", bound="Body")


def _whole(value: Any) -> int:
    try:
        out = int(value)
        if isinstance(value, bool) or isinstance(value, float) and value != out or abs(out) > MOST_WHOLE:
            raise ValueError
    except (TypeError, ValueError, OverflowError):
        raise PydanticCustomError("refused", "is no whole number") from None
    return out


def _number(value: Any) -> float:
    try:
        out = float(value)
        if isinstance(value, bool) or not math.isfinite(out):
            raise ValueError
    except (TypeError, ValueError, OverflowError):
        raise PydanticCustomError("refused", "is no number") from None
    return out


def _word(value: Any) -> str:
    if not isinstance(value, str | int | float) or isinstance(value, bool):
        raise PydanticCustomError("refused", "is no text")
    return str(value)


_YES, _NO = ("true", "yes", "on", "1"), ("false", "no", "off", "0", "")


def _flag(value: Any) -> bool:
    said = str(value).strip().lower() if isinstance(value, str | bool | int) else None
    if said not in (*_YES, *_NO):
        raise PydanticCustomError("refused", "is neither yes nor no")
    return said in _YES


Whole = Annotated[int, BeforeValidator(_whole)]
"""A whole number, or a text that is one: frames, counts and keys of rows."""

Number = Annotated[float, BeforeValidator(_number)]
"""A finite number, or a text that is one."""

Word = Annotated[str, BeforeValidator(_word)]
"""A text; numbers are taken as they are written."""

Flag = Annotated[bool, BeforeValidator(_flag)]
"""Yes or no, or a word that says one of them."""

_KINDS = {"list_type": "is no list", "dict_type": "is no object", "model_type": "is no object"}


class Body(BaseModel):
    """The body of a request; null is as if nothing was said where a field has a default that is not null.

    Attributes
    ----------
    revision : the shot's as the page showed it.
    """

    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)

    revision: Whole | None = None

    @model_validator(mode="before")
    @classmethod
    def _without_nulls(cls, given: Any) -> Any:
        if not isinstance(given, dict):
            return given
        nullable = {name for name, field in cls.model_fields.items() if field.default is None}
        return {name: value for name, value in given.items() if value is not None or name in nullable}

    def says(self, name: str) -> bool:
        """Return whether the page said anything of a field, null included."""
        return name in self.model_fields_set

    def need(self, name: str) -> Any:
        """Return a field that may be missing in other cases than this one; raises KeelError where it is."""
        value = getattr(self, name)
        if value is None:
            raise _missing(name)
        return value


def _missing(name: str) -> KeelError:
    return KeelError(f"The request says no “{name}”.", "Load the page again.")


def read_body(model: type[B], given: Any) -> B:
    """Return what a page sent as a model; raises KeelError naming the first field that is missing or of another
    kind.
    """
    if not isinstance(given, dict):
        raise KeelError("The request is no object.")
    try:
        return model.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        name, kind = str(first["loc"][0]) if first["loc"] else "request", first["type"]
        if kind == "missing" and len(first["loc"]) == 1:
            raise _missing(name) from None
        words = first["msg"] if kind == "refused" else _KINDS.get(kind, "is not as it should be")
        raise KeelError(f"“{name}” {words}.") from None


def sent(model: type[B]) -> B:
    """Return the body of the request as a model."""
    return read_body(model, request.get_json(silent=True))
