"""What the job of bodies does: one followed inside its mask, and solved beside the shot's camera."""

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.masks.shape import KEEP
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.held_zoom import with_zoom
from amberkeel.core.solve.motions import LOCKED
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.ties.bodies.body import beside, body_recipe
from amberkeel.core.ties.bodies.inside import follow_inside, of_body
from amberkeel.core.ties.bodies.tracks import serving
from amberkeel.core.tracks import TrackSet
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.bodies import followed_anew, kept_solution, own_body, tracks_of, with_attempt
from amberkeel.store.edits import apply
from amberkeel.store.masks import masked_of, own_mask
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Mask, Shot
from amberkeel.store.session import session
from amberkeel.store.solve import path_of
from amberkeel.store.tracks import live_tracks, to_track_set
from amberkeel.store.world import pinned_of


class Body(Arguments):
    """The key of the body, and whether it is followed anew, or solved of the tracks that it has."""

    body: str
    follow: bool = True


@dataclass(frozen=True)
class _Asked:
    """A body as it was when the job began, with the camera beside which it is solved."""

    kept: dict
    camera: CameraPath
    still: bool
    attempt: int
    inside: Callable[[int], np.ndarray] | None
    tracks: TrackSet | None


def solve_body(settings: Settings, shot_id: int, arguments: Body, progress: Progress) -> None:
    """Follow what lies inside a body's mask, or take the tracks that it has, and solve it relative to the pinned
    camera.
    """
    media, row = Media(settings.media), plate_row(settings, shot_id)
    asked = _asked(settings, media, shot_id, arguments, (row.height, row.width))
    name, plate, follow = asked.kept["name"], open_row(row), asked.inside is not None
    tracks = _followed(plate, asked, span(progress, 0.0, 0.6)) if follow else asked.tracks
    if not len(tracks.frames):
        raise TieError(
            f"All that was followed inside {name}'s mask stands still.", "Is the mask on what moves by itself?"
        )

    def as_now(kept: dict) -> dict:
        return followed_anew(kept, asked.tracks, tracks) if follow and asked.tracks else kept

    tracks = beside(serving(tracks, set(as_now(asked.kept).get("out", []))), asked.camera)
    frames = plate.frames[(plate.frames >= tracks.frames.min()) & (plate.frames <= tracks.frames.max())]
    recipe = body_recipe(Recipe(fps=float(Fraction(row.fps))), asked.camera, not asked.still)
    share = span(progress, 0.6 if follow else 0.0, 1.0)
    solution = with_zoom(solve_tracks(tracks, frames, row.width, row.height, recipe, share), asked.camera)
    said = f"{name}: {solution.counts['tracks_used']} tracks, {solution.rms_px:.2f} px"
    with effect(settings, shot_id, arguments, said) as opened:
        kept = as_now(own_body(opened.get(Shot, shot_id), arguments.body))
        made = with_attempt(kept, kept_solution(media, solution, opened.get(Attempt, asked.attempt)))
        apply(opened, shot_id, "bodies", {"bodies": {arguments.body: made}, "label": f"Solve {name}"})


def _followed(plate: Plate, asked: _Asked, progress: Progress) -> TrackSet:
    return of_body(follow_inside(plate, asked.inside, progress), asked.camera)


def _asked(settings: Settings, media: Media, shot_id: int, arguments: Body, shape: tuple[int, int]) -> _Asked:
    """Return what a body's solve begins from."""
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        kept = own_body(shot, arguments.body)
        attempt = pinned_of(opened, shot, "a body is solved beside the camera")
        camera, still = path_of(media, attempt), attempt.figures.get("camera_motion") == LOCKED
        if kept.get("chosen"):
            own = [t for t in live_tracks(opened, shot) if t.id in set(kept["chosen"])]
            if not own:
                raise TieError(f"The tracks of {kept['name']} were deleted.", "Choose others, and make a body of them.")
            return _Asked(kept, camera, still, attempt.id, None, to_track_set(own, shot.plate))
        before = tracks_of(media, kept)
        if before is not None and not arguments.follow:
            return _Asked(kept, camera, still, attempt.id, None, before)
        inside = inside_of(media, own_mask(opened, shot_id, kept["mask"]), *shape)
        return _Asked(kept, camera, still, attempt.id, inside, before)


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
