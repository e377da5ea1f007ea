"""What the job of bodies does: one followed inside its mask, and solved beside the shot's camera."""

from collections.abc import Callable
from fractions import Fraction

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.masks.shape import KEEP
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.motions import LOCKED
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.ties.bodies.body import body_recipe, without_zoom
from amberkeel.core.ties.bodies.inside import follow_inside, of_body
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.bodies import kept_solution, own_body, with_attempt
from amberkeel.store.edits import apply
from amberkeel.store.masks import masked_of, own_mask
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Mask, Shot
from amberkeel.store.session import session
from amberkeel.store.solve import path_of
from amberkeel.store.world import pinned_of


class Body(Arguments):
    """The key of the body."""

    body: str


def solve_body(settings: Settings, shot_id: int, arguments: Body, progress: Progress) -> None:
    """Follow what lies inside a body's mask, and solve it relative to the pinned camera."""
    media, row = Media(settings.media), plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        kept = own_body(shot, arguments.body)
        mask = own_mask(opened, shot_id, kept["mask"])
        attempt = pinned_of(opened, shot, "a body is solved beside the camera")
        camera, motion, number = path_of(media, attempt), attempt.figures.get("camera_motion"), attempt.id
        inside = inside_of(media, mask, row.height, row.width)
    plate = open_row(row)
    tracks = follow_inside(plate, inside, span(progress, 0.0, 0.6))
    tracks = without_zoom(of_body(tracks, camera), camera)
    if not len(tracks.frames):
        raise TieError(
            f"All that was followed inside {kept['name']}'s mask stands still.", "Is the mask on what moves by itself?"
        )
    frames = plate.frames[(plate.frames >= tracks.frames.min()) & (plate.frames <= tracks.frames.max())]
    recipe = body_recipe(Recipe(fps=float(Fraction(row.fps))), camera, motion != LOCKED)
    solution = solve_tracks(tracks, frames, row.width, row.height, recipe, span(progress, 0.6, 1.0))
    said = f"{kept['name']}: {solution.counts['tracks_used']} tracks, {solution.rms_px:.2f} px"
    with effect(settings, shot_id, arguments, said) as opened:
        shot = opened.get(Shot, shot_id)
        made = with_attempt(own_body(shot, arguments.body), kept_solution(media, solution, opened.get(Attempt, number)))
        apply(opened, shot_id, "bodies", {"bodies": {arguments.body: made}, "label": f"Solve {kept['name']}"})


def inside_of(media: Media, mask: Mask, height: int, width: int) -> Callable[[int], np.ndarray]:
    """Return a function from frame to where a mask is, (H, W) bool, whether it is switched on for following or not.

    Parameters
    ----------
    media : where its mattes are kept. mask : the row. height, width : of the picture, pixels.
    """
    # A copy of what the mask is: the row itself must not be switched on.
    names = ("kind", "purpose", "first", "last", "margin", "keys", "frames", "mattes")
    alone = Mask(on=True, **{name: getattr(mask, name) for name in names})
    masked = masked_of(media, [alone], height, width)
    if masked is None:
        raise TieError(f"{mask.name} masks nothing.", "Draw it first.")
    if mask.purpose == KEEP:
        return lambda frame: ~masked(frame)
    return masked
