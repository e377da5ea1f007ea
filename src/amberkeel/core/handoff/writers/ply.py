"""PLY: points with sigma, residual and their tracks' names in comments, and meshes in a file of their own."""

from pathlib import Path

import numpy as np

from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.writers.base import CAMERA, Convention, Read, Writer


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    out = {f"{stem}_points.ply": _points(scene, convention)}
    if scene.things:
        out[f"{stem}_meshes.ply"] = _meshes(scene, convention)
    return out


def _head(rows: list[str]) -> bytes:
    lines = ["ply", "format binary_little_endian 1.0", *rows, "end_header"]
    return ("\n".join(lines) + "\n").encode("ascii", "replace")


def _points(scene: Scene, convention: Convention) -> bytes:
    points = scene.points
    kinds = np.dtype([(name, "<f8") for name in "xyz"] + [("sigma", "<f4"), ("residual_px", "<f4")])
    rows = np.zeros(len(points.names), kinds)
    for name, values in zip("xyz", convention.points(points.xyz).reshape(-1, 3).T):
        rows[name] = values
    rows["sigma"], rows["residual_px"] = points.sigma / convention.unit_m, points.residual
    said = [f"comment {line}" for line in words_of(convention)]
    names = [f"comment track {k} {name}" for k, name in enumerate(points.names)]
    names += [f"comment group {k} {group}" for k, group in enumerate(points.groups) if group]
    properties = [f"property double {name}" for name in "xyz"]
    properties += ["property float sigma", "property float residual_px"]
    return _head([*said, *names, f"element vertex {len(rows)}", *properties]) + rows.tobytes()


def _meshes(scene: Scene, convention: Convention) -> bytes:
    vertices = np.concatenate([convention.points(one.vertices) for one in scene.things])
    starts = np.cumsum([0, *(len(one.vertices) for one in scene.things)])
    faces = np.concatenate([one.faces + start for one, start in zip(scene.things, starts)])
    rows = np.zeros(len(faces), np.dtype([("count", "u1"), ("rows", "<i4", 3)]))
    rows["count"], rows["rows"] = 3, faces
    said = [f"comment {line}" for line in words_of(convention)]
    properties = [f"property float {name}" for name in "xyz"]
    head = [*said, f"element vertex {len(vertices)}", *properties, f"element face {len(faces)}"]
    return _head([*head, "property list uchar int vertex_indices"]) + vertices.astype("<f4").tobytes() + rows.tobytes()


def words_of(convention: Convention) -> list[str]:
    """Return a convention in words, for formats that cannot say it themselves."""
    hand = "left-handed" if convention.left_handed else "right-handed"
    return [f"unit {convention.unit_m:g} m, {convention.up.upper()} up, {hand}"]


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    import trimesh

    path = folder / f"{stem}_points.ply"
    cloud = trimesh.load(str(path))
    head = path.read_bytes().partition(b"end_header")[0].decode("ascii", "replace").splitlines()
    names = [line.split(" ", 3)[3] for line in head if line.startswith("comment track ")]
    xyz = convention.back(np.asarray(getattr(cloud, "vertices", np.zeros((0, 3))), float).reshape(-1, 3))
    meshes = folder / f"{stem}_meshes.ply"
    faces = len(trimesh.load_mesh(str(meshes), process=False).faces) if meshes.exists() else 0
    return Read(points=dict(zip(names, xyz)), faces=faces)


PLY = Writer("ply", "PLY: points, meshes", _write, _read, (CAMERA,), mirrored=True)
