"""`body.json`: a body's path and points in its camera's world (docs/ties.md)."""

import json
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.solve.solution import Solution
from amberkeel.core.ties.bodies.body import Axes, Body, in_world
from amberkeel.core.ties.bodies.size import (
    Relative,
    Size,
    by_ground,
    by_length,
    by_still,
    by_tie,
    guessed,
    relative_to,
)
from amberkeel.core.world.datum import Datum
from amberkeel.core.world.solids import Solid

FORMAT, VERSION = "amberkeel-body", 1

SIZE_HINT = (
    "Write length=TRACK,TRACK,1.20 or ground=1003 or still=1001-1012 or tie=TRACK,1003,x,y,z, the tracks as tracks.csv "
    "of the body's solve names them."
)


@dataclass(frozen=True)
class SizeOrder:
    """How a body's size is told, as it was typed: length, ground, still or tie, and what belongs to it; an empty kind
    where it is guessed.
    """

    kind: str = ""
    words: tuple[str, ...] = ()


def typed_size(text: str | None) -> SizeOrder:
    """Return what was typed of a body's size; raises TieError where it cannot be read."""
    if not text:
        return SizeOrder()
    kind, _, rest = text.partition("=")
    words = tuple(word.strip() for word in rest.split(","))
    count = {"length": (3,), "ground": (1,), "still": (1,), "tie": (5,)}.get(kind.strip(), ())
    if len(words) not in count or "" in words:
        raise TieError(f"“{text}” does not tell a size.", SIZE_HINT)
    return SizeOrder(kind.strip(), words)


def told(order: SizeOrder, relative: Relative, names: dict[str, int], usual: float) -> Size:
    """Return a body's size as an order tells it.

    Parameters
    ----------
    order : as it was typed. relative : the body beside its camera. names : ids by the tracks' names. usual : distance
        of the camera's own points, units of its world.
    """
    try:
        if order.kind == "length":
            a, b, length = order.words
            return by_length(relative, (_known(names, a), _known(names, b)), float(length))
        if order.kind == "ground":
            return by_ground(relative, int(order.words[0]))
        if order.kind == "still":
            first, last = order.words[0].split("-")
            return by_still(relative, int(first), int(last))
        if order.kind == "tie":
            track, frame, *xyz = order.words
            return by_tie(relative, _known(names, track), int(frame), np.array([float(v) for v in xyz]))
    except ValueError as error:
        raise TieError(f"“{order.kind}={','.join(order.words)}” does not tell a size.", SIZE_HINT) from error
    return guessed(relative, usual)


def _known(names: dict[str, int], name: str) -> int:
    if name not in names:
        raise TieError(f"The body has no track “{name}”.", "Look for its name in tracks.csv of the body's solve.")
    return names[name]


def placed(camera: SolveDocument, solution: Solution, order: SizeOrder) -> Body:
    """Return a body in its camera's world.

    Parameters
    ----------
    camera : its solve. solution : of the body's tracks alone. order : how its size is told.
    """
    xyz = np.array([p["xyz"] for p in camera["points"] if p["state"] != "excluded"]).reshape(-1, 3)
    return placed_beside(read_path(camera), xyz, solution, order)


def placed_beside(
    path: CameraPath, scene: np.ndarray, solution: Solution, order: SizeOrder, axes: Axes = Axes()
) -> Body:
    """Return a body in the world of a camera.

    Parameters
    ----------
    path : the camera. scene : (P, 3) points that it was solved on, in its world. solution : of the body's tracks alone.
    order : how its size is told. axes : what its own coordinates are.
    """
    relative = relative_to(path, solution)
    names = {name: int(track) for name, track in zip(solution.tracks.names, solution.tracks.ids)}
    usual = float(np.median(np.linalg.norm(scene - path.positions[0], axis=1))) if len(scene) else 1.0
    return in_world(relative, told(order, relative, names, usual), axes)


def body_document(body: Body, solution: Solution, plate: str, proxies: Iterable[tuple[str, Solid]] = ()) -> dict:
    """Return a body ready for JSON.

    Parameters
    ----------
    body : in the world. solution : its own solve. plate : name. proxies : what stands for it: of each its name, and its
        triangles in the body's coordinates.
    """
    rows = solution.path.rows_of(body.frames)
    residual = dict(zip(solution.tracks.ids.tolist(), solution.track_rms))
    name = dict(zip(solution.tracks.ids.tolist(), solution.tracks.names))
    state = dict(zip(solution.tracks.ids.tolist(), solution.tracks.states))

    def known(value: float) -> float | None:
        return float(value) if np.isfinite(value) else None

    turned = solution.rotation_sigma
    return {
        "format": FORMAT,
        "version": VERSION,
        "plate": plate,
        "size": {"told": body.size.told or None, "sigma": body.size.sigma},
        "frames": [
            {
                "frame": int(frame),
                "position": body.positions[k].tolist(),
                "world_from_body": body.world_from_body[k].tolist(),
                "position_sigma": known(solution.position_sigma[rows[k]] * body.size.scale),
                "rotation_sigma": None if turned is None else known(turned[rows[k]]),
            }
            for k, frame in enumerate(body.frames)
        ],
        "points": [
            {"track": name[t], "xyz": xyz.tolist(), "state": state[t], "residual_px": known(residual[t])}
            for t, xyz in zip(body.ids.tolist(), body.points)
        ],
        "proxies": [
            {"name": words, "vertices": solid.vertices.tolist(), "faces": solid.faces.tolist(), "uv": solid.uv.tolist()}
            for words, solid in proxies
        ],
    }


def body_files(
    camera: SolveDocument, solution: Solution, order: SizeOrder, plate: str, sensor_mm: float
) -> tuple[dict[str, str], Datum]:
    """Return what leaves of a body by name, body.json and body.usda, and what takes its own solve to its own frame.

    Parameters
    ----------
    camera : solve of the same plate. solution : of the body's tracks. order : how its size is told. plate : name.
    sensor_mm : width of the filmed part of the sensor.
    """
    from amberkeel.core.handoff.usd import body_usd_text

    body = placed(camera, solution, order)
    found = body_document(body, solution, plate)
    texts = {
        "body.json": json.dumps(found, indent=1, allow_nan=False), "body.usda": body_usd_text(camera, found, sensor_mm),
    }  # fmt: skip
    return texts, body.own_from_solve


def size_sentence(document: dict) -> str:
    """Return how a body's size was told, as a sentence."""
    told, sigma = document["size"]["told"], document["size"]["sigma"]
    if not told:
        return "Nothing tells the body's size: it was put as far away as things usually are. Give --size."
    return f"The body's size is told by {told}, to {100 * sigma:.2f} %."
