"""What the job of the solve stage does."""

import time
from contextlib import AbstractContextManager
from fractions import Fraction

from sqlalchemy.orm import Session

from amberkeel.core.errors import Cancelled, KeelError
from amberkeel.core.handoff.camera_paths import path_of_hold
from amberkeel.core.lens import focal_px_from_mm
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.evidence.statement import Hold, made_by_tie, read_constraints
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.recipe import AUTO_ROWS, Recipe
from amberkeel.core.solve.shared_lens import SharedShot, solve_shots
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve_order import with_profile
from amberkeel.jobs import lens
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.claims import ending
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.held import hold_shot
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.session import session
from amberkeel.store.solve import Stamps, complete, path_of, stamps_of, store_attempt, unfinished
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


def solve(settings: Settings, shot_id: int, arguments: Solve, progress: Progress) -> None:
    """Solve the camera from the shot's tracks and add the attempt to the ledger, pinned; shots that share its lens get
    one too.
    """
    ids = [shot_id, *arguments.share]
    asked = [to_solve(settings, number, arguments) for number in ids]
    shots = [shot for shot, _ in asked]
    began, kept = time.monotonic(), _Early(settings, shot_id, arguments, asked[0][1])
    try:
        solutions = solve_shots(shots, span(progress, 0.0, 0.97), kept.keep if len(ids) == 1 else None)
    except Cancelled:
        kept.leave()
        raise
    seconds, media = time.monotonic() - began, Media(settings.media)
    with _ended(settings, shot_id, arguments, solutions[0].stopped) as opened:
        for number, solution, (_, stamps) in zip(ids, solutions, asked):
            shot = opened.get(Shot, number)
            if kept.attempt is not None:
                # What the page showed stays as it was, so that nobody's edit meets a newer state.
                complete(opened, media, shot, opened.get(Attempt, kept.attempt), solution, seconds)
                continue
            attempt = store_attempt(opened, media, shot, solution, stamps, arguments.begin, seconds)
            if number == shot_id and not solution.stopped:
                apply(opened, shot_id, "pin", {"attempt": attempt.id})


class _Early:
    """A refinement on the page before it is known how sure it is: its attempt is stored and pinned, to be completed."""

    def __init__(self, settings: Settings, shot_id: int, arguments: Solve, stamps: Stamps):
        self.settings, self.shot_id, self.arguments, self.stamps = settings, shot_id, arguments, stamps
        self.attempt: int | None = None
        self.began = time.monotonic()

    def keep(self, solution: Solution) -> None:
        """Store the solution; one that a lost worker left behind is taken up again."""
        media, seconds = Media(self.settings.media), time.monotonic() - self.began
        with session(self.settings.database) as opened:
            shot = hold_shot(opened, self.shot_id)
            left = unfinished(opened, shot, self.arguments.begin)
            if left is not None:
                self.attempt = left.id
                return
            made = store_attempt(
                opened, media, shot, solution, self.stamps, self.arguments.begin, seconds, measuring=True
            )
            apply(opened, self.shot_id, "pin", {"attempt": made.id})
            self.attempt = made.id

    def leave(self) -> None:
        """Leave an attempt as it stands: the rest was cancelled, and its sigmas know independent noise only."""
        if self.attempt is not None:
            with session(self.settings.database) as opened:
                hold_shot(opened, self.shot_id)
                row = opened.get(Attempt, self.attempt)
                row.figures = {**row.figures, "measuring": False, "stopped": True}


def _ended(settings: Settings, shot_id: int, arguments: Solve, stopped: bool) -> AbstractContextManager[Session]:
    """Open the transaction in which the attempts are kept: of a solve that was cancelled, what stood already."""
    if not stopped:
        return effect(settings, shot_id, arguments, also=arguments.share)
    return ending(
        settings, "cancelled", "Cancelled; what stood already is the newest attempt.", shots=(shot_id, *arguments.share)
    )


def to_solve(settings: Settings, shot_id: int, arguments: Solve, ties: bool = True) -> tuple[SharedShot, Stamps]:
    """Return a shot as a solve takes it, and what that is made from; those constraints that ties made are left out
    where `ties` says so.
    """
    row = plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        rows, stamps, name = live_tracks(opened, shot), stamps_of(opened, shot), shot.name
        evidence, fps = tuple(read_constraints(shot.constraints)), float(Fraction(shot.plate.fps))
        evidence = tuple(one for one in evidence if ties or not made_by_tie(one))
        first = opened.get(Attempt, arguments.begin) if arguments.begin else None
        begin = path_of(Media(settings.media), first) if first else None
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
    return SharedShot(name, to_track_set(rows, row), open_row(row).frames, row.width, row.height, recipe), stamps
