"""A set made from files: a reference shot's chosen points and tags, a survey table, and what stands in its world."""

import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.handoff.document import document_in_world
from amberkeel.core.ties.from_files import points_in, read_text, tags_in
from amberkeel.core.ties.set_file import Point, Set, SetShot, sigmas_of, surveyed
from amberkeel.core.world.from_files import load_solve, load_world
from amberkeel.core.world.world_file import datum_in


@dataclass(frozen=True)
class SetOrder:
    """What a set is made from: its name; a survey table and the unit of what states none; a reference shot's
    solve.json, its tags (keel tags), world.json, plate, and names of tracks whose points are taken ("all" for every
    one); whether shots may bend it.
    """

    name: str
    survey: Path | None = None
    unit: str = "m"
    solve: Path | None = None
    tags: Path | None = None
    world: Path | None = None
    plate: str = ""
    tracks: Sequence[str] = ()
    free: bool = False


def make_set(order: SetOrder, folder: Path) -> Set:
    """Return a set made from files.

    Parameters
    ----------
    order : what it is made from. folder : where its document will lie: paths are written from there.

    Raises
    ------
    KeelError : a file cannot be read, or nothing was given that holds a point.
    """
    points = surveyed(read_text(order.survey), order.unit) if order.survey else []
    parts: dict = {}
    metric = bool(order.survey)
    if order.solve:
        own, metric, parts = _from_shot(order, folder)
        known = {one.name for one in points}
        points += [one for one in own if one.name not in known]
    if not points and not parts.get("shots"):
        raise TieError("A set of nothing ties nothing.", "Give --survey, or a solve with --tags, --tracks or --plate.")
    return Set(name=order.name, metric=metric, frozen=not order.free, points=points, **parts)


def _from_shot(order: SetOrder, folder: Path) -> tuple[list[Point], bool, dict]:
    """Return the points of a reference shot, whether its units are metres, and what else it gives the set."""
    assert order.solve is not None
    document = load_solve(order.solve)
    world = load_world(order.world) if order.world else None
    shot = document["plate"]["name"] or order.solve.parent.name
    if world is not None:
        document = document_in_world(document, datum_in(world))
    found = tags_in(order.tags, document) if order.tags else {}
    solved = points_in(document)
    wanted = list(solved) if list(order.tracks) == ["all"] else list(order.tracks)
    lost = [name for name in wanted if name not in solved]
    if lost:
        raise TieError(f"{len(lost)} of these tracks have no point: {', '.join(lost[:4])}.", "Look into points.csv.")
    chosen = {**{name: solved[name] for name in wanted}, **found}
    points = [
        Point(
            name=name,
            xyz=(float(xyz[0]), float(xyz[1]), float(xyz[2])),
            sigma=sigmas_of(np.asarray(covariance)),
            source=shot,
        )
        for name, (xyz, covariance) in chosen.items()
    ]
    parts: dict = {}
    if order.plate:
        at = [_from(folder, path) for path in (order.plate, order.solve, order.world or "")]
        parts["shots"] = [SetShot(name=shot, plate=at[0], solve=at[1], world=at[2], reference=True)]
    if world is not None:
        parts |= {"proxies": world.proxies, "probes": world.probes, "meshes": world.meshes}
        parts["distances"] = list(world.stated.distances)
    return points, bool(world is not None and world.metric), parts


def _from(folder: Path, path: Path | str) -> str:
    """Return a path as it is written from a folder; empty where there is none."""
    return os.path.relpath(Path(path).resolve(), folder.resolve()) if path else ""
