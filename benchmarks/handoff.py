"""What leaves a large shot takes: time and memory of writing and reading back, and of straightening 4K EXR."""

import tempfile
import time
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.handoff.prove import prove
from amberkeel.core.handoff.scene import Camera, Points, Scene, Thing, straightened
from amberkeel.core.handoff.writers import WRITERS
from amberkeel.core.handoff.writers.base import Convention
from amberkeel.core.lens import Lens
from amberkeel.core.lens.picture import canvas_for, undistort_map
from amberkeel.core.lens.profile import LensProfile
from amberkeel.core.lens.straighten import StraightenOrder, straighten_plate
from amberkeel.core.pictures.read import read_raw
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.plate import open_plate
from benchmarks.peak import peak_bytes

FRAMES, POINTS, TRIANGLES = 2000, 5000, 100_000
EXR_FRAMES = 6


def run() -> None:
    """Print what large scenes and 4K plates take."""
    scene = straightened(_large())
    with tempfile.TemporaryDirectory() as folder:
        for key, target in (("usda", 20), ("usdc", 20), ("glb", 20), ("gltf", 20), ("dae", 0), ("csv", 0)):
            writer = WRITERS[key]
            convention = writer.convention(Convention(0.01, fps=24.0))
            began = time.perf_counter()
            for name, data in writer.write(scene, convention, "large").items():
                (Path(folder) / name).write_bytes(data)
            written = time.perf_counter() - began
            proof = prove(scene, writer, convention, Path(folder), "large")
            wished = f" (target {target})" if target else ""
            peak = peak_bytes() / 2**30
            print(
                f"{key}: {FRAMES} frames, {POINTS} points, {TRIANGLES} triangles written in {written:.1f} s{wished}, "
                f"proved {time.perf_counter() - began:.1f} s, {proof.px:.4f} px, {peak:.2f} GiB (target 1.5)"
            )
    _exr()


def _large() -> Scene:
    rng = np.random.default_rng(0)
    turn = np.linspace(0.0, 1.0, FRAMES)
    path = CameraPath(
        np.arange(1001, 1001 + FRAMES), np.column_stack([4.0 * turn, 1.6 + 0.1 * np.sin(9 * turn), -2.0 * turn]),
        np.array([rotation_exp(np.array([np.pi, 0.4 * t, 0.0])) for t in turn]),
        Lens.centred(1920, 1080, 2200.0, -0.06),
    )  # fmt: skip
    xyz = rng.uniform([-6.0, -3.0, -16.0], [10.0, 4.0, -5.0], (POINTS, 3))
    names = tuple(f"a{k:05d}" for k in range(POINTS))
    side = int(np.sqrt(TRIANGLES / 2)) + 1
    grid = np.stack(np.meshgrid(np.arange(side), np.arange(side)), -1).reshape(-1, 2)
    at = np.arange((side - 1) * side).reshape(side - 1, side)[:, :-1].ravel()
    faces = np.concatenate(
        [np.column_stack([at, at + 1, at + side]), np.column_stack([at + 1, at + side + 1, at + side])]
    )
    vertices = np.column_stack([0.05 * grid[:, 0], rng.normal(0, 0.02, len(grid)), -0.05 * grid[:, 1]])
    ground = Thing("Ground", "proxy", vertices, faces[:TRIANGLES], np.zeros((0, 2)))
    points = Points(names, ("auto",) * POINTS, xyz, np.full(POINTS, 0.01), np.full(POINTS, 0.1))
    return Scene("LARGE", Fraction(24), True, (Camera("LARGE", path, 24.0, "large", None, 1920),), points, (ground,))


def _exr() -> None:
    """Print the speed of straightening 4K EXR, over that of the same remap and read and write done bare."""
    rng = np.random.default_rng(0)
    lens = Lens.centred(3840, 2160, 4200.0, -0.08)
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "plate"
        home.mkdir()
        for k in range(EXR_FRAMES):
            write_picture(home / f"p.{1001 + k}.exr", rng.random((2160, 3840, 3)).astype(np.float32))
        plate, profile = open_plate(str(home)), LensProfile("lens", lens, "typed")
        began = time.perf_counter()
        straighten_plate(plate, profile, Path(folder) / "ours", StraightenOrder("all", "cubic", "exr"))
        ours = time.perf_counter() - began
        began = time.perf_counter()
        x, y = (m.astype(np.float32) for m in np.moveaxis(np.asarray(undistort_map(lens, canvas_for(lens))), -1, 0))
        (Path(folder) / "bare").mkdir()
        for k in range(EXR_FRAMES):
            picture = read_raw(home / f"p.{1001 + k}.exr")
            drawn = cv2.remap(picture, x - 0.5, y - 0.5, cv2.INTER_CUBIC)
            write_picture(Path(folder) / "bare" / f"b.{k}.exr", drawn)
        bare = time.perf_counter() - began
        print(
            f"4K EXR straightened at {bare / ours:.2f} of the bare speed (target 0.7), "
            f"{ours / EXR_FRAMES:.2f} s a frame"
        )
