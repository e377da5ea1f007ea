"""Tables (CSV): a camera's frames with its pose as a matrix and its lens, points, and bodies."""

import csv
import io
from pathlib import Path

import numpy as np

from amberkeel.core.handoff.scene import Camera, Scene
from amberkeel.core.handoff.writers.base import DISTORTION, READOUT, Convention, Read, Writer, pinhole_path

MATRIX = [f"r{i}{j}" for i in range(3) for j in range(3)]


def _table(columns: list[str], rows) -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows(rows)
    return out.getvalue().encode()


def _pose(convention: Convention, turn: np.ndarray, position: np.ndarray) -> list[str]:
    flat = convention.turns(turn).ravel().tolist()
    return [*(f"{v:.9f}" for v in convention.points(position).tolist()), *(f"{v:.12f}" for v in flat)]


def camera_rows(one: Camera, convention: Convention) -> bytes:
    """Return a camera as a table: frame, position, world_from_camera by rows (camera axes x right, y down, z forward),
    focal length and principal point in pixels, the picture's size.

    Parameters
    ----------
    one : the camera. convention : its units, axes and frame numbers.
    """
    lens = one.path.lens
    columns = [
        "frame", "x", "y", "z", *MATRIX, "focal_px", "focal_mm", "cx_px", "cy_px", "width_px", "height_px",
        "pixel_aspect",
    ]  # fmt: skip
    fixed = [f"{lens.principal_px[0]:.6f}", f"{lens.principal_px[1]:.6f}", lens.width, lens.height, lens.pixel_aspect]
    rows = [
        [
            frame + convention.offset, *_pose(convention, one.path.world_from_camera[k], one.path.positions[k]),
            f"{one.path.lens_at(k).focal_px[0]:.8f}", f"{one.focal_mm(k):.8f}", *fixed,
        ]
        for k, frame in enumerate(one.path.frames.tolist())
    ]  # fmt: skip
    return _table(columns, rows)


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    alone = len(scene.cameras) == 1
    out = {
        f"{stem}_camera.csv" if alone else f"{stem}_{one.name}_camera.csv": camera_rows(one, convention)
        for one in scene.cameras
    }
    p = scene.points
    rows = [
        [name, kind, *(f"{v:.9f}" for v in xyz), _known(sigma / convention.unit_m), _known(residual), group]
        for name, kind, xyz, sigma, residual, group in zip(
            p.names,
            p.kinds,
            convention.points(p.xyz).reshape(-1, 3).tolist(),
            p.sigma.tolist(),
            p.residual.tolist(),
            p.group_of,
        )
    ]
    out[f"{stem}_points.csv"] = _table(["track", "kind", "x", "y", "z", "sigma", "residual_px", "group"], rows)
    for body in scene.bodies:
        rows = [
            [frame + convention.offset, *_pose(convention, turn, position)]
            for frame, turn, position in zip(body.frames.tolist(), body.turns, body.positions)
        ]
        out[f"{stem}_{body.name}.csv"] = _table(["frame", "x", "y", "z", *MATRIX], rows)
    return out


def _known(value: float) -> str:
    return f"{value:.6f}" if np.isfinite(value) else ""


def _rows(path: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(path.read_text())))


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    cameras, bodies = {}, {}
    for path in sorted(folder.glob(f"{stem}_*.csv")):
        if path.name == f"{stem}_points.csv":
            continue
        rows = _rows(path)
        frames = np.array([int(r["frame"]) for r in rows]) - convention.offset
        positions = convention.back(np.array([[float(r[k]) for k in "xyz"] for r in rows]))
        name = path.stem[len(stem) + 1 :]
        if "focal_px" not in rows[0]:
            bodies[name] = positions
            continue
        turns = np.array([[float(r[k]) for k in MATRIX] for r in rows]).reshape(-1, 3, 3)
        one = rows[0]
        cameras[name.removesuffix("camera").rstrip("_") or "Camera"] = pinhole_path(
            frames, positions, convention.axes.T @ turns, (int(one["width_px"]), int(one["height_px"])),
            np.array([float(r["focal_px"]) for r in rows]), (float(one["cx_px"]), float(one["cy_px"])),
            float(one["pixel_aspect"]),
        )  # fmt: skip
    rows = _rows(folder / f"{stem}_points.csv")
    points = {r["track"]: convention.back(np.array([float(r[k]) for k in "xyz"])) for r in rows}
    return Read(cameras, points, bodies)


TABLES = Writer("csv", "Tables (CSV)", _write, _read, (DISTORTION, READOUT), mirrored=True)
