"""What the jobs of the demo production do."""

from pathlib import Path

from sqlalchemy import select

from amberkeel.core.progress import Progress
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.shots import EDGES, SHOTS
from amberkeel.core.sim.write import write_shot
from amberkeel.jobs.chain import Arguments, effect, turn
from amberkeel.settings import Settings
from amberkeel.store.jobs import add_job
from amberkeel.store.models import Shot


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
                chain = {"name": folder.name, "folder": str(folder), "then": ["ingest", "follow", "solve"]}
                add_job(opened, "demo", shot.id, chain, background=True)
