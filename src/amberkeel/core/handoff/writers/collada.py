"""COLLADA 1.4.1: animated cameras with their zoom, points as named nodes, meshes, bodies as animated nodes.

Its cameras look down -Z; time is in seconds, the frame number over the frame rate. It knows no
shifted axis of the lens.
"""

import io
from pathlib import Path
from xml.etree import ElementTree as ET

import numpy as np

from amberkeel.core.errors import HandoffError
from amberkeel.core.foreign.counted import check_collada
from amberkeel.core.handoff.scene import Camera, Scene, Thing
from amberkeel.core.handoff.writers.base import (
    DISTORTION,
    GL_FROM_CAMERA,
    READOUT,
    SHIFT,
    UNSTATED_WIDTH,
    Convention,
    Read,
    Writer,
    carried,
    cross_lines,
    pinhole_path,
    texture_name,
)

NAMESPACE = "http://www.collada.org/2005/11/COLLADASchema"
LACKS = (DISTORTION, READOUT, SHIFT)
PREFIX = "point_"


def _element(parent: ET.Element, tag: str, text: str = "", **attributes: str) -> ET.Element:
    one = ET.SubElement(parent, tag, attributes)
    if text:
        one.text = text
    return one


def _numbers(values: np.ndarray) -> str:
    return " ".join(f"{v:.10g}" for v in np.asarray(values, float).ravel())


def _source(parent: ET.Element, name: str, values: np.ndarray, params: list[tuple[str, str]]) -> str:
    """Add a source of numbers; return its id."""
    stride = int(np.prod([16 if kind == "float4x4" else 1 for _, kind in params])) if len(params) == 1 else len(params)
    source = _element(parent, "source", id=name)
    flat = np.asarray(values, float).ravel()
    _element(source, "float_array", _numbers(flat), id=f"{name}-array", count=str(len(flat)))
    common = _element(source, "technique_common")
    accessor = _element(
        common, "accessor", source=f"#{name}-array", count=str(len(flat) // stride), stride=str(stride)
    )  # fmt: skip
    for param, kind in params:
        _element(accessor, "param", name=param, type=kind)
    return name


def _animate(library: ET.Element, name: str, target: str, times: np.ndarray, values: np.ndarray, kind: str) -> None:
    """Animate a target over times (F,), seconds."""
    one = _element(library, "animation", id=name)
    when = _source(one, f"{name}-input", times, [("TIME", "float")])
    what = _source(one, f"{name}-output", values, [("TRANSFORM" if kind == "float4x4" else "YFOV", kind)])
    ways = _element(one, "source", id=f"{name}-interpolation")
    words = " ".join(["LINEAR"] * len(times))
    _element(ways, "Name_array", words, id=f"{name}-interpolation-array", count=str(len(times)))
    common = _element(ways, "technique_common")
    accessor = _element(
        common, "accessor", source=f"#{name}-interpolation-array", count=str(len(times)), stride="1"
    )  # fmt: skip
    _element(accessor, "param", name="INTERPOLATION", type="name")
    sampler = _element(one, "sampler", id=f"{name}-sampler")
    for semantic, source in (("INPUT", when), ("OUTPUT", what), ("INTERPOLATION", f"{name}-interpolation")):
        _element(sampler, "input", semantic=semantic, source=f"#{source}")
    _element(one, "channel", source=f"#{name}-sampler", target=target)


def _poses(convention: Convention, turns: np.ndarray, positions: np.ndarray) -> np.ndarray:
    """Return matrices (F, 4, 4) that multiply columns."""
    out = np.tile(np.eye(4), (len(positions), 1, 1))
    out[:, :3, :3], out[:, :3, 3] = convention.turns(turns), convention.points(positions)
    return out


def _fov_degrees(one: Camera, row: int) -> float:
    lens = one.path.lens_at(row)
    return float(np.degrees(2.0 * np.arctan(0.5 * lens.height / lens.focal_px[1])))


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    scene = carried(scene, LACKS)
    root = ET.Element("COLLADA", {"xmlns": NAMESPACE, "version": "1.4.1"})
    asset = _element(root, "asset")
    _element(_element(asset, "contributor"), "authoring_tool", "Amber Keel")
    for tag in ("created", "modified"):
        _element(asset, tag, "2000-01-01T00:00:00")
    _element(asset, "unit", meter=f"{convention.unit_m:.10g}", name=unit_name(convention.unit_m))
    _element(asset, "up_axis", "Z_UP" if convention.up == "z" else "Y_UP")
    lenses, shapes = ET.Element("library_cameras"), ET.Element("library_geometries")
    moves, scenes = ET.Element("library_animations"), ET.Element("library_visual_scenes")
    visual = _element(scenes, "visual_scene", id="Shot", name=scene.name)
    for one in scene.cameras:
        _add_camera(scene, one, convention, lenses, moves, visual)
    if scene.locator and len(scene.points.names):
        _add_cross(shapes, scene.locator / convention.unit_m)
    for name, group, xyz in zip(scene.points.names, scene.points.group_of, convention.points(scene.points.xyz)):
        node = _add_point(visual, name, xyz)
        if group:
            node.set("layer", "_".join(group.split()))
        if scene.locator:
            _element(node, "instance_geometry", url="#locator-mesh")
    pictures = _Pictures(stem)
    for thing in scene.things:
        _add_mesh(shapes, visual, thing, convention.points(thing.vertices), pictures)
    for body in scene.bodies:
        poses = _poses(convention, body.turns, body.positions)
        node = _element(visual, "node", id=body.name, name=body.name, type="NODE")
        _element(node, "matrix", _numbers(poses[0]), sid="transform")
        times = (body.frames + convention.offset) / float(scene.fps)
        _animate(moves, f"{body.name}-move", f"{body.name}/transform", times, poses, "float4x4")
        for name, xyz in zip(body.names, body.points / convention.unit_m):
            _add_point(node, f"{body.name}_{name}", xyz)
        for thing in body.things:
            _add_mesh(shapes, node, thing, thing.vertices / convention.unit_m, pictures)
    for library in (lenses, *pictures.libraries, shapes, moves, scenes):
        if len(library):
            root.append(library)
    _element(_element(root, "scene"), "instance_visual_scene", url="#Shot")
    out = io.BytesIO()
    ET.ElementTree(root).write(out, "utf-8", xml_declaration=True)
    return {f"{stem}.dae": out.getvalue(), **pictures.files}


class _Pictures:
    """The pictures of meshes, with their effects and materials, and the files that lie beside."""

    def __init__(self, stem: str):
        self.stem = stem
        self.images, self.effects = ET.Element("library_images"), ET.Element("library_effects")
        self.materials = ET.Element("library_materials")
        self.files: dict[str, bytes] = {}

    @property
    def libraries(self) -> tuple[ET.Element, ET.Element, ET.Element]:
        """The libraries in their order."""
        return self.images, self.effects, self.materials

    def add(self, thing: Thing) -> str:
        """Add a thing's picture; return the id of its material."""
        name, file = thing.name, texture_name(thing, self.stem)
        self.files[file] = thing.texture
        _element(_element(self.images, "image", id=f"{name}-image", name=name), "init_from", file)
        profile = _element(_element(self.effects, "effect", id=f"{name}-effect"), "profile_COMMON")
        surface = _element(_element(profile, "newparam", sid=f"{name}-surface"), "surface", type="2D")
        _element(surface, "init_from", f"{name}-image")
        sampler = _element(_element(profile, "newparam", sid=f"{name}-sampler"), "sampler2D")
        _element(sampler, "source", f"{name}-surface")
        shown = _element(_element(_element(profile, "technique", sid="common"), "lambert"), "diffuse")
        _element(shown, "texture", texture=f"{name}-sampler", texcoord="UV")
        material = _element(self.materials, "material", id=f"{name}-material", name=name)
        _element(material, "instance_effect", url=f"#{name}-effect")
        return f"{name}-material"


def _add_camera(scene: Scene, one: Camera, convention: Convention, lenses, moves, visual) -> None:
    camera = _element(lenses, "camera", id=f"{one.name}-camera", name=one.name)
    optics = _element(_element(camera, "optics"), "technique_common")
    perspective = _element(optics, "perspective")
    _element(perspective, "yfov", f"{_fov_degrees(one, 0):.10g}", sid="yfov")
    _element(perspective, "aspect_ratio", f"{one.wide_mm / one.high_mm:.10g}")
    _element(perspective, "znear", f"{0.01 / convention.unit_m:.10g}")
    _element(perspective, "zfar", f"{1e4 / convention.unit_m:.10g}")
    own = _element(_element(camera, "extra"), "technique", profile="amberkeel")
    _element(own, "size_px", f"{one.path.lens.width} {one.path.lens.height}")
    poses = _poses(convention, one.path.world_from_camera @ GL_FROM_CAMERA, one.path.positions)
    node = _element(visual, "node", id=one.name, name=one.name, type="NODE")
    _element(node, "matrix", _numbers(poses[0]), sid="transform")
    _element(node, "instance_camera", url=f"#{one.name}-camera")
    times = (one.path.frames + convention.offset) / float(scene.fps)
    _animate(moves, f"{one.name}-move", f"{one.name}/transform", times, poses, "float4x4")
    if one.path.zoom is not None:
        angles = np.array([_fov_degrees(one, row) for row in range(len(times))])
        _animate(moves, f"{one.name}-zoom", f"{one.name}-camera/yfov", times, angles, "float")


def _add_point(parent: ET.Element, name: str, xyz: np.ndarray) -> ET.Element:
    node = _element(parent, "node", id=f"{PREFIX}{_id_of(name)}", name=name, type="NODE")
    _element(node, "translate", _numbers(xyz), sid="translate")
    return node


def _id_of(name: str) -> str:
    return "".join(c if c.isascii() and (c.isalnum() or c in "-_.") else "_" for c in name)


def _add_cross(shapes: ET.Element, size: float) -> None:
    """Add the cross of a locator, as lines."""
    ends, rows = cross_lines(size)
    mesh = _element(_element(shapes, "geometry", id="locator-mesh", name="locator"), "mesh")
    at = _source(mesh, "locator-positions", ends, [(axis, "float") for axis in "XYZ"])
    vertices = _element(mesh, "vertices", id="locator-vertices")
    _element(vertices, "input", semantic="POSITION", source=f"#{at}")
    lines = _element(mesh, "lines", count=str(len(rows)))
    _element(lines, "input", semantic="VERTEX", source="#locator-vertices", offset="0")
    _element(lines, "p", " ".join(map(str, rows.ravel().tolist())))


def _add_mesh(shapes: ET.Element, parent: ET.Element, thing: Thing, own: np.ndarray, pictures: _Pictures) -> None:
    """Add triangles to a node, their vertices (V, 3) in the coordinates that hold there."""
    name = f"{thing.name}-mesh"
    mesh = _element(_element(shapes, "geometry", id=name, name=thing.name), "mesh")
    at = _source(mesh, f"{name}-positions", own, [(axis, "float") for axis in "XYZ"])
    vertices = _element(mesh, "vertices", id=f"{name}-vertices")
    _element(vertices, "input", semantic="POSITION", source=f"#{at}")
    material = pictures.add(thing) if thing.textured else ""
    if material:
        _source(mesh, f"{name}-uv", thing.uv, [(axis, "float") for axis in "ST"])
    said = {"material": "shown"} if material else {}
    triangles = _element(mesh, "triangles", count=str(len(thing.faces)), **said)
    _element(triangles, "input", semantic="VERTEX", source=f"#{name}-vertices", offset="0")
    if material:
        _element(triangles, "input", semantic="TEXCOORD", source=f"#{name}-uv", offset="0", set="0")
    _element(triangles, "p", " ".join(map(str, thing.faces.ravel().tolist())))
    node = _element(parent, "node", id=thing.name, name=thing.name, type="NODE")
    placed = _element(node, "instance_geometry", url=f"#{name}")
    if material:
        bound = _element(_element(placed, "bind_material"), "technique_common")
        used = _element(bound, "instance_material", symbol="shown", target=f"#{material}")
        _element(used, "bind_vertex_input", semantic="UV", input_semantic="TEXCOORD", input_set="0")


def unit_name(unit_m: float) -> str:
    """Return what a unit of so many metres is called."""
    names = {1.0: "m", 0.01: "cm", 0.001: "mm", 0.3048: "ft", 0.0254: "in"}
    return names.get(round(unit_m, 6), f"{unit_m:g} m")


def read_collada(path: Path, fps: float, offset: int = 0) -> Read:
    """Return what a COLLADA file holds, as pycollada reads it, in our world.

    Parameters
    ----------
    path : of the file. fps : frames a second: the file has seconds. offset : that was added to frame numbers.

    Raises
    ------
    ForeignError : it would become more than it should. HandoffError : it cannot be read.
    """
    import collada

    check_collada(path.read_bytes())
    try:
        found = collada.Collada(str(path))
    except Exception as error:
        raise HandoffError(f"{path.name} cannot be read as COLLADA.") from error
    world = Convention(found.assetInfo.unitmeter or 1.0, "z" if found.assetInfo.upaxis == "Z_UP" else "y", offset)
    moves = {}
    for one in found.animations:
        node = one.xmlnode
        target = node.find(f".//{{{NAMESPACE}}}channel").get("target")
        own = {k.rsplit("-", 1)[-1]: s.data for k, s in one.sourceById.items() if hasattr(s, "data")}
        moves[target] = own["input"].ravel(), own["output"]
    cameras, points, bodies = {}, {}, {}
    for node in found.scene.nodes:
        name = node.xmlnode.get("name")
        lenses = [child.camera for child in node.children if hasattr(child, "camera")]
        if lenses:
            cameras[name] = _read_camera(node, lenses[0], moves, fps, world)
        elif f"{node.id}/transform" in moves:
            _, poses = moves[f"{node.id}/transform"]
            bodies[name] = world.back(poses.reshape(-1, 4, 4)[:, :3, 3])
        elif node.id.startswith(PREFIX):
            points[name] = world.back(np.asarray(node.matrix, float)[:3, 3])
    parts = [part for one in found.geometries for part in one.primitives]
    faces = sum(len(part) for part in parts if not isinstance(part, collada.lineset.LineSet))
    return Read(cameras, points, bodies, faces)


def _read_camera(node, lens, moves: dict, fps: float, world: Convention):
    times, poses = moves[f"{node.id}/transform"]
    poses = np.asarray(poses, float).reshape(-1, 4, 4)
    said = lens.xmlnode.find(f".//{{{NAMESPACE}}}size_px")
    width = int(said.text.split()[0]) if said is not None else UNSTATED_WIDTH
    height = int(said.text.split()[1]) if said is not None else round(width / float(lens.aspect_ratio))
    aspect = float(lens.aspect_ratio) * height / width
    zoomed = moves.get(f"{lens.id}/yfov")
    angles = np.asarray(zoomed[1], float).ravel() if zoomed else np.full(len(times), float(lens.yfov))
    focal = 0.5 * height / np.tan(np.radians(angles) / 2.0) / aspect
    rotations = world.axes.T @ poses[:, :3, :3] @ GL_FROM_CAMERA
    frames = np.round(np.asarray(times, float) * fps).astype(int) - world.offset
    return pinhole_path(frames, world.back(poses[:, :3, 3]), rotations, (width, height), focal, None, aspect)


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    return read_collada(folder / f"{stem}.dae", convention.fps, convention.offset)


COLLADA = Writer("dae", "COLLADA", _write, _read, LACKS)
