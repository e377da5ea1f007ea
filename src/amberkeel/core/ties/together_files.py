"""Shots of one set adjusted together on files: solves in one world, with their tables of tracks."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.handoff.judged import judged_again
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.handoff.track_table import Extent, read_tracks_csv, tracks_csv
from amberkeel.core.progress import Progress
from amberkeel.core.solve_order import DEFAULT_SENSOR_MM, WRITTEN
from amberkeel.core.ties.from_files import read_text
from amberkeel.core.ties.together import JointShot, SameSpot, adjusted_together
from amberkeel.core.tracks import TAG
from amberkeel.core.world.datum import IDENTITY
from amberkeel.core.world.from_files import load_solve


@dataclass(frozen=True)
class _Loaded:
    """A shot's solve, as it was read."""

    name: str
    document: SolveDocument
    shot: JointShot


def together_files(
    folders: Sequence[Path], share_lens: bool, sensor_mm: float | None, progress: Progress
) -> dict[str, str]:
    """Return the files of shots adjusted together, by name, in a folder for each.

    Parameters
    ----------
    folders : each with solve.json and tracks.csv, all in one world, the reference first. share_lens : whether all have
        one lens. sensor_mm : width of the filmed part of the sensor, or None. progress : called with the share done.

    Raises
    ------
    KeelError : a file cannot be read, or nothing joins a shot to the others.
    """
    loaded = [_load(folder) for folder in folders]
    names = [one.name for one in loaded]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise TieError(f"Two folders are called {twice[0]}.", "Give folders of different names.")
    done = adjusted_together([one.shot for one in loaded], same_spots(loaded), share_lens, progress)
    files: dict[str, str] = {}
    for one, after in zip(loaded, done):
        plate = one.document["plate"]
        document = solve_document(after.solution, after.change, plate["name"], plate["fps"])
        texts = {name: FORMATS[name].write(document, sensor_mm or DEFAULT_SENSOR_MM) for name in WRITTEN}
        texts["tracks.csv"] = tracks_csv(after.solution.tracks)
        was, quality = one.document["quality"], document["quality"]
        texts["together.json"] = json.dumps(
            {
                "with": [name for name in names if name != one.name], "shared_lens": share_lens,
                "rms_px": {"before": was["rms_px"], "after": quality["rms_px"]},
                "check_rms_px": {"before": was["check_rms_px"], "after": quality["check_rms_px"]},
            },
            indent=1,
        )  # fmt: skip
        files |= {f"{one.name}/{name}": text for name, text in texts.items()}
    return files


def _load(folder: Path) -> _Loaded:
    document = load_solve(folder / "solve.json")
    frames = np.array([f["frame"] for f in document["frames"]] + list(document["missing_frames"]))
    image = document["image"]
    extent = Extent(np.arange(frames.min(), frames.max() + 1), image["width"], image["height"])
    tracks = read_tracks_csv(read_text(folder / "tracks.csv"), extent)
    return _Loaded(
        folder.resolve().name, document, JointShot(folder.resolve().name, judged_again(document, tracks), IDENTITY)
    )


def same_spots(loaded: Sequence[_Loaded]) -> list[SameSpot]:
    """Return what is one spot in several shots: tags of one name, and spots named after a track of another shot, as
    ties from pictures are (``plate/track``).

    Parameters
    ----------
    loaded : the shots.
    """
    plate = {one.document["plate"]["name"]: k for k, one in enumerate(loaded)}
    seen: dict[str, dict[int, int]] = {}
    for k, one in enumerate(loaded):
        tracks = one.shot.solution.tracks
        for track, name, kind in zip(tracks.ids.tolist(), tracks.names, tracks.kinds):
            shot, slash, _ = name.partition("/")
            key = name if kind == TAG or slash and shot in plate else f"{one.document['plate']['name']}/{name}"
            seen.setdefault(key, {})[k] = track
    return [SameSpot(tuple(sorted(spot.items()))) for spot in seen.values() if len(spot) > 1]
