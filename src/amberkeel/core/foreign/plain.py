"""Plain data between processes: numbers, texts, bytes, arrays, and this package's own records, written without code.

Nothing that is read here can run anything, unlike a pickle: a record is made of a class of `amberkeel.core` by its
fields' values, and everything else is a value.
"""

import importlib
import json
import struct
from dataclasses import fields, is_dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

OWN = "amberkeel.core."
"""Where the modules lie whose records are known."""

_LENGTH = struct.Struct("<Q")


class NotPlain(ValueError):
    """A value is not of the kinds that go between processes, or was not written here."""


def packed(value: Any) -> bytes:
    """Return a value as bytes; raises NotPlain for one that is of no known kind."""
    blobs: list[bytes] = []
    head = json.dumps(_written(value, blobs)).encode()
    return b"".join([_LENGTH.pack(len(head)), head, *(part for b in blobs for part in (_LENGTH.pack(len(b)), b))])


def unpacked(data: bytes) -> Any:
    """Return the value of bytes as `packed` gives them; raises NotPlain for others."""
    try:
        view, blobs, at = memoryview(data), [], 0
        while at < len(view):
            (size,) = _LENGTH.unpack_from(view, at)
            at += _LENGTH.size
            if at + size > len(view):
                raise NotPlain("cut off")
            blobs.append(view[at : at + size])
            at += size
        return _read(json.loads(bytes(blobs[0])), blobs[1:])
    except (struct.error, IndexError, KeyError, TypeError, RecursionError, AttributeError, ImportError) as error:
        raise NotPlain(str(error)) from error


def _written(value: Any, blobs: list[bytes]) -> Any:
    if value is None or isinstance(value, bool | str | int | float):
        return value
    if isinstance(value, np.generic):
        return _written(value.item(), blobs)
    if isinstance(value, bytes):
        return _blob("bytes", value, blobs)
    if isinstance(value, np.ndarray):
        if value.dtype.hasobject:
            raise NotPlain("an array of objects")
        return {**_blob("array", np.ascontiguousarray(value).tobytes(), blobs), "type": value.dtype.str,
                "shape": list(value.shape)}  # fmt: skip
    if isinstance(value, list | tuple | set | frozenset):
        return {"is": type(value).__name__, "of": [_written(one, blobs) for one in value]}
    if isinstance(value, dict):
        return {"is": "dict", "of": [[_written(k, blobs), _written(v, blobs)] for k, v in value.items()]}
    if isinstance(value, Path):
        return {"is": "path", "of": str(value)}
    if isinstance(value, Fraction):
        return {"is": "fraction", "of": [value.numerator, value.denominator]}
    return _record(value, blobs)


def _record(value: Any, blobs: list[bytes]) -> dict:
    kind = type(value)
    if not kind.__module__.startswith(OWN):
        raise NotPlain(f"{kind.__module__}.{kind.__qualname__}")
    if isinstance(value, BaseModel):
        names = list(kind.model_fields)
    elif is_dataclass(value):
        names = [one.name for one in fields(value) if one.init]
    else:
        raise NotPlain(f"{kind.__module__}.{kind.__qualname__}")
    own = [[name, _written(getattr(value, name), blobs)] for name in names]
    return {"is": "record", "class": [kind.__module__, kind.__qualname__], "of": own}


def _blob(kind: str, data: bytes, blobs: list[bytes]) -> dict:
    blobs.append(data)
    return {"is": kind, "at": len(blobs) - 1}


_KINDS = {"list": list, "tuple": tuple, "set": set, "frozenset": frozenset}


def _read(value: Any, blobs: list[memoryview]) -> Any:
    if not isinstance(value, dict):
        return value
    kind = value["is"]
    if kind in _KINDS:
        return _KINDS[kind](_read(one, blobs) for one in value["of"])
    if kind == "dict":
        return {_read(k, blobs): _read(v, blobs) for k, v in value["of"]}
    if kind == "bytes":
        return bytes(blobs[value["at"]])
    if kind == "array":
        found = np.frombuffer(blobs[value["at"]], np.dtype(value["type"])).reshape(value["shape"])
        return found.copy()
    if kind == "path":
        return Path(value["of"])
    if kind == "fraction":
        return Fraction(*value["of"])
    return _known(*value["class"])(**{name: _read(one, blobs) for name, one in value["of"]})


def _known(module: str, name: str) -> type:
    """Return a class of records by where it stands."""
    if not module.startswith(OWN):
        raise NotPlain(f"{module}.{name}")
    found: Any = importlib.import_module(module)
    for part in name.split("."):
        found = getattr(found, part)
    if not isinstance(found, type) or not (is_dataclass(found) or issubclass(found, BaseModel)):
        raise NotPlain(f"{module}.{name}")
    return found
