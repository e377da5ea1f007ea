"""What the jobs of the demo production do."""

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import TieError
from amberkeel.core.progress import Progress
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.shots import EDGES, SHOTS
from amberkeel.core.sim.write import write_shot
from amberkeel.core.ties.set_file import Set
from amberkeel.core.tracks import TAG
from amberkeel.jobs.chain import Arguments, effect, turn
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.jobs import add_job
from amberkeel.store.media import Media
from amberkeel.store.models import Shot, Track
from amberkeel.store.ties import new_set, points_from

OTHERWISE: dict[str, tuple[str, ...]] = {
    "SKL_095": (),
    "SKL_060": ("follow", "tags", "solve"),
    "SKL_061": ("follow", "propose", "accept", "follow", "tags", "solve", "quay", "tie"),
}
"""What happens to shots that are more than followed and solved, or left as they came."""


class Demo(Arguments):
    """A demo shot to render into a folder, and shots whose plates lie there already, to be taken in beside."""

    name: str
    folder: str
    also: list[int] = []


def demo(settings: Settings, shot_id: int, arguments: Demo, progress: Progress) -> None:
    """Render a demo shot's plate where it does not lie yet."""
    folder = Path(arguments.folder)
    if not (folder / "truth.json").exists():
        write_shot(arguments.name, folder, progress)
    lines = _drawn(arguments.name)
    with effect(settings, shot_id, arguments) as opened:
        opened.get(Shot, shot_id).lens = {"lines": lines} if lines else {}
        for other in arguments.also:
            add_job(opened, "ingest", other, {}, *turn(opened))


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


def rest(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Render, follow and solve the production's other demo shots, whose plates do not lie yet."""
    progress(0.5, "Turning to the other shots")
    with effect(settings, shot_id, arguments) as opened:
        production = opened.get(Shot, shot_id).production_id
        for shot in opened.scalars(
            select(Shot)
            .where(Shot.production_id == production, Shot.id != shot_id, Shot.deleted.is_(None))
            .order_by(Shot.name)
        ):
            folder = Path(shot.plate.source).parents[1]
            if not shot.plate.ready and folder.name in SHOTS:
                then = ["ingest", *OTHERWISE.get(folder.name, ("follow", "solve"))]
                chain = {"name": folder.name, "folder": str(folder), "then": then}
                add_job(opened, "demo", shot.id, chain, background=True)


def quay(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Make the set of the quay from its clean pass, and tie the live pass to it."""
    progress(0.5, "Making the set of the quay")
    media = Media(settings.media)
    with effect(settings, shot_id, arguments) as opened:
        live = opened.get(Shot, shot_id)
        own = select(Shot).where(Shot.production_id == live.production_id, Shot.name.startswith("SKL_060"))
        clean = opened.scalar(own)
        if clean is None or clean.pinned_id is None:
            raise TieError("The clean pass is not solved.", "Solve SKL_060 first.")
        points, metric, attempt = points_from(opened, media, clean, _tags(opened, clean))
        row = new_set(opened, clean, Set(name="Quay", metric=metric, points=points), attempt)
        for shot in (clean, live):
            apply(opened, shot.id, "ties", {"ties": {"set": row.id, "ties": {}}, "label": "Tie it to Quay"})


def _tags(opened: Session, shot: Shot) -> list[int]:
    return list(opened.scalars(select(Track.id).where(Track.shot_id == shot.id, Track.kind == TAG, ~Track.removed)))
