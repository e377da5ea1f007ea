"""The reference shot of a set as its files have it: plate, solve.json and tracks.csv beside it."""

from pathlib import Path

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.handoff.document import document_in_world, read_path
from amberkeel.core.handoff.track_table import read_tracks_csv
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.ties.set_file import Set
from amberkeel.core.ties.side import Side, sure
from amberkeel.core.world.from_files import load_solve, load_world, solved_in
from amberkeel.core.world.world_file import datum_in


def reference_side(known: Set, set_file: Path) -> tuple[str, Side] | None:
    """Return the name of a set's reference shot, and it as a side of a tie; None where the set names none with a plate
    and a solve.

    Parameters
    ----------
    known : the set. set_file : where it lies: its paths are meant from there.
    """
    ready = [shot for shot in known.shots if shot.plate and shot.solve]
    chosen = next((shot for shot in ready if shot.reference), ready[0] if ready else None)
    if chosen is None:
        return None
    folder = set_file.resolve().parent
    world = folder / chosen.world if chosen.world else None
    return chosen.name, side_from_files(folder / chosen.plate, folder / chosen.solve, world)


def side_from_files(plate_at: Path, solve_at: Path, world_at: Path | None = None) -> Side:
    """Return a solved shot as a side of a tie.

    Parameters
    ----------
    plate_at : its plate. solve_at : its solve.json, with tracks.csv beside it. world_at : its world.json, or None.

    Raises
    ------
    KeelError : a file cannot be read.
    """
    plate, document = open_plate(str(plate_at)), load_solve(solve_at)
    if world_at is not None:
        document = document_in_world(document, datum_in(load_world(world_at)))
    table = solve_at.parent / "tracks.csv"
    try:
        tracks = read_tracks_csv(table.read_text(encoding="utf-8"), plate)
    except OSError as error:
        raise TieError(f"{table.name} is not beside {solve_at.name}.", "keel solve writes both.") from error
    solved, path = solved_in(document), read_path(document)
    row = {solved.names[t]: k for k, t in enumerate(solved.ids.tolist())}
    at = np.array([row.get(name, -1) for name in tracks.names], int)
    used = np.ones(len(solved.ids), bool) if solved.used is None else solved.used
    xyz = np.where((at >= 0)[:, None], solved.xyz[at], np.nan)
    spread = np.full((len(solved.ids), 3, 3), np.nan) if solved.covariance is None else solved.covariance
    covariance = np.where((at >= 0)[:, None, None], spread[at], np.nan)
    bad = (at < 0) | ~used[at]
    return Side(plate, path, tracks, sure(path, xyz, covariance, bad), covariance)
