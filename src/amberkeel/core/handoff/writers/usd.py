"""USD: animated cameras, points, meshes, and bodies as animated transforms.

USD cameras look down -Z with Y up, so ours are turned by half a turn about X. Apertures and focal lengths are in tenths
of a scene unit, as USD has them: in a stage of centimetres they are millimetres. USD has no lens distortion and no
readout: the coefficients ride along as attributes.
"""

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdUtils, Vt

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.scene import Camera, Scene, Thing, free_name
from amberkeel.core.handoff.usd_times import frames_of, moving_at, open_alone, turned
from amberkeel.core.handoff.writers.base import (
    DISTORTION,
    GL_FROM_CAMERA,
    READOUT,
    UNSTATED_WIDTH,
    Convention,
    Read,
    Writer,
    cross_lines,
    pinhole_path,
    texture_files,
    texture_name,
)

ROOT, POINTS, TRACK = "/Shot", "/Shot/Points", "amberkeel:track"
LACKS = (DISTORTION, READOUT)


def stage_of(scene: Scene, convention: Convention, stem: str = "scene") -> Usd.Stage:
    """Return a scene as a USD stage in memory.

    Parameters
    ----------
    scene : that leaves. convention : its units, axes and frame numbers. stem : with which the names of the pictures
        beside it begin.
    """
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if convention.up == "z" else UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, convention.unit_m)
    stage.SetTimeCodesPerSecond(float(scene.fps))
    first, last = scene.frames
    stage.SetStartTimeCode(first + convention.offset)
    stage.SetEndTimeCode(last + convention.offset)
    root = UsdGeom.Xform.Define(stage, ROOT)
    stage.SetDefaultPrim(root.GetPrim())
    told = {"plate": ", ".join(one.plate for one in scene.cameras), **scene.made_from}
    for key, value in told.items():
        name = "amberkeel:" + "".join(c if c.isalnum() else "_" for c in key)
        root.GetPrim().CreateAttribute(name, Sdf.ValueTypeNames.String).Set(value)
    for one in scene.cameras:
        _write_camera(stage, f"{ROOT}/{camera_prim(scene, one)}", one, convention)
    if len(scene.points.names):
        xyz = convention.points(scene.points.xyz)
        if scene.locator:
            _write_locators(stage, xyz, scene.points.names, scene.locator / convention.unit_m)
        else:
            _write_points(stage, POINTS, xyz, scene.points.names)
        if scene.points.groups:
            groups = stage.GetPrimAtPath(POINTS).CreateAttribute("amberkeel:groups", Sdf.ValueTypeNames.StringArray)
            groups.Set(Vt.StringArray(list(scene.points.groups)))
    for thing in scene.things:
        _write_mesh(stage, f"{ROOT}/{thing.name}", thing, convention.points(thing.vertices), stem)
    for body in scene.bodies:
        moving = UsdGeom.Xform.Define(stage, f"{ROOT}/{body.name}")
        transform = moving.AddTransformOp(UsdGeom.XformOp.PrecisionDouble)
        for frame, position, turn in zip(body.frames.tolist(), body.positions, body.turns):
            matrix = _matrix(convention.turns(turn), convention.points(position))
            transform.Set(matrix, frame + convention.offset)
        if len(body.points):
            own = body.points / convention.unit_m
            _write_points(stage, f"{ROOT}/{body.name}/Points", own, body.names)
        for thing in body.things:
            _write_mesh(stage, f"{ROOT}/{body.name}/{thing.name}", thing, thing.vertices / convention.unit_m, stem)
    return stage


def camera_prim(scene: Scene, camera: Camera) -> str:
    """Return how a camera's prim is called: plainly, where it is the only one."""
    return "Camera" if len(scene.cameras) == 1 else camera.name


def _matrix(rotation: np.ndarray, position: np.ndarray) -> Gf.Matrix4d:
    """Return a pose as USD's matrix, which multiplies rows."""
    matrix = np.eye(4)
    matrix[:3, :3], matrix[3, :3] = rotation.T, position
    return Gf.Matrix4d(matrix.tolist())


def _write_camera(stage: Usd.Stage, where: str, one: Camera, convention: Convention) -> None:
    camera, path, lens = UsdGeom.Camera.Define(stage, where), one.path, one.path.lens
    tenths = 0.01 / convention.unit_m
    mm_x, mm_y = one.mm_per_px, one.mm_per_px / lens.pixel_aspect
    camera.CreateProjectionAttr(UsdGeom.Tokens.perspective)
    camera.CreateHorizontalApertureAttr(one.wide_mm * tenths)
    camera.CreateVerticalApertureAttr(one.high_mm * tenths)
    camera.CreateHorizontalApertureOffsetAttr((lens.width / 2 - lens.principal_px[0]) * mm_x * tenths)
    camera.CreateVerticalApertureOffsetAttr((lens.principal_px[1] - lens.height / 2) * mm_y * tenths)
    camera.CreateClippingRangeAttr(Gf.Vec2f(0.01 / convention.unit_m, 1e4 / convention.unit_m))
    focal = camera.CreateFocalLengthAttr()
    transform = camera.AddTransformOp(UsdGeom.XformOp.PrecisionDouble)
    for row, frame in enumerate(path.frames.tolist()):
        turn = convention.turns(path.world_from_camera[row]) @ GL_FROM_CAMERA
        transform.Set(_matrix(turn, convention.points(path.positions[row])), frame + convention.offset)
        if path.zoom is not None:
            focal.Set(one.focal_mm(row) * tenths, frame + convention.offset)
    if path.zoom is None:
        focal.Set(one.focal_mm(0) * tenths)
    prim, doubles = camera.GetPrim(), Sdf.ValueTypeNames.DoubleArray
    prim.CreateAttribute("amberkeel:radial", doubles).Set(Vt.DoubleArray(list(lens.radial)))
    prim.CreateAttribute("amberkeel:tangential", doubles).Set(Vt.DoubleArray(list(lens.tangential)))
    prim.CreateAttribute("amberkeel:width", Sdf.ValueTypeNames.Int).Set(lens.width)
    prim.CreateAttribute("amberkeel:height", Sdf.ValueTypeNames.Int).Set(lens.height)
    prim.CreateAttribute("amberkeel:plate", Sdf.ValueTypeNames.String).Set(one.plate)


def _write_points(stage: Usd.Stage, path: str, xyz: np.ndarray, names: Any) -> None:
    points = UsdGeom.Points.Define(stage, path)
    points.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(xyz.astype(np.float32)))
    points.CreateWidthsAttr(Vt.FloatArray([float(0.004 * max(np.ptp(xyz, axis=0).max(initial=0.0), 1e-6))]))
    points.SetWidthsInterpolation(UsdGeom.Tokens.constant)
    kept = points.GetPrim().CreateAttribute("amberkeel:tracks", Sdf.ValueTypeNames.StringArray)
    kept.Set(Vt.StringArray(list(names)))


def _write_locators(stage: Usd.Stage, xyz: np.ndarray, names: Sequence[str], size: float) -> None:
    """Write each point as a transform of its own with a cross in it, its track's name beside it."""
    UsdGeom.Xform.Define(stage, POINTS)
    vertices, lines = cross_lines(size)
    ends, taken = Vt.Vec3fArray.FromNumpy(vertices[lines.ravel()].astype(np.float32)), set[str]()
    for name, at in zip(names, xyz.tolist()):
        prim = free_name(name, taken)
        one = UsdGeom.Xform.Define(stage, f"{POINTS}/{prim}")
        one.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble).Set(Gf.Vec3d(at))
        one.GetPrim().CreateAttribute(TRACK, Sdf.ValueTypeNames.String).Set(name)
        cross = UsdGeom.BasisCurves.Define(stage, f"{POINTS}/{prim}/Cross")
        cross.CreateTypeAttr(UsdGeom.Tokens.linear)
        cross.CreateCurveVertexCountsAttr(Vt.IntArray([2] * len(lines)))
        cross.CreatePointsAttr(ends)


def _write_material(stage: Usd.Stage, where: str, thing: Thing, stem: str) -> None:
    """Show a thing's picture as it is: what was filmed has its light in it."""
    material = UsdShade.Material.Define(stage, f"{where}/Material")
    surface = UsdShade.Shader.Define(stage, f"{where}/Material/Surface")
    surface.CreateIdAttr("UsdPreviewSurface")
    picture = UsdShade.Shader.Define(stage, f"{where}/Material/Picture")
    picture.CreateIdAttr("UsdUVTexture")
    picture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(f"./{texture_name(thing, stem)}"))
    for way in ("wrapS", "wrapT"):
        picture.CreateInput(way, Sdf.ValueTypeNames.Token).Set("clamp")
    at = UsdShade.Shader.Define(stage, f"{where}/Material/At")
    at.CreateIdAttr("UsdPrimvarReader_float2")
    at.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    found = at.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    picture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(found)
    colour = picture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    opacity = picture.CreateOutput("a", Sdf.ValueTypeNames.Float)
    surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(0.0))
    surface.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(colour)
    surface.CreateInput("opacity", Sdf.ValueTypeNames.Float).ConnectToSource(opacity)
    surface.CreateInput("opacityThreshold", Sdf.ValueTypeNames.Float).Set(0.5)
    material.CreateSurfaceOutput().ConnectToSource(surface.CreateOutput("surface", Sdf.ValueTypeNames.Token))
    mesh = stage.GetPrimAtPath(where)
    UsdShade.MaterialBindingAPI.Apply(mesh).Bind(material)


def _write_mesh(stage: Usd.Stage, path: str, thing: Thing, vertices: np.ndarray, stem: str) -> None:
    """Write triangles, their vertices (V, 3) in the coordinates that hold at their place."""
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(vertices.astype(np.float32)))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(thing.faces), 3, np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(thing.faces.astype(np.int32).ravel()))
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.GetPrim().CreateAttribute("amberkeel:kind", Sdf.ValueTypeNames.String).Set(thing.kind)
    if len(thing.uv) == len(thing.vertices):
        uv = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
        )  # fmt: skip
        uv.Set(Vt.Vec2fArray.FromNumpy(thing.uv.astype(np.float32)))
    if thing.textured:
        _write_material(stage, path, thing, stem)


def _text(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    # A layer lives no longer than its stage.
    stage = stage_of(scene, convention, stem)
    return {f"{stem}.usda": stage.GetRootLayer().ExportToString().encode(), **_pictures(scene, stem)}


def _pictures(scene: Scene, stem: str) -> dict[str, bytes]:
    return texture_files([*scene.things, *(one for body in scene.bodies for one in body.things)], stem)


def _crate(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    with tempfile.TemporaryDirectory() as folder:
        where, stage = Path(folder) / f"{stem}.usdc", stage_of(scene, convention, stem)
        stage.GetRootLayer().Export(str(where))
        return {f"{stem}.usdc": where.read_bytes(), **_pictures(scene, stem)}


def _zipped(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    with tempfile.TemporaryDirectory() as folder:
        layer, where = Path(folder) / f"{stem}.usdc", Path(folder) / f"{stem}.usdz"
        stage = stage_of(scene, convention, stem)
        stage.GetRootLayer().Export(str(layer))
        for name, data in _pictures(scene, stem).items():
            (Path(folder) / name).write_bytes(data)
        if not UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(layer)), str(where)):
            raise HandoffError("The USD archive could not be made.")
        return {f"{stem}.usdz": where.read_bytes()}


def _reader(suffix: str):
    def read(folder: Path, stem: str, convention: Convention) -> Read:
        return read_stage(folder / f"{stem}{suffix}", convention.offset)

    return read


def read_stage(path: Path, offset: int = 0) -> Read:
    """Return what a USD file holds, in our world: metres, Y up.

    Parameters
    ----------
    path : of the file. offset : that was added to frame numbers.

    Raises
    ------
    HandoffError : it cannot be read.
    """
    stage = open_alone(path)
    up = "z" if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z else "y"
    world = Convention(UsdGeom.GetStageMetersPerUnit(stage), up, offset)
    points: dict[str, np.ndarray] | np.ndarray | None = None
    cameras, bodies, faces = {}, {}, 0
    located: dict[str, np.ndarray] = {}
    for prim in stage.Traverse():
        name = prim.GetName()
        if prim.IsA(UsdGeom.Camera):
            cameras[name] = _read_camera(stage, UsdGeom.Camera(prim), world)
        elif prim.IsA(UsdGeom.Points) and str(prim.GetPath().GetParentPath()) == ROOT:
            xyz = world.back(np.array(UsdGeom.Points(prim).GetPointsAttr().Get(), float).reshape(-1, 3))
            tracks = prim.GetAttribute("amberkeel:tracks").Get()
            points = dict(zip(tracks, xyz)) if tracks else xyz
        elif prim.IsA(UsdGeom.Mesh):
            faces += len(UsdGeom.Mesh(prim).GetFaceVertexCountsAttr().Get())
        elif prim.HasAttribute(TRACK):
            located[prim.GetAttribute(TRACK).Get()] = world.back(np.array(prim.GetAttribute("xformOp:translate").Get()))
        elif prim.IsA(UsdGeom.Xform) and UsdGeom.Xformable(prim).GetTimeSamples():
            bodies[name] = _read_body(prim, world)
    return Read(cameras, located or points, bodies, faces)


def _read_body(prim: Usd.Prim, world: Convention) -> np.ndarray:
    cache, places = UsdGeom.XformCache(), []
    for time in moving_at(prim):
        cache.SetTime(time)
        places.append(world.back(np.array(cache.GetLocalToWorldTransform(prim))[3, :3]))
    return np.array(places)


def _read_camera(stage: Usd.Stage, camera: UsdGeom.Camera, world: Convention) -> CameraPath:
    cache, prim = UsdGeom.XformCache(), camera.GetPrim()
    times = frames_of(stage, moving_at(prim, [camera.GetFocalLengthAttr()]))
    wide, high = camera.GetHorizontalApertureAttr().Get(), camera.GetVerticalApertureAttr().Get()
    kept = [prim.GetAttribute(f"amberkeel:{side}").Get() for side in ("width", "height")]
    width, height = kept if None not in kept else (UNSTATED_WIDTH, round(UNSTATED_WIDTH * high / wide))
    positions, rotations, focal = [], [], []
    for time in times:
        cache.SetTime(time)
        matrix = np.array(cache.GetLocalToWorldTransform(prim))
        positions.append(world.back(matrix[3, :3]))
        rotations.append(world.axes.T @ turned(matrix).T @ GL_FROM_CAMERA)
        focal.append(camera.GetFocalLengthAttr().Get(time) / wide * width)
    aspect = (wide / width) / (high / height)
    shift = camera.GetHorizontalApertureOffsetAttr().Get(), camera.GetVerticalApertureOffsetAttr().Get()
    principal = (width / 2 - shift[0] / wide * width, height / 2 + shift[1] / high * height)
    frames = np.round(times).astype(int) - world.offset
    return pinhole_path(
        frames, np.array(positions), np.array(rotations), (width, height), np.array(focal), principal, aspect
    )


USDA = Writer("usda", "USD as text", _text, _reader(".usda"), LACKS)
USDC = Writer("usdc", "USD, compact", _crate, _reader(".usdc"), LACKS)
USDZ = Writer("usdz", "USD in one archive", _zipped, _reader(".usdz"), LACKS)
