"""OBJ: points as named objects of one vertex, meshes with texture coordinates. Neither unit nor axes are part of it."""

from pathlib import Path

import numpy as np

from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.writers.base import CAMERA, Convention, Read, Writer
from amberkeel.core.handoff.writers.ply import words_of


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    lines = [f"# {line}" for line in words_of(convention)]
    at, textured = 1, 1
    for name, xyz in zip(scene.points.names, convention.points(scene.points.xyz).reshape(-1, 3).tolist()):
        lines += [f"o {_word(name)}", "v " + " ".join(f"{v:.9g}" for v in xyz), f"p {at}"]
        at += 1
    for one in scene.things:
        lines.append(f"o {one.name}")
        lines += ["v " + " ".join(f"{v:.9g}" for v in xyz) for xyz in convention.points(one.vertices).tolist()]
        if len(one.uv) == len(one.vertices):
            lines += [f"vt {u:.6g} {v:.6g}" for u, v in one.uv.tolist()]
            lines += ["f " + " ".join(f"{k + at}/{k + textured}" for k in face) for face in one.faces.tolist()]
            textured += len(one.uv)
        else:
            lines += ["f " + " ".join(str(k + at) for k in face) for face in one.faces.tolist()]
        at += len(one.vertices)
    return {f"{stem}.obj": ("\n".join(lines) + "\n").encode()}


def _word(name: str) -> str:
    return "_".join(name.split()) or "point"


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    import trimesh

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
    has_faces = any(line.startswith("f ") for line in path.read_text().splitlines())
    loaded = trimesh.load(str(path), force="mesh", process=False) if has_faces else None
    return Read(points=points, faces=0 if loaded is None else len(loaded.faces))


OBJ = Writer("obj", "OBJ: points, meshes", _write, _read, (CAMERA,), mirrored=True)
