"""solve.json and world.json: all that a solve says, in the scene's world, and what stands in it (docs/solve-json.md,
docs/world-json.md). Metres, Y up, the plate's own frame numbers, always.
"""

import json
from pathlib import Path
from typing import cast

import numpy as np

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.scene import Camera, Scene
from amberkeel.core.handoff.solve_file import SolveDocument, read_document
from amberkeel.core.handoff.writers.base import Convention, Read, Writer
from amberkeel.core.lens.profile import lens_document
from amberkeel.core.world.standing import Probe, Proxy
from amberkeel.core.world.statement import Statement
from amberkeel.core.world.world_file import Mesh, Similarity, World, read_world


def _write(scene: Scene, convention: Convention, stem: str) -> dict[str, bytes]:
    out = {}
    for one in scene.cameras:
        document = scene.documents.get(one.name)
        if document is None:
            raise HandoffError(f"The solve of {one.name} is not at hand.", "Leave solve.json out.")
        out[f"{_stem(scene, stem, one)}.solve.json"] = json.dumps(_seen(document, one, scene), indent=1).encode()
    out[f"{stem}.world.json"] = _world(scene).model_dump_json(indent=1).encode()
    return out


def _stem(scene: Scene, stem: str, one: Camera) -> str:
    return stem if len(scene.cameras) == 1 else f"{stem}_{one.name}"


def _seen(document: SolveDocument, one: Camera, scene: Scene) -> SolveDocument:
    """Return a solve with the camera as it leaves, by the lens of the plate that it fits, and the points that leave."""
    path, lens, leave = one.path, one.path.lens, {name.rpartition(":")[2] for name in scene.points.names}
    poses = zip(document["frames"], path.positions.tolist(), path.world_from_camera.tolist())
    changed = {
        "frames": [
            {**frame, "position": at, "world_from_camera": turn, "focal_px": path.lens_at(k).focal_px[0]}
            for k, (frame, at, turn) in enumerate(poses)
        ],
        "image": {"width": lens.width, "height": lens.height, "pixel_aspect": lens.pixel_aspect},
        "lens": lens_document(lens),
        "points": [point for point in document["points"] if point["track"] in leave],
    }
    return cast(SolveDocument, {**document, **changed})


def _world(scene: Scene) -> World:
    """Return what stands in the scene; its coordinates are the solve's, which is in the world already."""
    still = Similarity(scale=1.0, rotation=_rows(np.eye(3)), translation=(0.0, 0.0, 0.0))
    proxies, probes, meshes = {}, {}, {}
    for thing in scene.things:
        if thing.kind == "proxy":
            proxies[thing.name] = Proxy(kind="mesh", name=thing.name[:80])
        else:
            probes[thing.name] = Probe(kind="mesh", name=thing.name[:80])
        meshes[thing.name] = Mesh(vertices=_rows(thing.vertices), faces=_rows(thing.faces))
    return World(
        metric=scene.metric, datum=still, stated=Statement(), proxies=proxies, probes=probes, meshes=meshes
    )  # fmt: skip


def _rows(values: np.ndarray):
    return tuple(tuple(row) for row in np.asarray(values).tolist())


def _read(folder: Path, stem: str, convention: Convention) -> Read:
    cameras, points = {}, {}
    files = sorted(folder.glob(f"{stem}*.solve.json"))
    for path in files:
        document = read_document(json.loads(path.read_text()))
        name = path.name.removesuffix(".solve.json").removeprefix(stem).lstrip("_")
        cameras[name or "camera"] = read_path(document)
        prefix = f"{name}:" if name else ""
        for point in document["points"]:
            points[point["track"] if point["kind"] == "tag" else f"{prefix}{point['track']}"] = np.array(point["xyz"])
    world = read_world((folder / f"{stem}.world.json").read_text())
    faces = sum(len(mesh.faces) for mesh in world.meshes.values())
    return Read(cameras, points, faces=faces)


SOLVE = Writer(
    "json", "solve.json and world.json", _write, _read, fixed_unit=1.0, fixed_up="y", own_frames=True
)  # fmt: skip
