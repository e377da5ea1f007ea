"""Packages from files: folders with solve.json, without browser or database."""

from dataclasses import dataclass, replace
from pathlib import Path

from amberkeel.core.errors import HandoffError
from amberkeel.core.foreign.texts import read_json
from amberkeel.core.handoff.package import Package, PackageOrder, make_package
from amberkeel.core.handoff.recipient import load_recipient
from amberkeel.core.handoff.scene import Scene, safe_name, scene_of, together
from amberkeel.core.lens.sensor import length_mm
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.solve_order import DEFAULT_SENSOR_MM
from amberkeel.core.world.from_files import load_solve, load_world

LARGEST_SENSOR_MM = 500.0


@dataclass(frozen=True)
class ExportOrder:
    """Folders with a solve each, the recipient (a file, or a ready-made one), where packages go, the plates of the
    folders, the name of the whole, whether each shot gets a package, the reason to let it leave, the sensor's width as
    it was typed.
    """

    folders: list[Path]
    recipient: str
    out: Path
    plates: list[str]
    name: str = ""
    each: bool = False
    reason: str = ""
    sensor_width: str = ""


def export_files(order: ExportOrder, progress: Progress = silent) -> list[Package]:
    """Write packages of solves on disk; return what was made.

    Parameters
    ----------
    order : what leaves. progress : called with the share done.

    Raises
    ------
    KeelError : a file cannot be read, names collide, or a proof does not hold.
    """
    recipient = load_recipient(Path(order.recipient))
    if order.plates and len(order.plates) != len(order.folders):
        raise HandoffError(
            f"{len(order.folders)} folders, {len(order.plates)} plates.", "Give a plate for each folder, or none."
        )
    sensor = length_mm(order.sensor_width, LARGEST_SENSOR_MM) if order.sensor_width else DEFAULT_SENSOR_MM
    scenes = [scene_in(folder, sensor) for folder in order.folders]
    plates = [open_plate(one) for one in order.plates]
    whole = [[k] for k in range(len(scenes))] if order.each else [list(range(len(scenes)))]
    out = []
    for n, rows in enumerate(whole):
        scene = scenes[rows[0]] if len(rows) == 1 else together([scenes[k] for k in rows], order.name or "set")
        if order.name and len(rows) == 1 and len(whole) == 1:
            scene = _called(scene, order.name)
        own = {camera.name: plates[k] for k, camera in zip(rows, scene.cameras)} if plates else {}
        package = PackageOrder(recipient, scene, order.out, own, reason=order.reason)
        out.append(make_package(package, span(progress, n / len(whole), (n + 1) / len(whole))))
    return out


def _called(scene: Scene, name: str) -> Scene:
    camera = replace(scene.cameras[0], name=safe_name(name))
    (document,) = scene.documents.values()
    return replace(scene, name=camera.name, cameras=(camera,), documents={camera.name: document})


def scene_in(folder: Path, sensor_mm: float) -> Scene:
    """Return the scene of a folder: its solve.json, taken to the world of a world.json beside it if there is one, with
    what stands in that, its pictures in textures/ (as `keel project` writes them), and every *.body.json or body.json.

    Parameters
    ----------
    folder : or the solve.json itself. sensor_mm : width of the filmed part of the sensor.
    """
    from amberkeel.core.handoff.document import document_in_world
    from amberkeel.core.world.world_file import datum_in

    path = folder if folder.suffix == ".json" else folder / "solve.json"
    document, world = load_solve(path), None
    if (path.parent / "world.json").exists():
        world = load_world(path.parent / "world.json")
        document = document_in_world(document, datum_in(world))
    bodies = [_body(one) for one in sorted(path.parent.glob("*body.json"))]
    textures = {one.stem: one.read_bytes() for one in sorted((path.parent / "textures").glob("*.png"))}
    scene = scene_of(document, sensor_mm, world, bodies, path.parent.resolve().name, textures)
    return replace(scene, made_from={scene.name: f"{path.parent.name}/{path.name}"})


def _body(path: Path) -> dict:
    try:
        found = read_json(path)
        return {"name": path.name.removesuffix(".json").removesuffix("body").strip("._") or "body", **found}
    except (OSError, ValueError) as error:
        raise HandoffError(f"{path.name} cannot be read.") from error
