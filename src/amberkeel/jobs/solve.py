"""What the job of the solve stage does."""

import time
from fractions import Fraction

from amberkeel.core.errors import Cancelled, KeelError
from amberkeel.core.handoff.camera_paths import path_of_hold
from amberkeel.core.handoff.document import read_path
from amberkeel.core.lens import focal_px_from_mm
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.evidence.statement import Hold, read_constraints
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.recipe import AUTO_ROWS, Recipe
from amberkeel.core.solve.shared_lens import SharedShot, solve_shots
from amberkeel.core.solve_plate import with_profile
from amberkeel.jobs import lens
from amberkeel.jobs.chain import Arguments, following
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.masks import live_masks
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.session import session
from amberkeel.store.solve import document_of, store_attempt
from amberkeel.store.tracks import live_tracks, to_track_set


class Solve(Arguments):
    """A solve: what is known of the camera and of each value of the lens, and the shots that share the lens."""

    focal_mm: float | None = None
    motion: str = "auto"
    distortion: str = "estimate"
    terms: dict[str, LensChoice] = {}
    zoom: bool = False
    share: list[int] = []
    rows: str = AUTO_ROWS
    readout: float | None = None
    begin: int | None = None
    begin_path: str = ""
    folds: int = 0
    radius: float = 10.0
    start: tuple[int, int] | str | None = None
    within: tuple[int, int] | None = None
    weights: dict[str, float] = {}
    readout_sigma: float = 0.0


def solve(settings: Settings, shot_id: int, arguments: Solve, progress: Progress) -> list[int]:
    """Solve the camera from the shot's tracks and add the attempt to the ledger, pinned; shots that share its lens get
    one too.
    """
    ids = [shot_id, *arguments.share]
    asked = [_to_solve(settings, number, arguments) for number in ids]
    shots = [shot for shot, _ in asked]
    began = time.monotonic()
    solutions = solve_shots(shots, span(progress, 0.0, 0.97))
    seconds = time.monotonic() - began
    with session(settings.database) as opened:
        for number, solution, (_, stamp) in zip(ids, solutions, asked):
            shot = opened.get(Shot, number)
            count = len([m for m in live_masks(opened, shot) if m.on])
            media = Media(settings.media)
            attempt = store_attempt(opened, media, shot, solution, stamp, count, arguments.begin, seconds)
            if number == shot_id and not solution.stopped:
                apply(opened, shot_id, "pin", {"attempt": attempt.id})
            else:
                shot.revision += 1
            kept = attempt.number
    if solutions[0].stopped:
        raise Cancelled(f"what stood already is attempt {kept}.")
    return following(settings, shot_id, arguments)


def _to_solve(settings: Settings, shot_id: int, arguments: Solve) -> tuple[SharedShot, int]:
    """Return a shot as a solve takes it, and the stamp of its tracks."""
    row = plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        rows, stamp, name = live_tracks(opened, shot), shot.tracks_stamp, shot.name
        evidence, fps = tuple(read_constraints(shot.constraints)), float(Fraction(shot.plate.fps))
        first = opened.get(Attempt, arguments.begin) if arguments.begin else None
        begin = read_path(document_of(Media(settings.media), first)) if first else None
        held = next((one for one in evidence if isinstance(one, Hold) and one.name == arguments.begin_path), None)
    if not rows:
        raise KeelError(f"{name} has no tracks to solve from.", "Follow features first.")
    focal = focal_px_from_mm(arguments.focal_mm, row.sensor_width_mm, row.width) if arguments.focal_mm else None
    if held:
        begin = path_of_hold(held).camera(row.width, row.height, focal)
    recipe = Recipe(
        focal_px=focal,
        pixel_aspect=row.pixel_aspect,
        motion=arguments.motion,
        distortion=arguments.distortion,
        lens=arguments.terms,
        zoom=arguments.zoom,
        rows=arguments.rows,
        readout=arguments.readout,
        evidence=() if arguments.share else evidence,
        fps=fps,
        begin=begin,
        folds=arguments.folds,
        radius=arguments.radius,
        start=arguments.start,
        within=arguments.within,
        weights=arguments.weights,
        readout_sigma=arguments.readout_sigma,
    )
    if arguments.distortion == "profile":
        recipe = with_profile(recipe, lens.profile_in_use(settings, shot_id))
    return SharedShot(name, to_track_set(rows), open_row(row).frames, row.width, row.height, recipe), stamp
