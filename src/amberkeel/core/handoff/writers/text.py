"""A camera path as plain text with its matrix convention stated in it, to be read by anything."""

from pathlib import Path

import numpy as np

from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.writers.base import (
    DISTORTION,
    POINTS,
    READOUT,
    Convention,
    Read,
    Writer,
    pinhole_path,
)
from amberkeel.core.handoff.writers.ply import words_of


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    out = {}
    for one in scene.cameras:
        lens = one.path.lens
        lines = [
            f"# {one.name}: camera path, {scene.fps.numerator}/{scene.fps.denominator} frames a second",
            *(f"# {line}" for line in words_of(convention)),
            "# a line a frame: frame, then world_from_camera as a 4x4 matrix by rows that multiplies columns",
            "# (camera axes: x right, y down, z forward), then fx fy cx cy in pixels from the top left corner",
            f"# size {lens.width} {lens.height}",
        ]
        for k, frame in enumerate(one.path.frames.tolist()):
            pose = np.eye(4)
            pose[:3, :3] = convention.turns(one.path.world_from_camera[k])
            pose[:3, 3] = convention.points(one.path.positions[k])
            now = one.path.lens_at(k)
            numbers = [*pose.ravel().tolist(), *now.focal_px, *now.principal_px]
            lines.append(f"{frame + convention.offset} " + " ".join(f"{v:.12g}" for v in numbers))
        name = f"{stem}_camera.txt" if len(scene.cameras) == 1 else f"{stem}_{one.name}_camera.txt"
        out[name] = ("\n".join(lines) + "\n").encode()
    return out


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    cameras = {}
    for path in sorted(folder.glob(f"{stem}*_camera.txt")):
        lines = path.read_text().splitlines()
        (size,) = [line.split()[2:] for line in lines if line.startswith("# size ")]
        rows = np.array([[float(v) for v in line.split()] for line in lines if not line.startswith("#")])
        poses = rows[:, 1:17].reshape(-1, 4, 4)
        frames = rows[:, 0].astype(int) - convention.offset
        turns, positions = convention.axes.T @ poses[:, :3, :3], convention.back(poses[:, :3, 3])
        fx, fy, cx, cy = rows[0, 17:]
        wide, high = (int(v) for v in size)
        cameras[lines[0].split()[1].rstrip(":")] = pinhole_path(
            frames, positions, turns, (wide, high), rows[:, 17], (cx, cy), fy / fx
        )
    return Read(cameras)


TEXT = Writer("txt", "Camera as plain text", _write, _read, (POINTS, DISTORTION, READOUT), mirrored=True)
