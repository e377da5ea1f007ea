"""What each kind of job does; each returns the numbers of the jobs that follow from it."""

from pathlib import Path

from sqlalchemy import select

from amberkeel.core.errors import KeelError, MaskError
from amberkeel.core.follow.blur import glance, smears
from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.lens import focal_px_from_mm
from amberkeel.core.plate.decode import encode_jpeg, to_gray
from amberkeel.core.plate.sequence import spans
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.shared_lens import SharedShot, solve_together
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.shots import EDGES, SHOTS
from amberkeel.core.sim.write import write_shot
from amberkeel.core.solve_plate import with_profile
from amberkeel.jobs import lenses, masks, tracks
from amberkeel.jobs.plates import followed_images, following, open_row, plate_row, with_outside
from amberkeel.jobs.proxies import proxy
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.jobs import add_job
from amberkeel.store.masks import cover, live_masks, masked_of, nothing_left
from amberkeel.store.media import Media
from amberkeel.store.models import Plate, Shot
from amberkeel.store.session import session
from amberkeel.store.solves import store_attempt
from amberkeel.store.tracks import add_run, live_tracks, to_track_set


def ingest(settings: Settings, shot_id: int, arguments: dict, progress: Progress) -> list[int]:
    """Read every frame once, make its proxy, measure its blur, and find out whether the plate is whole."""
    row, media = plate_row(settings, shot_id), Media(settings.media)
    plate, hashes, seen = open_row(row), [], []
    for k, frame in enumerate(plate.frames.tolist()):
        picture = plate.read(frame)
        seen.append(glance(to_gray(picture)))
        hashes.append(media.put(encode_jpeg(proxy(picture, 1920, row.pixel_aspect))))
        if k == len(plate.frames) // 2:
            thumbnail = media.put(encode_jpeg(proxy(picture, 480, row.pixel_aspect), 85))
        progress((k + 1) / len(plate.frames), f"Making proxies, frame {frame}")
    with session(settings.database) as opened:
        kept = opened.get(Plate, row.id)
        kept.proxies, kept.thumbnail = hashes, thumbnail
        blur = smears(seen)
        kept.blur = {"length": [round(b.length, 2) for b in blur], "angle": [round(b.angle, 3) for b in blur]}
    return following(settings, shot_id, arguments)


def follow(settings: Settings, shot_id: int, arguments: dict, progress: Progress) -> list[int]:
    """Find and follow features; the new tracks stand in for the last automatic ones, as one edit."""
    row = plate_row(settings, shot_id)
    plate, made = followed_images(row, arguments.get("images", "plate"))
    detect = DetectSettings(arguments.get("count", 400), arguments.get("spacing", 0.0), arguments.get("threshold", 0.08))
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        used, stamp = [m for m in live_masks(opened, shot) if m.on], shot.masks_stamp
        full = nothing_left(plate.frames, cover(opened, Media(settings.media), shot)[0])
    if len(full) == len(plate.frames):
        raise MaskError(f"The masks cover the whole picture on {spans(full)}: nothing is left to track.", "Switch one off, or make it smaller.")
    mattes = with_outside(masked_of(Media(settings.media), used, plate.height, plate.width), plate)
    found = follow_plate(plate, FollowSettings(detect, bridge=arguments.get("bridge", 8)), mattes, span(progress, 0.0, 0.95))
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        old = [t.id for t in live_tracks(opened, shot) if t.kind == "auto" and not t.locked]
        new = add_run(opened, shot, found, made)
        label = f"Follow features ({len(new)} tracks{', masked' if used else ''})"
        apply(opened, shot_id, "cut", {"remove": old, "bring": new, "label": label, "followed": stamp})
    return following(settings, shot_id, arguments)


def solve(settings: Settings, shot_id: int, arguments: dict, progress: Progress) -> list[int]:
    """Solve the camera from the shot's tracks and add the attempt to the ledger, pinned; shots that share its lens get one too."""
    ids = [shot_id, *arguments.get("share", [])]
    asked = [_to_solve(settings, number, arguments) for number in ids]
    shots = [shot for shot, _ in asked]
    if len(shots) > 1:
        solutions = solve_together(shots, span(progress, 0.0, 0.97))
    else:
        one = shots[0]
        solutions = [solve_tracks(one.tracks, one.frames, one.width, one.height, one.recipe, span(progress, 0.0, 0.97))]
    with session(settings.database) as opened:
        for number, solution, (_, stamp) in zip(ids, solutions, asked):
            shot = opened.get(Shot, number)
            count = len([m for m in live_masks(opened, shot) if m.on])
            attempt = store_attempt(opened, Media(settings.media), shot, solution, stamp, count)
            if number == shot_id:
                apply(opened, shot_id, "pin", {"attempt": attempt.id})
            else:
                shot.revision += 1
    return following(settings, shot_id, arguments)


def _to_solve(settings: Settings, shot_id: int, arguments: dict) -> tuple[SharedShot, int]:
    """Return a shot as a solve takes it, and the stamp of its tracks."""
    row = plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        rows, stamp, name = live_tracks(opened, shot), shot.tracks_stamp, shot.name
    if not rows:
        raise KeelError(f"{name} has no tracks to solve from.", "Follow features first.")
    focal = focal_px_from_mm(arguments["focal_mm"], row.sensor_width_mm, row.width) if arguments.get("focal_mm") else None
    recipe = Recipe(
        focal_px=focal,
        pixel_aspect=row.pixel_aspect,
        motion=arguments.get("motion", "auto"),
        distortion=arguments.get("distortion", "estimate"),
        lens={name: LensChoice(**choice) for name, choice in arguments.get("terms", {}).items()},
        zoom=bool(arguments.get("zoom", False)),
    )
    if arguments.get("distortion") == "profile":
        recipe = with_profile(recipe, lenses.profile_in_use(settings, shot_id))
    return SharedShot(name, to_track_set(rows), open_row(row).frames, row.width, row.height, recipe), stamp


def demo(settings: Settings, shot_id: int, arguments: dict, progress: Progress) -> list[int]:
    """Render a demo shot's plate where it does not lie yet."""
    folder = Path(arguments["folder"])
    if not (folder / "truth.json").exists():
        write_shot(arguments["name"], folder, progress)
    lines = _drawn(arguments["name"])
    with session(settings.database) as opened:
        opened.get(Shot, shot_id).lens = {"lines": lines} if lines else {}
        beside = [add_job(opened, "ingest", other).id for other in arguments.get("also", [])]
    return beside + following(settings, shot_id, arguments)


def _drawn(name: str) -> dict:
    """Return the demo shot's drawn lines by name, on its first and last frame."""
    if name not in EDGES:
        return {}
    shot, out, counts = SHOTS[name](samples=1), {}, {}
    for frame in (shot.frames[0], shot.frames[-1]):
        for line in drawn_lines(shot, EDGES[name](), int(frame), seed=int(frame)):
            stem = line["axis"].upper() or "edge "
            counts[stem] = counts.get(stem, 0) + 1
            out[f"{stem}{counts[stem]}"] = line
    return out


def rest(settings: Settings, shot_id: int, arguments: dict, progress: Progress) -> list[int]:
    """Render, follow and solve the production's other demo shots, whose plates do not lie yet."""
    progress(0.5, "Turning to the other shots")
    with session(settings.database) as opened:
        production = opened.get(Shot, shot_id).production_id
        numbers = []
        for shot in opened.scalars(select(Shot).where(Shot.production_id == production, Shot.id != shot_id).order_by(Shot.name)):
            folder = Path(shot.plate.source).parents[1]
            if not shot.plate.ready and folder.name in SHOTS:
                chain = {"name": folder.name, "folder": str(folder), "then": ["ingest", "follow", "solve"]}
                numbers.append(add_job(opened, "demo", shot.id, chain).id)
    return numbers


KINDS = {
    "rest": rest,
    "sight": tracks.sight,
    "hand": tracks.hand,
    "surface": tracks.surface,
    "tags": tracks.find_tags,
    "ingest": ingest,
    "follow": follow,
    "solve": solve,
    "demo": demo,
    "propose": masks.propose,
    "accept": masks.accept,
    "carry": masks.carry_shape,
    "learn": masks.learn,
    "matte": masks.bring_matte,
    "chart": lenses.chart,
    "straighten": lenses.straighten,
}
