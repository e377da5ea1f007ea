"""A package: a folder a version, made beside its place, proved, and put there whole; no version is overwritten."""

import hashlib
import json
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np

from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.notes import convention_words, lacking, readme
from amberkeel.core.handoff.prove import MOST_PX, Proof, prove
from amberkeel.core.handoff.prove_plate import prove_plate
from amberkeel.core.handoff.recipient import Recipient
from amberkeel.core.handoff.scene import Camera, Scene, straightened
from amberkeel.core.handoff.writers import WRITERS
from amberkeel.core.lens.profile import LensProfile, profile_document
from amberkeel.core.lens.straighten import StraightenOrder, straighten_plate, write_st_maps
from amberkeel.core.masks.mattes import write_mattes
from amberkeel.core.plate.convert import write_sequence, write_video
from amberkeel.core.plate.plate import Plate, open_plate
from amberkeel.core.plate.sequence import Sequence as PlateSequence
from amberkeel.core.progress import Progress, silent, span

MANIFEST = "manifest.json"
FORMAT, FORMAT_VERSION = "amberkeel-package", 1
VERSIONS_MOST = 999

BESIDE = ".being-made-"
"""What the names of folders begin with in which packages are written until they are whole."""


@dataclass(frozen=True)
class PackageOrder:
    """What leaves: the recipient, the scene as it was filmed, plates by camera name, where the package goes, its
    version (None for the next one), further files by name (reports), and the reason to let it leave although a proof
    does not hold, by camera name where its masks are, a function from frame to (H, W) bool, by camera name what writes
    the movie with its probe objects into a file, and what the person who opens it is told besides.
    """

    recipient: Recipient
    scene: Scene
    out: Path
    plates: dict[str, Plate]
    production: str = ""
    version: int | None = None
    extra: dict[str, bytes] | None = None
    reason: str = ""
    masks: dict[str, Callable[[int], np.ndarray]] | None = None
    movies: dict[str, Callable[[Path, Progress], None]] | None = None
    said: tuple[str, ...] = ()


@dataclass(frozen=True)
class Package:
    """What was made: its folder, version, proofs, and notes; and where the folder belongs."""

    folder: Path
    version: int
    proofs: tuple[Proof, ...]
    notes: tuple[str, ...]
    place: Path = Path()


def make_package(order: PackageOrder, progress: Progress = silent) -> Package:
    """Write a package, prove it, and put it in its place; nothing half-written is left where that fails.

    Parameters
    ----------
    order : what leaves. progress : called with the share done.

    Raises
    ------
    HandoffError : a proof does not hold and no reason is given, a plate does not fit, two files have one name, the
        version is there already, or the place cannot be written.
    """
    with package_beside(order, progress) as made:
        if made.place.exists():
            raise there_already(made.place)
        return put_in_place(made)


@contextmanager
def package_beside(order: PackageOrder, progress: Progress = silent) -> Iterator[Package]:
    """Write a package and prove it, in a folder beside its place that is taken away at the end if it still is there.

    Parameters
    ----------
    order : what leaves. progress : called with the share done.

    Yields
    ------
    The package, to be put in its place with `put_in_place`.

    Raises
    ------
    HandoffError : as `make_package` does, but not where something is in its place.
    """
    _check_plates(order)
    _make_room(order.out)
    version = order.version or next_version(order.out, order)
    name = order.recipient.file_name(order.scene.name, "package", version, order.production)
    folder = Path(tempfile.mkdtemp(dir=order.out, prefix=BESIDE))
    try:
        try:
            made = _written(order, version, folder, progress)
        except OSError as error:
            raise _unwritten(error) from error
        yield replace(made, place=order.out / name)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def put_in_place(made: Package) -> Package:
    """Move a package that was written beside its place there; return it as it lies then.

    Raises
    ------
    HandoffError : the place cannot be written, or is taken.
    """
    try:
        os.rename(made.folder, made.place)
        os.chmod(made.place, 0o755)
    except OSError as error:
        raise _unwritten(error) from error
    return replace(made, folder=made.place)


def there_already(place: Path) -> HandoffError:
    """Return the refusal to overwrite a version."""
    return HandoffError(f"{place.name} is there already.", "Versions are never overwritten: make the next one.")


def remove_left_beside(out: Path) -> None:
    """Remove what workers that were lost have left half-written among packages; nobody may be writing one there."""
    for folder in out.glob(f"{BESIDE}*"):
        shutil.rmtree(folder, ignore_errors=True)


def _unwritten(error: OSError) -> HandoffError:
    return HandoffError(
        f"The package cannot be written ({error.strerror or error}).", "Is the disk full, or the folder read-only?"
    )


def _make_room(out: Path) -> None:
    try:
        out.mkdir(parents=True, exist_ok=True)
        if not os.access(out, os.W_OK):
            raise PermissionError(13, "no right to write")
    except OSError as error:
        raise HandoffError(f"{out.name} cannot be written ({error.strerror}).", "Choose another folder.") from error


def next_version(out: Path, order: PackageOrder) -> int:
    """Return the first version that is not there yet.

    Raises
    ------
    HandoffError : there are too many.
    """
    for version in range(1, VERSIONS_MOST + 1):
        name = order.recipient.file_name(order.scene.name, "package", version, order.production)
        if not (out / name).exists():
            return version
    raise HandoffError(f"There are {VERSIONS_MOST} versions already.", "Choose another folder.")


def prepared(recipient: Recipient, scene: Scene) -> Scene:
    """Return a scene as it leaves for a recipient: its lens, and which points and things go along.

    Parameters
    ----------
    recipient : for whom. scene : as it was filmed.
    """
    keep = np.array(
        [
            kind in recipient.kinds and (not recipient.groups or group in recipient.groups)
            for kind, group in zip(scene.points.kinds, scene.points.group_of)
        ],
        bool,
    )
    things = scene.things if recipient.things else ()
    if not recipient.textures:
        things = tuple(replace(one, texture=b"") for one in things)
    scene = replace(scene, points=scene.points.take(keep), things=things, locator=recipient.locator)
    if recipient.lens == "straightened":
        return straightened(scene, recipient.over, recipient.centred)
    return scene


def _written(order: PackageOrder, version: int, folder: Path, progress: Progress) -> Package:
    """Write all of a package into a folder that nobody sees yet."""
    recipient, scene = order.recipient, prepared(order.recipient, order.scene)
    notes, proofs = [], []
    for n, key in enumerate(recipient.formats):
        progress(0.4 * n / len(recipient.formats), f"Writing {key}")
        writer = WRITERS[key]
        convention = writer.convention(recipient.convention(float(scene.fps)))
        stem = recipient.file_name(scene.name, "scene", version, order.production)
        _put(folder, writer.write(scene, convention, stem))
        notes += [convention_words(convention, writer, scene.metric), *lacking(scene, writer)]
        progress(0.4 * (n + 0.5) / len(recipient.formats), f"Reading {key} back")
        proofs.append(prove(scene, writer, convention, folder, stem))
    _judge(proofs, order.reason)
    for n, (one, filmed) in enumerate(zip(scene.cameras, order.scene.cameras)):
        own = span(progress, 0.4 + 0.55 * n / len(scene.cameras), 0.4 + 0.55 * (n + 1) / len(scene.cameras))
        _write_lens(order, version, one, filmed, folder, span(own, 0.0, 0.6))
        _write_movies(order, version, one, folder, span(own, 0.6, 1.0))
    notes += order.said
    if order.extra:
        _put(folder, order.extra)
    text = readme(scene, recipient, version, notes, proofs, order.reason)
    _put(folder, {"README.txt": text.encode()})
    progress(0.96, "Checksums")
    manifest = _manifest(order, version, folder, proofs, notes)
    (folder / MANIFEST).write_text(json.dumps(manifest, indent=1) + "\n")
    return Package(folder, version, tuple(proofs), tuple(notes))


def _judge(proofs: Sequence[Proof], reason: str) -> None:
    bad = [one for one in proofs if not one.holds]
    if bad and not reason.strip():
        first = bad[0]
        said = " ".join(first.trouble) or (
            f"a point lies {first.px:.3f} px off, more than {MOST_PX} px"
            if first.frames
            else "its frame numbers came back otherwise"
        )
        raise HandoffError(
            f"{first.format} does not come back as it left: {said}.", "Say why it may leave all the same."
        )


def _put(folder: Path, files: dict[str, bytes]) -> None:
    for name, data in files.items():
        path = folder / name
        if path.exists() and path.read_bytes() == data:
            # A picture that several formats share.
            continue
        if path.exists():
            raise HandoffError(f"Two files would be called {name}.", "Change the recipient's naming.")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)


def _write_lens(
    order: PackageOrder, version: int, one: Camera, filmed: Camera, folder: Path, progress: Progress
) -> None:
    """Write a camera's lens, and where they are wished its ST maps and plate."""
    recipient, plate = order.recipient, order.plates.get(one.name)
    profile = LensProfile(f"{filmed.name} lens", filmed.path.lens, "solve", sensor_width_mm=filmed.sensor_mm)
    stem = recipient.file_name(one.name, "lens", version, order.production)
    _put(folder, {f"{stem}.json": (json.dumps(profile_document(profile), indent=1) + "\n").encode()})
    if recipient.st_maps and one.canvas is not None:
        maps = folder / recipient.file_name(one.name, "stmaps", version, order.production)
        maps.mkdir()
        write_st_maps(filmed.path.lens, one.canvas, maps)
    masked = (order.masks or {}).get(one.name)
    if recipient.mattes and masked is not None:
        home = folder / recipient.file_name(one.name, "mattes", version, order.production)
        write_mattes(home, f"{one.name}_matte", filmed.path.frames, masked, "png", progress)
    if plate is None or recipient.plates in ("none", "named"):
        return
    home = folder / recipient.file_name(one.name, "plate", version, order.production)
    if recipient.plates == "written":
        write_sequence(plate, home, recipient.images, progress=progress)
        return
    if recipient.plates in ("copied", "linked"):
        home.mkdir()
        put = _linked if recipient.plates == "linked" else shutil.copy2
        if not isinstance(plate.source, PlateSequence):
            put(plate.source.path, home / plate.source.path.name)
            return
        for k, frame in enumerate(plate.frames.tolist()):
            path = plate.source.path(frame)
            put(path, home / path.name)
            progress((k + 1) / len(plate.frames), f"Copying the plate, frame {frame}")
        return
    _check_plate(order, plate, filmed, one)
    wished = StraightenOrder(recipient.over, "cubic", recipient.images, False, None, one.canvas)
    straighten_plate(plate, profile, home, wished, progress)


def _linked(path: Path, to: Path) -> None:
    """Give a file a second name, so that it is not on the disk twice; copy it where that cannot be."""
    try:
        os.link(path, to)
    except OSError:
        shutil.copy2(path, to)


def _write_movies(order: PackageOrder, version: int, one: Camera, folder: Path, progress: Progress) -> None:
    """Write a camera's movies for review: its plate as the camera fits it, and the filmed one with probe objects."""
    wished, plate = order.recipient.movies, order.plates.get(one.name)
    draw = (order.movies or {}).get(one.name)
    if "probes" in wished and draw is not None:
        draw(folder / f"{order.recipient.file_name(one.name, 'probes', version, order.production)}.mp4", progress)
    if "plate" in wished and plate is not None:
        home = folder / order.recipient.file_name(one.name, "plate", version, order.production)
        seen = open_plate(home) if order.recipient.plates == "straightened" and one.canvas is not None else plate
        write_video(seen, home.with_name(f"{home.name}.mp4"), order.scene.fps, progress=progress)


def _check_plate(order: PackageOrder, plate: Plate, filmed: Camera, one: Camera) -> None:
    """Bend a straightened frame back; it must be what it was, unless a reason is given."""
    if one.canvas is None:
        return
    proof = prove_plate(plate, filmed, one.canvas)
    if not proof.holds and not order.reason.strip():
        raise HandoffError(
            f"Straightened and bent back, frame {proof.frame} of {one.name} differs by {proof.px:.3f} px and "
            f"{proof.codes:.1f} code values.",
            "Is the lens right? Or say why it may leave anyway.",
        )


def _check_plates(order: PackageOrder) -> None:
    """Hold the plates against the cameras: size, first and last frame, frames that vanished."""
    for one in order.scene.cameras:
        plate = order.plates.get(one.name)
        if plate is None:
            if order.recipient.plates in ("copied", "linked", "written", "straightened") or order.recipient.movies:
                raise HandoffError(f"The plate of {one.name} is not at hand.", "Give it, or leave plates out.")
            continue
        lens = one.path.lens
        if (plate.width, plate.height) != (lens.width, lens.height):
            raise HandoffError(
                f"{one.name} was solved on {lens.width}x{lens.height}, the plate is {plate.width}x{plate.height}.",
                "Give the plate that was solved.",
            )
        gone = sorted(set(one.path.frames.tolist()) - set(plate.frames.tolist()))
        missing = [f for f in one.path.frames.tolist() if f not in gone and not _is_there(plate, f)]
        if gone or missing:
            frames = ", ".join(map(str, [*gone, *missing][:5]))
            raise HandoffError(f"The plate of {one.name} lacks frames that are solved: {frames}.", "Bring them back.")


def _is_there(plate: Plate, frame: int) -> bool:
    return not isinstance(plate.source, PlateSequence) or plate.source.path(frame).exists()


def _manifest(order: PackageOrder, version: int, folder: Path, proofs, notes: list[str]) -> dict:
    """Return what lies in a package, each file with its checksum, and what it was made from."""
    files = []
    for path in sorted(p for p in folder.rglob("*") if p.is_file()):
        files.append(
            {
                "name": path.relative_to(folder).as_posix(),
                "bytes": path.stat().st_size,
                "sha256": _checksum(path),
            }
        )
    scene = order.scene
    return {
        "format": FORMAT,
        "format_version": FORMAT_VERSION,
        "shot": scene.name,
        "version": version,
        "recipient": order.recipient.model_dump(mode="json"),
        "fps": f"{scene.fps.numerator}/{scene.fps.denominator}",
        "frames": list(scene.frames),
        "metric": scene.metric,
        "cameras": [summary(scene, one) for one in scene.cameras],
        "points": len(scene.points.names),
        "made_from": scene.made_from,
        "plates": {
            name: {"frames": [int(p.frames[0]), int(p.frames[-1])], "name": p.name, "size": [p.width, p.height]}
            for name, p in order.plates.items()
        },
        "proof": [{**asdict(one), "px": None if one.px != one.px else one.px, "holds": one.holds} for one in proofs],
        "notes": notes,
        "reason": order.reason,
        "files": files,
    }


def _checksum(path: Path) -> str:
    """Return a file's SHA-256; a plate's video has gigabytes, so it is read piece by piece."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def summary(scene: Scene, one: Camera) -> dict:
    """Return what two versions of a camera are compared by: its path at some frames, focal length and distortion.

    Parameters
    ----------
    scene : in which it stands. one : the camera.
    """
    rows = np.unique(np.linspace(0, len(one.path.frames) - 1, 24).astype(int))
    return {
        "name": one.name, "frames": one.path.frames[rows].tolist(),
        "positions": one.path.positions[rows].round(9).tolist(),
        "turns": one.path.world_from_camera[rows].round(9).tolist(),
        "focal_mm": [round(one.focal_mm(int(row)), 6) for row in rows], "radial": list(one.path.lens.radial),
    }  # fmt: skip


def read_manifest(folder: Path) -> dict:
    """Return the manifest of a package.

    Raises
    ------
    HandoffError : there is none, or a file is missing or was changed since.
    """
    try:
        found = json.loads((folder / MANIFEST).read_text())
    except (OSError, ValueError) as error:
        raise HandoffError(f"{folder.name} is no package: it has no {MANIFEST}.") from error
    if found.get("format") != FORMAT:
        raise HandoffError(f"{folder.name} is no package of this kind.")
    for one in found["files"]:
        path = folder / one["name"]
        if not path.is_file():
            raise HandoffError(f"{one['name']} of {folder.name} is missing.", "Make the package again.")
        if _checksum(path) != one["sha256"]:
            raise HandoffError(f"{one['name']} of {folder.name} was changed since.", "Make the package again.")
    return found
