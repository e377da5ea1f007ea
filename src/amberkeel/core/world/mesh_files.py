"""Meshes in files: PLY, OBJ, glTF and COLLADA, read and written by trimesh."""

import io
from pathlib import Path

import numpy as np
import trimesh

from amberkeel.core.errors import WorldError
from amberkeel.core.foreign import guarded
from amberkeel.core.foreign.counted import check_collada, gltf_parts
from amberkeel.core.units import METRES
from amberkeel.core.world.solids import Solid, of_mesh

KINDS = "ply", "obj", "gltf", "glb", "dae"
WRITTEN = "ply", "obj", "glb", "dae"

UP_AXES = {"y": np.eye(3), "z": np.array([[1.0, 0, 0], [0, 0, 1.0], [0, -1.0, 0]])}
"""world_from_file for each axis that may be up in a file."""

MOST_BYTES, MOST_TRIANGLES = 256 << 20, 300_000
"""What is read; larger meshes are refused in words: nothing here needs more to stand for a set."""


@guarded("This mesh", WorldError, help="Is it damaged? Of a .gltf with files beside it, send the .glb.")
def read_mesh(data: bytes, kind: str, unit: str = "m", up: str = "y") -> Solid:
    """Return a mesh from a file's bytes, metres, Y up.

    Parameters
    ----------
    data : of the file. kind : its suffix without the dot, one of `KINDS`. unit : of the file, one of `METRES`.
    up : the axis that is up in it, "y" or "z".

    Raises
    ------
    WorldError : it is no such file, holds no triangles, or too many.
    """
    kind = kind.lower().lstrip(".")
    if kind not in KINDS:
        raise WorldError(f"“.{kind[:10]}” is no mesh that is read.", f"Send {', '.join(KINDS)}.")
    if unit not in METRES or up not in UP_AXES:
        raise WorldError("The unit is m, cm, mm, in or ft; up is y or z.")
    if len(data) > MOST_BYTES:
        raise WorldError("This mesh is larger than 256 MB.", "Decimate it first.")
    if kind in ("gltf", "glb"):
        gltf_parts(data, kind == "glb")
    elif kind == "dae":
        check_collada(data)
    try:
        scene = trimesh.load_scene(io.BytesIO(data), file_type=kind)
        meshes = [one for one in scene.dump() if isinstance(one, trimesh.Trimesh)]
    except Exception as error:  # Readers of foreign files raise whatever their parsers do.
        raise WorldError(
            "This file is no mesh that can be read.", "Is it damaged? Of a .gltf with files beside it, send the .glb."
        ) from error
    count = sum(len(one.faces) for one in meshes)
    if count > MOST_TRIANGLES:
        raise WorldError(f"This mesh has {count:,} triangles.", f"Decimate it to {MOST_TRIANGLES:,} or fewer first.")
    if not count:
        raise WorldError("This file holds no triangles.", "A mesh is wanted, not points or curves.")
    starts = np.cumsum([0, *(len(one.vertices) for one in meshes)])
    corners = np.concatenate([np.array(one.vertices, dtype=np.float64) for one in meshes])
    faces = np.concatenate([np.array(one.faces, dtype=np.int64) + at for one, at in zip(meshes, starts)])
    return of_mesh(corners @ UP_AXES[up].T * METRES[unit], faces)


def write_mesh(solid: Solid, path: Path) -> None:
    """Write a solid's triangles to a file of one of `WRITTEN`, by its suffix; raises WorldError for another."""
    kind = path.suffix.lower().lstrip(".")
    if kind not in WRITTEN:
        raise WorldError(f"“.{kind[:10]}” is no mesh that is written.", f"Choose {', '.join(WRITTEN)}.")
    made = trimesh.Trimesh(solid.vertices, solid.faces, process=False)
    data = made.export(file_type=kind)
    path.write_bytes(data if isinstance(data, bytes) else str(data).encode())
