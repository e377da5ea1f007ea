"""glTF 2.0, as one file (.glb) or text with its buffer inside (.gltf): cameras, points, meshes, animated transforms.

glTF is always in metres, Y up, and its cameras look down -Z. Time is in seconds: the frame number over the frame rate.
It knows one field of view a camera, its axis in the picture's middle.
"""

import base64
import json
import struct
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.errors import HandoffError
from amberkeel.core.foreign.counted import JSON_CHUNK, MAGIC, gltf_parts
from amberkeel.core.handoff.scene import Camera, Scene, Thing
from amberkeel.core.handoff.writers.base import (
    DISTORTION,
    GL_FROM_CAMERA,
    READOUT,
    SHIFT,
    UNSTATED_WIDTH,
    ZOOM,
    Convention,
    Read,
    Writer,
    carried,
    cross_lines,
    pinhole_path,
)

FLOAT, UINT = 5126, 5125
POINTS_MODE, LINES_MODE, TRIANGLES_MODE = 0, 1, 4
BINARY_CHUNK = 0x004E4942
LACKS = (DISTORTION, READOUT, ZOOM, SHIFT)
NEAR_M = 0.01
CLAMP, UNLIT = 33071, "KHR_materials_unlit"


class _Buffer:
    """The document's one buffer, its views and accessors."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict] = []
        self.accessors: list[dict] = []

    def add_file(self, data: bytes) -> int:
        """Add a file's bytes; return the number of their view."""
        self.data.extend(b"\0" * (-len(self.data) % 4))
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)})
        self.data.extend(data)
        return len(self.views) - 1

    def add(self, values: np.ndarray, kind: str, bounds: bool = False) -> int:
        """Add numbers (N,) or (N, K) as an accessor of a type such as VEC3; return its number."""
        whole = np.ascontiguousarray(values, np.uint32 if values.dtype.kind in "iu" else np.float32)
        self.data.extend(b"\0" * (-len(self.data) % 4))
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": whole.nbytes})
        self.data.extend(whole.tobytes())
        accessor: dict = {
            "bufferView": len(self.views) - 1, "componentType": UINT if whole.dtype == np.uint32 else FLOAT,
            "count": len(whole), "type": kind,
        }  # fmt: skip
        if bounds:
            flat = whole.reshape(len(whole), -1)
            accessor |= {"min": flat.min(0).tolist(), "max": flat.max(0).tolist()}
        self.accessors.append(accessor)
        return len(self.accessors) - 1


def document_of(scene: Scene, convention: Convention) -> tuple[dict, bytes]:
    """Return a scene as a glTF document and its buffer.

    Parameters
    ----------
    scene : that leaves. convention : of which the frames' offset counts.
    """
    scene = carried(scene, LACKS)
    buffer, cameras, animations = _Buffer(), [], []
    meshes: list[dict] = []
    pictures: list[dict] = []
    root: list[int] = []
    nodes: list[dict] = [{"name": "Shot", "children": root}]

    def node(parent: list, **one) -> int:
        nodes.append(one)
        parent.append(len(nodes) - 1)
        return len(nodes) - 1

    for camera in scene.cameras:
        cameras.append(_camera(camera))
        at = node(root, name=camera.name, camera=len(cameras) - 1)
        times = (camera.path.frames + convention.offset) / float(scene.fps)
        turns = camera.path.world_from_camera @ GL_FROM_CAMERA
        animations.append(_animation(buffer, camera.name, at, times, camera.path.positions, turns))
    if len(scene.points.names) and scene.locator:
        meshes.append(_cross(buffer, scene.locator))
        for name, group, xyz in zip(scene.points.names, scene.points.group_of, scene.points.xyz.tolist()):
            said = {"track": name, "group": group} if group else {"track": name}
            node(root, name=name, translation=xyz, mesh=len(meshes) - 1, extras=said)
    elif len(scene.points.names):
        meshes.append(_cloud(buffer, "Points", scene.points.xyz, scene.points.names))
        if scene.points.groups:
            meshes[-1]["extras"]["groups"] = list(scene.points.groups)
        node(root, name="Points", mesh=len(meshes) - 1)
    for thing in scene.things:
        meshes.append(_mesh(buffer, thing, pictures))
        node(root, name=thing.name, mesh=len(meshes) - 1)
    for body in scene.bodies:
        at = node(root, name=body.name, children=[])
        times = (body.frames + convention.offset) / float(scene.fps)
        animations.append(_animation(buffer, body.name, at, times, body.positions, body.turns))
        if len(body.points):
            meshes.append(_cloud(buffer, f"{body.name} points", body.points, body.names))
            node(nodes[at]["children"], name=f"{body.name}_points", mesh=len(meshes) - 1)
        for thing in body.things:
            meshes.append(_mesh(buffer, thing, pictures))
            node(nodes[at]["children"], name=thing.name, mesh=len(meshes) - 1)
    parts = {
        "cameras": cameras, "meshes": meshes, "animations": animations, "bufferViews": buffer.views,
        "accessors": buffer.accessors, "images": pictures,
        "textures": [{"source": k, "sampler": 0} for k in range(len(pictures))],
        "samplers": [{"wrapS": CLAMP, "wrapT": CLAMP}] if pictures else [],
        "materials": [_material(k, one["name"]) for k, one in enumerate(pictures)],
        "extensionsUsed": [UNLIT] if pictures else [],
    }  # fmt: skip
    for one in nodes:
        if not one.get("children", True):
            del one["children"]
    document = {
        "asset": {"version": "2.0", "generator": "Amber Keel"}, "scene": 0,
        "scenes": [{"name": scene.name, "nodes": [0]}], "nodes": nodes, **{k: v for k, v in parts.items() if v},
        "buffers": [{"byteLength": len(buffer.data)}],
        "extras": {"fps": f"{scene.fps.numerator}/{scene.fps.denominator}", "made_from": scene.made_from},
    }  # fmt: skip
    return document, bytes(buffer.data)


def _camera(one: Camera) -> dict:
    lens = one.path.lens
    high = 2.0 * np.arctan(0.5 * lens.height / lens.focal_px[1])
    return {
        "name": one.name, "type": "perspective",
        "perspective": {"yfov": float(high), "aspectRatio": one.wide_mm / one.high_mm, "znear": NEAR_M},
        "extras": {
            "width_px": lens.width, "height_px": lens.height, "focal_mm": one.focal_mm(0),
            "sensor_width_mm": one.wide_mm,
            "plate": one.plate,
        },
    }  # fmt: skip


def _animation(buffer: _Buffer, name: str, node: int, times: np.ndarray, positions: np.ndarray, turns: np.ndarray):
    quaternions = Rotation.from_matrix(turns).as_quat()
    flips = np.cumprod(np.where(np.r_[1.0, np.einsum("fi,fi->f", quaternions[1:], quaternions[:-1])] < 0.0, -1.0, 1.0))
    when = buffer.add(np.asarray(times, float), "SCALAR", True)
    samplers = [
        {"input": when, "output": buffer.add(positions, "VEC3"), "interpolation": "LINEAR"},
        {"input": when, "output": buffer.add(quaternions * flips[:, None], "VEC4"), "interpolation": "LINEAR"},
    ]
    channels = [
        {"sampler": k, "target": {"node": node, "path": path}} for k, path in enumerate(("translation", "rotation"))
    ]
    return {"name": name, "samplers": samplers, "channels": channels}


def _cloud(buffer: _Buffer, name: str, xyz: np.ndarray, names) -> dict:
    at = buffer.add(xyz, "VEC3", True)
    return {
        "name": name, "primitives": [{"attributes": {"POSITION": at}, "mode": POINTS_MODE}],
        "extras": {"tracks": list(names)},
    }  # fmt: skip


def _cross(buffer: _Buffer, size: float) -> dict:
    vertices, lines = cross_lines(size)
    at, rows = buffer.add(vertices, "VEC3", True), buffer.add(lines.ravel().astype(np.uint32), "SCALAR")
    return {"name": "Locator", "primitives": [{"attributes": {"POSITION": at}, "indices": rows, "mode": LINES_MODE}]}


def _material(texture: int, name: str) -> dict:
    """Return a material that shows a picture as it is: what was filmed has its light in it."""
    base = {"baseColorTexture": {"index": texture}, "metallicFactor": 0.0, "roughnessFactor": 1.0}
    return {"name": name, "pbrMetallicRoughness": base, "alphaMode": "MASK", "extensions": {UNLIT: {}}}


def _mesh(buffer: _Buffer, thing: Thing, pictures: list[dict]) -> dict:
    """Return a thing's mesh; its picture is added to `pictures`, one material to each."""
    attributes = {"POSITION": buffer.add(thing.vertices, "VEC3", True)}
    if len(thing.uv) == len(thing.vertices):
        # Texture coordinates begin at the top here.
        attributes["TEXCOORD_0"] = buffer.add(np.column_stack([thing.uv[:, 0], 1.0 - thing.uv[:, 1]]), "VEC2")
    faces = buffer.add(thing.faces.ravel().astype(np.uint32), "SCALAR")
    primitive = {"attributes": attributes, "indices": faces, "mode": TRIANGLES_MODE}
    if thing.textured:
        pictures.append({"name": thing.name, "mimeType": "image/png", "bufferView": buffer.add_file(thing.texture)})
        primitive["material"] = len(pictures) - 1
    return {"name": thing.name, "primitives": [primitive], "extras": {"kind": thing.kind}}


def _text(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    document, data = document_of(scene, convention)
    document["buffers"][0]["uri"] = f"data:application/octet-stream;base64,{base64.b64encode(data).decode()}"
    return {f"{stem}.gltf": json.dumps(document, indent=1).encode()}


def _binary(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    document, data = document_of(scene, convention)
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    data += b"\0" * (-len(data) % 4)
    head = struct.pack("<III", MAGIC, 2, 12 + 8 + len(text) + 8 + len(data))
    parts = struct.pack("<II", len(text), JSON_CHUNK) + text + struct.pack("<II", len(data), BINARY_CHUNK) + data
    return {f"{stem}.glb": head + parts}


def read_gltf(path: Path, offset: int = 0) -> Read:
    """Return what a glTF file with its buffer inside holds: cameras by their animations, points and faces by trimesh.

    Parameters
    ----------
    path : of the file. offset : that was added to frame numbers.

    Raises
    ------
    ForeignError : it is no glTF, keeps its numbers elsewhere, or asks for more than it holds.
    """
    document, data = gltf_parts(path.read_bytes(), path.suffix.lower() == ".glb")
    fps = document.get("extras", {}).get("fps", "24/1").split("/")
    rate = float(fps[0]) / float(fps[1])
    moving: dict[int, dict[str, list[np.ndarray]]] = {}
    for one in document.get("animations", []):
        for channel in one["channels"]:
            sampler = one["samplers"][channel["sampler"]]
            values = [_values(document, data, sampler[end]) for end in ("input", "output")]
            moving.setdefault(channel["target"]["node"], {})[channel["target"]["path"]] = values
    cameras, bodies = {}, {}
    for at, node in enumerate(document["nodes"]):
        if at not in moving:
            continue
        times, positions = moving[at]["translation"]
        if "camera" not in node:
            bodies[node["name"]] = positions
            continue
        _, turns = moving[at]["rotation"]
        own = document["cameras"][node["camera"]]
        perspective, extras = own["perspective"], own.get("extras", {})
        width = int(extras.get("width_px", UNSTATED_WIDTH))
        height = int(extras.get("height_px", round(width / perspective["aspectRatio"])))
        focal_y = 0.5 * height / np.tan(0.5 * perspective["yfov"])
        aspect = perspective["aspectRatio"] * height / width
        frames = np.round(times[:, 0] * rate).astype(int) - offset
        rotations = Rotation.from_quat(turns).as_matrix() @ GL_FROM_CAMERA
        focal = np.full(len(frames), focal_y / aspect)
        cameras[node["name"]] = pinhole_path(frames, positions, rotations, (width, height), focal, None, aspect)
    points, faces = _geometry(path, document)
    return Read(cameras, points, bodies, faces)


def _geometry(path: Path, document: dict) -> tuple[dict[str, np.ndarray] | None, int]:
    """Return points by name and how many triangles there are, as trimesh reads them."""
    import trimesh

    loaded = trimesh.load_scene(str(path))
    points, faces = None, 0
    located = [one for one in document["nodes"] if "track" in one.get("extras", {})]
    if located:
        points = {one["extras"]["track"]: np.array(one["translation"], float) for one in located}
    tracks = next((m["extras"]["tracks"] for m in document.get("meshes", []) if m["name"] == "Points"), None)
    for name, one in loaded.geometry.items():
        if hasattr(one, "faces"):
            faces += len(one.faces)
        elif tracks is not None and name == "Points":
            points = dict(zip(tracks, np.asarray(one.vertices, float)))
    return points, faces


def _values(document: dict, data: bytes, accessor: int) -> np.ndarray:
    """Return the numbers (N, K) of an accessor of floats."""
    one = document["accessors"][accessor]
    view = document["bufferViews"][one["bufferView"]]
    wide = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[one["type"]]
    begin = view.get("byteOffset", 0) + one.get("byteOffset", 0)
    if one["componentType"] != FLOAT or view.get("byteStride", 4 * wide) != 4 * wide:
        raise HandoffError("This glTF animates by packed numbers.", "Export it with plain floats.")
    return np.frombuffer(data, np.float32, one["count"] * wide, begin).reshape(-1, wide).astype(float)


def _reader(suffix: str):
    def read(folder: Path, stem: str, convention: Convention) -> Read:
        return read_gltf(folder / f"{stem}{suffix}", convention.offset)

    return read


GLB = Writer("glb", "glTF, one file", _binary, _reader(".glb"), LACKS, 1.0, "y")
GLTF = Writer("gltf", "glTF as text", _text, _reader(".gltf"), LACKS, 1.0, "y")
