"""What a scene in a foreign file would become, counted before anything is built of it: a few hundred bytes can ask for
gigabytes, or for nodes without an end.
"""

import base64
import json
import struct
from collections.abc import Callable, Iterable
from typing import Any
from xml.etree import ElementTree

from amberkeel.core.errors import ForeignError

MOST_NODES = 200_000
"""Nodes of a scene, those counted that it repeats."""

DEEPEST = 256
"""Nodes below each other."""

MOST_NUMBERS = 64 << 20
"""Numbers that the lists of a file hold."""

MAGIC, JSON_CHUNK = 0x46546C67, 0x4E4F534A

_BYTES = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}
_PARTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}


def _refuse(why: str) -> ForeignError:
    return ForeignError(f"This file is not what it says: {why}.", "Is it damaged? Write it again where it comes from.")


def gltf_parts(data: bytes, binary: bool) -> tuple[dict, bytes]:
    """Return a glTF's document and its buffer, counted.

    Parameters
    ----------
    data : of the file. binary : whether it is a .glb.

    Raises
    ------
    ForeignError : it is no glTF, keeps its numbers in another file, or asks for more than it holds.
    """
    try:
        if binary:
            magic, _, _, size, kind = struct.unpack_from("<5I", data)
            if magic != MAGIC or kind != JSON_CHUNK:
                raise ValueError("no glTF")
            document, buffer = json.loads(data[20 : 20 + size]), data[28 + size :]
        else:
            document, buffer = json.loads(data), b""
    except (ValueError, struct.error, RecursionError) as error:
        raise ForeignError("This file cannot be read as glTF.", "Is it complete?") from error
    if not isinstance(document, dict):
        raise ForeignError("This file cannot be read as glTF.", "Is it complete?")
    for one in _rows(document, "buffers")[:1]:
        uri = one.get("uri", "data:,")
        if not isinstance(uri, str) or not uri.startswith("data:"):
            raise ForeignError("This file keeps its numbers in another file.", "Give a .glb.")
        if not binary:
            try:
                buffer = base64.b64decode(uri.partition(",")[2])
            except ValueError as error:
                raise _refuse("its numbers cannot be read") from error
    _count_gltf(document, len(buffer))
    return document, buffer


def _rows(document: dict, name: str) -> list[dict]:
    rows = document.get(name, [])
    if not isinstance(rows, list) or not all(isinstance(one, dict) for one in rows):
        raise _refuse(f"its {name} are no list of objects")
    return rows


def _whole(value: Any, least: int = 0) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or value < least:
        raise _refuse("a count is no whole number")
    return value


def _count_gltf(document: dict, held: int) -> None:
    """Hold accessors to the bytes that there are, and the scene's nodes to a tree."""
    views, numbers, nowhere = _rows(document, "bufferViews"), 0, 0
    for view in views:
        if _whole(view.get("byteOffset", 0)) + _whole(view.get("byteLength", 0)) > held:
            raise _refuse("its numbers end before they should")
    for one in _rows(document, "accessors"):
        count, parts = _whole(one.get("count", 0)), _PARTS.get(one.get("type", ""), 0)
        size = _BYTES.get(one.get("componentType", 0), 0)
        numbers += count * parts
        if not parts or not size:
            raise _refuse("it holds numbers of an unknown kind")
        at = one.get("bufferView")
        if at is None:
            # Its values are zeros, or those of a sparse list: nothing that is written has many.
            nowhere += count
            continue
        if _whole(at) >= len(views):
            raise _refuse("its numbers are nowhere")
        if count * parts * size > views[at].get("byteLength", 0) - _whole(one.get("byteOffset", 0)):
            raise _refuse("it has more numbers than bytes")
    if numbers > MOST_NUMBERS or nowhere > MOST_NODES:
        raise _refuse(f"it has {numbers:,} numbers")
    nodes = _rows(document, "nodes")
    below = [[_whole(child) for child in _listed(one.get("children", []))] for one in nodes]
    if any(child >= len(nodes) for children in below for child in children):
        raise _refuse("a node's child is nowhere")
    roots = [_whole(one) for scene in _rows(document, "scenes") for one in _listed(scene.get("nodes", []))]
    if any(root >= len(nodes) for root in roots):
        raise _refuse("a scene's node is nowhere")
    check_tree(roots or range(len(nodes)), lambda at: below[at])


def _listed(value: Any) -> list:
    if not isinstance(value, list):
        raise _refuse("a list is none")
    return value


def check_collada(data: bytes) -> None:
    """Raise ForeignError where a COLLADA file is none, or would become more than it should."""
    if b"<!" in data and (b"<!DOCTYPE" in data or b"<!ENTITY" in data):
        raise _refuse("it declares words of its own")
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError, RecursionError) as error:
        raise ForeignError("This file cannot be read as COLLADA.", "Is it complete?") from error
    nodes: list[ElementTree.Element] = []
    named: dict[str | None, ElementTree.Element] = {}
    numbers = 0
    for at in root.iter():
        kind = _kind(at)
        if kind == "node":
            nodes.append(at)
            named.setdefault(at.get("id"), at)
        elif kind.endswith("_array"):
            numbers += len(at.text or "") // 2
            said = at.get("count", "0")
            if not said.strip().isdigit() or int(said[:20]) > len(at.text or ""):
                raise _refuse("it has more numbers than letters")
    if numbers > MOST_NUMBERS:
        raise _refuse(f"it has {numbers:,} numbers")

    def below(at: ElementTree.Element) -> list[ElementTree.Element]:
        out = []
        for child in at:
            kind = _kind(child)
            if kind == "node":
                out.append(child)
            elif kind == "instance_node":
                found = named.get(child.get("url", "").lstrip("#"))
                out += [found] if found is not None else []
        return out

    check_tree(nodes, below)


def _kind(element: ElementTree.Element) -> str:
    return str(element.tag).rpartition("}")[2]


def check_tree(roots: Iterable[Any], below: Callable[[Any], list]) -> None:
    """Raise ForeignError where a scene's nodes hold each other in a circle, lie too deep, or are too many; what is
    repeated counts each time.

    Parameters
    ----------
    roots : the nodes to begin at. below : a node's children, which several may share.
    """
    known: dict[Any, tuple[int, int]] = {}
    for root in roots:
        path, stack = set(), [(root, False)]
        while stack:
            at, done = stack.pop()
            if done:
                path.discard(at)
                inner = [known[child] for child in below(at)]
                known[at] = 1 + sum(count for count, _ in inner), 1 + max((deep for _, deep in inner), default=0)
                if known[at][0] > MOST_NODES or known[at][1] > DEEPEST:
                    raise _refuse("it has too many nodes, or too deep ones")
            elif at not in known:
                path.add(at)
                children = below(at)
                if not path.isdisjoint(children):
                    raise _refuse("its nodes hold each other in a circle")
                stack.append((at, True))
                stack += [(child, False) for child in children if child not in known]
