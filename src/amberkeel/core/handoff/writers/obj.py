"""OBJ: points as named objects of one vertex, meshes with texture coordinates. Neither unit nor axes are part of it."""

import io
import re
from pathlib import Path

import numpy as np

from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.writers.base import (
    CAMERA,
    Convention,
    Read,
    Writer,
    cross_lines,
    texture_files,
    texture_name,
)
from amberkeel.core.handoff.writers.ply import words_of

NO_GROUP = "default"
"""What the format calls the group of what has none."""


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    lines = [f"# {line}" for line in words_of(convention)]
    pictured = [one for one in scene.things if one.textured]
    if pictured:
        lines.append(f"mtllib {stem}.mtl")
    at, textured = 1, 1
    cross, ends = cross_lines(scene.locator / convention.unit_m)
    grouped = zip(
        scene.points.names, scene.points.group_of, convention.points(scene.points.xyz).reshape(-1, 3).tolist()
    )
    for name, group, xyz in grouped:
        lines += [f"o {_word(name)}", *([f"g {_word(group or NO_GROUP)}"] if scene.points.groups else [])]
        lines += ["v " + " ".join(f"{v:.9g}" for v in xyz), f"p {at}"]
        at += 1
        if scene.locator:
            lines += ["v " + " ".join(f"{v:.9g}" for v in np.add(xyz, end).tolist()) for end in cross]
            lines += [f"l {a + at} {b + at}" for a, b in ends.tolist()]
            at += len(cross)
    for one in scene.things:
        lines += [f"o {one.name}", *([f"g {NO_GROUP}"] if scene.points.groups else [])]
        lines += [f"usemtl {one.name}"] if one.textured else ["usemtl none"] if pictured else []
        lines += ["v " + " ".join(f"{v:.9g}" for v in xyz) for xyz in convention.points(one.vertices).tolist()]
        if len(one.uv) == len(one.vertices):
            lines += [f"vt {u:.6g} {v:.6g}" for u, v in one.uv.tolist()]
            lines += ["f " + " ".join(f"{k + at}/{k + textured}" for k in face) for face in one.faces.tolist()]
            textured += len(one.uv)
        else:
            lines += ["f " + " ".join(str(k + at) for k in face) for face in one.faces.tolist()]
        at += len(one.vertices)
    out = {f"{stem}.obj": ("\n".join(lines) + "\n").encode(), **texture_files(pictured, stem)}
    if pictured:
        said = [f"newmtl {one.name}\nKd 1 1 1\nmap_Kd {texture_name(one, stem)}\n" for one in pictured]
        out[f"{stem}.mtl"] = "\n".join(["newmtl none\nKd 0.8 0.8 0.8\n", *said]).encode()
    return out


def _word(name: str) -> str:
    return "_".join(name.split()) or "point"


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    path, points, name = folder / f"{stem}.obj", {}, ""
    vertices: list[list[float]] = []
    for line in path.read_text().splitlines():
        word, _, rest = line.partition(" ")
        if word == "o":
            name = rest
        elif word == "v":
            vertices.append([float(v) for v in rest.split()])
        elif word == "p":
            points[name] = convention.back(np.array(vertices[int(rest) - 1]))
    return Read(points=points, faces=_faces(path.read_text()))


def _faces(text: str) -> int:
    """Return how many triangles there are, as trimesh reads them; texture coordinates are left out, for which it wants
    an imaging library.
    """
    import trimesh

    shapes = [line for line in text.splitlines() if line[:2] in ("v ", "f ")]
    plain = [re.sub(r"/\d+", "", line) if line[0] == "f" else line for line in shapes]
    if not any(line[0] == "f" for line in plain):
        return 0
    return len(trimesh.load_mesh(io.StringIO("\n".join(plain)), file_type="obj", process=False).faces)


OBJ = Writer("obj", "OBJ: points, meshes", _write, _read, (CAMERA,), mirrored=True)
