"""Write a solve as USD: an animated camera, its points, and the plate's name.

USD cameras look down -Z with Y up, so ours are turned by half a turn about X. The stage is in centimetres, so that
apertures and focal lengths (tenths of a scene unit) are in millimetres. USD has no lens distortion: the camera is that
of the undistorted plate, and the coefficients ride along as attributes.
"""

from collections.abc import Sequence
from fractions import Fraction
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.solve_file import SolveDocument

CM_PER_METRE = 100.0
USD_FROM_CAMERA = np.diag([1.0, -1.0, -1.0])


def usd_text(document: SolveDocument, sensor_width_mm: float) -> str:
    """Return a solve document as `.usda` text.

    Parameters
    ----------
    document : see `solve_document`. sensor_width_mm : width of the filmed part of the sensor.
    """
    stage = _stage(document, sensor_width_mm)
    return stage.GetRootLayer().ExportToString()


def body_usd_text(document: SolveDocument, body: dict, sensor_width_mm: float) -> str:
    """Return a camera and a body as `.usda` text: the body is an animated transform with its points under it.

    Parameters
    ----------
    document : the camera's, see `solve_document`. body : see `ties.bodies.body_file.body_document`. sensor_width_mm :
        width of the filmed part of the sensor.
    """
    stage = _stage(document, sensor_width_mm)
    moving = UsdGeom.Xform.Define(stage, "/Shot/Body")
    transform = moving.AddTransformOp(UsdGeom.XformOp.PrecisionDouble)
    for f in body["frames"]:
        transform.Set(_matrix(np.array(f["world_from_body"]), f["position"]), f["frame"])
    _write_points(stage, "/Shot/Body/Points", body["points"])
    return stage.GetRootLayer().ExportToString()


def _matrix(rotation: np.ndarray, position: Sequence[float]) -> Gf.Matrix4d:
    """Return a pose as USD's matrix, which multiplies rows, in centimetres."""
    matrix = np.eye(4)
    matrix[:3, :3], matrix[3, :3] = rotation.T, np.array(position) * CM_PER_METRE
    return Gf.Matrix4d(matrix.tolist())


def _stage(document: SolveDocument, sensor_width_mm: float) -> Usd.Stage:
    """Return a stage with a solve's camera and points."""
    if not sensor_width_mm > 0.0:
        raise HandoffError("The sensor width must be more than 0 mm.", "Type the camera's sensor width.")
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0 / CM_PER_METRE)
    stage.SetTimeCodesPerSecond(float(Fraction(document["plate"]["fps"])))
    stage.SetStartTimeCode(document["frames"][0]["frame"])
    stage.SetEndTimeCode(document["frames"][-1]["frame"])
    root = UsdGeom.Xform.Define(stage, "/Shot")
    stage.SetDefaultPrim(root.GetPrim())
    root.GetPrim().CreateAttribute("amberkeel:plate", Sdf.ValueTypeNames.String).Set(document["plate"]["name"])
    _write_camera(stage, document, sensor_width_mm)
    _write_points(stage, "/Shot/Points", document["points"])
    return stage


def _write_camera(stage, document: SolveDocument, sensor_width_mm: float) -> None:
    camera = UsdGeom.Camera.Define(stage, "/Shot/Camera")
    image, lens = document["image"], document["lens"]
    mm_per_px = sensor_width_mm / image["width"]
    mm_per_px_y = mm_per_px / image["pixel_aspect"]
    camera.CreateProjectionAttr(UsdGeom.Tokens.perspective)
    camera.CreateHorizontalApertureAttr(sensor_width_mm)
    camera.CreateVerticalApertureAttr(image["height"] * mm_per_px_y)
    camera.CreateHorizontalApertureOffsetAttr((image["width"] / 2 - lens["principal_px"][0]) * mm_per_px)
    camera.CreateVerticalApertureOffsetAttr((lens["principal_px"][1] - image["height"] / 2) * mm_per_px_y)
    camera.CreateClippingRangeAttr(Gf.Vec2f(1.0, 1e6))
    focal = camera.CreateFocalLengthAttr()
    transform = camera.AddTransformOp(UsdGeom.XformOp.PrecisionDouble)
    for f in document["frames"]:
        transform.Set(_matrix(np.array(f["world_from_camera"]) @ USD_FROM_CAMERA, f["position"]), f["frame"])
        focal.Set(f["focal_px"] * mm_per_px, f["frame"])
    prim = camera.GetPrim()
    prim.CreateAttribute("amberkeel:radial", Sdf.ValueTypeNames.DoubleArray).Set(Vt.DoubleArray(lens["radial"]))
    prim.CreateAttribute("amberkeel:tangential", Sdf.ValueTypeNames.DoubleArray).Set(Vt.DoubleArray(lens["tangential"]))


def _write_points(stage: Usd.Stage, path: str, found: Sequence[Any]) -> None:
    points = UsdGeom.Points.Define(stage, path)
    used = [p for p in found if p["state"] != "excluded"]
    xyz = np.array([p["xyz"] for p in used]).reshape(-1, 3) * CM_PER_METRE
    points.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(xyz.astype(np.float32)))
    points.CreateWidthsAttr(Vt.FloatArray([3.0]))
    points.SetWidthsInterpolation(UsdGeom.Tokens.constant)
    names = points.GetPrim().CreateAttribute("amberkeel:tracks", Sdf.ValueTypeNames.StringArray)
    names.Set(Vt.StringArray([p["track"] for p in used]))
