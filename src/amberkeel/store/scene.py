"""What stands in a shot's scene, as solids."""

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import KeelError, WorldError
from amberkeel.core.lens.profile import read_profile
from amberkeel.core.world.datum import Datum, Solved
from amberkeel.core.world.relief import Relief, frame_along, relief
from amberkeel.core.world.solids import Solid, of_mesh
from amberkeel.core.world.stage import Staged
from amberkeel.core.world.standing import Probe, Proxy, Standing, carried, read_standing, solid_of
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, LensProfile, Shot
from amberkeel.store.paintings import painting_in
from amberkeel.store.world import found_or_not, pinned_of, solved_of


def proxies_of(shot: Shot) -> dict[str, Proxy]:
    """Return a shot's proxies by id."""
    return {name: read_standing(Proxy, thing) for name, thing in (shot.scene or {}).get("proxies", {}).items()}


def probes_of(shot: Shot) -> dict[str, Probe]:
    """Return a shot's probe objects by id."""
    return {name: read_standing(Probe, thing) for name, thing in (shot.scene or {}).get("probes", {}).items()}


def solid_in(media: Media, thing: Standing) -> Solid:
    """Return a thing's solid in the world."""
    ground = isinstance(thing, Proxy) and bool(thing.tracks)
    return solid_of(thing, mesh_of(media, thing.mesh, not ground) if thing.mesh else None)


def mesh_of(media: Media, kept: str, creased: bool = False) -> Solid:
    """Return a mesh that was kept, in its own frame; `creased` as `of_mesh` has it."""
    arrays = media.get_arrays(kept)
    return of_mesh(arrays["vertices"].astype(float), arrays["faces"].astype(np.int64), creased)


def keep_mesh(media: Media, solid: Solid) -> str:
    """Keep a mesh; return where."""
    return media.put_arrays(vertices=solid.vertices.astype(np.float32), faces=solid.faces.astype(np.int32))


def surfaces_of(media: Media, shot: Shot) -> dict[str, Solid]:
    """Return the solids of the proxies that are shown, by id."""
    return {name: solid_in(media, thing) for name, thing in proxies_of(shot).items() if thing.shown}


def camera_in_world(session: Session, media: Media, shot: Shot) -> tuple[CameraPath, np.ndarray, np.ndarray]:
    """Return a shot's pinned camera in its world with the ids (P,) and positions (P, 3) of the points it stands on.

    Raises
    ------
    KeelError : nothing is pinned.
    """
    solved, datum = _pinned(session, media, shot)
    standing = solved.standing
    return datum.camera(solved.path), solved.ids[standing], datum.apply(solved.xyz[standing])


def _pinned(session: Session, media: Media, shot: Shot) -> tuple[Solved, Datum]:
    """Return a shot's pinned solve and its datum; raises KeelError where nothing is pinned."""
    row = pinned_of(session, shot)
    return solved_of(session, media, shot, row), found_or_not(session, media, shot, row)[0].datum


ASSUMED_HEIGHT = 1.6
"""Height of a camera over the ground where lines turn it and no length says how high it is, metres: that of an eye."""


def camera_by_lines(session: Session, shot: Shot) -> CameraPath | None:
    """Return the camera that drawn axis lines and the lens profile in use tell, on their frames, in the world; None
    where they tell none.
    """
    axes = (shot.datum or {}).get("axes") or {}
    profile = session.get(LensProfile, shot.profile_id) if shot.profile_id else None
    if not axes.get("rotations") or profile is None:
        return None
    lens = read_profile(profile.document).rescaled(shot.plate.width, shot.plate.height).lens
    kept = {int(frame): np.array(rotation) for frame, rotation in axes["rotations"].items()}
    place, frames = axes.get("place"), np.array(sorted(kept))
    position = np.array(place["xyz"] if place else [0.0, ASSUMED_HEIGHT, 0.0])
    if place:
        # Where the camera stands is told on one frame alone.
        frames = frames[frames == int(place["frame"])] if int(place["frame"]) in kept else frames[:1]
    else:
        frames = frames[:1]
    return CameraPath(frames, np.tile(position, (len(frames), 1)), np.array([kept[f] for f in frames.tolist()]), lens)


def camera_seen(session: Session, media: Media, shot: Shot) -> tuple[CameraPath, np.ndarray, np.ndarray]:
    """Return what `camera_in_world` does; before any solve, the camera of a frame whose lines tell it, and no points.

    Raises
    ------
    KeelError : there is neither.
    """
    if not shot.pinned_id:
        path = camera_by_lines(session, shot)
        if path is None:
            raise KeelError(
                "There is no camera yet.",
                "Solve, or draw axis lines in Lens and use what they tell: one frame is enough.",
            )
        return path, np.zeros(0, np.int64), np.zeros((0, 3))
    return camera_in_world(session, media, shot)


def scene_carried(shot: Shot, change: Datum) -> dict:
    """Return a shot's scene as it is kept, taken along into another world: proxies in size too, probe objects not."""
    kept = shot.scene or {}
    return {
        **kept,
        "proxies": {n: carried(t, change) for n, t in kept.get("proxies", {}).items()},
        "probes": {n: carried(t, change, False) for n, t in kept.get("probes", {}).items()},
    }


LIGHT = (35.0, 50.0)
"""Bearing and height of the light where nobody turned it, degrees."""


def staged_in(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Staged:
    """Return what a shot's scene shows in a movie, in an attempt's own coordinates."""
    datum = found_or_not(session, media, shot, attempt)[0].datum
    bearing, height = np.radians((shot.scene or {}).get("light") or LIGHT)
    towards = np.array([np.sin(bearing) * np.cos(height), np.sin(height), np.cos(bearing) * np.cos(height)])

    def back(thing: Standing) -> Solid:
        own = solid_in(media, thing)
        return Solid(datum.back(own.vertices), own.faces, own.uv, own.lines)

    probes = [back(thing) for thing in probes_of(shot).values() if thing.shown]
    things = [thing for thing in proxies_of(shot).values() if thing.shown]
    textures = [
        painting_in(media, thing.texture, False) if thing.texture and thing.look == "picture" else None
        for thing in things
    ]
    turned = datum.rotation.T
    return Staged(
        [one for one in probes if len(one.faces)], [back(thing) for thing in things], textures, turned @ towards,
        turned @ np.array([0.0, 1.0, 0.0]),
    )  # fmt: skip


def relief_of(session: Session, media: Media, shot: Shot, thing: Proxy) -> Relief:
    """Return the mesh through a proxy's tracks on the pinned attempt, in the world.

    Raises
    ------
    WorldError : they make none.
    """
    solved, datum = _pinned(session, media, shot)
    rows = [at for at in (solved.row(track) for track in thing.tracks) if at is not None]
    if len(rows) < 3:
        raise WorldError("Fewer than three of these tracks have a point with a depth.", "Select others.")
    frame = frame_along(None if thing.along is None else np.array(thing.along))
    sigma = solved.sigma_along(rows, datum.rotation.T @ frame[:, 1])
    sigma = None if sigma is None else datum.scale * sigma
    return relief(datum.apply(solved.xyz[rows]), sigma, thing.longest, thing.smooth, thing.extend, frame)
