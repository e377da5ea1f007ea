"""What a scene would become is counted before it is built: trees against plain recursion, and files that lie."""

import json
import struct

import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from amberkeel.core.errors import ForeignError
from amberkeel.core.foreign import counted
from amberkeel.core.foreign.counted import check_collada, check_tree, gltf_parts

GRAPHS = st.lists(st.lists(st.integers(0, 7), max_size=3), min_size=8, max_size=8)
"""Children of each of eight nodes."""


def grown(at, below, path=()):
    """How many nodes a node becomes, plainly; None in a circle."""
    if at in path:
        return None
    inner = [grown(child, below, (*path, at)) for child in below[at]]
    return None if None in inner else 1 + sum(inner)


@given(GRAPHS, st.integers(3, 60))
@settings(deadline=None, max_examples=300)
def test_trees_are_counted_as_plain_recursion_counts(below, most):
    whole = grown(0, below)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(counted, "MOST_NODES", most)
        if whole is None or whole > most:
            with pytest.raises(ForeignError, match="circle" if whole is None and most == 60 else None):
                check_tree([0], below.__getitem__)
        else:
            check_tree([0], below.__getitem__)


def test_chains_and_doublings_are_refused_at_once():
    with pytest.raises(ForeignError, match="too deep"):
        check_tree([0], lambda at: [at + 1] if at < 100_000 else [])
    with pytest.raises(ForeignError, match="too many"):
        check_tree([0], lambda at: [at + 1, at + 1] if at < 60 else [])
    check_tree([0], lambda at: [at + 1] if at < counted.DEEPEST - 1 else [])


def glb(document, buffer=b""):
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<III", 0x46546C67, 2, 20 + len(text) + 8 + len(buffer))
    return head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(buffer), 0x4E4942) + buffer


VIEW = {"buffer": 0, "byteLength": 24, "byteOffset": 0}
ACCESSOR = {"bufferView": 0, "componentType": 5126, "type": "VEC3", "count": 2}


def test_a_gltf_has_what_it_says():
    fine = {
        "bufferViews": [VIEW],
        "accessors": [ACCESSOR],
        "nodes": [{"children": [1]}, {}],
        "scenes": [{"nodes": [0]}],
    }
    document, buffer = gltf_parts(glb(fine, bytes(24)), True)
    assert document == fine and buffer == bytes(24)
    plain = {**fine, "buffers": [{"uri": "data:application/octet-stream;base64," + "AAAA" * 8}]}
    assert gltf_parts(json.dumps(plain).encode(), False)[1] == bytes(24)
    made = trimesh.creation.icosphere().export(file_type="glb")
    assert gltf_parts(made, True)[0]["meshes"]


@pytest.mark.parametrize(
    ("part", "words"),
    [
        ({"accessors": [{**ACCESSOR, "count": 3}]}, "more numbers than bytes"),
        ({"accessors": [{**ACCESSOR, "count": -1}]}, "no whole number"),
        ({"accessors": [{**ACCESSOR, "count": 2.5}]}, "no whole number"),
        ({"accessors": [{**ACCESSOR, "bufferView": 1}]}, "nowhere"),
        ({"accessors": [{"componentType": 5126, "type": "VEC3", "count": 10**9}]}, "numbers"),
        ({"accessors": [{**ACCESSOR, "type": "VEC9"}]}, "unknown kind"),
        ({"accessors": 7}, "no list"),
        ({"bufferViews": [{**VIEW, "byteLength": 25}]}, "end before"),
        ({"nodes": [{"children": [1]}, {"children": [0]}], "scenes": [{"nodes": [0]}]}, "circle"),
        ({"nodes": [{"children": [k + 1, k + 1]} for k in range(40)] + [{}]}, "too many"),
        ({"nodes": [{"children": [9]}]}, "nowhere"),
        ({"scenes": [{"nodes": [3]}]}, "nowhere"),
        ({"nodes": [{"children": "all"}]}, "list"),
    ],
)
def test_a_gltf_that_lies_is_refused(part, words):
    with pytest.raises(ForeignError, match=words):
        gltf_parts(glb({"bufferViews": [VIEW], "accessors": [ACCESSOR], **part}, bytes(24)), True)


@pytest.mark.parametrize("data", [b"", b"glTF", b"[]", b"{", b"[" * 100_000, glb({})[:15], b"\xff" * 40])
def test_what_is_no_gltf_is_refused(data):
    for binary in (True, False):
        with pytest.raises(ForeignError):
            gltf_parts(data, binary)


def collada(nodes, more=""):
    return f'<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema"><s>{nodes}</s>{more}</COLLADA>'.encode()


def test_collada_is_counted():
    check_collada(collada('<node id="a"><node id="b"/><instance_node url="#c"/></node><node id="c"/>'))
    check_collada(trimesh.creation.box().export(file_type="dae"))
    twice = '<instance_node url="#n{0}"/>' * 2
    doubled = "".join(f'<node id="n{k}">{twice.format(k + 1)}</node>' for k in range(40))
    for nodes, words in (
        ('<node id="a"><instance_node url="#a"/></node>', "circle"),
        ('<node id="a"><instance_node url="#b"/></node><node id="b"><node><instance_node url="#a"/></node></node>',
         "circle"),
        (doubled, "too many"),
        ("<node>" * 300 + "</node>" * 300, "deep"),
        ('<float_array count="1000000000">1 2 3</float_array>', "more numbers than letters"),
        ('<float_array count="-1">1 2 3</float_array>', "more numbers than letters"),
        ("<node>", "cannot be read"),
    ):  # fmt: skip
        with pytest.raises(ForeignError, match=words):
            check_collada(collada(nodes))
    with pytest.raises(ForeignError, match="words of its own"):
        check_collada(b'<!DOCTYPE x [<!ENTITY a "aaaa">]>' + collada("&a;"))
