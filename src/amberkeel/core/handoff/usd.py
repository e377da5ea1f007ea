"""Write a solve as USD: an animated camera, its points, and the plate's name.

USD cameras look down -Z with Y up, so ours are turned by half a turn about X. The stage is in centimetres, so that
apertures and focal lengths (tenths of a scene unit) are in millimetres. USD has no lens distortion: the camera is that
of the undistorted plate, and the coefficients ride along as attributes.
"""

from fractions import Fraction

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
    _write_points(stage, document)
    return stage.GetRootLayer().ExportToString()


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
        matrix = np.eye(4)
        matrix[:3, :3] = (np.array(f["world_from_camera"]) @ USD_FROM_CAMERA).T
        matrix[3, :3] = np.array(f["position"]) * CM_PER_METRE
        transform.Set(Gf.Matrix4d(matrix.tolist()), f["frame"])
        focal.Set(f["focal_px"] * mm_per_px, f["frame"])
    prim = camera.GetPrim()
    prim.CreateAttribute("amberkeel:radial", Sdf.ValueTypeNames.DoubleArray).Set(Vt.DoubleArray(lens["radial"]))
    prim.CreateAttribute("amberkeel:tangential", Sdf.ValueTypeNames.DoubleArray).Set(Vt.DoubleArray(lens["tangential"]))


def _write_points(stage, document: SolveDocument) -> None:
    points = UsdGeom.Points.Define(stage, "/Shot/Points")
    used = [p for p in document["points"] if p["state"] != "excluded"]
    xyz = np.array([p["xyz"] for p in used]).reshape(-1, 3) * CM_PER_METRE
    points.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(xyz.astype(np.float32)))
    points.CreateWidthsAttr(Vt.FloatArray([3.0]))
    points.SetWidthsInterpolation(UsdGeom.Tokens.constant)
    names = points.GetPrim().CreateAttribute("amberkeel:tracks", Sdf.ValueTypeNames.StringArray)
    names.Set(Vt.StringArray([p["track"] for p in used]))
