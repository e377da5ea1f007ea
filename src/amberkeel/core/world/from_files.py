"""The world stage on files: a datum, a mesh, a projection from solve.json, without browser or database."""

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.foreign.texts import read_json
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.solve_file import SolveDocument, read_document
from amberkeel.core.pictures.read import read_raw
from amberkeel.core.plate.plate import Plate
from amberkeel.core.plate.sequence import Sequence
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import EXCLUDED
from amberkeel.core.units import typed_length
from amberkeel.core.world.datum import Solved, find_datum
from amberkeel.core.world.facts import camera_facts
from amberkeel.core.world.projection import MEDIAN
from amberkeel.core.world.relief import Relief, frame_along, relief
from amberkeel.core.world.solids import Solid, of_mesh
from amberkeel.core.world.standing import Proxy, solid_of
from amberkeel.core.world.statement import Direction, Distance, Spot, Statement
from amberkeel.core.world.survey import read_survey
from amberkeel.core.world.textures import seen_again, textures_of
from amberkeel.core.world.world_file import World, datum_in, mesh_part, read_world, world_document


@dataclass(frozen=True)
class WorldOrder:
    """What is stated of a world on the command line: names of tracks with commas between, and lengths."""

    ground: str = ""
    origin: str = ""
    spot: str = ""
    heading: tuple[str, ...] = ()
    distance: tuple[str, ...] = ()
    survey: str = ""
    unit: str = "m"
    flip: bool = False


def load_solve(path: str | Path) -> SolveDocument:
    """Return the document of a solve.json; raises KeelError where it is none."""
    try:
        return read_document(read_json(path))
    except OSError as error:
        raise WorldError(f"{Path(path).name} cannot be read ({error.strerror}).") from error
    except ValueError as error:
        raise WorldError(f"{Path(path).name} is no solve.json.", "Make one with keel solve.") from error


def load_world(path: str | Path) -> World:
    """Return the world of a world.json; raises KeelError where it is none."""
    try:
        return read_world(Path(path).read_text())
    except OSError as error:
        raise WorldError(f"{Path(path).name} cannot be read ({error.strerror}).") from error


def solved_in(document: SolveDocument) -> Solved:
    """Return the camera and points of a solve document; its points' sigmas serve along their rays."""
    path, points = read_path(document), document["points"]
    xyz = np.array([p["xyz"] for p in points], float).reshape(-1, 3)
    used = np.array([p["state"] != EXCLUDED for p in points], bool)
    ids = np.array([p["id"] for p in points], np.int64)
    return Solved(path, ids, xyz, _covariance(path, points, xyz), {p["id"]: p["track"] for p in points}, used)


def _covariance(path: CameraPath, points: list, xyz: np.ndarray) -> np.ndarray | None:
    """Return the points' covariance (T, 3, 3) from their sigmas along and across the ray of the first camera."""
    along = np.array([p.get("sigma_along") or np.nan for p in points], float)
    across = np.array([p.get("sigma_across") or np.nan for p in points], float)
    if not len(points) or not np.isfinite(along).any():
        return None
    ray = xyz - path.positions[0]
    ray = ray / np.maximum(np.linalg.norm(ray, axis=1, keepdims=True), 1e-12)
    both = ray[:, :, None] * ray[:, None, :]
    return along[:, None, None] ** 2 * both + across[:, None, None] ** 2 * (np.eye(3) - both)


def _names(text: str) -> list[int | str]:
    return [name.strip() for name in text.split(",") if name.strip()]


def stated(order: WorldOrder) -> Statement:
    """Return what an order states; raises KeelError for what cannot be read."""
    directions, distances = [], []
    for text in order.heading:
        *ends, axis = _names(text) if text.count(",") == 2 else [*_names(text), "-z"]
        if len(ends) != 2:
            raise WorldError(f"“{text[:60]}” is no heading.", "Write two tracks and an axis, as a0012,a0056,x.")
        directions.append({"tracks": ends, "axis": axis})
    for text in order.distance:
        parts = _names(text)
        if len(parts) not in (3, 4):
            raise WorldError(f"“{text[:60]}” is no distance.", "Write two tracks and a length, as a0012,a0056,2.45m.")
        sigma = typed_length(parts[3], "The sigma", order.unit) if len(parts) == 4 else None
        metres = typed_length(parts[2], "The distance", order.unit)
        distances.append(Distance(metres=metres, tracks=parts[:2], sigma=sigma, typed=str(parts[2]), unit=order.unit))
    if order.survey:
        try:
            distances += read_survey(Path(order.survey).read_text(), order.unit)
        except (OSError, UnicodeDecodeError) as error:
            raise WorldError(f"{Path(order.survey).name} cannot be read.") from error
    spot = None
    if order.spot:
        try:
            frame, x, y = (float(v) for v in order.spot.split(","))
        except ValueError as error:
            raise WorldError(f"“{order.spot[:60]}” is no spot.", "Write frame, x and y, as 1001,480,400.") from error
        spot = Spot(frame=int(frame), xy=(x, y))
    return Statement(
        ground=_names(order.ground), origin=_names(order.origin), spot=spot,
        directions=[Direction.model_validate(one) for one in directions], distances=distances, flip=order.flip,
    )  # fmt: skip


def world_of(document: SolveDocument, statement: Statement) -> World:
    """Return the world that is stated on a solve."""
    solved = solved_in(document)
    found = find_datum(solved, statement)
    fps = float(Fraction(document["plate"]["fps"]))
    return world_document(found, statement, solved.names, camera_facts(found.datum.camera(solved.path), fps))


def with_mesh(
    document: SolveDocument,
    world: World,
    tracks: str,
    longest: str = "",
    smooth: bool = False,
    extend: str = "",
    seen_from: int | None = None,
) -> tuple[World, Relief, list[str]]:
    """Return a world with the ground meshed through tracks, the mesh, and the names of those that stick out.

    Parameters
    ----------
    document : of the solve. world : its datum. tracks : names with commas between, or "all" for all below the camera.
    longest, extend : lengths as typed, or "". smooth : within the points' sigmas. seen_from : the frame from which
        points are looked at, or None for above.
    """
    solved, datum = solved_in(document), datum_in(world)
    xyz = datum.apply(solved.xyz)
    if tracks == "all":
        low = datum.camera(solved.path).positions[:, 1].min()
        rows = np.array([r for r in solved.standing if xyz[r, 1] < low], int)
    else:
        found = [(name, solved.row(name)) for name in _names(tracks)]
        lost = [str(name) for name, row in found if row is None]
        if lost:
            raise WorldError(f"There is no track {lost[0]} with a point in this solve.")
        rows = np.array([row for _, row in found], int)
    along = None
    if seen_from is not None:
        row = int(solved.path.rows_of(np.array([seen_from]))[0])
        if row < 0:
            raise WorldError(f"Frame {seen_from} is not solved.")
        along = -datum.rotation @ solved.path.world_from_camera[row][:, 2]
    frame = frame_along(along)
    sigma = solved.sigma_along(rows, datum.rotation.T @ frame[:, 1])
    sigma = None if sigma is None else datum.scale * sigma
    limit = typed_length(longest, "The longest edge") if longest else None
    made = relief(xyz[rows], sigma, limit, smooth, typed_length(extend, "The edge") if extend else 0.0, frame)
    sticks = [solved.names[int(solved.ids[r])] for r, out in zip(rows, made.sticks_out) if out]
    key = next(f"p{n}" for n in range(1, 10_000) if f"p{n}" not in world.proxies)
    thing = Proxy(kind="mesh", name="Ground mesh", tracks=solved.ids[rows].tolist(), longest=limit, smooth=smooth)
    if along is not None:
        thing = thing.model_copy(update={"along": tuple(along.tolist())})
    proxies, meshes = {**world.proxies, key: thing}, {**world.meshes, key: mesh_part(made.solid)}
    return world.model_copy(update={"proxies": proxies, "meshes": meshes}), made, sticks


def solids_in(world: World) -> dict[str, Solid]:
    """Return the solids of a world's proxies that are shown, by id."""
    out = {}
    for name, thing in world.proxies.items():
        if thing.shown:
            mesh = world.meshes.get(name)
            own = of_mesh(np.array(mesh.vertices), np.array(mesh.faces)) if mesh else None
            out[name] = solid_of(thing, own)
    return out


def light_of(plate: Plate, frame: int) -> tuple[np.ndarray, bool]:
    """Return a frame (H, W, 3) float32 and whether it is linear light as the file holds it, or code values."""
    if isinstance(plate.source, Sequence):
        path = plate.source.path(frame)
        if path.suffix.lower() == ".exr":
            return np.asarray(read_raw(path)[..., :3], np.float32), True
    return plate.read(frame).astype(np.float32), False


Matte = Callable[[int], np.ndarray] | None


@dataclass(frozen=True)
class ProjectOrder:
    """How a plate is projected: `mode`, frames that lend (rows of the path), and mattes of what is left out."""

    mode: str = MEDIAN
    frames: tuple[int, int] | None = None
    masked: Matte = None


def textures(
    document: SolveDocument, world: World, plate: Plate, order: ProjectOrder, progress: Progress = silent
) -> tuple[dict[str, np.ndarray], bool]:
    """Return the textures (S, S, 4) of a world's proxies from a plate, by id, and whether they are linear light.

    Parameters
    ----------
    document : of the solve. world : with proxies. plate : the pictures. order : how. progress : the share done.
    """
    path, solids = datum_in(world).camera(read_path(document)), solids_in(world)
    if not solids:
        raise WorldError("This world has no proxies to project onto.", "Draw some, or make a mesh with keel mesh.")
    low, high = order.frames or (int(path.frames[0]), int(path.frames[-1]))
    rows = np.nonzero((path.frames >= low) & (path.frames <= high))[0]
    if not len(rows):
        raise WorldError("None of these frames has a camera.")
    linear = light_of(plate, int(path.frames[rows[0]]))[1]

    def look(row: int) -> np.ndarray:
        frame = int(path.frames[row])
        picture, _ = light_of(plate, frame)
        if order.masked is not None:
            picture[order.masked(frame)] = np.nan
        return picture

    return textures_of(path, solids, list(solids), rows, look, order.mode, progress=progress), linear


def frames_seen(
    document: SolveDocument, world: World, painted: dict[str, np.ndarray], frames: list[int]
) -> dict[int, np.ndarray]:
    """Return what some frames see of textured proxies, (H, W, 4) by frame.

    Parameters
    ----------
    document : of the solve. world : with proxies. painted : textures (S, S, 4) by id. frames : numbers.
    """
    path, solids = datum_in(world).camera(read_path(document)), solids_in(world)
    pictures = [painted.get(name) for name in solids]
    return {f: seen_again(path, path.index_of(f), list(solids.values()), pictures) for f in frames}
