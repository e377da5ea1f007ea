"""What an order to solve asks for, and the solve of plates that are followed."""

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import LensError, SolveError
from amberkeel.core.foreign.texts import read_json
from amberkeel.core.handoff.camera_paths import ImportedPath, read_camera_path
from amberkeel.core.handoff.document import read_path, solve_document
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.handoff.solve_file import read_document
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.lens import focal_px_from_mm
from amberkeel.core.lens.profile import LensProfile, read_profile
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.evidence.statement import PATH_PRESETS, Constraint, Smooth, read_constraint_file
from amberkeel.core.solve.held_zoom import with_zoom
from amberkeel.core.solve.lens_plan import SOFT, LensChoice
from amberkeel.core.solve.motions import LOCKED
from amberkeel.core.solve.recipe import AUTO_ROWS, KNOWN_ROWS, NO_ROWS, Recipe
from amberkeel.core.solve.shared_lens import SharedShot, solve_shots
from amberkeel.core.solve_plate import SolveOrder
from amberkeel.core.ties.bodies.body import beside, body_recipe
from amberkeel.core.ties.bodies.body_file import body_files, typed_size
from amberkeel.core.ties.bodies.inside import of_body
from amberkeel.core.tracks import TrackSet
from amberkeel.core.units import typed_rate
from amberkeel.core.world.datum import IDENTITY
from amberkeel.core.world.from_files import load_solve

WRITTEN = ("solve.json", "camera.usda", "points.csv")
"""The formats that a solve without browser or database writes."""

DEFAULT_SENSOR_MM = 36.0
"""Sensor width taken where none is given; only millimetres in USD depend on it."""


def solved(
    orders: Sequence[SolveOrder], followed: Sequence[tuple[Plate, TrackSet]], progress: Progress
) -> dict[str, str]:
    """Solve followed plates; return the files by name, of further plates in folders 2, 3 and so on.

    Parameters
    ----------
    orders : one a plate, alike but for the plate. followed : the plates and their tracks. progress : of the solve.
    """
    asked = [recipe_of(order, plate) for order, (plate, _) in zip(orders, followed)]
    shots = [_shot(order, *one, recipe) for order, one, (recipe, _) in zip(orders, followed, asked)]
    solutions = solve_shots(shots, span(progress, 0.0, 0.95))
    progress(1.0, "Writing")
    files: dict[str, str] = {}
    for k, (solution, (plate, _), (_, sensor)) in enumerate(zip(solutions, followed, asked)):
        fps, datum = typed_fps(orders[k], plate), IDENTITY
        if camera := orders[k].camera:
            beside_it, size = load_solve(camera), typed_size(orders[k].size)
            solution = with_zoom(solution, read_path(beside_it))
            texts, datum = body_files(beside_it, solution, size, plate.name, sensor)
            files |= texts
        document = solve_document(solution, datum, plate.name, f"{fps.numerator}/{fps.denominator}")
        texts = {name: FORMATS[name].write(document, sensor) for name in WRITTEN}
        texts["tracks.csv"] = tracks_csv(solution.tracks)
        files |= {(f"{k + 1}/{name}" if k else name): text for name, text in texts.items()}
    return files


def _shot(order: SolveOrder, plate: Plate, tracks: TrackSet, recipe: Recipe) -> SharedShot:
    """Return a followed plate as it is solved: a body on the frames that show it, as its camera's lens sees it."""
    frames = plate.frames
    if order.camera:
        path = read_path(load_solve(order.camera))
        tracks = beside(of_body(tracks, path) if order.inside else tracks, path)
    if order.inside and len(tracks.frames):
        frames = frames[(frames >= tracks.frames.min()) & (frames <= tracks.frames.max())]
    return SharedShot(plate.name, tracks, frames, plate.width, plate.height, recipe)


def recipe_of(order: SolveOrder, plate: Plate) -> tuple[Recipe, float]:
    """Return what a plate's solve is asked to do, and the sensor's width in mm; raises KeelError for what cannot be."""
    profile = load_profile(Path(order.lens)).rescaled(plate.width, plate.height) if order.lens else None
    sensor = order.sensor_width_mm or (profile and profile.sensor_width_mm) or DEFAULT_SENSOR_MM
    focal = focal_px_from_mm(order.focal_mm, sensor, plate.width) if order.focal_mm else None
    rows, readout = _shutter(order.readout)
    recipe = Recipe(
        order.motion, order.distortion, focal, order.pixel_aspect or plate.pixel_aspect, seed=order.seed,
        zoom=order.zoom, rows=rows, readout=readout, evidence=_evidence(order), fps=float(typed_fps(order, plate)),
        begin=_begin(order.refine, plate, focal), folds=order.folds, radius=order.radius, start=order.start,
        within=order.within, weights=order.weights, readout_sigma=order.readout_sigma,
    )  # fmt: skip
    if order.camera:
        document = load_solve(order.camera)
        image = document["image"]
        if (image["width"], image["height"]) != (plate.width, plate.height):
            raise SolveError(
                f"The camera is of pictures of {image['width']}x{image['height']}, the plate's are "
                f"{plate.width}x{plate.height}.",
                "Give the solve of the same plate.",
            )
        typed_size(order.size)
        return body_recipe(recipe, read_path(document), document["camera_motion"] != LOCKED), sensor
    return with_profile(recipe, profile) if profile else recipe, sensor


def typed_fps(order: SolveOrder, plate: Plate) -> Fraction:
    """Return the frame rate of a plate: as it was typed, else as its files have it, else 24."""
    return (typed_rate(order.fps) if order.fps else plate.fps) or Fraction(24)


def _evidence(order: SolveOrder) -> tuple[Constraint, ...]:
    """Return what is known of the set and of the path."""
    found = read_constraint_file(_json(order.constraints, "constraints")) if order.constraints else []
    if order.hold:
        path = _imported(order.hold)
        found.append(path.hold(Path(order.hold).name, int(path.frames[0]), int(path.frames[-1])))
    return (*found, smooth_path(order.smooth)) if order.smooth else tuple(found)


def smooth_path(text: str) -> Smooth:
    """Return how smooth a camera's path is, from a preset's name or an acceleration in m/s² as it was typed."""
    if text in PATH_PRESETS:
        position, rotation = PATH_PRESETS[text]
        return Smooth(name=f"{text} path", position=position, rotation=rotation)
    hint = f"Write {', '.join(PATH_PRESETS)}, or an acceleration in m/s² such as 0.5."
    try:
        value = float(text.replace(",", "."))
    except ValueError as error:
        raise SolveError(f"“{text}” is no smoothness.", hint) from error
    if not 0.0 < value < 1e6:
        raise SolveError("An acceleration must be more than zero.", hint)
    return Smooth(name="Smooth path", position=value)


def _imported(path: str) -> ImportedPath:
    try:
        return read_camera_path(path, Path(path).read_bytes())
    except OSError as error:
        raise SolveError(f"{path} cannot be read as a camera path.", "Give a table (.csv) or USD.") from error


def _begin(path: str | None, plate: Plate, focal_px: float | None) -> CameraPath | None:
    """Return the camera to begin from: that of a solve.json, of a table or of USD."""
    if path is None:
        return None
    if Path(path).suffix.lower() != ".json":
        return _imported(path).camera(plate.width, plate.height, focal_px)
    return load_path(path)


def load_path(path: str) -> CameraPath:
    """Return the camera of a solve.json; raises SolveError when it is none."""
    try:
        return read_path(read_document(_json(path, "an attempt")))
    except ValidationError as error:
        raise SolveError(f"{path} is no solve.json of version 2.", "Give a file as `keel solve` writes it.") from error


def _json(path: str, what: str) -> Any:
    try:
        return read_json(path)
    except (OSError, ValueError) as error:
        raise SolveError(f"{path} cannot be read as {what}.", "Give a JSON file.") from error


def _shutter(text: str) -> tuple[str, float | None]:
    """Return what a readout as it was typed asks for, and its value; raises SolveError for what is none."""
    if text in (AUTO_ROWS, NO_ROWS):
        return text, None
    try:
        return KNOWN_ROWS, float(text.replace(",", "."))
    except ValueError as error:
        raise SolveError(f"“{text}” is no readout.", "Write auto, off, or a share such as 0.46.") from error


def load_profile(path: Path) -> LensProfile:
    """Return the lens profile of a file; raises LensError when it is none."""
    try:
        return read_profile(read_json(path))
    except (OSError, ValueError) as error:
        raise LensError(
            f"{path} cannot be read as a lens profile.", "Give a JSON file as `keel lens` writes it."
        ) from error


def with_profile(recipe: Recipe, profile: LensProfile) -> Recipe:
    """Return a recipe that holds a profile: distortion, focal length softly unless another is known, and readout."""
    lens = dict(recipe.lens)
    if profile.focal_known and not recipe.focal_px and "focal" not in lens:
        sigma = max(profile.focal_sigma_px, 1e-4 * profile.lens.focal_px[0])
        lens["focal"] = LensChoice(SOFT, profile.lens.focal_px[0], sigma)
    if profile.readout is not None and recipe.rows == AUTO_ROWS:
        recipe = replace(recipe, rows=KNOWN_ROWS, readout=profile.readout)
    return replace(
        recipe, lens=lens, held_lens=profile.lens, pixel_aspect=profile.lens.focal_px[1] / profile.lens.focal_px[0]
    )
