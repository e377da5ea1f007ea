"""Typed data at the doors: what comes in from pages, jobs and kept rows is a model, or is refused in words."""

from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from amberkeel.core.errors import KeelError

M = TypeVar("M", bound="Typed")

MOST_WHOLE = 2**31 - 1
"""Largest whole number that is taken: frames, counts and keys of rows."""


class Typed(BaseModel):
    """What a door takes: no field but those named, no number but finite ones."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


def read_typed(model: type[M], given: Any, what: str) -> M:
    """Return data as a model.

    Parameters
    ----------
    given : plain values, as JSON has them. what : the door's name, for the message.

    Raises
    ------
    KeelError : a field is missing, unknown or of another kind; the message names the first such.
    """
    try:
        return model.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(map(str, first["loc"])) or what
        raise KeelError(
            f"{what}: “{field}” is not as it should be ({first['msg']}).", "Load the page again."
        ) from error
