"""Hostile cameras, meshes, tables and documents: made by what such files are built of, not by chance alone."""

import base64
import json
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from amberkeel.core.errors import KeelError
from amberkeel.core.foreign.texts import json_in
from amberkeel.core.handoff.camera_files import Picture, read_camera
from amberkeel.core.handoff.camera_paths import read_camera_path
from amberkeel.core.handoff.track_table import Extent, read_tracks_csv
from amberkeel.core.lens.profile import read_profile_file
from amberkeel.core.ties.set_file import read_set_file, surveyed
from amberkeel.core.world.mesh_files import read_mesh
from amberkeel.core.world.survey import read_survey

PICTURE = Picture(640, 360, 24.0)
EXTENT = Extent(np.array([1, 100]), 640, 360)

Chance = np.random.Generator
Value = object

ODD = (None, True, -1, 0, 10**400, 1e308, "", "x" * 131_073, [], {}, [[[]]], "1/0", "٣", "\0", {"a": {"b": []}})
"""Values where others belong."""


def usd(chance: Chance) -> bytes:
    """Return USD with nesting, counts, references and values that no exporter writes."""
    way = chance.integers(6)
    if way == 0:
        deep = int(chance.integers(10, 3000))
        body = "".join(f'def Xform "a{k}" {{\n' for k in range(deep)) + 'def Camera "c" {}' + "}" * deep
    elif way == 1:
        body = "".join(
            f'def "p{k}" (references = [</p{k + 1}>, </p{k + 1}>]) {{ def "x" (references = </p{k + 1}>) {{}} }}\n'
            for k in range(int(chance.integers(3, 24)))
        )
    elif way == 2:
        body = 'def Camera "c" (references = @/etc/passwd@) {}'
    elif way == 3:
        body = f'def Camera "c" {{ matrix4d xformOp:transform = {chance.choice(["(0)", "nan", "((1,0,0,0))"])} }}'
    elif way == 4:
        times = ", ".join(f"{k}: ({k}, nan, 1e308)" for k in range(int(chance.integers(0, 40))))
        body = (
            f'def Camera "c" {{ double3 xformOp:translate.timeSamples = {{ {times} }}\n'
            'uniform token[] xformOpOrder = ["xformOp:translate", "!invert!xformOp:translate"]\n'
            f"float focalLength = {chance.choice(['0', 'nan', '-5'])} }}"
        )
    else:
        body = 'def Xform "a" { uniform token[] xformOpOrder = ["!resetXformStack!"] def Camera "c" {} }'
    span = f"startTimeCode = 0\nendTimeCode = {chance.choice(['1e18', '-5', '3'])}"
    return f'#usda 1.0\n(\n{span}\nupAxis = "Z"\n)\n{body}\n'.encode()


def gltf(chance: Chance) -> bytes:
    """Return glTF whose counts, buffers and nodes are none."""
    data = base64.b64encode(bytes(range(64))).decode()
    document = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}],
        "nodes": [{"name": "c", "camera": 0, "mesh": 0}], "cameras": [{"type": "perspective", "perspective": {}}],
        "meshes": [{"name": "m", "primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"count": int(10 ** chance.integers(0, 10)), "type": "VEC3", "componentType": 5126}],
        "bufferViews": [{"buffer": 0, "byteLength": 64}],
        "buffers": [{"byteLength": 64, "uri": f"data:application/octet-stream;base64,{data}"}],
        "animations": [{"channels": [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
                        "samplers": [{"input": 0, "output": 0}]}],
    }  # fmt: skip
    if chance.integers(2):
        document["nodes"].append({"children": [0, 1]})
        document["nodes"][0]["children"] = [1]
    return json.dumps(_spoilt(document, chance)).encode()


def _spoilt(value: Value, chance: Chance) -> Value:
    """Return plain data with a member lost, doubled or of another kind somewhere."""
    if isinstance(value, dict) and value:
        key = list(value)[int(chance.integers(len(value)))]
        if chance.integers(3):
            return {**value, key: _spoilt(value[key], chance)}
        left = {k: v for k, v in value.items() if k != key}
        return left if chance.integers(2) else {**left, key: ODD[int(chance.integers(len(ODD)))]}
    if isinstance(value, list) and value:
        k = int(chance.integers(len(value)))
        return [*value[:k], _spoilt(value[k], chance), *value[k:]]
    return ODD[int(chance.integers(len(ODD)))]


def collada(chance: Chance) -> bytes:
    """Return COLLADA whose nodes hang on themselves, or whose numbers are none."""
    way = chance.integers(3)
    nodes = '<node id="a"><instance_node url="#b"/></node><node id="b"><instance_node url="#a"/></node>'
    if way == 1:
        nodes = "".join(f'<node id="n{k}">' for k in range(600)) + "</node>" * 600
    if way == 2:
        nodes = f'<node id="a"><matrix>{" ".join(["nan"] * int(chance.integers(0, 20)))}</matrix></node>'
    return (
        '<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1"><asset>'
        f'<unit meter="{chance.choice(["0", "x", "1"])}"/></asset><library_nodes>{nodes}</library_nodes>'
        f'<library_visual_scenes><visual_scene id="s">{nodes}</visual_scene></library_visual_scenes>'
        '<scene><instance_visual_scene url="#s"/></scene></COLLADA>'
    ).encode()


def document(chance: Chance) -> bytes:
    """Return JSON that is deep, long, or of other kinds than it says."""
    way = chance.integers(4)
    if way == 0:
        return b"[" * 200_000 + b"]" * 200_000
    if way == 1:
        return b'{"version": ' + b"9" * 5000 + b"}"
    whole = {
        "format": "amberkeel-lens", "version": 1, "name": "x", "image": {"width": 640, "height": 360},
        "lens": {"focal_px": [500.0, 500.0], "radial": [0.0, 0.0, 0.0]}, "points": [{"name": "a", "xyz": [0, 0, 0]}],
    }  # fmt: skip
    return json.dumps(_spoilt(whole, chance)).encode()


def table(chance: Chance) -> bytes:
    """Return a table with fields too long, too many or none."""
    heads = (
        "name,frame,x,y",
        "name,x,y,z",
        "name,length",
        "frame,x,y,z,qx,qy,qz,qw",
        "frame,frame,x,y,z,pan,tilt,roll",
    )
    head = heads[int(chance.integers(len(heads)))]
    cells = ("a", "1", "nan", "1e999", "x" * 131_073, '"', "", "1,2,3,4,5,6,7,8", "\0", "9" * 5000)
    rows = [",".join(chance.choice(cells, int(chance.integers(1, 9)))) for _ in range(int(chance.integers(0, 30)))]
    return "\n".join([head, *rows]).encode()


def _camera(data: bytes, suffix: str, folder: Path) -> None:
    path = folder / f"camera{suffix}"
    path.write_bytes(data)
    read_camera(path, PICTURE, 0, "")


KINDS: dict[str, tuple[Callable[[Chance], bytes], list[Callable[[bytes, Path], object]]]] = {
    "usd": (usd, [lambda d, f: _camera(d, ".usda", f), lambda d, f: read_camera_path("path.usda", d)]),
    "gltf": (gltf, [lambda d, f: _camera(d, ".gltf", f), lambda d, f: read_mesh(d, "gltf")]),
    "collada": (collada, [lambda d, f: _camera(d, ".dae", f), lambda d, f: read_mesh(d, "dae")]),
    "json": (
        document,
        [
            lambda d, f: read_profile_file(d), lambda d, f: read_set_file(d.decode()),
            lambda d, f: json_in(d, "x.json"),
            lambda d, f: _camera(d, ".json", f),
        ],
    ),
    "table": (
        table,
        [
            lambda d, f: read_camera_path("path.csv", d), lambda d, f: read_survey(d.decode()),
            lambda d, f: surveyed(d.decode(), "m"), lambda d, f: read_tracks_csv(d.decode(), EXTENT),
        ],
    ),
}  # fmt: skip
"""What makes files of each kind, and what reads them."""


def outcomes(folder: Path, count: int, seed: int = 3) -> Iterator[tuple[str, str, bytes]]:
    """Yield what became of hostile files: their kind, "taken", "refused" or what broke, and what they held.

    Parameters
    ----------
    folder : to write in. count : files of each kind. seed : of their making.
    """
    for kind, (make, readers) in KINDS.items():
        chance = np.random.default_rng([seed, sum(kind.encode())])
        for k in range(count):
            data = make(chance)
            try:
                readers[k % len(readers)](data, folder)
                yield kind, "taken", data
            except KeelError:
                yield kind, "refused", data
            except Exception as error:
                yield kind, f"broken: {type(error).__name__} {error}"[:200], data
