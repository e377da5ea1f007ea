"""What the world stage's jobs do: slip measured on the plate, and the plate projected onto proxies."""

import numpy as np

from amberkeel.core.diagnose.finding import finding_document
from amberkeel.core.errors import WorldError
from amberkeel.core.handoff.document import read_shifts
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.predicted_slip import slip_sigma
from amberkeel.core.world.from_files import light_of
from amberkeel.core.world.paintings import fitting, painted_onto
from amberkeel.core.world.projection import MEDIAN
from amberkeel.core.world.slip import Spot, measure_slip, settled
from amberkeel.core.world.slip_lens import focal_by_slip
from amberkeel.core.world.slip_report import finding, places, report
from amberkeel.core.world.textures import textures_of
from amberkeel.core.world.under import UP, Sight
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.held import count_change
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.paintings import keep_texture, painting_in
from amberkeel.store.scene import camera_in_world, probes_of, proxies_of, solid_in, surfaces_of
from amberkeel.store.session import session
from amberkeel.store.slip import keep_slip
from amberkeel.store.solve import arrays_of
from amberkeel.store.world import datum_where_found, pinned_of, solved_of


def measure(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Measure how far the plate slides against places pinned to the scene, probe objects' feet among them."""
    media, row = Media(settings.media), plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        base = pinned_of(opened, shot, "slip is measured against its camera")
        number, (datum, _) = base.id, datum_where_found(opened, media, shot, base)
        path, ids, xyz = camera_in_world(opened, media, shot)
        solved, shifts = solved_of(opened, media, shot, base), read_shifts(arrays_of(media, base))
        sight = Sight(path, 0, surfaces_of(media, shot), ids, xyz)
        masked = masked_of(media, live_masks(opened, shot), row.height, row.width)
        feet = [(thing.name, np.array(thing.position)) for thing in probes_of(shot).values() if thing.shown]
    if not len(ids):
        raise WorldError("The points of this attempt have no depth.", "Slip needs places that the camera moves past.")
    covariance = solved.covariance
    if covariance is not None:
        turn = datum.scale * datum.rotation
        covariance = np.einsum("ab,nbc,dc->nad", turn, covariance[solved.standing], turn)
    progress(0.02, "Looking for surfaces")
    named = [(name, spot) for name, at in feet if (spot := _seen_best(sight, at)) is not None]
    spots = [spot for _, spot in named] + places(sight, covariance)
    if not spots:
        raise WorldError("There is no surface to measure on.", "Draw a proxy, or put a probe object in.")
    found = measure_slip(open_row(row), path, spots, span(progress, 0.1, 0.95), masked)
    names = [next((name for name, one in named if one is spot), "") for spot in found.spots]
    kept = found.sharp | np.array([bool(name) for name in names])
    found, names = found.taken(kept), [name for name, on in zip(names, kept) if on]
    # A probe object stays where it was put; a place that the program chose may lie beside its surface.
    chosen = np.array([not name for name in names])
    found = settled(path, found, chosen)
    predicted = np.full(len(found.spots), np.nan)
    if shifts is not None and len(shifts):
        predicted = slip_sigma(solved.path, shifts, datum.back(found.xyz))
    progress(0.96, "Asking the places for the focal length")
    own = found.taken(chosen) if chosen.any() else found
    told = report(found, predicted, chosen, focal_by_slip(path, own))
    said = finding_document(finding(told, path))
    hashed = keep_slip(media, told, datum, names, said)
    with effect(
        settings, shot_id, arguments, f"{len(found.spots)} places; the usual one slips {told.usual:.2f} px"
    ) as o:
        attempt = o.get(Attempt, number)
        attempt.slip, attempt.slip_said = hashed, said
        count_change(o, o.get(Shot, shot_id))


def _seen_best(sight: Sight, at: np.ndarray) -> Spot | None:
    """Return a foot as a place on the frame amid those that see it; None where none does."""
    rows = np.arange(len(sight.path.frames))
    seen = rows[sight.path.seen(np.repeat(at[None], len(rows), 0), rows)[1]]
    return Spot(at, UP, int(seen[len(seen) // 2])) if len(seen) else None


class Project(Arguments):
    """Which proxies get a picture (all that are shown where none is named), from which frames of the plate, and how; or
    what was painted over one frame, as it is kept.
    """

    proxies: list[str] = []
    mode: str = MEDIAN
    frames: list[int] = []
    masked: bool = True
    painted: str = ""


def project(settings: Settings, shot_id: int, arguments: Project, progress: Progress) -> None:
    """Take the textures of proxies from the plate, one frame, several blended or their median; or lay a painted frame
    over those they have.
    """
    media, row = Media(settings.media), plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        path, _, _ = camera_in_world(opened, media, shot)
        things = {name: thing for name, thing in proxies_of(shot).items() if thing.shown}
        masked = masked_of(media, live_masks(opened, shot) if arguments.masked else [], row.height, row.width)
    wanted = [name for name in (arguments.proxies or things) if name in things]
    if not wanted:
        raise WorldError("There is no proxy to project onto.", "Draw one first, and show it.")
    rows = path.rows_of(np.array(arguments.frames or path.frames))
    rows = rows[rows >= 0]
    if not len(rows):
        raise WorldError("None of these frames has a camera.", "Choose solved frames.")
    plate, solids = open_row(row), {name: solid_in(media, thing) for name, thing in things.items()}
    linear = light_of(plate, int(plate.frames[0]))[1]
    if arguments.painted:
        painting = fitting(painting_in(media, arguments.painted, linear), row.width, row.height)
        before = {n: painting_in(media, t.light or t.texture, linear) for n, t in things.items() if t.texture}
        textures = painted_onto(path, int(rows[0]), solids, wanted, painting, before)
    else:

        def look(at: int) -> np.ndarray:
            picture = light_of(plate, int(path.frames[at]))[0]
            if masked is not None:
                picture[masked(int(path.frames[at]))] = np.nan
            return picture

        textures = textures_of(path, solids, wanted, rows, look, arguments.mode, progress=progress)
    made = {name: keep_texture(media, texture, linear) for name, texture in textures.items()}
    on = f"{len(made)} prox{'y' if len(made) == 1 else 'ies'}"
    words, label = (
        (f"The painting is on {on}", f"Paint frame {int(path.frames[rows[0]])}")
        if arguments.painted
        else (f"The plate is on {on}", f"Project the plate onto {len(made)}")
    )
    with effect(settings, shot_id, arguments, words) as opened:
        shot = opened.get(Shot, shot_id)
        kept = (shot.scene or {}).get("proxies", {})
        put = {name: {**kept[name], **own, "look": "picture"} for name, own in made.items() if name in kept}
        apply(opened, shot_id, "scene", {"proxies": put, "label": label})
