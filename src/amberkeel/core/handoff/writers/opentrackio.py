"""OpenTrackIO samples, a JSON file a frame: metres, Z up, the camera looking along its own +Y.

Pan turns about Z, tilt about X, roll about Y, in that order, in degrees. Radial and tangential coefficients are those
of undistorted coordinates over the focal length (Brown 1966). Points are not part of it.
"""

import json
import uuid
from fractions import Fraction
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.handoff.scene import Camera, Scene
from amberkeel.core.handoff.writers.base import POINTS, READOUT, Convention, Read, Writer, pinhole_path

CAMERA_FROM_OPEN = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]])
"""From a camera that looks along +Y with Z up to ours, which looks along +Z with Y down."""

PROTOCOL = {"name": "OpenTrackIO", "version": [1, 0, 1]}
BROWN = "Brown-Conrady U-D"


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    out = {}
    for one in scene.cameras:
        folder = f"{stem}_opentrackio" if len(scene.cameras) == 1 else f"{stem}_opentrackio/{one.name}"
        for row, frame in enumerate(one.path.frames.tolist()):
            text = json.dumps(_sample(scene, one, row, frame + convention.offset, convention), indent=1)
            out[f"{folder}/{frame + convention.offset:04d}.json"] = text.encode()
    return out


def _sample(scene: Scene, one: Camera, row: int, frame: int, convention: Convention) -> dict:
    lens = one.path.lens_at(row)
    x, y, z = convention.points(one.path.positions[row]).tolist()
    turn = convention.turns(one.path.world_from_camera[row]) @ CAMERA_FROM_OPEN
    pan, tilt, roll = Rotation.from_matrix(turn).as_euler("ZXY", degrees=True).tolist()
    mm_y = one.mm_per_px / lens.pixel_aspect
    shift = (lens.principal_px[0] - lens.width / 2) * one.mm_per_px, (lens.principal_px[1] - lens.height / 2) * mm_y
    found: dict = {
        "protocol": PROTOCOL,
        "sampleId": f"urn:uuid:{uuid.uuid5(uuid.NAMESPACE_URL, f'{scene.name}/{one.name}/{frame}')}",
        "sourceId": f"urn:uuid:{uuid.uuid5(uuid.NAMESPACE_URL, f'{scene.name}/{one.name}')}",
        "static": {
            "camera": {
                "label": one.name,
                "activeSensorPhysicalDimensions": {"width": one.wide_mm, "height": one.high_mm},
                "activeSensorResolution": {"width": lens.width, "height": lens.height},
                "captureFrameRate": {"num": scene.fps.numerator, "denom": scene.fps.denominator},
                "anamorphicSqueeze": {"num": round(1000 * lens.pixel_aspect), "denom": 1000},
            }
        },
        "timing": {
            "mode": "external", "sequenceNumber": frame,
            "sampleRate": {"num": scene.fps.numerator, "denom": scene.fps.denominator},
            "timecode": _timecode(frame, scene.fps),
        },
        "transforms": [
            {
                "id": "Camera", "translation": {"x": x, "y": y, "z": z},
                "rotation": {"pan": pan, "tilt": tilt, "roll": roll},
            }
        ],
        "lens": {
            "pinholeFocalLength": one.focal_mm(row), "projectionOffset": {"x": shift[0], "y": shift[1]},
        },
    }  # fmt: skip
    if any(lens.radial) or any(lens.tangential):
        found["lens"]["distortion"] = [
            {"model": BROWN, "radial": list(lens.radial), "tangential": list(lens.tangential)}
        ]
    return found


def _timecode(frame: int, fps: Fraction) -> dict:
    base = max(round(float(fps)), 1)
    seconds, frames = divmod(max(frame, 0), base)
    hours, rest = divmod(seconds, 3600)
    return {
        "hours": hours % 24, "minutes": rest // 60, "seconds": rest % 60, "frames": frames,
        "frameRate": {"num": fps.numerator, "denom": fps.denominator},
    }  # fmt: skip


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    home = folder / f"{stem}_opentrackio"
    folders = [one for one in sorted(home.iterdir()) if one.is_dir()] or [home]
    cameras = {}
    for one in folders:
        samples = [json.loads(path.read_text()) for path in sorted(one.glob("*.json"))]
        samples.sort(key=lambda sample: sample["timing"]["sequenceNumber"])
        cameras[samples[0]["static"]["camera"]["label"]] = _camera(samples, convention)
    return Read(cameras)


def _camera(samples: list[dict], convention: Convention):
    moves = [sample["transforms"][0] for sample in samples]
    angles = np.array([[m["rotation"][k] for k in ("pan", "tilt", "roll")] for m in moves])
    turns = Rotation.from_euler("ZXY", angles, degrees=True).as_matrix()
    positions = convention.back(np.array([[m["translation"][k] for k in "xyz"] for m in moves]))
    rotations = convention.axes.T @ turns @ CAMERA_FROM_OPEN.T
    body, glass = samples[0]["static"]["camera"], samples[0]["lens"]
    size = body["activeSensorResolution"]
    wide, high = (body["activeSensorPhysicalDimensions"][k] for k in ("width", "height"))
    mm, mm_y = wide / size["width"], high / size["height"]
    offset = glass["projectionOffset"]
    principal = size["width"] / 2 + offset["x"] / mm, size["height"] / 2 + offset["y"] / mm_y
    frames = np.array([s["timing"]["sequenceNumber"] for s in samples]) - convention.offset
    focal = np.array([s["lens"]["pinholeFocalLength"] for s in samples]) / mm
    path = pinhole_path(
        frames, positions, rotations, (size["width"], size["height"]), focal, principal, mm / mm_y
    )  # fmt: skip
    bent = glass.get("distortion", [{}])[0]
    coefficients = np.zeros(17)
    coefficients[: len(bent.get("radial", []))] = bent.get("radial", [])
    coefficients[3 : 3 + len(bent.get("tangential", []))] = bent.get("tangential", [])
    return type(path)(**{**vars(path), "lens": path.lens.with_coefficients(coefficients)})


OPENTRACKIO = Writer("opentrackio", "OpenTrackIO samples", _write, _read, (POINTS, READOUT), 1.0, "z")
